"""What the screens read: the tide table, ribbons, windows, the workbench's curve, and the hints."""

import asyncio
import base64
import json
from datetime import timedelta

import numpy as np
import pytest
from django.utils import timezone

from tests.server.conftest import SPIKES, run_jobs, signed_in
from watchtide.server import moments
from watchtide.server.jobs import api as jobs_api
from watchtide.server.jobs import services as jobs
from watchtide.server.scans import services, tide
from watchtide.server.scans.models import Finding, ScanStream
from watchtide.server.streams.models import Stream

HOUR = 3_600 * 10**9


def post(api, url, body=None):
    return api.post(url, body or {}, format="json")


def ribbon(row):
    return np.frombuffer(base64.b64decode(row["ribbon"]), np.int8)


def test_the_tide_table_has_a_row_a_stream_and_says_what_is_new(api):
    tide = api.get("/api/v1/tide").json()
    assert [r["title"] for r in tide["rows"]] == ["quay", "pier", "rock"]
    assert tide["open"] == sum(r["open"] for r in tide["rows"]) == tide["new"] == 2
    quay, pier, rock = tide["rows"]
    assert quay["open"] == 1 and pier["open"] == 0 and rock["open"] == 1
    assert quay["unit"] == "m" and quay["last_value"] is not None
    assert [f["stream"] for f in tide["strongest"]] == [
        r["id"] for r in sorted((quay, rock), key=lambda r: -r["strongest"])
    ]
    assert post(api, "/api/v1/tide/looked").status_code == 204
    again = api.get("/api/v1/tide").json()
    assert again["new"] == 0 and again["open"] == 2 and again["last_looked"]


