"""Lookouts: what comes is judged as a replay judges it, in whichever pieces it came, and what was raised stays."""

import json
from datetime import timedelta

import numpy as np
import pytest

from tests.server.conftest import run_jobs, signed_in
from watchtide.core.series import SECOND_NS
from watchtide.engine.prepare.preparing import Input
from watchtide.engine.scan import outcome, stages
from watchtide.plan import load
from watchtide.server import moments
from watchtide.server.jobs.models import Job
from watchtide.server.lookouts import services, tasks
from watchtide.server.lookouts.models import Lookout, Watched
from watchtide.server.streams.models import Stream
from watchtide.tables import clock, results

PLAN = (
    "baseline: {kind: slot, seasons: [24h]}\nreplay: {refit: 1d, window: 14d}\nflag: {level: {sigmas: 5}}\n"
)
STEP = 3_600 * SECOND_NS
START = clock.parse_one("2026-05-01T00:00:00Z")
LINES = "application/x-ndjson"


def history(n=24 * 30, seed=0):
    rng = np.random.default_rng(seed)
    k = np.arange(n)
    values = np.round(50 + 20 * np.sin(2 * np.pi * k / 24) + rng.normal(0, 2, n), 3)
    values[n - 100 : n - 94] += 40
    return START + k * STEP, values


def push(client, times, values, place="lock", metric="flow"):
    lines = "\n".join(
        json.dumps(
            {"metric": metric, "place": place, "unit": "m3", "time": clock.format_time(int(t)), "value": v}
        )
        for t, v in zip(times, values, strict=True)
    )
    answer = client.post("/api/v1/push", data=lines, content_type=LINES)
    assert answer.status_code == 200, answer.content


def made(api, **more):
    body = {"name": "flow watch", "plan": PLAN, "scope": {"metric": "flow"}, "wait": "0s", **more}
    answer = api.post("/api/v1/lookouts", body, format="json")
    assert answer.status_code == 201, answer.content
    return answer.json()["id"]


def judge():
    services.look()
    run_jobs()


def streams(api, pk):
    return {s["key"]: s for s in api.get(f"/api/v1/lookouts/{pk}/streams").json()["items"]}


def replayed(times, values, key="metric=flow,place=lock"):
    return stages.scan(Input(key, times, values, "UTC"), load(PLAN), (), "replay")


def lines_of(answer):
    return answer.content.decode()


def test_a_job_leaves_room_for_others_and_the_next_goes_on(api, sender, monkeypatch):
    times, values = history(24 * 20)
    for place in ("lock", "weir", "sluice"):
        push(sender, times, values, place=place)
    pk = made(api)
    monkeypatch.setattr(tasks, "MOST_S", 0.0)
    run_jobs()
    results = list(
        Job.objects.filter(kind="watch", state="done").order_by("pk").values_list("result", flat=True)
    )
    assert [r["streams"] for r in results] == [1, 1, 1]
    assert Watched.objects.filter(lookout=pk, judged_through_ns__isnull=False).count() == 3
    assert Lookout.objects.get(pk=pk).looked_at is not None


def test_a_young_stream_is_judged_provisionally_and_says_what_it_lacks(api, sender):
    times, values = history(24 * 6)
    values[-2:] += 300
    pk = api.post(
        "/api/v1/lookouts", {"name": "young", "plan": "{}", "scope": {"metric": "flow"}, "every": "auto",
        "wait": "0s", "routes": []}, format="json",
    ).json()["id"]  # fmt: skip
    push(sender, times[:20], values[:20])
    judge()
    row = streams(api, pk)["metric=flow,place=lock"]
    assert row["state"] == "learning" and row["needs"].startswith("24 samples over six hours")
    push(sender, times[20:-2], values[20:-2])
    judge()
    row = streams(api, pk)["metric=flow,place=lock"]
    assert row["state"] == "learning" and "provisionally" in row["why"]
    assert "for the first full choice" in row["needs"] and "1d" in row["needs"]
    push(sender, times[-2:], values[-2:])
    judge()
    row = streams(api, pk)["metric=flow,place=lock"]
    assert row["state"] == "adrift" and "first full choice" in row["needs"]


