"""One scan of many streams in the database: by processes of this host, on a cluster, with a worker of it killed, by four workers on two
hosts 20 ms away, and with one of those hosts gone on the way.

Each has to give the same rows to the last bit. Also the peak memory of every part. SCALE_STREAMS and SCALE_WEEKS state how much: 300
streams and 12 weeks of quarter hours if nothing does; SCALE_WAYS which, by comma.
"""

import contextlib
import json
import os
import signal
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Iterator
from functools import partial
from pathlib import Path
from typing import Any

from bench.faults import folder as temporary_folder
from bench.hosts import Host, crash, hosts, why_not
from bench.watch import child, connected, environment_of, migrate
from watchtide.engine.many import clusters
from watchtide.server import supervise
from watchtide.server.mariadb import Database, running

# Figures of one scan, by the environment and the database.
Way = Callable[[dict[str, str], Database], dict[str, Any]]

STREAMS, WEEKS = int(os.environ.get("SCALE_STREAMS", "300")), int(os.environ.get("SCALE_WEEKS", "12"))
WORKERS = 2
FAR_HOSTS, DELAY_MS = 2, 20.0
# Workers of a fresh checkout compile their kernels first.
READY_SECONDS = 600
# Of the streams judged, when the worker is killed.
KILLED_AT = 0.3

MAKE = """
import django; django.setup()
import sys, numpy as np
from watchtide.server import moments
from watchtide.server.streams import catalogue, folding, store
from watchtide.server.streams.models import Batch, Stream
n, weeks = int(sys.argv[1]), int(sys.argv[2])
rng = np.random.default_rng(1)
count = weeks * 7 * 96
times = (1_780_272_000 + 900 * np.arange(count, dtype=np.int64)) * 10**9
hour = times / 3.6e12 % 24
batch = Batch.objects.create(key="b" * 64, source="bench")
rows = []
for i in range(n):
    values = np.round(100 + 40 * np.cos(2 * np.pi * (hour - i % 24) / 24) + rng.normal(0, 3, count), 2)
    values[rng.integers(0, count, 3)] += 40
    key = f"metric=load{i % 20},host=h{i:05d}"
    s = Stream.objects.create(metric=f"load{i % 20}", attributes=[["host", f"h{i:05d}"]], key=key, key_sha=catalogue.sha(key), is_sent=True)
    rows.append((s.pk, times, values))
    if len(rows) == 200:
        store.write_blocks(batch, rows); rows = []
if rows:
    store.write_blocks(batch, rows)
Batch.objects.update(accepted_at=moments.now())
folding.fold()
"""

SCAN = """
import django; django.setup()
import hashlib, json, resource, time
from watchtide.server.jobs import services as jobs
from watchtide.server.jobs.models import Job
from watchtide.server.scans import services as scans
from watchtide.server.scans.models import Finding, ScanStream
from watchtide.server.streams.models import Stream
ids = list(Stream.objects.order_by("pk").values_list("pk", flat=True))
scan = scans.start(scans.plan_version("bench", scans.PlanText(), ""), ids, lane="bulk")
begin = time.perf_counter()
jobs.run(scan.job_id)
took = time.perf_counter() - begin
job = Job.objects.get(pk=scan.job_id)
assert job.state == "done", job.log
seal = hashlib.sha256()
for model in (ScanStream, Finding):
    for row in model.objects.filter(scan=scan).order_by("stream_id", "pk").values().iterator(chunk_size=200):
        seal.update(repr(sorted((k, v) for k, v in row.items() if k not in ("id", "scan_id"))).encode())
samples = sum(ScanStream.objects.filter(scan=scan).values_list("samples", flat=True))
mine, largest = (resource.getrusage(who).ru_maxrss / 1024 for who in (resource.RUSAGE_SELF, resource.RUSAGE_CHILDREN))
print(json.dumps({"s": took, "rows": seal.hexdigest(), "samples": samples, "mine": mine, "largest": largest, "findings": job.result["findings"]}))
"""


def measure() -> dict[str, Any]:
    """Figures of one run."""
    with temporary_folder() as folder, running(folder / "scale", is_throwaway=True) as database:
        database.create("watchtide")
        environment = environment_of(
            {
                **database.environment("watchtide"),
                "WATCHTIDE_HOME": str(folder),
                "WATCHTIDE_JOB_LEASE_SECONDS": "60",
            }
        )
        migrate(environment)
        begin = time.perf_counter()
        child(environment, MAKE, str(STREAMS), str(WEEKS))
        out: dict[str, Any] = {"streams": STREAMS, "made, s": time.perf_counter() - begin}
        runs = dict(_runs(environment, folder, database))
        out["samples"], out["findings"] = (
            next(iter(runs.values()))[name] for name in ("samples", "findings")
        )
        for name, run in runs.items():
            out[f"{name}: samples/s"] = run["samples"] / run["s"]
            out[f"{name}: peak of who has the job, MB"] = run["mine"]
            out[f"{name}: peak of the largest who scans, MB"] = run["largest"]
        out["the same rows everywhere"] = len({run["rows"] for run in runs.values()}) == 1
        return out


def _runs(
    environment: dict[str, str], folder: Path, database: Database
) -> Iterator[tuple[str, dict[str, Any]]]:
    """(name, figures) of each way to scan; none finds what another has kept."""
    for name, way in WAYS.items():
        if name in os.environ.get("SCALE_WAYS", ",".join(WAYS)).split(","):
            yield name, way(environment | {"WATCHTIDE_DATA": str(folder / name)}, database)


