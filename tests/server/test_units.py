"""Bursts of a stream scanned as wholes on the server: which are found, what each was rebuilt as, and how a level parts them."""

import json

import numpy as np
import pytest

from tests.server.conftest import run_jobs
from watchtide.core.scoring.curve import LEVELS

SAMPLES, COUNT, ODD = 40, 160, (100, 115, 140, 150)
START = np.datetime64("2026-08-03T00:00:00.000")
PLAN = {
    "prepare": {"unit": {"gap": "1s"}},
    "baseline": {"kind": "reconstruction", "options": {"epochs": 15}},
    "flag": {"level": {"sigmas": 6}},
}


def begin_of(k):
    return START + np.timedelta64(k, "h")


@pytest.fixture
def ramp(api, django_db_blocker):
    """A scanned stream of bursts; two of the odd ones are in the logbook, one of them in the test."""
    from watchtide.server.streams.models import Stream

    rng = np.random.default_rng(1)
    at = np.arange(SAMPLES)
    rows = ["time,ramp"]
    for k in range(COUNT):
        wave = 3 * np.exp(-at / 12) * np.sin(at / 2.5) + rng.normal(0, 0.1, SAMPLES)
        if k in ODD:
            wave += np.sin(at * 1.4 + k)
        rows += [
            f"{begin_of(k) + np.timedelta64(int(i), 'ms')}Z,{v:.4f}" for i, v in zip(at, wave, strict=True)
        ]
    from django.core.files.uploadedfile import SimpleUploadedFile

    upload = api.post(
        "/api/v1/uploads",
        {"file": SimpleUploadedFile("ramp.csv", "\n".join(rows).encode())},
        format="multipart",
    ).json()["id"]
    api.post(f"/api/v1/uploads/{upload}/store", {"metric": "ramp", "unit": "mm/s²"}, format="json")
    run_jobs()
    stream = Stream.objects.get(metric="ramp")
    for k in (100, 150):
        body = {
            "scope": "metric=ramp", "start": f"{begin_of(k)}Z", "end": f"{begin_of(k) + np.timedelta64(1, 's')}Z",
            "verdict": "incident", "cause": "worn bearing",
        }  # fmt: skip
        assert api.post("/api/v1/logbook", body, format="json").status_code == 201
    made = api.post("/api/v1/scans", {"plan": PLAN, "streams": [stream.pk]}, format="json")
    assert made.status_code in (200, 201, 202), made.content
    run_jobs()
    return f"/api/v1/scans/{made.json()['id']}/streams/{stream.pk}"


def test_units_come_with_part_class_and_score(api, ramp):
    got = api.get(f"{ramp}/units").json()
    assert (got["samples"], len(got["score"]), got["step_s"]) == (SAMPLES, COUNT, 0.001)
    assert got["start"][7] == f"{begin_of(7)}Z".replace(".000Z", "Z")
    assert [k for k in range(COUNT) if got["is_odd"][k]] == [100, 150]
    assert (got["part"][0], got["part"][100], got["part"][110], got["part"][150]) == (
        "training", "labelled", "validation", "test",
    )  # fmt: skip
    assert {k for k, s in enumerate(got["score"]) if s >= 6} == set(ODD)
    assert set(got["laid"][:4]) == set(ODD) and len(got["laid"]) == 10
    # Counts of the test at each level are those of the scores.
    test = [k for k, part in enumerate(got["part"]) if part == "test"]
    for i in (0, 80, 200):
        flagged = {k for k in test if got["score"][k] >= LEVELS[i]}
        assert got["tp"][i] == (150 in flagged) and got["fn"][i] == (150 not in flagged)
        assert got["fp"][i] == len(flagged - {150}) and got["tn"][i] == len(set(test) - flagged - {150})
    assert got["best"]["test"]["recall"] == 1.0


def test_findings_are_the_odd_bursts_and_can_be_reviewed_like_others(api, ramp):
    scan, stream = ramp.split("/")[4], ramp.split("/")[6]
    found = api.get(f"/api/v1/scans/{scan}/streams/{stream}/window?points=400").json()["findings"]
    assert sorted(f["start"] for f in found) == [f"{begin_of(k)}Z".replace(".000Z", "Z") for k in ODD]
    assert {f["kind"] for f in found} == {"outlier"} and {f["points"] for f in found} == {SAMPLES}
    card = api.get(f"/api/v1/scans/{scan}/scorecard").json()
    assert card["figures"]["events"]["recall"] == 1.0


def test_a_unit_is_drawn_with_what_it_was_rebuilt_as(api, ramp):
    usual, odd = api.get(f"{ramp}/units/drawn?numbers=7,140").json()["units"]
    assert (usual["number"], odd["number"]) == (7, 140)
    assert len(odd["value"]) == len(odd["expected"]) == SAMPLES
    assert odd["at_s"][:3] == [0.0, 0.001, 0.002]

    def off(unit):
        return np.sqrt(np.mean((np.array(unit["value"]) - np.array(unit["expected"])) ** 2))

    assert off(usual) < 0.15 < 0.4 < off(odd)


@pytest.mark.parametrize("numbers", ["", "a", "3,", "-1", "1.5", "160", ",".join("1" * 25)])
def test_what_is_no_unit_is_refused_with_what_to_give(api, ramp, numbers):
    answer = api.get(f"{ramp}/units/drawn?numbers={numbers}")
    if numbers == "3,":
        assert [u["number"] for u in answer.json()["units"]] == [3]
        return
    assert answer.status_code == 400
    assert json.loads(answer.content)["remedy"].startswith("give")


