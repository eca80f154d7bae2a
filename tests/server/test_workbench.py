"""What the workbench asks for: replay, diagnoses, comparison, folds, points, and what stands behind a finding."""

import csv
import io

import numpy as np
import pytest

from tests.server.conftest import run_jobs, signed_in
from watchtide.engine.scan import stages
from watchtide.plan.text import from_data
from watchtide.server import storage
from watchtide.server.scans import charts, explain, services
from watchtide.server.scans.models import Finding, Scan, ScanStream
from watchtide.server.streams import files as streams
from watchtide.server.streams import store
from watchtide.server.streams.models import Derived, Stream
from watchtide.tables import clock

H = 3_600 * 10**9
PLAN = {"flag": {"level": {"sigmas": 6}}, "baseline": {"kind": "slot", "seasons": ["24h"]}}


def post(api, url, body):
    return api.post(url, body, format="json")


def started(api, ids, **more):
    answer = post(api, "/api/v1/scans", {"plan": PLAN, "streams": ids, **more})
    assert answer.status_code == 202, answer.content
    run_jobs()
    return Scan.objects.get(pk=answer.json()["id"])


def test_a_replay_is_the_one_of_the_command_line_and_never_stands(api, stream_of):
    quay = stream_of("quay")
    scan = started(api, [quay.pk], mode="replay")
    assert scan.mode == "replay" and scan.finished_at
    got = list(Finding.objects.filter(scan=scan).order_by("start_ns"))
    times, values = store.read(quay.pk)
    same = stages.scan(stages.Input(quay.key, times, values, quay.zone), from_data(PLAN), (), "replay")
    assert [(f.start_ns, f.end_ns, f.raised_ns) for f in got] == [
        (f.start, f.end, f.raised) for f in same.findings
    ]
    assert got and all(f.raised_ns > f.start_ns for f in got)
    window = api.get(f"/api/v1/scans/{scan.pk}/streams/{quay.pk}/window").json()
    assert window["score"][0] is None and window["findings"][0]["raised"] == clock.format_time(
        got[0].raised_ns
    )
    refused = post(api, f"/api/v1/scans/{scan.pk}/adopt", {"streams": [quay.pk]})
    assert refused.status_code == 409 and "would have been said" in refused.json()["title"]
    wrong = post(api, "/api/v1/scans", {"plan": PLAN, "streams": [quay.pk], "mode": "guess"})
    assert wrong.status_code == 400
    assert signed_in("vic").post("/api/v1/scans", {"plan": PLAN, "streams": [quay.pk], "mode": "replay"}, format="json").status_code == 403  # fmt: skip


def test_a_lost_stage_of_a_replay_is_made_again_as_a_replay(api, stream_of):
    scan = started(api, [stream_of("rock").pk], mode="replay")
    row = ScanStream.objects.select_related("scan__plan_version", "stream").get(scan=scan)
    before = services.rescan(row)
    storage.stages().clear()
    again = services.rescan(row)
    assert np.array_equal(before.base.score, again.base.score, equal_nan=True) and again.base.mode == "replay"


def test_diagnoses_come_with_the_plan_their_remedy_makes(api, stream_of):
    ids = [stream_of("quay").pk]
    answer = post(
        api, "/api/v1/scans", {"plan": {"baseline": {"kind": "harmonic", "seasons": []}}, "streams": ids}
    )
    run_jobs()
    told = api.get(f"/api/v1/scans/{answer.json()['id']}/streams/{ids[0]}/examination").json()
    assert told["training"]["mae"] > 0 and told["after"] is None
    (season,) = [d for d in told["diagnoses"] if "seasons" in str(d["remedy"])]
    assert season["plan"]["baseline"]["seasons"] == season["remedy"]["baseline.seasons"] != []
    again = post(api, "/api/v1/scans", {"plan": season["plan"], "streams": ids})
    run_jobs()
    better = api.get(f"/api/v1/scans/{again.json()['id']}/streams/{ids[0]}/examination").json()
    assert better["training"]["mae"] < 0.6 * told["training"]["mae"]
    assert not [d for d in better["diagnoses"] if "seasons" in str(d["remedy"])]