def test_a_ribbon_holds_the_strongest_score_of_each_bin_with_its_side(api, small_world):
    rows = {r["title"]: r for r in api.get("/api/v1/tide").json()["rows"]}
    bins = ribbon(rows["quay"])
    assert len(bins) == services.RIBBON_BINS
    for at in SPIKES:
        assert bins[at * 400 // 1008] > 60
    assert np.all(np.abs(ribbon(rows["pier"])) < 60)


def test_ribbons_tell_what_was_not_judged():
    z = np.array([0.0, -5.0, np.nan, np.nan, 12.0, 99.0] * 200)
    z[400:800] = np.nan
    text, first, last = services.ribbon_of(np.arange(1200), z)
    bins = np.frombuffer(text, np.int8)
    assert (first, last) == (0, 1199)
    assert np.all(bins[140:260] == -128) and bins.max() == 127
    assert services.ribbon_of(np.empty(0, int), np.empty(0)) == (b"", None, None)


def test_the_ribbon_of_days_is_whole_and_its_gap_as_long_as_the_missing_days():
    z = np.zeros(112)
    z[30:37] = np.nan
    z[60] = -5.0
    text, _, _ = services.ribbon_of(np.arange(112) * 86_400_000_000_000, z)
    cells = np.frombuffer(text, np.int8)
    width = 400 / 111
    assert abs((cells == -128).sum() - 7 * width) <= 1 and (cells == -50).sum() in (3, 4)
    assert (cells[:100] == 0).all()


def test_the_ribbon_of_working_days_lies_where_its_days_are():
    days = np.array([d for d in range(140) if d % 7 < 5])
    z = np.where(days == 70, 4.0, 0.0)
    cells = np.frombuffer(services.ribbon_of(days * 86_400_000_000_000, z)[0], np.int8)
    # The last day is 137: 70 * 400 / 137 is 204.4, and day 71 begins in cell 207.
    assert (cells != -128).all() and list(np.flatnonzero(cells == 40)) == [204, 205, 206]


def test_states_are_told_from_the_data(api, stream_of):
    quay, pier = stream_of("quay"), stream_of("pier")
    row = ScanStream.objects.get(stream=pier, scan__is_standing=True)
    newest = row.last_ns
    row.last_ns = newest - 40 * 3_600 * 10**9
    assert tide._state(pier, row, [], newest) == "silent"
    row.last_ns = newest
    assert tide._state(pier, row, [], newest) == "steady"
    late = {"kind": "outlier", "end": moments.at(newest - HOUR)}
    assert tide._state(quay, row, [late], newest) == "adrift"
    assert tide._state(quay, row, [{**late, "end": moments.at(newest - 72 * HOUR)}], newest) == "steady"
    assert tide._state(quay, None, [], newest) == "learning"


def test_a_window_is_cut_reduced_and_complete(api, small_world, stream_of):
    quay = stream_of("quay")
    url = f"/api/v1/scans/{small_world['scan'].pk}/streams/{quay.pk}/window"
    whole = api.get(url).json()
    assert whole["total"] == 1008 and not whole["reduced"] and len(whole["time"]) == 1008
    assert len(whole["findings"]) == len(SPIKES) and whole["season_hours"] == [24]
    assert sum(whole["histogram"]["unlabelled"]) + sum(whole["histogram"]["incident"]) == 1008
    assert sum(whole["histogram"]["incident"]) == 6
    few = api.get(url, {"points": 200}).json()
    assert few["reduced"] and len(few["time"]) < 420
    peaks = {f["peak"] for f in whole["findings"]}
    assert peaks <= set(few["time"])
    a, b = whole["time"][190], whole["time"][230]
    part = api.get(url, {"from": a, "to": b}).json()
    assert part["total"] == 41 and part["time"][0] == a and part["time"][-1] == b
    assert len(part["findings"]) == 1 and part["value"] == whole["value"][190:231]
    parts = api.get(url, {"from": a, "to": b, "components": "true"}).json()
    total = np.array(parts["trend"]) + np.sum(parts["seasons"], axis=0)
    assert np.allclose(total, parts["expected"], atol=1e-4)
    empty = api.get(url, {"from": "1970-01-01", "to": "1970-01-02"}).json()
    assert empty["total"] == 0 and empty["findings"] == []


@pytest.mark.parametrize(
    ("query", "place"),
    [({"points": 9}, "points"), ({"points": 99_999}, "points"), ({"from": "soon"}, "from")],
)
def test_a_window_that_cannot_be_is_refused_at_its_parameter(api, small_world, stream_of, query, place):
    answer = api.get(f"/api/v1/scans/{small_world['scan'].pk}/streams/{stream_of('quay').pk}/window", query)
    assert answer.status_code == 400 and answer.json()["place"] == place


def test_samples_are_read_without_a_scan(api, stream_of):
    body = api.get(f"/api/v1/streams/{stream_of('rock').pk}/samples", {"points": 100}).json()
    assert body["total"] == 1008 and body["reduced"] and "score" not in body


def test_a_finding_takes_the_verdict_of_the_entry_at_its_peak_else_of_half_its_span(
    api, small_world, stream_of
):
    quay = stream_of("quay")
    open_one = next(f for f in api.get("/api/v1/review").json()["queue"] if f["stream"] == quay.pk)
    finding = Finding.objects.get(pk=open_one["id"])
    key_of = {quay.pk: quay.key}

    def verdict():
        entry = services.verdicts([finding], key_of).get(finding.pk)
        return entry.verdict if entry else None

    def note(a, b, word, scope="metric=level"):
        entry = post(
            api,
            "/api/v1/logbook",
            {
                "scope": scope,
                "start": f"{np.datetime64(int(a), 'ns')}Z",
                "end": f"{np.datetime64(int(b), 'ns')}Z",
                "verdict": word,
            },
        )
        assert entry.status_code == 201, entry.content
        return entry.json()["id"]

    assert verdict() is None
    hour = 3_600 * 10**9
    before_peak = note(finding.start_ns - 5 * hour, finding.start_ns - hour, "incident")
    assert verdict() is None, "an entry beside it is another matter"
    note(finding.peak_ns, finding.peak_ns, "false-alarm")
    assert verdict() == "false-alarm"
    note(finding.peak_ns, finding.end_ns + hour, "unsure")
    assert verdict() == "unsure", "unsure goes before false alarm"
    note(finding.start_ns, finding.end_ns, "incident", "metric=level,place=quay")
    assert verdict() == "incident"
    note(finding.start_ns, finding.end_ns, "incident", "metric=level,place=pier")
    api.delete(f"/api/v1/logbook/{before_peak}")
    assert verdict() == "incident"


def test_review_asks_for_the_strongest_first_and_one_stream_alone(api, stream_of):
    queue = api.get("/api/v1/review").json()["queue"]
    assert [f["score"] for f in queue] == sorted((f["score"] for f in queue), reverse=True)
    rock = stream_of("rock").pk
    assert {f["stream"] for f in api.get("/api/v1/review", {"stream": rock}).json()["queue"]} == {rock}


def test_the_context_of_a_finding_tells_what_else_moved(api, small_world, stream_of):
    quay, rock = stream_of("quay"), stream_of("rock")
    finding = Finding.objects.filter(stream=rock, scan=small_world["scan"]).first()
    copy = Finding.objects.create(
        scan=small_world["scan"], stream=quay, start_ns=finding.start_ns + 3_600 * 10**9, end_ns=finding.end_ns, kind="outlier",
        direction="above", score=7.0, peak_ns=finding.end_ns,
    )  # fmt: skip
    context = api.get(f"/api/v1/findings/{finding.pk}").json()
    assert [f["id"] for f in context["beside"]] == [copy.pk]
    assert len(context["before"]) == 3, "three whole weeks lie before it"
    assert all(len(b["values"]) == len(b["expected"]) for b in context["before"])


def test_a_scorecard_names_the_missed_and_the_false_with_their_streams(api, small_world, stream_of):
    body = api.get(f"/api/v1/scans/{small_world['scan'].pk}/scorecard").json()
    [missed] = body["missed"]
    assert missed["stream"] == stream_of("pier").pk and missed["streams"] == 1
    assert [f["stream"] for f in body["false"]] == [stream_of("rock").pk]
    assert len(body["curve"]["levels"]) == 201 and len(body["data_digest"]) == 64
    listed = next(s for s in api.get("/api/v1/scans").json()["items"] if s["id"] == small_world["scan"].pk)
    assert (
        listed["precision"] == body["figures"]["events"]["precision"]
        and listed["recall"] == body["figures"]["events"]["recall"]
    )


def test_a_scan_that_has_not_finished_has_no_scorecard_and_cannot_be_adopted(api, stream_of):
    quay = stream_of("quay").pk
    trial = post(api, "/api/v1/scans", {"plan": {}, "streams": [quay]}).json()["id"]
    assert api.get(f"/api/v1/scans/{trial}/scorecard").status_code == 409
    assert post(api, f"/api/v1/scans/{trial}/adopt", {"streams": [quay]}).status_code == 409
    run_jobs()
    assert api.get(f"/api/v1/scans/{trial}/scorecard").status_code == 200


def test_the_same_plan_is_the_same_version_and_another_the_next(api, stream_of):
    quay = stream_of("quay").pk
    plans = ({"flag": {"side": "above"}}, {"flag": {"side": "above"}}, {"flag": {"side": "below"}})
    one, same, other = (post(api, "/api/v1/scans", {"plan": p, "streams": [quay]}).json() for p in plans)
    assert one["version"] == same["version"] and other["version"] == one["version"] + 1


def test_a_plan_is_checked_as_text_by_line(api):
    good = post(api, "/api/v1/plans/check", {"text": "flag: {level: {sigmas: 5}}\n"}).json()
    assert good["plan"]["flag"]["level"] == {"sigmas": 5} and "watchtide: 1" in good["text"]
    bad = post(api, "/api/v1/plans/check", {"text": "flag:\n  sid: both\n"})
    assert bad.status_code == 422 and bad.json()["problems"][0]["line"] == 2
    assert "did you mean side" in bad.json()["problems"][0]["message"]


@pytest.mark.parametrize(
    ("choices", "words"),
    [
        ({"roles": {"time": "value"}}, "no column is the time"),
        ({"roles": {"time": "time", "place": "time", "level": "value"}}, "two columns are the time"),
        ({"roles": {"gone": "value"}}, "cannot be"),
        ({"zone": "Atlantis/Main"}, "no known time zone"),
        ({"encoding": "klingon"}, "is not known"),
        ({"roles": {"time": "boss"}}, "not a valid choice"),
    ],
)
def test_a_layout_that_cannot_be_is_refused_with_the_remedy(api, small_world, choices, words):
    from django.core.files.uploadedfile import SimpleUploadedFile

    sent = api.post(
        "/api/v1/uploads",
        {"file": SimpleUploadedFile("l.csv", small_world["csv"].encode())},
        format="multipart",
    ).json()
    for call in ("preview", "store"):
        answer = post(api, f"/api/v1/uploads/{sent['id']}/{call}", choices)
        assert answer.status_code == 400 and words in json.dumps(answer.json()), call


def test_rows_set_aside_can_be_had_before_storing(api, small_world):
    from django.core.files.uploadedfile import SimpleUploadedFile

    text = small_world["csv"] + "2026-12-01T00:00Z,quay,=1+1\n"
    sent = api.post(
        "/api/v1/uploads", {"file": SimpleUploadedFile("l.csv", text.encode())}, format="multipart"
    ).json()
    body = post(api, f"/api/v1/uploads/{sent['id']}/aside").content.decode()
    assert "'=1+1' is not a number" in body and body.count("\n") == 2


def test_facts_of_a_stream_are_changed_and_a_wrong_zone_is_not(api, stream_of):
    quay = stream_of("quay")
    url = f"/api/v1/streams/{quay.pk}/facts"
    assert api.patch(url, {"unit": "cm", "bad_side": "above"}, format="json").json()["unit"] == "cm"
    quay.refresh_from_db()
    assert (quay.unit, quay.bad_side) == ("cm", "above")
    assert api.patch(url, {"zone": "Moon/Base"}, format="json").status_code == 400
    assert api.patch(url, {"bad_side": "inside"}, format="json").status_code == 400
    assert Stream.objects.get(pk=quay.pk).zone == quay.zone


def test_jobs_are_listed_open_first_and_cancelled_over_the_interface(api, stream_of):
    trial = post(api, "/api/v1/scans", {"plan": {}, "streams": [stream_of("quay").pk]}).json()
    listed = api.get("/api/v1/jobs").json()["items"]
    assert listed[0]["id"] == trial["job"] and listed[0]["state"] == "queued"
    assert api.delete(f"/api/v1/jobs/{trial['job']}").json()["state"] == "cancelled"
    run_jobs()
    assert api.get(f"/api/v1/scans/{trial['id']}").json()["state"] == "cancelled"


def test_listeners_get_hints_in_order_with_their_numbers(small_world, django_db_blocker, monkeypatch):
    """The hub polls committed events; a listener hears those that come after it began."""

    async def listen():
        hub = jobs_api.Hub()
        heard = []
        stream = hub.listen()
        assert b"retry" in await anext(stream)
        # Hearing starts the poller; what was there before is not news.
        waiting = asyncio.create_task(anext(stream))
        await asyncio.sleep(0.5)
        from asgiref.sync import sync_to_async

        for kind in ("logbook", "scan"):
            await sync_to_async(jobs.tell)(kind, 7)
        heard.append(await asyncio.wait_for(waiting, 5))
        heard.append(await asyncio.wait_for(anext(stream), 5))
        await stream.aclose()
        return heard

    with django_db_blocker.unblock():
        one, two = asyncio.run(listen())
    assert b"event: hint" in one and b'"kind": "logbook"' in one and b'"subject": "7"' in one
    number = lambda text: int(text.split(b"\n")[0].removeprefix(b"id: "))
    assert number(two) > number(one)


def test_what_is_new_is_counted_from_when_each_person_looked(api, small_world):
    assert post(api, "/api/v1/tide/looked").status_code == 204
    vic = signed_in("vic")
    assert vic.get("/api/v1/tide").json()["new"] == 2
    from watchtide.server.scans.models import Scan

    Scan.objects.filter(pk=small_world["scan"].pk).update(finished_at=timezone.now() + timedelta(minutes=1))
    assert api.get("/api/v1/tide").json()["new"] == 2


def test_counters_and_denominators_stay_off_the_tide_table(api, stream_of):
    from watchtide.server.streams.models import Stream

    Stream.objects.create(metric="rows counted", key="metric=rows counted", key_sha="c" * 64, kind="counter")
    below = Stream.objects.create(
        metric="share denominator", key="metric=share denominator", key_sha="d" * 64
    )
    Stream.objects.create(metric="share", key="metric=share", key_sha="e" * 64, denominator=below)
    shown = {r["metric"] for r in api.get("/api/v1/tide").json()["rows"]}
    assert "share" in shown and not shown & {"rows counted", "share denominator"}
    listed = lambda **q: {s["metric"] for s in api.get("/api/v1/catalogue", q).json()["items"]}
    assert "rows counted" not in listed() and listed(kind="counter") == {"rows counted"}
