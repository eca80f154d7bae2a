"""A rehearsal says what a lookout would have raised and sent: what a replay finds, joined as live, against the logbook."""

import numpy as np
import pytest

from tests.server.conftest import run_jobs
from tests.server.test_lookouts import PLAN, history, judge, made, push, replayed
from tests.server.test_notices import Receiver, before_the_spike, outbox
from watchtide.core.scoring.card import score
from watchtide.core.scoring.intervals import wilson
from watchtide.core.scoring.outcomes import Setting
from watchtide.server.jobs.models import Job
from watchtide.server.logbook import services as logbook
from watchtide.server.logbook.models import Entry, Quiet
from watchtide.server.lookouts import sending
from watchtide.server.lookouts.models import Notice, Watched
from watchtide.tables import clock


def rehearsed(api, pk, weeks=4, **more):
    answer = api.post(f"/api/v1/lookouts/{pk}/rehearsal", {"weeks": weeks, **more}, format="json")
    assert answer.status_code == 202, answer.content
    run_jobs()
    job = api.get(f"/api/v1/jobs/{answer.json()['id']}").json()
    assert job["state"] == "done", job["message"]
    return job["result"]


def entry(times, first, last, verdict, scope="metric=flow,place=lock"):
    return Entry.objects.create(
        scope=scope, start_ns=int(times[first]), end_ns=int(times[last]), verdict=verdict, author="ann"
    )


def test_it_is_what_a_replay_raises_in_those_weeks(api, sender):
    times, values = history(24 * 60)
    values[24 * 40 : 24 * 40 + 3] += 40
    push(sender, times, values)
    pk = made(api, on=False)
    got = rehearsed(api, pk)
    since = int(times[-1]) - 4 * 7 * 86_400 * 10**9
    found = [f for f in replayed(times, values).findings if (f.raised or f.end) >= since]
    assert got["findings"] == len(found) >= 2 and got["notices"] == len(found)
    assert sum(w["findings"] for w in got["per_week"]) == got["findings"]
    assert [row["at"] for row in got["per_stream"]] == [[clock.format_time(f.start) for f in found]]
    assert got["samples"] == 4 * 7 * 24 + 1
    # Nothing was sent, nothing is known of it, and the lookout is as it was.
    assert not Notice.objects.exists() and not Watched.objects.exclude(judged_through_ns=None).exists()


def test_a_lookout_that_was_live_sent_what_its_rehearsal_says(api, sender, settings):
    receiver = Receiver()
    settings.OUTGOING = [f"127.0.0.1:{receiver.server.server_address[1]}"]
    try:
        places = ("lock", "weir", "sluice")
        pk, _, (times, values, at) = before_the_spike(sender, api, receiver, places=places)
        for a, b in ((at, at + 5), (at + 5, len(times))):
            for place in places:
                push(sender, times[a:b], values[a:b], place=place)
            judge()
            sending.send_due()
    finally:
        receiver.server.shutdown()
        receiver.server.server_close()
    began = [x for x in outbox(api, lookout=pk) if x["kind"] == "began"]
    got = rehearsed(api, pk, weeks=1)
    assert len(began) == got["notices"] == 1 and got["findings"] == 3
    assert got["latest"][0]["streams"] == 3


def test_precision_and_recall_are_counted_by_the_logbook(api, sender):
    times, values = history(24 * 60)
    for k in (40, 44, 48, 50, 52):
        values[24 * k : 24 * k + 3] += 60
    push(sender, times, values)
    entry(times, 24 * 40, 24 * 40 + 2, "incident")
    entry(times, 24 * 44, 24 * 44 + 2, "false-alarm")
    entry(times, 24 * 48, 24 * 48 + 2, "foreseen")
    entry(times, 24 * 50, 24 * 50 + 2, "unsure")
    entry(times, 24 * 54, 24 * 54 + 2, "incident")
    pk = made(api, on=False)
    got = rehearsed(api, pk)
    assert [got[name] for name in ("real", "not_real", "left_out")] == [1, 2, 1] and got["open"] > 0
    assert got["precision"] == pytest.approx(1 / 3)
    assert got["precision_ci"] == pytest.approx(list(wilson(1, 3)))
    by_start = {row["start"]: row["state"] for row in got["latest"]}
    assert by_start[clock.format_time(int(times[24 * 40]))] == "true"
    assert by_start[clock.format_time(int(times[24 * 52]))] == "unjudged"
    # As scorecards count: where spans are looked through, what lies outside of them says nothing of recall …
    assert (got["recall"], got["incidents"]) == (None, 0)
    entry(times, 0, len(times) - 1, "reviewed", scope="metric=flow")
    got = rehearsed(api, pk)
    # … and within them nothing is open.
    assert (got["recall"], got["incidents"], got["open"]) == (0.5, 2, 0)
    found = replayed(times, values).findings
    card = score(
        [f for f in found if (f.raised or f.end) >= clock.parse_one(got["from"])],
        logbook.labels(),
        setting=Setting(span=(clock.parse_one(got["from"]), clock.parse_one(got["to"]))),
    ).figures["events"]
    assert (got["recall"], got["recall_ci"]) == (card["recall"], card["recall_ci"])