def test_two_scans_are_weighed_over_what_both_judged(api, small_world, stream_of):
    quay = stream_of("quay")
    one, replay = small_world["scan"], started(api, [quay.pk], mode="replay")
    told = api.get(f"/api/v1/scans/{one.pk}/streams/{quay.pk}/against/{replay.pk}").json()
    seen = api.get(f"/api/v1/scans/{replay.pk}/streams/{quay.pk}/window").json()
    judged = [t for t, s in zip(seen["time"], seen["score"], strict=True) if s is not None]
    assert told["span_from"] == judged[0] and told["span_to"] == judged[-1]
    assert told["shared"] + told["one_only"] == told["one"]["findings"]
    assert told["precision"]["words"] and told["recall"]["one"] is not None
    assert told["precision"]["difference_ci"] is None  # six weeks hold no ten blocks of a week
    missing = api.get(f"/api/v1/scans/{one.pk}/streams/{quay.pk}/against/{replay.pk + 999}")
    assert missing.status_code == 404


def test_promises_stand_at_every_level_and_fall(api, small_world, stream_of):
    told = api.get(f"/api/v1/scans/{small_world['scan'].pk}/streams/{stream_of('pier').pk}/curve").json()
    odds, weekly = told["promised"]["odds"], told["promised"]["per_week"]
    assert len(odds) == len(weekly) == 201
    assert all(b >= a for a, b in zip(odds, odds[1:], strict=False))
    assert all(b <= a for a, b in zip(weekly, weekly[1:], strict=False))
    assert told["in_force"]["odds"] > 1000


def test_a_fold_lays_days_over_one_another(api, small_world, stream_of):
    url = f"/api/v1/scans/{small_world['scan'].pk}/streams/{stream_of('quay').pk}/fold"
    told = api.get(url, {"hours": 24}).json()
    assert told["step_s"] == 3600 and len(told["expected"]) == 24 and 20 <= len(told["cycles"]) <= 26
    assert all(len(c) == 24 for c in told["cycles"]) and told["clock"] == "local"
    assert np.all(np.diff([clock.parse_one(t) for t in told["starts"]]) == 24 * H)
    assert api.get(url, {"hours": "a day"}).json()["place"] == "hours"
    assert api.get(url, {"hours": 0.5}).status_code == 400


def test_points_are_those_of_the_command_line(api, small_world, stream_of):
    quay = stream_of("quay")
    url = f"/api/v1/scans/{small_world['scan'].pk}/streams/{quay.pk}/points.csv"
    rows = list(csv.DictReader(io.StringIO(api.get(url).content.decode())))
    assert len(rows) == 1008 and list(rows[0])[:4] == ["series", "time", "value", "expected"]
    window = api.get(url.replace("points.csv", "window")).json()
    assert float(rows[200]["score"]) == pytest.approx(abs(window["score"][200]), rel=1e-6)
    some = api.get(url, {"from": window["time"][10], "to": window["time"][19]})
    assert len(some.content.decode().splitlines()) == 11
    assert "attachment" in some["Content-Disposition"]


@pytest.fixture
def taps(api, django_user_model):
    """Counts of two fares at two places, one of them doubled for six hours, and their total by place."""
    rng = np.random.default_rng(5)
    n = 24 * 28
    parts = {}
    for place in ("quay", "rock"):
        for fare, size in (("adult", 60), ("child", 20)):
            y = rng.poisson(size * (1.2 + np.sin(2 * np.pi * np.arange(n) / 24))).astype(float)
            if (place, fare) == ("quay", "adult"):
                y[500:506] = 2 * y[500:506] + 150
            parts[place, fare] = y
    ann = django_user_model.objects.get(username="ann")
    lines = ["time,place,fare,value"]
    start = np.datetime64("2026-06-01T00:00:00")
    for (place, fare), y in parts.items():
        lines += [f"{start + np.timedelta64(i, 'h')}Z,{place},{fare},{v:g}" for i, v in enumerate(y)]
    upload = streams.take_upload("taps.csv", ["\n".join(lines).encode()], ann)
    streams.store_upload(upload, {"metric": "taps", "unit": "taps"}, ann)
    run_jobs()
    ids = list(Stream.objects.filter(metric="taps").order_by("pk").values_list("pk", flat=True))
    version = services.plan_version("counts", from_data(PLAN), "ann")
    scan = services.start(version, ids, user=ann, is_standing=True)
    run_jobs()
    return Scan.objects.get(pk=scan.pk), parts