def test_what_came_in_odd_pieces_is_judged_as_one_replay(api, sender):
    times, values = history()
    push(sender, times[:30], values[:30])
    pk = made(api)
    judge()
    first = streams(api, pk)["metric=flow,place=lock"]
    assert first["state"] == "learning" and "it learns from" in first["needs"]
    rng = np.random.default_rng(1)
    cuts = [30, *sorted(rng.integers(31, len(times), 6).tolist()), len(times)]
    for a, b in zip(cuts, cuts[1:], strict=False):
        # Out of order within a piece: none of it is late.
        order = rng.permutation(np.arange(a, b))
        push(sender, times[order], values[order])
        judge()
        # A worker that was killed and did it again doubles nothing.
        services.request(Lookout.objects.get(pk=pk))
        run_jobs()
    now = streams(api, pk)["metric=flow,place=lock"]
    assert now["late"] == 0 and now["judged_through"] == clock.format_time(int(times[-1]) + STEP)
    whole = replayed(times, values)
    assert whole.findings
    written = lines_of(api.get(f"/api/v1/lookouts/{pk}/findings.csv"))
    assert written == results.findings_text(list(whole.findings))
    points = outcome.points_of(whole)
    judged = int(np.flatnonzero(~np.isnan(whole.base.expected))[0])
    table = results.points_table({"metric=flow,place=lock": {k: v[judged:] for k, v in points.items()}})
    got = lines_of(api.get(f"/api/v1/lookouts/{pk}/points.csv?stream={now['stream']}"))
    assert got == results.table_bytes(table, "points.csv").decode()


def test_states_say_why_and_since_when(api, sender):
    times, values = history()
    spike = len(times) - 97
    push(sender, times[:spike], values[:spike])
    pk = made(api)
    judge()
    row = streams(api, pk)["metric=flow,place=lock"]
    assert row["state"] == "adrift" and "sigmas above since" in row["why"]
    push(sender, times[spike:], values[spike:])
    judge()
    row = streams(api, pk)["metric=flow,place=lock"]
    assert row["state"] == "steady" and row["findings"] == 1
    assert row["expected_next"] == clock.format_time(int(times[-1]) + 2 * STEP)
    # Nothing comes any more.
    watched = Watched.objects.get(lookout=pk)
    watched.newest_at = moments.now() - timedelta(hours=4)
    watched.save()
    services.request(Lookout.objects.get(pk=pk))
    run_jobs()
    row = streams(api, pk)["metric=flow,place=lock"]
    assert row["state"] == "silent" and "nothing newer than" in row["why"]
    counts = api.get(f"/api/v1/lookouts/{pk}").json()["states"]
    assert counts == {"silent": 1}
    assert api.get(f"/api/v1/lookouts/{pk}/streams?state=steady").json()["items"] == []
    # What is silent is only looked at again when something comes.
    assert services.look() == 0
    push(sender, times[-1:] + STEP, values[-1:])
    assert services.look() == 1
    run_jobs()
    assert streams(api, pk)["metric=flow,place=lock"]["state"] == "steady"


def test_a_late_sample_is_counted_and_changes_nothing_that_was_raised(api, sender):
    times, values = history()
    gone = len(times) - 98
    there = np.arange(len(times)) != gone
    push(sender, times[there], values[there])
    pk = made(api)
    judge()
    before = lines_of(api.get(f"/api/v1/lookouts/{pk}/findings.csv"))
    push(sender, times[gone : gone + 1], values[gone : gone + 1] - 200)
    push(sender, times[-1:] + STEP, values[-1:])
    judge()
    row = streams(api, pk)["metric=flow,place=lock"]
    assert row["late"] == 1
    after = lines_of(api.get(f"/api/v1/lookouts/{pk}/findings.csv"))
    assert after == before and before.count("\n") == 3
    # It is not counted once more.
    push(sender, times[-1:] + 2 * STEP, values[-1:])
    judge()
    assert streams(api, pk)["metric=flow,place=lock"]["late"] == 1


def test_streams_that_match_later_join_and_the_last_few_samples_can_be_left_out(api, sender):
    times, values = history(24 * 20)
    push(sender, times, values)
    pk = made(api, skip_last=3, scope={"attributes": {"place": "lock"}})
    judge()
    row = streams(api, pk)["metric=flow,place=lock"]
    assert row["judged_through"] == clock.format_time(int(times[-1]) - 2 * STEP)
    push(sender, times, values, place="weir")
    judge()
    assert list(streams(api, pk)) == ["metric=flow,place=lock"]
    wider = made(api, name="all flow")
    judge()
    assert set(streams(api, wider)) == {"metric=flow,place=lock", "metric=flow,place=weir"}


