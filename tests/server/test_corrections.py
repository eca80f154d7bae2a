"""Corrected history: judged anew in a job that shows what changed, and nothing is sent."""

import numpy as np
import pytest

from tests.server.conftest import run_jobs
from tests.server.test_intake_store import take
from tests.server.test_lookouts import STEP, history, judge, lines_of, made, push, replayed
from watchtide.server.jobs.models import Job
from watchtide.server.lookouts import correcting, services
from watchtide.server.lookouts.models import Correction, Delivery, Group, Lookout, Notice, Raised, Watched
from watchtide.server.streams.models import Batch
from watchtide.tables import clock, results


def stored(api, times, values, name="fix.csv"):
    """A file of the same stream, taken in as somebody would."""
    text = "time,place,flow\n" + "".join(
        f"{clock.format_time(int(t))},lock,{v}\n" for t, v in zip(times, values, strict=True)
    )
    assert take(api, text, {"unit": "m3"}, name)["state"] == "done"
    return Batch.objects.latest("pk")


@pytest.fixture
def watched(api, sender):
    """A lookout that has raised a leak of six hours, with a route."""
    times, values = history()
    route = api.post(
        "/api/v1/routes", {"name": "duty", "kind": "hook", "to": "http://127.0.0.1:9/hook"}, format="json"
    )
    push(sender, times[:700], values[:700])
    pk = made(api, routes=[route.json()["id"]] if route.status_code == 201 else [])
    judge()
    push(sender, times[700:], values[700:])
    judge()
    return pk, times, values


def corrections(api, pk):
    return api.get(f"/api/v1/lookouts/{pk}/corrections").json()["items"]


def key_findings(pk):
    return Watched.objects.get(lookout=pk).findings


def test_a_corrected_import_takes_back_what_it_was_and_sends_nothing(api, watched):
    pk, times, values = watched
    n = len(times)
    (raised,) = Raised.objects.filter(lookout=pk)
    before = Notice.objects.count(), Delivery.objects.count()
    # The leak was a slip of the meter; five days earlier there was a real one.
    fixed = values.copy()
    fixed[n - 100 : n - 94] -= 40
    fixed[n - 60 : n - 56] += 50
    where = np.r_[n - 100 : n - 94, n - 60 : n - 56]
    batch = stored(api, times[where], fixed[where])
    (row,) = corrections(api, pk)
    assert row["why"] == "imported" and row["batch"] == batch.pk and row["source"] == "fix.csv"
    assert row["since"] == clock.format_time(int(times[n - 100])) and row["judged_at"]
    assert [f["start"] for f in row["gone"]] == [clock.format_time(raised.start_ns)]
    assert [f["start"] for f in row["come"]] == [clock.format_time(int(times[n - 60]))] and row[
        "changed"
    ] == []
    assert (Notice.objects.count(), Delivery.objects.count()) == before
    assert not Raised.objects.filter(lookout=pk, is_open=True).exists()
    assert not Group.objects.filter(lookout=pk, ended_at=None).exists()
    # From here on it is what a replay of the corrected history says, and what comes is judged on.
    whole = replayed(times, fixed)
    assert lines_of(api.get(f"/api/v1/lookouts/{pk}/findings.csv")) == results.findings_text(
        list(whole.findings)
    )
    judge()
    assert (Notice.objects.count(), Delivery.objects.count()) == before
    assert Watched.objects.get(lookout=pk).judged == int((~np.isnan(whole.z)).sum())


def test_a_batch_taken_back_brings_back_what_was(api, watched):
    pk, times, values = watched
    n = len(times)
    was = key_findings(pk)
    batch = stored(api, times[n - 100 : n - 94], values[n - 100 : n - 94] - 40)
    assert key_findings(pk) == []
    assert api.post(f"/api/v1/batches/{batch.pk}/undo").status_code == 202
    run_jobs()
    latest, first = corrections(api, pk)
    assert (latest["why"], first["why"]) == ("undone", "imported") and len(latest["come"]) == 1
    assert key_findings(pk) == was and Group.objects.filter(lookout=pk).count() == 1


def test_a_finding_that_only_differs_is_shown_before_and_now(api, watched):
    pk, times, values = watched
    n = len(times)
    stored(api, times[n - 94 : n - 92], values[n - 94 : n - 92] + 40)
    (row,) = corrections(api, pk)
    assert row["gone"] == row["come"] == [] and len(row["changed"]) == 1
    pair = row["changed"][0]
    assert pair["before"]["start"] == pair["now"]["start"] and pair["before"]["end"] < pair["now"]["end"]


def test_what_goes_on_or_is_only_late_corrects_nothing(api, sender, watched):
    pk, times, values = watched
    ahead = times[-1] + STEP * np.arange(1, 5)
    stored(api, ahead, values[:4], "next.csv")
    push(sender, times[200:201], values[200:201] + 1)
    judge()
    assert corrections(api, pk) == [] and not Job.objects.filter(kind="correct").exists()


def test_several_corrections_are_judged_at_once_and_a_killed_worker_doubles_nothing(api, watched):
    pk, times, values = watched
    n = len(times)
    lookout = Lookout.objects.get(pk=pk)
    batch = stored(api, times[n - 100 : n - 94], values[n - 100 : n - 94] - 40)
    Correction.objects.update(judged_at=None, gone=[])
    Watched.objects.update(findings=[])
    Correction.objects.create(
        lookout=lookout,
        stream=Watched.objects.get(lookout=pk).stream,
        batch=batch,
        why="imported",
        since_ns=5,
    )

    correcting.request(lookout)
    correcting.request(lookout)
    run_jobs()
    (row,) = corrections(api, pk)
    assert row["judged_at"] and row["gone"] == row["come"] == []
    assert Job.objects.filter(kind="correct", state="done").latest("pk").result == {
        "streams": 1,
        "changed": 0,
    }


def test_a_lookout_that_has_begun_anew_has_nothing_to_correct(api, watched):
    pk = watched[0]
    lookout = Lookout.objects.get(pk=pk)
    stream = Watched.objects.get(lookout=pk).stream
    Correction.objects.create(
        lookout=lookout, stream=stream, batch=Batch.objects.latest("pk"), why="undone", since_ns=5
    )
    services.begin_anew(lookout)
    correcting.request(lookout)
    run_jobs()
    assert corrections(api, pk) == []


def test_a_correction_that_no_job_has_judged_gets_one(api, watched):
    pk, times, values = watched
    n = len(times)
    stored(api, times[n - 100 : n - 94], values[n - 100 : n - 94] - 40)
    assert correcting.look() == 0
    Correction.objects.update(judged_at=None)
    assert correcting.look() == 1
    run_jobs()
    assert corrections(api, pk)[0]["judged_at"] and correcting.look() == 0


def test_a_stream_of_which_nothing_is_left_begins_anew_and_wakes_nobody(api, sender):
    times, values = history()
    batch = stored(api, times, values, "all.csv")
    pk = made(api)
    judge()
    assert len(key_findings(pk)) == 1
    assert api.post(f"/api/v1/batches/{batch.pk}/undo").status_code == 202
    run_jobs()
    (row,) = corrections(api, pk)
    assert len(row["gone"]) == 1 and row["why"] == "undone"
    watched = Watched.objects.get(lookout=pk)
    assert watched.judged_through_ns is None and watched.findings == []
    push(sender, times, values)
    judge()
    assert len(key_findings(pk)) == 1 and not Notice.objects.exists() and not Raised.objects.exists()
