"""Calm streams judged at a glance: their rows are as a replay of the whole would leave them, and what is not calm is for the whole."""

from datetime import timedelta

import numpy as np
import pytest

from tests.server.conftest import run_jobs
from tests.server.test_lookouts import START, STEP, judge, lines_of, made, push, replayed
from watchtide.core.series import keys
from watchtide.server import moments
from watchtide.server.jobs import services as jobs
from watchtide.server.logbook import services as logbook
from watchtide.server.logbook.models import Entry
from watchtide.server.lookouts import arrivals, calm, judging, services, tasks
from watchtide.server.lookouts.models import Lookout, Watched
from watchtide.server.streams import undoing
from watchtide.server.streams.models import Batch, Stream
from watchtide.tables import clock

# Some hours after a fit.
BEGIN = 24 * 20 + 3


def steady(n=24 * 23, seed=0):
    rng = np.random.default_rng(seed)
    k = np.arange(n)
    return START + k * STEP, np.round(50 + 20 * np.sin(2 * np.pi * k / 24) + rng.normal(0, 2, n), 3)


@pytest.fixture
def wholes(monkeypatch):
    """Keys of the streams that were judged as a whole."""
    found = []
    real = judging.judge

    def counted(watched, rules):
        found.append(watched.stream.key)
        return real(watched, rules)

    monkeypatch.setattr(judging, "judge", counted)
    return found


@pytest.fixture
def begun(api, sender, wholes):
    """A lookout on a stream that was judged once as a whole, with the samples that come next."""
    times, values = steady()
    push(sender, times[:BEGIN], values[:BEGIN])
    pk = made(api)
    judge()
    wholes.clear()
    return pk, times, values


def row_of(pk):
    return Watched.objects.get(lookout=pk)


def test_what_comes_to_a_calm_stream_is_judged_at_a_glance(api, sender, begun, wholes):
    pk, times, values = begun
    for i in range(BEGIN, BEGIN + 60):
        push(sender, times[i : i + 1], values[i : i + 1])
        judge()
        row = row_of(pk)
        assert row.judged_through_ns == times[i] + STEP and row.next_ns == times[i] + 2 * STEP
        assert row.newest_ns == times[i] and row.state == "steady" and "judged through" in row.why
    assert len(wholes) <= 8, "two fits, and where the online test reads its scale or is in doubt"
    whole = replayed(times[: BEGIN + 60], values[: BEGIN + 60])
    assert row.judged == int((~np.isnan(whole.z)).sum()) and row.late == 0
    points = lines_of(api.get(f"/api/v1/lookouts/{pk}/points.csv?stream={row.stream_id}")).splitlines()
    assert len(points) == row.judged + 1 and clock.format_time(int(times[BEGIN + 59])) in points[-1]


def test_rows_are_written_together_and_to_the_last_digit(api, sender, begun):
    pk, *_ = begun
    first = row_of(pk)
    other = Watched.objects.create(
        lookout_id=pk, stream=Stream.objects.create(metric="x", key="metric=x", key_sha="x" * 64)
    )
    at = moments.now().replace(microsecond=123457)
    why = "judged through 3 h, “so” 'far' 100 % \\ é"
    calm.write([
        {"pk": first.pk, "newest_at": at, "why": why, "next_ns": 2**62 + 1},
        {"pk": other.pk, "newest_at": at - timedelta(days=1), "why": "b", "next_ns": 7},
        {"pk": 10**12, "newest_at": at, "why": "c", "next_ns": 8},
    ])  # fmt: skip
    calm.write([{"pk": other.pk, "judged": 5}])
    first.refresh_from_db()
    other.refresh_from_db()
    assert (first.newest_at, first.why, first.next_ns) == (at, why, 2**62 + 1)
    assert (other.newest_at, other.why, other.next_ns, other.judged) == (at - timedelta(days=1), "b", 7, 5)