def test_a_bin_waits_for_its_samples(api, sender):
    now = moments.now_ns() // STEP * STEP
    k = np.arange(24 * 20)
    times = now - (len(k) - 1 - k) * STEP
    values = 50 + 20 * np.sin(2 * np.pi * k / 24)
    push(sender, times, values)
    pk = made(api, wait="2h")
    judge()
    # The bin of now has not ended; of those before, two hours may still bring something.
    judged = clock.parse_one(streams(api, pk)["metric=flow,place=lock"]["judged_through"])
    assert now - 3 * STEP < judged <= now - 1 * STEP
    assert not Lookout.objects.get(pk=pk).watched.filter(next_ns__lte=moments.now_ns()).exists()


def test_another_plan_begins_anew_and_an_ended_lookout_is_gone(api, sender):
    times, values = history(24 * 20)
    push(sender, times, values)
    pk = made(api)
    judge()
    assert api.get(f"/api/v1/lookouts/{pk}/findings.csv").content.count(b"\n") == 2
    answer = api.patch(f"/api/v1/lookouts/{pk}", {"plan": PLAN.replace("5", "11")}, format="json")
    assert answer.status_code == 200 and answer.json()["plan_version"] == 2
    run_jobs()
    assert Watched.objects.get(lookout=pk).judged > 0
    assert api.patch(f"/api/v1/lookouts/{pk}", {"on": False}, format="json").json()["on"] is False
    push(sender, times[-1:] + STEP, values[-1:])
    assert services.look() == 0
    assert api.delete(f"/api/v1/lookouts/{pk}").status_code == 204
    assert api.get(f"/api/v1/lookouts/{pk}").status_code == 404


def test_a_plan_that_a_stream_cannot_carry_says_so_and_the_others_go_on(api, sender):
    times, values = history(24 * 20)
    push(sender, times, values)
    push(sender, times, values, place="weir")
    Stream.objects.filter(key="metric=flow,place=weir").update(zone="Europe/Dublin")
    plan = "baseline: {kind: harmonic, seasons: [24h], covariates: [wind]}\n"
    answer = api.post(
        "/api/v1/lookouts", {"name": "x", "plan": plan, "scope": {"metric": "flow"}}, format="json"
    )
    assert answer.status_code == 201, answer.content
    run_jobs()
    rows = streams(api, answer.json()["id"])
    assert {r["state"] for r in rows.values()} == {"failing"}
    assert all("wind" in r["why"] for r in rows.values())
    assert not Job.objects.filter(kind="watch", state="failed").exists()


@pytest.mark.parametrize(
    ("changes", "status", "words"),
    [
        ({"scope": {}}, 400, "names neither"),
        ({"scope": {"streams": []}}, 400, "no stream is named"),
        ({"scope": {"streams": [10**9]}}, 404, "no stream"),
        ({"plan": "baseline: {kind: crystal ball}"}, 422, "kind"),
        ({"plan": {"version": 10**9}}, 404, "no plan version"),
        ({"wait": "soon"}, 400, "no duration"),
        ({"notify": {"remind": "often"}}, 400, "notify.remind"),
        ({"skip_last": -1}, 400, "skip_last"),
        ({"routes": [1]}, 400, "no route"),
        ({"name": ""}, 400, "name"),
    ],
)
def test_bad_input_names_the_place_and_makes_nothing(api, changes, status, words):
    body = {"name": "x", "plan": PLAN, "scope": {"metric": "level"}} | changes
    answer = api.post("/api/v1/lookouts", body, format="json")
    assert answer.status_code == status and words in answer.content.decode()
    assert not Lookout.objects.exists()


def test_a_viewer_reads_and_does_not_make(api):
    pk = made(api, scope={"metric": "level"})
    viewer = signed_in("vic")
    assert viewer.get(f"/api/v1/lookouts/{pk}").status_code == 200
    body = {"name": "x", "plan": PLAN, "scope": {"metric": "level"}}
    assert viewer.post("/api/v1/lookouts", body, format="json").status_code == 403
    assert viewer.delete(f"/api/v1/lookouts/{pk}").status_code == 403


def test_a_list_of_lookouts_costs_no_query_a_row(api, django_assert_max_num_queries):
    for i in range(8):
        made(api, name=f"l{i}", scope={"metric": "level"})
    with django_assert_max_num_queries(12):
        rows = api.get("/api/v1/lookouts").json()["items"]
    assert len(rows) == 8 and all(r["states"] == {"learning": 3} for r in rows)


def test_changing_one_wish_leaves_the_others(api):
    pk = made(api, scope={"metric": "level"}, notify={"ended": False})
    answer = api.patch(f"/api/v1/lookouts/{pk}", {"notify": {"remind": "2h"}}, format="json").json()
    assert answer["notify"]["ended"] is False and answer["notify"]["remind"] == "2h"
