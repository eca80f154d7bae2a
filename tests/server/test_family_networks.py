"""One network for the streams of a family, scanned on the server."""

import shutil

import pytest

from tests.server.conftest import run_jobs
from watchtide.engine import run
from watchtide.plan.text import from_data
from watchtide.server.logbook import services as logbook
from watchtide.server.scans import services
from watchtide.server.scans.models import ScanStream
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
    inputs = [services.task(r.stream, plan, []).stream for r in reversed(rows)]
    for one in run.scan_many(inputs, plan, logbook.labels()):
        row = next(r for r in rows if r.stream.key == one.base.key)
        assert row.resolved["facts"]["epoch_losses"] == one.resolved["facts"]["epoch_losses"]
        found = api.get(f"/api/v1/scans/{scanned}/streams/{row.stream_id}/window?points=4000").json()
        assert len(found["findings"]) == len(one.findings)


def test_a_lost_stage_is_made_again_with_the_same_network(api, scanned):
    row = ScanStream.objects.filter(scan_id=scanned, stream__key="metric=level,place=quay").get()
    url = f"/api/v1/scans/{scanned}/streams/{row.stream_id}/window?points=4000"
    before = api.get(url).json()["expected"]
    shutil.rmtree(services.stage_folder())
    assert api.get(url).json()["expected"] == before


def test_a_replay_says_that_its_streams_are_alone(api, small_world):
    stream = Stream.objects.get(key="metric=level,place=quay")
    made = api.post("/api/v1/scans", {"plan": PLAN, "streams": [stream.pk], "mode": "replay"}, format="json")
    run_jobs()
    jobs = api.get("/api/v1/jobs").json()["items"]
    assert made.status_code in (200, 201, 202)
    assert any("take per: stream" in (j["message"] or "") for j in jobs)
