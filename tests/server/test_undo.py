"""Undo, retention, sweep: what goes, what comes back, and what later batches keep."""

import numpy as np
import pytest
from django.core.files.uploadedfile import SimpleUploadedFile
from django.utils import timezone

from tests.server.conftest import run_jobs
from tests.server.test_intake_store import samples, take
from watchtide.server.jobs.models import Job
from watchtide.server.people.models import AuditEntry
from watchtide.server.streams import files, folding, store, undoing
from watchtide.server.streams.models import Batch, Block, Displaced, RollPart, Segment, Stream

DAY = 86_400
HOUR = 3_600
AUGUST = 1_785_542_400  # 2026-08-01T00:00Z


def rows(*pairs):
    return "time,v\n" + "".join(f"2026-08-01T{h:02d}:00Z,{v}\n" for h, v in pairs)


def hours(key):
    return {(t - AUGUST) // HOUR: v for t, v in samples(key).items()}


def undo(api, done):
    """The answer; what it started has been done."""
    answer = api.post(f"/api/v1/batches/{done['result']['batch']}/undo")
    run_jobs()
    return answer


def test_undo_takes_its_samples_out_and_brings_back_what_they_wrote_over(api):
    take(api, rows((0, 1), (1, 2)), {"metric": "back"}, "a.csv")
    second = take(api, rows((1, 20), (2, 30)), {"metric": "back"}, "b.csv")
    assert hours("metric=back") == {0: 1, 1: 20, 2: 30}
    answer = undo(api, second)
    assert answer.status_code == 202 and answer.json()["kind"] == "undo"
    assert Job.objects.get(pk=answer.json()["id"]).state == "done"
    [row] = [b for b in api.get("/api/v1/batches").json()["items"] if b["id"] == second["result"]["batch"]]
    assert row["undone_at"] and AuditEntry.objects.latest("pk").what == "batch undone"
    assert hours("metric=back") == {0: 1, 1: 2}
    stream = Stream.objects.get(key="metric=back")
    assert stream.samples == 2 and stream.last_ns == (AUGUST + HOUR) * 10**9


def test_undoing_the_middle_of_three_keeps_the_last_and_hands_the_first_on(api):
    take(api, rows((0, 1), (1, 1), (2, 1)), {"metric": "chain"}, "a.csv")
    middle = take(api, rows((1, 2), (2, 2), (3, 2)), {"metric": "chain"}, "b.csv")
    last = take(api, rows((2, 3)), {"metric": "chain"}, "c.csv")
    undo(api, middle)
    assert hours("metric=chain") == {0: 1, 1: 1, 2: 3}
    undo(api, last)
    assert hours("metric=chain") == {0: 1, 1: 1, 2: 1}


@pytest.mark.parametrize("seed", range(6))
def test_any_order_of_batches_and_undos_leaves_what_the_others_say(api, seed):
    """Against a plain model: of the batches not undone, the latest that has a stamp gives its value."""
    rng = np.random.default_rng(seed)
    metric, batches = f"any{seed}", []
    for n in range(6):
        stamps = np.sort(rng.choice(10, int(rng.integers(1, 6)), replace=False)).tolist()
        given = {h: float(n * 100 + h) for h in stamps}
        done = take(api, rows(*given.items()), {"metric": metric}, f"{n}.csv")
        batches.append((done, given))
    for gone in rng.choice(6, 3, replace=False).tolist():
        undo(api, batches[gone][0])
        batches[gone] = (None, {})
        expected = {}
        for _, given in batches:
            expected |= given
        assert hours(f"metric={metric}") == expected


def test_a_batch_is_undone_once_and_its_file_may_come_again(api):
    text = rows((0, 1), (1, 2))
    done = take(api, text, {"metric": "again"}, "a.csv")
    assert undo(api, done).status_code == 202
    second = undo(api, done)
    assert second.status_code == 409 and second.json()["remedy"]
    assert len(store.read(Stream.objects.get(key="metric=again").pk)[0]) == 0
    take(api, text, {"metric": "again"}, "a.csv")
    assert hours("metric=again") == {0: 1, 1: 2}


def test_past_its_window_a_batch_stays(api, settings):
    done = take(api, rows((0, 1), (1, 2)), {"metric": "old"}, "a.csv")
    batch = Batch.objects.get(pk=done["result"]["batch"])
    Batch.objects.filter(pk=batch.pk).update(accepted_at=timezone.now() - timezone.timedelta(days=8))
    assert undo(api, done).status_code == 409
    undoing.sweep()
    assert not Block.objects.filter(batch=batch).exists() and hours("metric=old") == {0: 1, 1: 2}


def test_what_a_large_batch_wrote_itself_is_not_taken_for_displaced(api, monkeypatch):
    monkeypatch.setattr(store, "BLOCK_SAMPLES", 50)
    text = "time,v\n" + "".join(f"{AUGUST + i * 60},{i}\n" for i in range(240))
    text += "".join(f"{AUGUST + i * 60},{i + 1}\n" for i in range(0, 240, 3))
    done = take(api, text, {"metric": "wide"}, "a.csv")
    batch = Batch.objects.get(pk=done["result"]["batch"])
    assert batch.blocks.count() > 4 and not Displaced.objects.filter(batch=batch).exists()
    values = list(samples("metric=wide").values())
    assert values[:4] == [0.5, 1, 2, 3.5]
    undo(api, done)
    assert samples("metric=wide") == {}


def test_retention_is_tried_dry_and_then_drops_only_what_is_older(api):
    take(api, rows(*((h, h) for h in range(24))), {"metric": "kept"}, "a.csv")
    stream = Stream.objects.get(key="metric=kept")
    now = (AUGUST + 24 * HOUR) * 10**9 + 12 * HOUR * 10**9
    assert undoing.expired(stream, 1, now)["samples"] == 12
    assert len(hours("metric=kept")) == 24
    Stream.objects.filter(pk=stream.pk).update(retention_days=1)
    assert undoing.apply_retention(now) == 12
    assert list(hours("metric=kept")) == list(range(12, 24))
    answer = api.get(f"/api/v1/streams/{stream.pk}/retention?days=1").json()
    assert answer["days"] == 1 and answer["samples"] in (0, 12)


def test_the_sweep_forgets_batches_that_never_came_to_an_end(small_world, db):
    batch = Batch.objects.create(key="dead" * 16, source="torn.csv")
    made = Stream.objects.create(metric="torn", key="metric=torn", key_sha="t" * 64, made_by=batch)
    store.write_blocks(batch, [(made.pk, np.array([1, 2]), np.array([1.0, 2.0]))])
    Batch.objects.filter(pk=batch.pk).update(created_at=timezone.now() - timezone.timedelta(hours=2))
    undoing.sweep()
    assert not Batch.objects.filter(pk=batch.pk).exists() and not Stream.objects.filter(pk=made.pk).exists()


class TestRollUps:
    SPEC = {
        "roles": {"time": "time", "place": "series", "ms": "leave out"},
        "rollup": {"every": "1h", "measures": [{"how": "count"}, {"how": "mean", "field": "ms"}, {"how": "max", "field": "ms"}]},
        "metric": "calls",
    }  # fmt: skip

    def events(self, *pairs):
        return "time,place,ms\n" + "".join(f"2026-08-01T{at}Z,quay,{ms}\n" for at, ms in pairs)

    def test_events_become_counts_and_figures_an_interval_with_empty_ones_as_zero(self, api):
        take(api, self.events(("00:05", 10), ("00:50", 30), ("02:10", 8)), self.SPEC, "e.csv")
        assert hours("metric=calls,place=quay") == {0: 2, 1: 0, 2: 1}
        assert hours("metric=calls_ms_mean,place=quay") == {0: 20, 2: 8}

    def test_late_events_add_to_their_interval_and_undo_takes_them_out_again(self, api):
        first = take(api, self.events(("00:05", 10), ("02:10", 8)), self.SPEC, "e.csv")
        late = take(api, self.events(("00:30", 40), ("03:00", 2)), self.SPEC, "late.csv")
        assert hours("metric=calls,place=quay") == {0: 2, 1: 0, 2: 1, 3: 1}
        assert hours("metric=calls_ms_mean,place=quay")[0] == 25
        undo(api, late)
        run_jobs()
        got = hours("metric=calls,place=quay")
        assert (got[0], got[2], got.get(3, 0)) == (1, 1, 0)
        assert hours("metric=calls_ms_max,place=quay") == {0: 10, 2: 8}
        undo(api, first)
        run_jobs()
        assert RollPart.objects.count() == 0
        assert not any(hours("metric=calls,place=quay").values())

    def test_undoing_the_first_leaves_the_late_ones(self, api):
        first = take(api, self.events(("00:05", 10), ("02:10", 8)), self.SPEC, "e.csv")
        take(api, self.events(("00:30", 40)), self.SPEC, "late.csv")
        undo(api, first)
        run_jobs()
        assert hours("metric=calls,place=quay")[0] == 1
        assert hours("metric=calls_ms_mean,place=quay") == {0: 40}

    def test_old_parts_are_put_together_and_late_events_still_add(self, api):
        for i in range(9):
            take(api, self.events((f"00:0{i}", i)), self.SPEC, f"{i}.csv")
        Batch.objects.update(accepted_at=timezone.now() - timezone.timedelta(days=30))
        assert undoing.sweep()["rolled"] == 9 and RollPart.objects.count() == 1
        take(api, self.events(("00:59", 100)), self.SPEC, "later.csv")
        assert hours("metric=calls,place=quay") == {0: 10}
        assert hours("metric=calls_ms_max,place=quay") == {0: 100}


def test_short_segments_are_merged_so_that_few_remain(small_world, db):
    """A stream that grows by ten samples at a time a thousand times keeps a handful of segments."""
    stream = Stream.objects.create(metric="drip", key="metric=drip", key_sha="d" * 64)
    for i in range(200):
        batch = Batch.objects.create(key=f"drip{i}", source="drip", accepted_at=timezone.now())
        at = np.arange(i * 10, i * 10 + 10) * HOUR * 10**9
        store.write_blocks(batch, [(stream.pk, at, np.arange(10.0))])
        folding.fold()
    assert Segment.objects.filter(stream=stream).count() <= 8
    assert len(store.read(stream.pk)[0]) == 2_000


def test_a_cancelled_intake_leaves_no_stream_and_no_batch(api, monkeypatch):
    from watchtide.server.jobs import services as jobs

    monkeypatch.setattr(jobs.Lease, "is_cancelled", lambda self: True)
    done = take(api, rows((0, 1), (1, 2)), {"metric": "stopped"})
    assert done["state"] == "cancelled"
    assert not Stream.objects.filter(metric="stopped").exists()
    assert not Batch.objects.filter(accepted_at=None).exists()


@pytest.mark.parametrize(
    ("rule", "expected"), [("mean", [2, 7]), ("last", [3, 7]), ("first", [1, 5]), ("refuse", None)]
)
@pytest.mark.parametrize("block", [1_000, 2])
def test_equal_stamps_by_every_rule_also_across_blocks(api, monkeypatch, rule, expected, block):
    """1 and 3 at midnight, 5, missing, and 9 an hour later; the mean leaves the missing one out."""
    monkeypatch.setattr(store, "BLOCK_SAMPLES", block)
    text = rows((0, 1), (1, 5), (0, 3), (1, ""), (1, 9))
    if expected is None:
        sent = api.post(
            "/api/v1/uploads", {"file": SimpleUploadedFile("d.csv", text.encode())}, format="multipart"
        ).json()
        answer = api.post(f"/api/v1/uploads/{sent['id']}/store", {"duplicates": "refuse"}, format="json")
        assert answer.status_code == 400 and "stands twice" in answer.json()["title"]
        assert not Stream.objects.filter(metric="rule-refuse").exists()
    else:
        take(api, text, {"metric": f"rule-{rule}", "duplicates": rule})
        wanted = [9 if rule == "last" and v == 7 else v for v in expected]
        assert list(samples(f"metric=rule-{rule}").values()) == wanted


def test_a_name_makes_a_pattern_for_the_files_after_it():
    assert files.like("taps_2026-08.csv") == "taps_*.csv" and files.like("a.csv.gz") == "a.csv"


def test_undoing_asks_nothing_of_later_batches_to_other_streams(api, django_assert_max_num_queries):
    done = take(api, rows((0, 1), (1, 2)), {"metric": "alone"}, "a.csv")
    other = Stream.objects.create(metric="busy", key="metric=busy", key_sha="b" * 64)
    for i in range(60):
        batch = Batch.objects.create(key=f"busy{i}", source="t", door="push", accepted_at=timezone.now())
        store.write_blocks(batch, [(other.pk, np.array([i * HOUR * 10**9]), np.array([1.0]))])
    folding.fold()
    with django_assert_max_num_queries(60):
        undoing.undo(Batch.objects.get(pk=done["result"]["batch"]), None)
    assert hours("metric=alone") == {}