def test_a_finding_is_raised_by_the_tick_that_it_came_with(api, sender, begun, wholes):
    pk, times, values = begun
    values[BEGIN + 5] += 60
    for i in range(BEGIN, BEGIN + 9):
        push(sender, times[i : i + 1], values[i : i + 1])
        judge()
        if i == BEGIN + 5:
            assert row_of(pk).state == "adrift" and len(row_of(pk).findings) == 1
    assert 1 <= len(wholes) <= 5
    whole = replayed(times[: BEGIN + 9], values[: BEGIN + 9])
    assert [f["start"] for f in row_of(pk).findings] == [f.start for f in whole.findings]


def test_a_late_sample_a_batch_taken_back_and_a_label_are_for_the_whole(api, sender, begun, wholes):
    pk, times, values = begun
    fresh = [i for i in range(BEGIN, BEGIN + 6) if i != BEGIN + 2]
    push(sender, times[fresh], values[fresh])
    judge()
    assert wholes == []
    push(sender, times[BEGIN + 2 : BEGIN + 3], values[BEGIN + 2 : BEGIN + 3])
    judge()
    # No bin is new: the sample is counted with the next one.
    push(sender, times[BEGIN + 6 : BEGIN + 7], values[BEGIN + 6 : BEGIN + 7])
    judge()
    assert len(wholes) == 2 and row_of(pk).late == 1
    wholes.clear()
    undoing.undo(Batch.objects.latest("pk"), None)
    push(sender, times[BEGIN + 7 : BEGIN + 8], values[BEGIN + 7 : BEGIN + 8])
    judge()
    assert len(wholes) == 1
    wholes.clear()
    content = {
        "scope": "metric=flow,place=lock",
        "start_ns": int(times[24 * 15]),
        "end_ns": int(times[24 * 15 + 4]),
    }
    logbook.add({**content, "verdict": "incident"}, "ann")
    push(sender, times[BEGIN + 8 : BEGIN + 9], values[BEGIN + 8 : BEGIN + 9])
    judge()
    assert len(wholes) == 1, "a span that may not train any more"
    logbook.add({**content, "scope": "metric=other", "verdict": "incident"}, "ann")
    push(sender, times[BEGIN + 9 : BEGIN + 10], values[BEGIN + 9 : BEGIN + 10])
    judge()
    assert len(wholes) == 1, "a label of another stream"


def test_silence_is_for_the_whole(sender, begun, wholes):
    pk, times, values = begun
    push(sender, times[BEGIN : BEGIN + 1], values[BEGIN : BEGIN + 1])
    judge()
    assert wholes == []
    Watched.objects.update(newest_at=moments.now() - timedelta(hours=9))
    services.request(Lookout.objects.get(pk=pk))
    run_jobs()
    assert wholes != [] and row_of(pk).state == "silent"


def test_two_lookouts_on_one_stream_both_go_on(api, sender, begun, wholes):
    pk, times, values = begun
    other = made(api, name="other", skip_last=2)
    judge()
    wholes.clear()
    for i in range(BEGIN, BEGIN + 4):
        push(sender, times[i : i + 1], values[i : i + 1])
        judge()
    assert wholes == []
    assert (
        row_of(pk).judged_through_ns == times[BEGIN + 3] + STEP == row_of(other).judged_through_ns + 2 * STEP
    )


def test_workers_in_turn_take_one_anothers_calm_bins_as_judged(sender, begun, wholes, monkeypatch):
    pk, times, values = begun
    workers = [tasks.glances, calm.Glances(), calm.Glances()]
    # In turn, and each for a while: whoever comes back has several bins to catch up with.
    turns = [0, 1, 2, 0, 1, 2, 2, 2, 0, 0, 0, 1, 2, 1, 0, 2]
    for i, worker in enumerate(turns, BEGIN):
        monkeypatch.setattr(tasks, "glances", workers[worker])
        push(sender, times[i : i + 1], values[i : i + 1])
        judge()
        row = row_of(pk)
        assert row.judged_through_ns == times[i] + STEP and row.state == "steady"
    assert len(wholes) == 2, "once by each that had not seen it"
    whole = replayed(times[: BEGIN + len(turns)], values[: BEGIN + len(turns)])
    assert row.judged == int((~np.isnan(whole.z)).sum())


def test_a_lookouts_next_job_prefers_the_worker_that_looked_last(begun):
    lookout = Lookout.objects.get(pk=begun[0])
    assert lookout.worker == jobs.worker()
    assert services.request(lookout).prefers == services.request(lookout, [1]).prefers == jobs.worker()