def test_planned_work_is_held_and_silence_is_counted(api, sender):
    times, values = history(24 * 60)
    Quiet.objects.create(
        scope="metric=flow", start_ns=int(times[-101]), end_ns=int(times[-1]), reason="crane", by="ann"
    )
    gap = np.r_[np.arange(24 * 50), np.arange(24 * 50 + 30, len(times))]
    push(sender, times[gap], values[gap])
    got = rehearsed(api, made(api, on=False))
    assert got["held"] == 1 and got["silent"] == 1 and sum(w["silent"] for w in got["per_week"]) == 1


def test_another_plan_is_rehearsed_beside_its_own(api, sender):
    times, values = history(24 * 60)
    push(sender, times, values)
    pk = made(api, on=False)
    own = rehearsed(api, pk)
    other = rehearsed(api, pk, plan=PLAN.replace("sigmas: 5", "sigmas: 3"))
    assert other["findings"] > own["findings"] and "sigmas: 3" in other["plan"]
    listed = api.get(f"/api/v1/lookouts/{pk}/rehearsal").json()["items"]
    assert [job["result"]["findings"] for job in listed] == [other["findings"], own["findings"]]


def test_a_stream_that_is_too_young_says_so(api, sender):
    times, values = history(24 * 5)
    push(sender, times, values)
    got = rehearsed(api, made(api, on=False))
    assert got["findings"] == 0 and got["per_stream"][0]["why"] and got["precision"] is None


@pytest.mark.parametrize(
    ("body", "status", "words"),
    [
        ({"weeks": 0}, 400, "weeks"),
        ({"weeks": 99}, 400, "weeks"),
        ({}, 400, "weeks"),
        ({"weeks": 1, "plan": "baseline: {kind: magic}"}, 422, "magic"),
    ],
)
def test_bad_wishes_are_refused(api, sender, body, status, words):
    times, values = history(24 * 5)
    push(sender, times, values)
    answer = api.post(f"/api/v1/lookouts/{made(api)}/rehearsal", body, format="json")
    assert answer.status_code == status and words in answer.content.decode()
    assert not Job.objects.filter(kind="rehearse").exists()


def test_a_scope_that_matches_nothing_is_refused(api):
    pk = made(api, scope={"metric": "nothing"})
    answer = api.post(f"/api/v1/lookouts/{pk}/rehearsal", {"weeks": 1}, format="json")
    assert answer.status_code == 409 and "no stream matches" in answer.content.decode()


def test_fixed_limits_are_proposed_from_history_and_their_plan_can_be_taken(api, sender):
    times, values = history(24 * 40)
    push(sender, times, values)
    push(sender, times, values + 10, place="weir")
    pk = made(api, on=False, plan="baseline: {kind: fixed, options: {upper: 300}}\n")
    entry(times, len(times) - 101, len(times) - 90, "incident")
    got = rehearsed(api, pk)
    rows = {r["title"]: r for r in got["limits"]["per_stream"]}
    calm = np.delete(values, slice(len(times) - 101, len(times) - 89))
    low, high = np.quantile(calm, [0.001, 0.999])
    assert rows["lock"]["upper"] == pytest.approx(high + 0.1 * (high - low), rel=2e-3)
    assert rows["lock"]["beyond"] == 0 and "99.8 %" in rows["lock"]["reason"] and rows["lock"]["unit"] == "m3"
    # What nobody has labelled counts as usual.
    assert rows["weir"]["upper"] > rows["lock"]["upper"] + 10
    widest = got["limits"]["widest"]
    assert widest == {"lower": rows["lock"]["lower"], "upper": rows["weir"]["upper"]}
    again = rehearsed(api, pk, plan=got["limits"]["plan"])
    assert again["is_own"] is False and got["is_own"] is True and again["findings"] == 0
    changed = api.patch(f"/api/v1/lookouts/{pk}", {"plan": again["plan"], "on": True}, format="json")
    assert changed.status_code == 200 and changed.json()["on"]


def test_other_kinds_propose_no_limits(api, sender):
    times, values = history(24 * 30)
    push(sender, times, values)
    assert rehearsed(api, made(api, on=False))["limits"] is None
