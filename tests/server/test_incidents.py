"""Incidents: proposed from what goes together, made, judged, taken back, changed, and kept through a new scan."""

import numpy as np
import pytest

from tests import world
from tests.server.conftest import run_jobs, signed_in
from tests.server.test_api import post
from watchtide.server.incidents import services
from watchtide.server.incidents.models import Change, Incident, Part
from watchtide.server.logbook.models import Entry
from watchtide.server.scans import services as scans
from watchtide.server.scans.models import Finding, Standing
from watchtide.tables import clock

HOUR_NS = 3_600 * 10**9


def at(index):
    return int(np.datetime64(world.START, "ns").astype(np.int64)) + index * HOUR_NS


@pytest.fixture
def together(small_world, stream_of, db):
    """Findings of quay and pier that begin an hour apart, and one of rock far from both."""
    made = {}
    for place, first, last, score in (
        ("quay", 900, 903, 9.0),
        ("pier", 901, 902, 7.0),
        ("rock", 950, 951, 8.0),
    ):
        made[place] = Finding.objects.create(
            scan=small_world["scan"], stream=stream_of(place), start_ns=at(first), end_ns=at(last), kind="outlier",
            direction="above", score=score, peak_ns=at(first), points=last - first + 1,
        )  # fmt: skip
    return made


def proposed(api):
    return [r for r in api.get("/api/v1/incidents").json()["items"] if r["state"] == "proposed"]


def ids(*findings):
    return {"findings": [f.pk for f in findings]}


def test_what_goes_together_is_proposed_and_lone_findings_are_not(api, together):
    (row,) = proposed(api)
    assert (row["streams"], row["findings"], row["open"], row["title"]) == (2, 2, 2, "level above")
    assert (row["start"], row["end"]) == (clock.format_time(at(900)), clock.format_time(at(903))) and row[
        "finding"
    ] == together["quay"].pk
    seen = api.get(f"/api/v1/incidents/proposed/{together['pier'].pk}").json()
    assert [m["id"] for m in seen["members"]] == [together["quay"].pk, together["pier"].pk]
    assert seen["shared"] == ["metric=level"] and seen["id"] is None and seen["changes"] == []
    lone = api.get(f"/api/v1/incidents/proposed/{together['rock'].pk}")
    assert lone.status_code == 404 and "remedy" in lone.json()


def test_one_of_far_off_hangs_on_by_what_feeds_it(api, together, stream_of):
    Finding.objects.filter(pk=together["quay"].pk).update(end_ns=at(949))
    Finding.objects.filter(pk=together["rock"].pk).update(start_ns=at(904))
    assert proposed(api)[0]["streams"] == 2
    stream_of("rock").fed_by.add(stream_of("quay"))
    assert proposed(api)[0]["streams"] == 3
    assert [stream_of("rock").pk, stream_of("quay").pk] in services.proposal(together["rock"].pk)["fed_by"]


def test_an_incident_is_made_judged_taken_back_and_closed_and_all_is_written_down(api, together):
    made = post(
        api, "/api/v1/incidents", {**ids(together["quay"], together["pier"]), "title": "Gauge fouled"}
    )
    assert made.status_code == 201
    pk = made.json()["id"]
    assert proposed(api) == [] and api.get("/api/v1/incidents").json()["items"][0]["title"] == "Gauge fouled"
    before = Entry.objects.count()
    judged = post(api, f"/api/v1/incidents/{pk}/verdict", {"verdict": "incident", "cause": "weed"})
    assert judged.status_code == 201 and Entry.objects.count() == before + 2
    seen = api.get(f"/api/v1/incidents/{pk}").json()
    assert seen["open"] == 0 and {m["verdict"] for m in seen["members"]} == {"incident"}
    assert [(e["scope"], e["cause"], e["origin"]) for e in seen["entries"]] == [
        ("metric=level,place=quay", "weed", "finding"), ("metric=level,place=pier", "weed", "finding"),
    ]  # fmt: skip
    again = post(api, f"/api/v1/incidents/{pk}/verdict", {"verdict": "incident"})
    assert again.status_code == 409 and "logbook" in again.json()["remedy"]
    back = post(api, f"/api/v1/incidents/{pk}/verdict/undo", judged.json())
    assert sorted(back.json()["entries"]) == sorted(judged.json()["entries"])
    assert api.get(f"/api/v1/incidents/{pk}").json()["open"] == 2
    closed = api.patch(
        f"/api/v1/incidents/{pk}", {"state": "closed", "note": "cleaned", "take": True}, format="json"
    )
    assert (closed.json()["state"], closed.json()["taken_by"], closed.json()["note"]) == (
        "closed",
        "ann",
        "cleaned",
    )
    assert [c["action"] for c in closed.json()["changes"]] == ["make", "judge", "take back", "change"]
    assert closed.json()["changes"][-1]["content"]["before"] == {"state": "open", "note": "", "taken_by": ""}
    assert api.get("/api/v1/incidents").json()["items"] == [] and proposed(api) == []
    assert [r["id"] for r in api.get("/api/v1/incidents?state=closed").json()["items"]] == [pk]


