"""Upgrade from the release before: a database as 0.1.0 left it, with everything in it, is brought to this version and used.

`data/release-0.1.0.sql.gz` is a dump that 0.1.0 itself made of the small made-up world: three streams, a logbook, a finished scan, a round,
a published scorecard, a token, and pushed samples that were not folded yet.
"""

import gzip
import json
import os
import subprocess
import sys
from pathlib import Path

import pytest

from tests import databases

NAME = "watchtide_from_0_1_0"
DUMP = Path(__file__).parent / "data" / "release-0.1.0.sql.gz"
TOKEN = "wt_9KBScWygdxVePonbVw4KTIWCl0fJGK8hPkTM9kH1ZfI"
USE = """
import django, json, os; django.setup()
from rest_framework.test import APIClient
from watchtide.server.streams import folding, store
from watchtide.server.streams.models import Stream
client = APIClient(SERVER_NAME="127.0.0.1")
client.credentials(HTTP_AUTHORIZATION="Bearer " + os.environ["TOKEN"])
get = lambda path: client.get("/api/v1/" + path)
out = {}
pushed = Stream.objects.get(metric="pushed").pk
out["unfolded"] = [len(x) for x in store.read(pushed)]
folding.fold()
out["folded"] = [float(v) for v in store.read(pushed)[1]]
out["samples"] = {s.key: len(store.read(s.pk)[0]) for s in Stream.objects.filter(metric="level")}
out["tide"] = sorted(r["title"] for r in get("tide").json()["rows"])
out["entries"] = get("logbook").json()["total"]
out["findings"] = len(get("review").json()["queue"]) if get("review").status_code == 200 else None
out["card"] = get("scans/1/scorecard").json()["figures"]["events"]
[head] = get("published").json()["items"]
out["published"] = [head["title"], get(f"published/{head['id']}").status_code]
[round_] = get("rounds").json()["items"]
out["served"] = client.post(f"/api/v1/rounds/{round_['id']}/next", {}, format="json").status_code
body = json.dumps({"time": "2026-09-04T00:00Z", "metric": "pushed", "value": 1}) + chr(10)
out["pushed"] = client.post("/api/v1/push", body, content_type="application/x-ndjson").json()["points"]
scan = client.post("/api/v1/scans", {"streams": [s.pk for s in Stream.objects.filter(metric="level")], "plan": {}}, format="json")
from watchtide.server.jobs import services
services.run(scan.json()["job"]["id"] if isinstance(scan.json()["job"], dict) else scan.json()["job"])
out["scanned"] = get(f"scans/{scan.json()['id']}").json()["state"]
print(json.dumps(out))
"""


@pytest.fixture
def upgraded(tmp_path):
    with databases.empty(NAME) as environment:
        environment |= {
            "WATCHTIDE_DATA": str(tmp_path), "WATCHTIDE_SCAN_PROCESSES": "1", "TOKEN": TOKEN,
            "DJANGO_SETTINGS_MODULE": "watchtide.server.settings",
        }  # fmt: skip
        own = databases.secret()
        subprocess.run(
            ["mariadb", f"--socket={own['unix_socket']}", f"--user={own['user']}", NAME],
            input=gzip.decompress(DUMP.read_bytes()), env={**os.environ, "MYSQL_PWD": own["passwd"]}, check=True,
        )  # fmt: skip
        manage = [sys.executable, "-m", "watchtide.cli.main", "server", "run"]
        done = subprocess.run([*manage, "migrate"], env=environment, capture_output=True, text=True)
        assert done.returncode == 0, done.stderr
        yield environment, done.stdout


def test_everything_of_0_1_0_is_there_and_goes_on(upgraded):
    environment, said = upgraded
    assert said.count("Applying") >= 5
    used = subprocess.run([sys.executable, "-c", USE], env=environment, capture_output=True, text=True)
    assert used.returncode == 0, used.stderr[-3000:]
    found = json.loads(used.stdout.splitlines()[-1])
    assert found["unfolded"] == [30, 30]
    assert found["folded"] == [10 * d + h for d in range(1, 4) for h in range(10)]
    assert set(found["samples"].values()) == {1008} and len(found["samples"]) == 3
    assert found["entries"] == 4 and found["tide"] == ["pier", "pushed", "quay", "rock"]
    # As 0.1.0 counted them.
    counts = {k: found["card"][k] for k in ("tp_findings", "fp_findings", "tp_labels", "fn_labels")}
    assert counts == {"tp_findings": 2, "fp_findings": 1, "tp_labels": 2, "fn_labels": 1}
    assert found["published"] == ["Before the upgrade", 200] and found["served"] == 200
    assert found["pushed"] == 1 and found["scanned"] == "done"
