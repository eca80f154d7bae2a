"""Ordinary streams on the server: cadences as they are learnt, titles that distinguish, months scanned and their years folded."""

import io

import numpy as np

from tests.server.conftest import run_jobs
from watchtide.core.series.calendar import month_start
from watchtide.server.streams import catalogue, folding, store
from watchtide.server.streams.models import Batch, Stream

SECOND = 10**9
START = 1_787_389_200 * SECOND


def stream(**attributes):
    [made] = catalogue.find_or_make([("pressure", tuple(attributes.items()))])
    return made


def give(target, times):
    """Accept samples of one stream, and fold them."""
    batch = Batch.objects.create(key=f"{target.pk}-{times[0]}", source="test", door="derived")
    store.write_blocks(batch, [(target.pk, times, np.ones(len(times)))])
    Batch.objects.filter(pk=batch.pk).update(accepted_at="2026-08-22T00:00Z")
    folding.fold()
    target.refresh_from_db()
    return target


def jittered(n, step, first=0, seed=0):
    rng = np.random.default_rng(seed)
    at = first + np.arange(n) * step + rng.uniform(0, 0.3 * step, n)
    return START + (at * SECOND).astype(np.int64)


class TestCadence:
    def test_it_is_learnt_anew_as_samples_come(self, small_world, db):
        own = give(stream(place="quay"), jittered(3, 1.0))
        assert own.step_ns != SECOND
        for k in range(1, 5):
            give(own, jittered(60, 1.0, first=60.0 * k, seed=k))
        assert own.step_ns == SECOND and own.cadence == ""

    def test_a_change_is_followed(self, small_world, db):
        own = give(stream(place="quay"), START + np.arange(600) * 60 * SECOND)
        assert own.step_ns == 60 * SECOND
        give(own, START + (600 * 60 + np.arange(1, 120) * 300) * SECOND)
        assert own.step_ns == 300 * SECOND

    def test_months_are_told_as_such(self, small_world, db, api):
        own = give(stream(place="quay"), month_start(np.arange(400, 460)))
        assert own.cadence == "1mo"
        facts = api.get(f"/api/v1/streams/{own.pk}/facts").json()
        assert facts["cadence"] == "1mo"

    def test_a_stated_one_stays(self, small_world, db):
        own = stream(place="quay")
        from watchtide.server.streams.models import CADENCE_STATED

        Stream.objects.filter(pk=own.pk).update(step_ns=3_600 * SECOND, cadence_of=CADENCE_STATED)
        own.refresh_from_db()
        assert give(own, START + np.arange(50) * 7_200 * SECOND).step_ns == 3_600 * SECOND


class TestTitles:
    def test_they_hold_what_tells_apart_and_nothing_else(self, small_world, db):
        shared = {"service": "desk", "zone": "north"}
        one = stream(**shared, place="quay")
        assert one.title == "pressure" and one.name == "pressure"
        stream(**shared, place="pier")
        one.refresh_from_db()
        assert one.title == "quay" and one.name == "pressure · quay"
        stream(service="desk", zone="south", place="quay")
        one.refresh_from_db()
        assert one.title == "north · quay"

    def test_they_follow_a_deletion_and_a_new_name(self, small_world, db, api, admin):
        one, other = stream(service="desk", place="quay"), stream(service="desk", place="pier")
        gone = admin.delete(f"/api/v1/streams/{other.pk}/facts", {"confirm": other.key}, format="json")
        assert gone.status_code == 202
        run_jobs()
        one.refresh_from_db()
        assert one.title == "pressure"
        second = stream(service="desk", place="rock")
        body = {"attributes": [["service", "bench"], ["place", "rock"]]}
        assert (
            api.patch(f"/api/v1/streams/{second.pk}/facts", body, format="json").json()["title"]
            == "bench · rock"
        )


def test_a_table_of_months_is_taken_in_scanned_shown_and_its_years_folded(api, small_world):
    n = 120
    y = 100 + 20 * np.sin(2 * np.pi * np.arange(n) / 12) + np.random.default_rng(1).normal(0, 2, n)
    text = "month,value\n" + "".join(f"{2010 + i // 12}-{i % 12 + 1:02d},{v:.2f}\n" for i, v in enumerate(y))
    file = io.BytesIO(text.encode())
    file.name = "sales.csv"
    upload = api.post("/api/v1/uploads", {"file": file}, format="multipart").json()["id"]
    look = api.post(f"/api/v1/uploads/{upload}/preview", {"metric": "sales"}, format="json").json()
    assert look["cadence"] == "1mo" and look["cadence_share"] == 1.0 and not look["problems"]
    body = {"metric": "sales", "then_scan": True}
    assert api.post(f"/api/v1/uploads/{upload}/store", body, format="json").status_code == 202
    run_jobs()
    [row] = [r for r in api.get("/api/v1/tide").json()["rows"] if r["metric"] == "sales"]
    assert row["cadence"] == "1mo" and row["scan"] is not None
    window = api.get(f"/api/v1/scans/{row['scan']}/streams/{row['id']}/window?points=500").json()
    assert [round(h) for h in window["season_hours"]] == [8_766]
    hours = window["season_hours"][0]
    fold = api.get(f"/api/v1/scans/{row['scan']}/streams/{row['id']}/fold?hours={hours}").json()
    assert len(fold["cycles"]) == 10 and all(len(c) == 12 for c in fold["cycles"])
    assert np.argmax(fold["cycles"][3]) in (2, 3, 4)