def test_contributors_of_a_count_sum_from_expected_to_observed(api, taps):
    scan, parts = taps
    hit = Finding.objects.filter(scan=scan, kind="outlier").order_by("-score").first()
    assert dict(hit.stream.attributes) == {"place": "quay", "fare": "adult"}
    told = api.get(f"/api/v1/findings/{hit.pk}/explain", {"by": "place"}).json()["contributors"]
    assert told["attributes"] == ["fare", "place"] and told["attribute"] == "place"
    assert told["rows"][0]["name"] == "quay" and told["rows"][0]["share"] > 0.8
    total = told["expected"] + sum(r["push"] for r in told["rows"]) + told["unaccounted"]
    assert total == pytest.approx(told["observed"], abs=1e-6)
    times, _ = store.read(hit.stream_id)
    span = slice(np.searchsorted(times, hit.start_ns), np.searchsorted(times, hit.end_ns, side="right"))
    assert told["observed"] == sum(y[span].sum() for y in parts.values())
    by_fare = api.get(f"/api/v1/findings/{hit.pk}/explain", {"by": "fare"}).json()["contributors"]
    assert by_fare["attribute"] == "fare" and by_fare["rows"][0]["name"] == "adult"
    # Unasked it is told by what sets one part most apart.
    unasked = api.get(f"/api/v1/findings/{hit.pk}/explain").json()["contributors"]
    most = max((by_fare, told), key=lambda x: abs(x["rows"][0]["share"]))
    assert unasked["attribute"] == most["attribute"]


def test_the_parts_of_a_derived_total_are_what_its_formula_adds(taps):
    total = Stream(
        metric="taps_of_a_place", kind="derived", attributes=[["place", "quay"]], key="k", key_sha="s"
    )
    Derived.objects.create(metric="taps_of_a_place", formula="total of [taps]", by=["place"])
    found, is_total = explain.parts_of(total)
    assert is_total and sorted(dict(s.attributes)["fare"] for s in found) == ["adult", "child"]


def test_what_does_not_add_up_says_so_and_names_what_else_moved(api, small_world, stream_of):
    quay = stream_of("quay")
    hit = Finding.objects.filter(scan=small_world["scan"], stream=quay).order_by("start_ns").first()
    told = api.get(f"/api/v1/findings/{hit.pk}/explain").json()
    assert told["contributors"]["rows"] == [] and "do not add up" in told["contributors"]["why"]
    assert told["alike"] == []
    last = Finding.objects.filter(scan=small_world["scan"], stream=quay).order_by("-start_ns").first()
    again = api.get(f"/api/v1/findings/{last.pk}/explain").json()
    # The spikes of this world are much of one shape.
    earlier = Finding.objects.filter(scan=small_world["scan"], stream=quay).count() - 1
    assert 1 <= len(again["alike"]) <= earlier
    assert all(
        a["likeness"] >= 0.7 and a["finding"]["start"] < clock.format_time(last.start_ns)
        for a in again["alike"]
    )