def test_what_is_said_to_be_no_incident_is_not_proposed_again(api, together):
    post(api, "/api/v1/incidents", {**ids(together["quay"], together["pier"]), "state": "apart"})
    assert proposed(api) == []
    Finding.objects.filter(pk=together["rock"].pk).update(start_ns=at(901), end_ns=at(902))
    assert proposed(api)[0]["streams"] == 3, "more than was said to be apart"


def test_findings_are_put_in_and_taken_out_but_never_the_last(api, together):
    pk = post(api, "/api/v1/incidents", ids(together["quay"])).json()["id"]
    near = api.get(f"/api/v1/incidents/{pk}").json()["nearby"]
    assert together["pier"].pk in [f["id"] for f in near] and together["rock"].pk not in [
        f["id"] for f in near
    ]
    seen = post(api, f"/api/v1/incidents/{pk}/findings", ids(together["pier"], together["rock"])).json()
    assert seen["streams"] == 3
    seen = post(api, f"/api/v1/incidents/{pk}/findings", {**ids(together["rock"]), "out": True}).json()
    assert [m["title"] for m in seen["members"]] == ["quay", "pier"]
    both = {**ids(together["quay"], together["pier"]), "out": True}
    refused = post(api, f"/api/v1/incidents/{pk}/findings", both)
    assert refused.status_code == 400 and Part.objects.filter(incident=pk).count() == 2


def test_an_incident_outlives_the_scan_that_showed_it(api, together, small_world):
    real = Finding.objects.filter(scan=small_world["scan"], stream=together["quay"].stream).order_by(
        "start_ns"
    )[0]
    pk = post(api, "/api/v1/incidents", ids(real, together["pier"])).json()["id"]
    old = small_world["scan"]
    new = scans.start(old.plan_version, [real.stream_id, together["pier"].stream_id], is_standing=True)
    run_jobs()
    assert Standing.objects.get(stream=real.stream_id).scan_id == new.pk
    seen = api.get(f"/api/v1/incidents/{pk}").json()
    assert [m["scan"] for m in seen["members"]] == [new.pk], "the new scan's finding of the same span"
    assert [b["title"] for b in seen["bare"]] == ["pier"], "what the new scan does not find stays as a span"
    assert seen["streams"] == 2


@pytest.mark.parametrize(
    "body, status, words",
    [
        ({"findings": []}, 400, "no finding is named"),
        ({"findings": [10**9]}, 409, "no longer there"),
        ({"findings": "all"}, 400, ""),
        ({"findings": [1], "state": "closed"}, 400, ""),
    ],
)
def test_what_cannot_be_put_together_is_refused_and_nothing_is_kept(api, body, status, words):
    answer = post(api, "/api/v1/incidents", body)
    assert answer.status_code == status and words in answer.content.decode()
    assert not Incident.objects.exists()


def test_an_empty_title_and_an_unknown_state_are_refused(api, together):
    pk = post(api, "/api/v1/incidents", ids(together["quay"])).json()["id"]
    assert api.patch(f"/api/v1/incidents/{pk}", {"title": "  "}, format="json").status_code == 400
    assert "take one of" in api.get("/api/v1/incidents?state=lost").json()["remedy"]
    assert api.get("/api/v1/incidents/999999").status_code == 404


def test_a_viewer_reads_incidents_and_changes_none(together):
    viewer = signed_in("vic")
    assert viewer.get("/api/v1/incidents").status_code == 200
    pk = services.make([together["quay"].pk], "", "ann").pk
    for path, body in (
        ("", ids(together["pier"])), (f"/{pk}/findings", ids(together["pier"])),
        (f"/{pk}/verdict", {"verdict": "incident"}), (f"/{pk}/verdict/undo", {"entries": []}),
    ):  # fmt: skip
        assert post(viewer, f"/api/v1/incidents{path}", body).status_code == 403, path
    assert viewer.patch(f"/api/v1/incidents/{pk}", {"title": "x"}, format="json").status_code == 403
    assert Change.objects.filter(incident=pk).count() == 1