def test_what_another_worker_found_is_for_the_whole(sender, begun, wholes, monkeypatch):
    pk, times, values = begun
    values[BEGIN + 4] += 60
    workers = [tasks.glances, calm.Glances()]
    for i, worker in enumerate([0, 1, 0, 1, 1, 1, 1, 1, 1, 1, 0], BEGIN):
        monkeypatch.setattr(tasks, "glances", workers[worker])
        push(sender, times[i : i + 1], values[i : i + 1])
        if worker == 0:
            wholes.clear()
        judge()
    whole = replayed(times[: BEGIN + 11], values[: BEGIN + 11])
    assert len(wholes) == 1, "the first one does not take bins as calm in which something was found"
    row = row_of(pk)
    assert [f["start"] for f in row.findings] == [f.start for f in whole.findings]
    assert row.judged == int((~np.isnan(whole.z)).sum())


def test_a_long_logbook_of_other_streams_costs_nothing_a_stream(sender, begun, wholes, monkeypatch):
    _, times, values = begun
    entry = {"start_ns": int(times[24 * 15]), "end_ns": int(times[24 * 15 + 4]), "verdict": "incident"}
    Entry.objects.bulk_create(Entry(scope=f"metric=other,n={i}", author="ann", **entry) for i in range(500))
    logbook.add(entry | {"scope": "metric=flow,place=weir"}, "ann")
    compared = []
    real = keys.covers
    monkeypatch.setattr(keys, "covers", lambda scope, key: compared.append(scope) or real(scope, key))
    for i in range(BEGIN, BEGIN + 3):
        push(sender, times[i : i + 1], values[i : i + 1])
        judge()
    assert wholes == [] and len(compared) < 50
    tasks.glances.clear()
    push(sender, times[BEGIN + 3 : BEGIN + 4], values[BEGIN + 3 : BEGIN + 4])
    judge()
    assert len(wholes) == 1 and len(compared) < 50


def test_another_plan_begins_anew_as_a_whole(api, sender, begun, wholes):
    pk, times, values = begun
    api.patch(f"/api/v1/lookouts/{pk}", {"plan": "flag: {level: {sigmas: 9}}\n"}, format="json")
    push(sender, times[BEGIN : BEGIN + 1], values[BEGIN : BEGIN + 1])
    judge()
    assert wholes != []


def test_what_a_worker_cannot_hold_is_judged_as_a_whole(sender, begun, wholes, monkeypatch):
    _, times, values = begun
    monkeypatch.setattr(tasks, "glances", calm.Glances(most=1_000))
    for i in range(BEGIN, BEGIN + 3):
        push(sender, times[i : i + 1], values[i : i + 1])
        judge()
    assert len(wholes) == 3


def test_a_large_block_and_a_long_absence_forget_what_was_remembered(sender, begun, wholes, monkeypatch):
    _, times, values = begun
    monkeypatch.setattr(arrivals, "MOST_SAMPLES", 3)
    push(sender, times[BEGIN : BEGIN + 2], values[BEGIN : BEGIN + 2])
    judge()
    assert wholes == []
    push(sender, times[BEGIN + 2 : BEGIN + 8], values[BEGIN + 2 : BEGIN + 8])
    judge()
    assert len(wholes) == 1
    tasks.glances._arrivals.looked_at -= arrivals.LONGEST_ABSENCE + timedelta(minutes=1)
    push(sender, times[BEGIN + 8 : BEGIN + 9], values[BEGIN + 8 : BEGIN + 9])
    judge()
    assert len(wholes) == 2


def test_another_wait_shows_at_once_when_the_next_bin_is_due(api, sender, begun, wholes):
    pk, times, values = begun
    push(sender, times[BEGIN : BEGIN + 1], values[BEGIN : BEGIN + 1])
    judge()
    api.patch(f"/api/v1/lookouts/{pk}", {"wait": "30m"}, format="json")
    judge()
    assert row_of(pk).next_ns == times[BEGIN] + 2 * STEP + STEP // 2 and wholes == []