def test_what_moved_before_has_its_lag_and_what_feeds_it_comes_first(api, small_world, stream_of):
    quay, rock = stream_of("quay"), stream_of("rock")
    scan = small_world["scan"]
    hit = Finding.objects.filter(scan=scan, stream=quay).order_by("start_ns").first()
    early = Finding.objects.create(
        scan=scan, stream=rock, start_ns=hit.start_ns - 2 * H, end_ns=hit.start_ns, kind="outlier", direction="above",
        score=7.0, peak_ns=hit.start_ns - 2 * H,
    )  # fmt: skip
    (beside,) = api.get(f"/api/v1/findings/{hit.pk}/explain").json()["beside"]
    assert beside["finding"]["id"] == early.pk and beside["when"] == "before" and beside["lag_s"] == -7200
    assert beside["relation"] == "" and -1 <= beside["goes_with"] <= 1
    quay.fed_by.add(rock)
    (beside,) = api.get(f"/api/v1/findings/{hit.pk}/explain").json()["beside"]
    assert beside["relation"] == "feeds this"


def test_the_strongest_are_capped_and_cut_to_the_span_that_is_asked_for(api, small_world, stream_of):
    quay = stream_of("quay")
    whole = api.get("/api/v1/tide", {"stream": 5}).json()
    mine = [f for f in whole["strongest"] if f["stream"] == quay.pk]
    assert len(whole["strongest"]) == 2 and len(mine) == 1
    one = api.get("/api/v1/tide", {"most": 1}).json()["strongest"]
    assert [f["id"] for f in one] == [whole["strongest"][0]["id"]]
    late = api.get("/api/v1/tide", {"begin": clock.format_time(clock.parse_one(mine[0]["end"]) + 1)}).json()[
        "strongest"
    ]
    assert all(f["end"] > mine[0]["end"] for f in late)
    assert api.get("/api/v1/tide", {"most": 0}).status_code == 400
    row = next(r for r in whole["rows"] if r["id"] == quay.pk)
    assert row["newest"] == mine[0]["start"] and "place=quay" in row["attributes"]
    assert row["judged_until"] is None
    Stream.objects.filter(pk=quay.pk).update(lateness_ns=3 * H)
    row = next(r for r in api.get("/api/v1/tide").json()["rows"] if r["id"] == quay.pk)
    assert clock.parse_one(row["judged_until"]) == clock.parse_one(row["ribbon_to"]) - 3 * H


def test_a_taken_finding_stays_taken_through_the_next_scan_and_with_one_person(api, small_world, stream_of):
    hit = Finding.objects.filter(scan=small_world["scan"], stream=stream_of("quay")).first()
    url = f"/api/v1/findings/{hit.pk}/take"
    assert post(api, url, {}).json()["taken_by"] == "ann"
    Finding.objects.filter(pk=hit.pk).update(taken_by="bo")
    refused = post(api, url, {})
    assert refused.status_code == 409 and "bo" in refused.json()["title"]
    again = services.start_standing([stream_of("quay").pk])
    run_jobs()
    taken = Finding.objects.filter(scan=again).exclude(taken_by="")
    assert [(f.taken_by, f.start_ns) for f in taken] == [("bo", hit.start_ns)]
    assert post(api, url, {"take": False}).json()["taken_by"] == ""
    assert post(signed_in("vic"), url, {}).status_code == 403


