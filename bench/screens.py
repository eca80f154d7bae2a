"""How long the screens take that show everything at once, over many streams and findings: seconds of one answer and its size.

SCREENS_STREAMS and SCREENS_FINDINGS state how many: 10,000 and 100,000 if nothing does. Answers are made in one process without a
network, the first as after a start, the others as when nothing has changed meanwhile, and one after an entry of the logbook.
"""

import json
import os
from typing import Any

from bench.faults import folder as temporary_folder
from bench.watch import child, environment_of, migrate
from watchtide.server.mariadb import running

STREAMS = int(os.environ.get("SCREENS_STREAMS", "10000"))
FINDINGS = int(os.environ.get("SCREENS_FINDINGS", "100000"))

MAKE = """
import django; django.setup()
import sys
from django.contrib.auth.models import User
from watchtide.server.people.access import give_role
from watchtide.server.streams import catalogue
from watchtide.server.streams.models import Stream
n = int(sys.argv[1])
give_role(User.objects.create_user("ann", password="correct horse"), "analyst")
step = 60 * 10**9
def key(i):
    return f"metric=load{i % 20},host=h{i:05d}"
Stream.objects.bulk_create([
    Stream(metric=f"load{i % 20}", attributes=[["host", f"h{i:05d}"]], key=key(i), key_sha=catalogue.sha(key(i)), step_ns=step)
    for i in range(n)], batch_size=1_000)
"""

# What stands of all streams there are: a scan with ribbons, findings and entries, however the streams came. Arguments: streams, findings.
STAND = """
import django; django.setup()
import sys, numpy as np
from watchtide.server import moments
from watchtide.server.logbook.models import Entry
from watchtide.server.scans import services
from watchtide.server.scans.models import Finding, Scan, ScanStream, Standing
from watchtide.server.streams.models import Stream
n, many = int(sys.argv[1]), int(sys.argv[2])
rng = np.random.default_rng(1)
end, step = 1_780_272_000 * 10**9, 60 * 10**9
keys = dict(Stream.objects.order_by("pk").values_list("pk", "key"))
ids = list(keys)
version = services.plan_version("stands", services.PlanText(), "ann")
scan = Scan.objects.create(plan_version=version, is_standing=True, code_version="bench", finished_at=moments.now())
for a in range(0, n, 1_000):
    ScanStream.objects.bulk_create([
        ScanStream(scan=scan, stream_id=i, samples_digest="d", stage_key="k", resolved={"baseline": {"kind": "harmonic"}} , samples=120_960,
                   last_value=1.5, last_ns=end - step, ribbon=rng.integers(0, 40, 400).astype(np.int8).tobytes(), ribbon_from_ns=end - 84 * 86_400 * 10**9,
                   ribbon_to_ns=end, promised=bytes(1_000), blocks=bytes(84 * 12))
        for i in ids[a : a + 1_000]])
Standing.objects.bulk_create([Standing(stream_id=i, plan_version=version, scan=scan) for i in ids], batch_size=1_000)
at = np.sort(end - rng.integers(0, 84 * 1_440, many) * step)
for a in range(0, many, 5_000):
    Finding.objects.bulk_create([
        Finding(scan=scan, stream_id=ids[j % n], start_ns=int(t), end_ns=int(t) + 5 * step, kind="outlier", direction="up", score=float(4 + 3 * (j % 7)),
                peak_ns=int(t), peak_value=9.0, expected=1.0, points=6)
        for j, t in enumerate(at[a : a + 5_000].tolist(), a)])
Entry.objects.bulk_create([
    Entry(scope=keys[ids[int(i)]], start_ns=int(t), end_ns=int(t) + 600 * 10**9, verdict="incident", author="ann")
    for i, t in zip(rng.integers(0, n, 5_000), rng.choice(at, 5_000))], batch_size=1_000)
"""

LOOK = """
import django; django.setup()
import json, sys, time
from rest_framework.test import APIClient
client = APIClient()
answer = client.post("/api/v1/session", {"name": "ann", "password": "correct horse"}, format="json")
assert answer.status_code == 200, answer.content
out = {}
for name, url in json.loads(sys.argv[1]).items():
    took = []
    for _ in range(4):
        begin = time.perf_counter()
        answer = client.get(url)
        took.append(time.perf_counter() - begin)
        assert answer.status_code in (200, 304), (url, answer.status_code, answer.content[:500])
    size = len(answer.content)
    entry = {"scope": "metric=load1,host=h00001", "start": "2026-05-01T00:00:00Z", "end": "2026-05-01T01:00:00Z", "verdict": "incident"}
    assert client.post("/api/v1/logbook", entry, format="json").status_code == 201
    begin = time.perf_counter()
    client.get(url)
    out[name] = {"first": took[0], "again": sorted(took[1:])[1], "bytes": size, "changed": time.perf_counter() - begin}
print(json.dumps(out))
"""
URLS = {
    "tide table": "/api/v1/tide",
    "tide table without ribbons": "/api/v1/tide?ribbons=false",
    "head of the tide table": "/api/v1/tide?rows=false",
    "window of its rows": "/api/v1/tide/rows?skip=4000&count=192",
    "window of its rows by words": "/api/v1/tide/rows?filter=h0012&sort=name",
    "review": "/api/v1/review",
    "incidents": "/api/v1/incidents",
    "logbook": "/api/v1/logbook",
    "logbook lanes": "/api/v1/logbook/lanes",
    "catalogue": "/api/v1/catalogue",
    "scans": "/api/v1/scans",
    "looks": "/api/v1/mornings",
}


def fill(environment: dict[str, str], streams: int, findings: int) -> None:
    """Make streams in an empty database, with what stands of them."""
    for code in (MAKE, STAND):
        child(environment, code, str(streams), str(findings))


def measure() -> dict[str, Any]:
    """Figures of one run."""
    with temporary_folder() as folder, running(folder / "screens", is_throwaway=True) as database:
        database.create("watchtide")
        environment = environment_of(
            {
                **database.environment("watchtide"),
                "WATCHTIDE_HOME": str(folder),
                "WATCHTIDE_DATA": str(folder / "data"),
                "WATCHTIDE_HOSTS": "testserver",
            }
        )
        migrate(environment)
        fill(environment, STREAMS, FINDINGS)
        found = json.loads(child(environment, LOOK, json.dumps(URLS))[-1])
        out: dict[str, Any] = {"streams": STREAMS, "findings": FINDINGS}
        for name, row in found.items():
            out[f"{name}: first answer, s"] = row["first"]
            out[f"{name}: again, s"] = row["again"]
            out[f"{name}: after an entry of the logbook, s"] = row["changed"]
            out[f"{name}: kB"] = row["bytes"] / 1_000
        return out


if __name__ == "__main__":
    for name, value in measure().items():
        print(f"{name:<40} {value:,.3g}" if isinstance(value, float) else f"{name:<40} {value}")