def test_a_scan_of_samples_has_no_units(api, small_world, stream_of):
    answer = api.get(f"/api/v1/scans/{small_world['scan'].pk}/streams/{stream_of('quay').pk}/units")
    assert answer.status_code == 404 and "prepare.unit" in answer.json()["remedy"]


def test_what_units_cannot_do_is_said(api, ramp):
    stream = int(ramp.split("/")[6])
    made = api.post("/api/v1/scans", {"plan": PLAN, "streams": [stream], "mode": "replay"}, format="json")
    assert made.status_code == 400 and "not judged as if live" in made.json()["title"]
    watch = {"name": "w", "plan": json.dumps(PLAN), "scope": {"metric": "ramp", "attributes": {}}}
    kept = api.post("/api/v1/lookouts", watch, format="json")
    assert kept.status_code == 400 and "as if live" in kept.content.decode()
    ahead = api.post(
        "/api/v1/streams/forecast", {"streams": [stream], "plan": json.dumps(PLAN), "steps": 5}, format="json"
    )
    assert ahead.status_code == 422 and "prepare.unit" in ahead.content.decode()
    wrong = {**PLAN, "baseline": {"kind": "harmonic"}}
    answer = api.post("/api/v1/scans", {"plan": wrong, "streams": [stream]}, format="json")
    assert answer.status_code == 422 and "judges no units" in answer.content.decode()
    assert api.get(f"{ramp}/examination").json()["diagnoses"] == []
    assert api.get(f"{ramp}/window?points=400").status_code == 200


def test_a_stream_of_bursts_is_not_silent_after_a_night(api, ramp):
    stream = int(ramp.split("/")[6])
    from watchtide.server.scans import tide
    from watchtide.server.scans.models import ScanStream
    from watchtide.server.streams.models import Stream

    own = ScanStream.objects.get(scan_id=int(ramp.split("/")[4]), stream_id=stream)
    bursts, hour = Stream.objects.get(pk=stream), 3_600 * 10**9
    assert tide._state(bursts, own, [], own.last_ns + 14 * hour) == "steady"
    assert tide._state(bursts, own, [], own.last_ns + 50 * hour) == "silent"


def wide_table(rows=60):
    """A table with a stamp, a class and a waveform a row, as a recorder writes it."""
    rng = np.random.default_rng(2)
    at = np.arange(SAMPLES)
    out = ["recorded,class," + ",".join(f"s{i}" for i in at)]
    for k in range(rows):
        wave = 3 * np.exp(-at / 12) * np.sin(at / 2.5) + rng.normal(0, 0.1, SAMPLES)
        out.append(
            f"{begin_of(k)}Z,{'worn' if k % 20 == 5 else 'normal'}," + ",".join(f"{v:.3f}" for v in wave)
        )
    return "\n".join(out) + "\n"


def test_a_table_of_a_waveform_a_row_is_recognised_and_becomes_bursts(api):
    from django.core.files.uploadedfile import SimpleUploadedFile

    from watchtide.server.streams import store
    from watchtide.server.streams.models import Stream

    file = SimpleUploadedFile("lift.csv", wide_table().encode())
    upload = api.post("/api/v1/uploads", {"file": file}, format="multipart").json()["id"]
    seen = api.post(f"/api/v1/uploads/{upload}/preview", {}, format="json").json()
    assert seen["waves"] == [f"s{i}" for i in range(SAMPLES)] and seen["wave_step_s"] is None
    choices = {"wave_step_s": 0.002, "metric": "lift", "roles": {}}
    one = api.post(f"/api/v1/uploads/{upload}/preview", choices, format="json").json()
    assert (one["streams"], one["samples"], one["wave_step_s"]) == (1, 60 * SAMPLES, 0.002)
    late = api.post(f"/api/v1/uploads/{upload}/preview", {"wave_step_s": 3_600}, format="json")
    assert late.status_code == 400 and "begins before" in late.content.decode()
    assert api.post(f"/api/v1/uploads/{upload}/preview", {"wave_step_s": 0}, format="json").status_code == 400
    api.post(f"/api/v1/uploads/{upload}/store", choices, format="json")
    run_jobs()
    times, values = store.read(Stream.objects.get(metric="lift").pk)
    assert len(values) == 60 * SAMPLES
    assert np.median(np.diff(times)) == 2_000_000
    # Its classes are incidents of the logbook, once.
    noted = [e for e in api.get("/api/v1/logbook").json()["items"] if e["scope"] == "metric=lift"]
    assert sorted(e["start"] for e in noted) == [f"{begin_of(k)}Z".replace(".000Z", "Z") for k in (5, 25, 45)]
    assert {(e["verdict"], e["kind"], e["cause"]) for e in noted} == {("incident", "shape", "worn")}
    again = api.post(
        "/api/v1/uploads", {"file": SimpleUploadedFile("b.csv", wide_table().encode())}, format="multipart"
    )
    api.post(f"/api/v1/uploads/{again.json()['id']}/store", {**choices, "unit": "g"}, format="json")
    run_jobs()
    assert len([e for e in api.get("/api/v1/logbook").json()["items"] if e["scope"] == "metric=lift"]) == 3