def test_a_stream_by_the_day_keeps_its_plan_and_adds_up(api, stream_of):
    quay = stream_of("quay")
    scan = started(api, [quay.pk])
    url = f"/api/v1/scans/{scan.pk}/streams/{quay.pk}/window"
    fine, day = api.get(url).json(), api.get(url + "?by=day").json()
    _, values = store.read(quay.pk)
    assert quay.is_additive == (abs(np.nansum(values) - sum(v for v in day["value"] if v is not None)) < 1e-3)
    assert len(day["time"]) == day["total"] < fine["total"] and not day["reduced"]
    assert len(day["score"]) == len(day["expected"]) == len(day["share"]) == len(day["time"])
    # The same scan: its findings, levels and the score furthest from 0.
    assert day["findings"] == fine["findings"] and day["level_above"] == fine["level_above"]
    assert max(abs(z) for z in day["score"] if z is not None) == max(
        abs(z) for z in fine["score"] if z is not None
    )
    assert "spread" not in day and "edges" not in day
    stored = api.get(f"/api/v1/streams/{quay.pk}/samples?by=week").json()
    assert len(stored["time"]) in range(len(day["time"]) // 7, len(day["time"]) // 7 + 3)
    # A part of the span holds the day that it begins in, whole.
    part = api.get(url + f"?by=day&from={fine['time'][30]}&to={fine['time'][90]}").json()
    place = day["time"].index(part["time"][0])
    assert part["value"][0] == day["value"][place] and day["time"][place] <= fine["time"][30]
    for wrong in ("?by=fortnight", "?by=hours"):
        answer = api.get(url + wrong)
        assert answer.status_code == 400 and "take one of hour, day, week, month" in answer.content.decode()


def test_the_histogram_counts_every_score_by_label_and_by_split(api, stream_of):
    quay = stream_of("quay")
    scan = started(api, [quay.pk])
    window = api.get(f"/api/v1/scans/{scan.pk}/streams/{quay.pk}/window?points=8000").json()
    scores = sum(z is not None for z in window["score"])
    counts = window["histogram"]
    assert not window["reduced"]
    for one, other in (("unlabelled", "incident"), ("training", "after")):
        assert sum(counts[one]) + sum(counts[other]) == scores


def test_adopting_a_trial_says_first_what_it_changes_and_can_be_undone(api, stream_of):
    one, other = stream_of("quay"), stream_of("rock")
    before = started(api, [one.pk])
    assert post(api, f"/api/v1/scans/{before.pk}/adopt", {}).status_code == 204
    changed = {**PLAN, "flag": {"level": {"sigmas": 5}}}
    answer = post(api, "/api/v1/scans", {"plan": changed, "streams": [one.pk, other.pk]})
    run_jobs()
    trial = answer.json()["id"]
    stood = api.get(f"/api/v1/streams/{other.pk}").json()["standing_scan"]
    items = api.get(f"/api/v1/scans/{trial}/adoption").json()
    assert {tuple(a["streams"]): a["scan"] for a in items} == {(one.pk,): before.pk, (other.pk,): stood}
    now = next(a for a in items if a["scan"] == before.pk)
    assert now["findings"] == Finding.objects.filter(scan=before, stream=one).count()
    assert now["findings_then"] == Finding.objects.filter(scan=trial, stream=one).count()
    kinds = {line["kind"]: line["text"] for line in now["changes"]}
    assert "6" in kinds["removed"] and "5" in kinds["added"]
    assert post(api, f"/api/v1/scans/{trial}/adopt", {}).status_code == 204
    assert api.get(f"/api/v1/scans/{trial}/adoption").json() == []
    uses = api.get(f"/api/v1/plans/{Scan.objects.get(pk=trial).plan_version.plan_id}/uses").json()["items"]
    assert {(u["stream"], u["scan"]) for u in uses} >= {(one.pk, trial), (other.pk, trial)}
    # What stood before can stand again, for the streams that it stood for.
    back = post(api, f"/api/v1/scans/{before.pk}/adopt", {"streams": now["streams"]})
    assert back.status_code == 204
    assert api.get(f"/api/v1/streams/{one.pk}").json()["standing_scan"] == before.pk
    assert api.get(f"/api/v1/streams/{other.pk}").json()["standing_scan"] == trial


@pytest.mark.parametrize(
    ("spreads", "places"), [([2.0, np.nan, 0.0], 3), ([250.0], 1), ([0.002], 6), ([], 3), ([1e9], 0)]
)
def test_a_chart_has_figures_to_a_thousandth_of_the_usual_spread(spreads, places):
    assert charts.places_of(np.array(spreads)) == places
    shown = np.asarray(charts.column(np.array([1.23456789, np.nan]), places), np.float64)
    assert abs(shown[0] - 1.23456789) <= 0.5 * 10.0**-places + 1e-7 and np.isnan(shown[1])