def _by_processes(count: int) -> Way:
    def scan(environment: dict[str, str], database: Database) -> dict[str, Any]:
        return _scanned(environment | {"WATCHTIDE_SCAN_PROCESSES": str(count)})

    return scan


def _by_cluster(*, is_killing: bool) -> Way:
    def scan(environment: dict[str, str], database: Database) -> dict[str, Any]:
        with _cluster(environment) as (url, pid):
            killing = partial(os.kill, _workers_of(pid)[0], signal.SIGKILL) if is_killing else None
            got = _scanned(environment | {"WATCHTIDE_DASK": url}, killing)
            return got | {"largest": max(_peak_mb(p) for p in _workers_of(pid))}

    return scan


def _by_hosts(*, is_killing: bool) -> Way:
    """Four workers on two hosts; the scheduler and the database are on a third."""

    def scan(environment: dict[str, str], database: Database) -> dict[str, Any]:
        environment = environment | {"WATCHTIDE_DASK_PLAIN": "1"}
        with (
            hosts(FAR_HOSTS, DELAY_MS, database.socket) as (near, *far),
            _spread(environment, near, far) as (url, others),
        ):
            got = _scanned(
                environment | {"WATCHTIDE_DASK": url}, partial(crash, others[0]) if is_killing else None
            )
            return got | {"largest": max(_peak_mb(p) for one in others for p in _workers_of(one.pid))}

    return scan


WAYS: dict[str, Way] = {
    "1 process": _by_processes(1),
    "2 processes": _by_processes(2),
    "cluster": _by_cluster(is_killing=False),
    "cluster less a worker": _by_cluster(is_killing=True),
}
if not why_not():
    WAYS |= {
        "two hosts": _by_hosts(is_killing=False),
        "two hosts less one": _by_hosts(is_killing=True),
    }


def _scanned(environment: dict[str, str], killing: Callable[[], object] | None = None) -> dict[str, Any]:
    """Figures of a scan. killing : what is done once some of the streams are judged."""
    with contextlib.ExitStack() as stack:
        if killing is not None:
            stack.callback(_later(environment, killing).join)
        got: dict[str, Any] = json.loads(child(environment, SCAN)[-1])
        return got


@contextlib.contextmanager
def _spread(environment: dict[str, str], near: Host, far: list[Host]) -> Iterator[tuple[str, list[Any]]]:
    """A cluster over several hosts: the scheduler's address, and what runs on each far host."""
    port = supervise._free_port()
    url = f"tcp://{near.address}:{port}"
    there = {k: v for k, v in environment.items() if k != "WATCHTIDE_DB_SOCKET"}
    there |= {"WATCHTIDE_DB_HOST": near.address, "WATCHTIDE_DB_PORT": "3306"}
    cluster = [sys.executable, "-m", "watchtide.cli.main", "cluster"]
    quiet = {"stdout": subprocess.DEVNULL, "stderr": subprocess.DEVNULL}
    with contextlib.ExitStack() as stack:
        begun = []
        for host, command, own in (
            (near, [*cluster, "schedule", "--host", near.address, "--port", str(port)], environment),
            *((h, [*cluster, "work", url, "--processes", str(WORKERS), "--server"], there) for h in far),
        ):
            begun.append(host.start(command, own, **quiet))
            stack.callback(crash, begun[-1])
        clusters.wait_for(clusters.Address(url, is_plain_allowed=True), WORKERS * len(far), READY_SECONDS)
        yield url, begun[1:]


@contextlib.contextmanager
def _cluster(environment: dict[str, str]) -> Iterator[tuple[str, int]]:
    """A cluster on this host: its scheduler's address, and the process that all of it is below."""
    port = supervise._free_port()
    command = [sys.executable, "-m", "watchtide.cli.main", "cluster", "run", "--workers", str(WORKERS), "--port", str(port)]  # fmt: skip
    process = subprocess.Popen(
        command, env=environment, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True
    )
    try:
        assert process.stdout is not None
        line = process.stdout.readline()
        if "ready" not in line:
            raise RuntimeError(f"the cluster did not start: {line}")
        yield line.split(": ", 1)[1].strip(), process.pid
    finally:
        process.terminate()
        process.wait(60)


def _workers_of(pid: int) -> list[int]:
    """Processes below this one that do tasks, by the name that Dask gives them."""
    parents: dict[int, int] = {}
    for entry in Path("/proc").iterdir():
        if entry.name.isdigit():
            with contextlib.suppress(OSError, IndexError, ValueError):
                parents[int(entry.name)] = int((entry / "stat").read_text().rsplit(") ", 1)[1].split()[1])

    def below(one: int) -> bool:
        while one in parents:
            one = parents[one]
            if one == pid:
                return True
        return False

    return sorted(
        p for p in parents if below(p) and Path(f"/proc/{p}/cmdline").read_text().startswith("dask worker [")
    )


def _peak_mb(pid: int) -> float:
    with contextlib.suppress(OSError):
        for line in Path(f"/proc/{pid}/status").read_text().splitlines():
            if line.startswith("VmHWM"):
                return int(line.split()[1]) / 1024
    return 0.0


def _later(environment: dict[str, str], killing: Callable[[], object]) -> threading.Thread:
    """Do this once some of the streams are judged."""

    def wait() -> None:
        with connected(environment) as cursor:
            for _ in range(60_000):
                cursor.execute("SELECT done FROM job WHERE state = 'running' ORDER BY id DESC LIMIT 1")
                row = cursor.fetchone()
                if row is not None and row[0] >= KILLED_AT * STREAMS:
                    killing()
                    return
                time.sleep(0.1)

    thread = threading.Thread(target=wait)
    thread.start()
    return thread
