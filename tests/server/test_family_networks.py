"""One network for the streams of a family, scanned on the server."""

import pytest

from tests.server.conftest import run_jobs
from watchtide.engine.many import run
from watchtide.plan.text import from_data
from watchtide.server import storage
from watchtide.server.jobs import running
from watchtide.server.jobs.models import Job
from watchtide.server.logbook import services as logbook
from watchtide.server.scans import services, tasks
from watchtide.server.scans.models import Scan, ScanStream
from watchtide.server.streams.models import Stream

PLAN = {
    "baseline": {
        "kind": "next-step",
        "seasons": ["24h"],
        "options": {"per": "family", "epochs": 4, "window": "24h"},
    },
    "flag": {"level": {"sigmas": 6}},
}


@pytest.fixture
def scanned(api, small_world):
    ids = list(Stream.objects.filter(metric="level").order_by("pk").values_list("pk", flat=True))
    made = api.post("/api/v1/scans", {"plan": PLAN, "streams": ids}, format="json")
    assert made.status_code in (200, 201, 202), made.content
    run_jobs()
    return int(made.json()["id"])


def test_the_server_says_what_the_command_line_says_of_the_family(api, scanned):
    rows = list(ScanStream.objects.filter(scan_id=scanned).select_related("stream").order_by("pk"))
    assert len(rows) == 3
    plan = from_data(PLAN)
    inputs = [services.input_of(r.stream, plan)[0] for r in reversed(rows)]
    for one in run.scan_many(inputs, plan, logbook.labels()):
        row = next(r for r in rows if r.stream.key == one.base.key)
        assert row.resolved["facts"]["epoch_losses"] == one.resolved["facts"]["epoch_losses"]
        found = api.get(f"/api/v1/scans/{scanned}/streams/{row.stream_id}/window?points=4000").json()
        assert len(found["findings"]) == len(one.findings)


def test_a_lost_stage_is_made_again_with_the_same_network(api, scanned):
    row = ScanStream.objects.filter(scan_id=scanned, stream__key="metric=level,place=quay").get()
    url = f"/api/v1/scans/{scanned}/streams/{row.stream_id}/window?points=4000"
    before = api.get(url).json()["expected"]
    storage.stages().clear()
    assert api.get(url).json()["expected"] == before


@pytest.fixture
def watching(monkeypatch):
    """What a scan's job shows while it trains, every epoch of it."""
    shown = []
    show = running.Lease.show

    def noted(lease, result):
        show(lease, result)
        shown.append(Job.objects.get(pk=lease.job.pk).result["training"])

    monkeypatch.setattr(running.Lease, "show", noted)
    monkeypatch.setattr(tasks, "SHOW_SECONDS", 0)
    return shown


def one_stream(api, **options):
    stream = Stream.objects.get(key="metric=level,place=quay")
    baseline = {"kind": "next-step", "seasons": ["24h"], "options": {"window": "24h", "epochs": 4} | options}
    made = api.post(
        "/api/v1/scans", {"plan": PLAN | {"baseline": baseline}, "streams": [stream.pk]}, format="json"
    )
    return Scan.objects.get(pk=made.json()["id"])


def test_the_error_of_a_network_is_shown_while_it_trains(api, small_world, watching):
    scan = one_stream(api)
    run_jobs()
    row = ScanStream.objects.get(scan=scan)
    assert [len(t["epoch_losses"]) for t in watching if t["number"] == 1] == [1, 2, 3, 4]
    # The kept network is one of several: those for held-out values have no validation.
    whole = {t["number"]: t["epoch_losses"] for t in watching}
    assert row.resolved["facts"]["epoch_losses"] in whole.values()
    assert any(losses[0][1] is None for losses in whole.values())
    assert "training" not in Job.objects.latest("pk").result


def test_a_training_that_is_cancelled_stops_at_its_next_epoch_and_keeps_nothing(
    api, small_world, watching, monkeypatch
):
    scan = one_stream(api, epochs=30)
    noted = running.Lease.show

    def cancelled_at_the_third(lease, result):
        if len(result["training"]["epoch_losses"]) == 3:
            api.delete(f"/api/v1/jobs/{lease.job.pk}")
        noted(lease, result)

    monkeypatch.setattr(running.Lease, "show", cancelled_at_the_third)
    run_jobs()
    job = Job.objects.latest("pk")
    assert job.state == "cancelled" and job.result == {} and len(watching) == 2
    assert not ScanStream.objects.filter(scan=scan).exists()


def test_a_replay_says_that_its_streams_are_alone(api, small_world):
    stream = Stream.objects.get(key="metric=level,place=quay")
    made = api.post("/api/v1/scans", {"plan": PLAN, "streams": [stream.pk], "mode": "replay"}, format="json")
    run_jobs()
    jobs = api.get("/api/v1/jobs").json()["items"]
    assert made.status_code in (200, 201, 202)
    assert any("take per: stream" in (j["message"] or "") for j in jobs)
