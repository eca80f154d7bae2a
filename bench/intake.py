"""Intake at size: 5,000,000 rows of 1,000 streams by CSV and Parquet, OTLP over HTTP, and LOAD DATA beside it.

Each file goes through a process of its own, as a worker does it, so that its peak memory is known. MariaDB runs
with its durable settings here, unlike in the tests: what is answered is on disk.
"""

import json
import os
import resource
import socket
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.parquet as papq

from watchtide.server import supervise

STREAMS = 1_000
STEPS = 5_000
DATABASE = "watchtide_bench"


def measure() -> dict[str, Any]:
    _prepare()
    with tempfile.TemporaryDirectory() as folder:
        csv, parquet = Path(folder) / "taps.csv", Path(folder) / "taps.parquet"
        _make(csv, parquet)
        out: dict[str, Any] = {"CSV of 5,000,000 rows, MB": csv.stat().st_size / 1e6}
        by_csv = _work("file", csv)
        rows = STREAMS * STEPS
        out |= {
            "CSV: preview, s": by_csv["preview"],
            "CSV: stored, s": by_csv["stored"],
            "CSV: folded, s": by_csv["folded"],
            "CSV: preview, storing, folding and catalogue, rows/s": rows / by_csv["whole"],
            "CSV: peak memory of the process, MB": by_csv["peak"],
        }
        sizes = _sizes()
        by_parquet = _work("file", parquet)
        out |= {
            "Parquet: preview, storing and folding, rows/s": rows / by_parquet["whole"],
            "Parquet: storing alone, rows/s": rows / by_parquet["stored"],
            "Parquet: peak memory of the process, MB": by_parquet["peak"],
        }
        plain = _load_data(csv)
        out |= {
            "bytes a sample in segments": sizes["segments"] / rows,
            "bytes a sample in blocks kept for undoing": sizes["blocks"] / rows,
            "LOAD DATA of the same rows, s": plain["seconds"],
            "LOAD DATA: bytes a row on disk": plain["bytes"] / rows,
            "LOAD DATA bytes / segment bytes": plain["bytes"] / sizes["segments"],
            "LOAD DATA bytes / segment and block bytes": plain["bytes"]
            / (sizes["segments"] + sizes["blocks"]),
            "CSV stored and folded / LOAD DATA, time": (by_csv["stored"] + by_csv["folded"])
            / plain["seconds"],
        }
    return out | _work("long") | _push()


def _prepare() -> None:
    import MySQLdb

    env = os.environ
    connection = MySQLdb.connect(
        unix_socket=env["WATCHTIDE_DB_SOCKET"],
        user=env["WATCHTIDE_DB_USER"],
        passwd=env["WATCHTIDE_DB_PASSWORD"],
    )
    cursor = connection.cursor()
    cursor.execute(f"DROP DATABASE IF EXISTS {DATABASE}")
    cursor.execute(f"CREATE DATABASE {DATABASE} COLLATE utf8mb4_bin")
    # The throwaway instance writes its log lazily; here every commit is on disk before it is answered.
    cursor.execute("SET GLOBAL innodb_flush_log_at_trx_commit = 1")
    os.environ["WATCHTIDE_DB_NAME"] = DATABASE
    start()
    from django.core.management import call_command

    call_command("migrate", verbosity=0)


def start() -> None:
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "watchtide.server.settings")
    import django

    django.setup()


def _make(csv: Path, parquet: Path) -> None:
    """The same rows twice: 1,000 gates, a count each minute, as a log would have them: by time, then gate."""
    rng = np.random.default_rng(0)
    times = np.datetime64("2026-05-01T00:00:00") + np.arange(STEPS) * np.timedelta64(60, "s")
    names = [f"gate {g}" for g in range(STREAMS)]
    level = 60 * (1 + rng.random(STREAMS))
    values = rng.poisson(level[None, :] * (1.2 + np.sin(np.arange(STEPS) * 2 * np.pi / 1440))[:, None])
    with csv.open("w") as file:
        file.write("stamp,gate,taps\n")
        for i, stamp in enumerate(times.astype(str).tolist()):
            file.writelines(f"{stamp}Z,{n},{v}\n" for n, v in zip(names, values[i].tolist(), strict=True))
    table = pa.table(
        {
            "stamp": pa.array(np.repeat(times.astype("datetime64[us]"), STREAMS)).cast(
                pa.timestamp("us", "UTC")
            ),
            "gate": pa.array(names * STEPS),
            "taps": pa.array(values.ravel().astype(np.float64)),
        }
    )
    papq.write_table(table, parquet, row_group_size=1_000_000)


def _work(what: str, *paths: Path) -> dict[str, float]:
    said = subprocess.run(
        [sys.executable, "-m", "bench.intake", what, *map(str, paths)], capture_output=True, text=True
    )
    if said.returncode:
        raise RuntimeError(said.stderr)
    return json.loads(said.stdout.strip().splitlines()[-1])


def take_file(path: str) -> dict[str, float]:
    """What a worker does with a file, and the preview before it; its own peak memory."""
    from django.conf import settings

    from watchtide.server.jobs import services as jobs
    from watchtide.server.jobs.models import Job
    from watchtide.server.streams import catalogue, files, folding
    from watchtide.server.streams.models import Upload

    source = Path(path)
    upload = Upload.objects.create(name=source.name, size=source.stat().st_size, sha=source.suffix)
    target = Path(settings.DATA_FOLDER) / "uploads" / files.name_of(upload)
    target.parent.mkdir(parents=True, exist_ok=True)
    target.unlink(missing_ok=True)
    target.symlink_to(source)
    given = {"metric": f"taps{source.suffix[1:]}", "zone": "Europe/Dublin"}
    marks = [time.perf_counter()]
    seen = files.preview(upload, given)
    marks.append(time.perf_counter())
    job = Job.objects.create(
        kind="intake", lane="bulk", title="bench", arguments={"about": seen["about_rows"]}
    )
    lease = jobs.claim(job.pk)
    assert lease is not None
    files.accept(upload, given, lease)
    marks.append(time.perf_counter())
    folding.fold()
    marks.append(time.perf_counter())
    assert catalogue.search("gate 999").count() >= 1
    marks.append(time.perf_counter())
    target.unlink()
    steps = np.diff(marks)
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    return {"preview": steps[0], "stored": steps[1], "folded": steps[2], "whole": sum(steps), "peak": peak}


def _sizes() -> dict[str, float]:
    from django.db import connection

    with connection.cursor() as cursor:
        cursor.execute("SELECT SUM(LENGTH(payload)) FROM segment")
        segments = float(cursor.fetchone()[0])
        cursor.execute("SELECT SUM(LENGTH(payload) + LENGTH(`index`)) FROM intake_block")
        return {"segments": segments, "blocks": float(cursor.fetchone()[0])}


def _load_data(csv: Path) -> dict[str, float]:
    """A table of one row a sample, filled by the database's own loader."""
    import MySQLdb

    env = os.environ
    connection = MySQLdb.connect(
        unix_socket=env["WATCHTIDE_DB_SOCKET"], user=env["WATCHTIDE_DB_USER"], passwd=env["WATCHTIDE_DB_PASSWORD"],
        db=DATABASE, local_infile=1,
    )  # fmt: skip
    cursor = connection.cursor()
    cursor.execute("SET GLOBAL local_infile = 1")
    cursor.execute(
        "CREATE TABLE plain (stream INT NOT NULL, time BIGINT NOT NULL, value DOUBLE, PRIMARY KEY (stream, time))"
    )
    begin = time.perf_counter()
    cursor.execute(
        "LOAD DATA LOCAL INFILE %s INTO TABLE plain FIELDS TERMINATED BY ',' IGNORE 1 LINES (@stamp, @gate, value) "
        "SET stream = SUBSTRING(@gate, 6), time = UNIX_TIMESTAMP(REPLACE(REPLACE(@stamp, 'T', ' '), 'Z', '')) * 1000000000",
        [str(csv)],
    )
    connection.commit()
    seconds = time.perf_counter() - begin
    cursor.execute("SELECT COUNT(*) FROM plain")
    assert cursor.fetchone()[0] == STREAMS * STEPS
    cursor.execute("ANALYZE TABLE plain")
    cursor.fetchall()
    cursor.execute(
        "SELECT file_size FROM information_schema.innodb_sys_tablespaces WHERE name = %s",
        [f"{DATABASE}/plain"],
    )
    return {"seconds": seconds, "bytes": float(cursor.fetchone()[0])}


def read_long() -> dict[str, float]:
    """One stream of a million samples: read back, and reduced for a chart."""
    from django.utils import timezone

    from bench.measures import median_time
    from watchtide.engine.scan import reduce
    from watchtide.server.streams import folding, store
    from watchtide.server.streams.models import Batch, Stream

    long = Stream.objects.create(metric="long", key="metric=long", key_sha="l" * 64)
    batch = Batch.objects.create(key="long" * 16, source="bench")
    times = np.arange(1_000_000, dtype=np.int64) * 60 * 10**9
    values = np.round(np.cumsum(np.random.default_rng(0).normal(size=1_000_000)), 3)
    store.write_blocks(batch, [(long.pk, times, values)])
    Batch.objects.filter(pk=batch.pk).update(accepted_at=timezone.now())
    unfolded = median_time(lambda: store.read(long.pk))
    folding.fold()

    def page() -> None:
        _, y = store.read(long.pk)
        reduce.indices(y, None, np.empty(0, np.int64), 4_000)

    return {
        "reading 1,000,000 samples from segments, ms": median_time(lambda: store.read(long.pk)) * 1e3,
        "reading them while still unfolded, ms": unfolded * 1e3,
        "reading and reducing them to 4,000 for a chart, ms": median_time(page) * 1e3,
    }


def _push(seconds: float = 20.0, senders: int = 2, points: int = 5_000) -> dict[str, Any]:
    """OTLP over HTTP against a served application, each message answered once it is durable."""
    import httpx
    from django.contrib.auth.models import User

    from watchtide.server.people.access import give_role, make_token

    user = User.objects.create_user("bench", password="not for serving")
    give_role(user, "analyst")
    _, token = make_token(user, "bench", ["push"])
    with _served(
        {"WATCHTIDE_POINTS_A_MINUTE": "100000000", "WATCHTIDE_PUSHES_A_MINUTE": "100000"}
    ) as address:
        bodies = [[_message(s, i, points) for i in range(int(seconds * 12))] for s in range(senders)]
        sent, slow = [0] * senders, []
        stop = time.perf_counter() + seconds

        def send(k: int) -> None:
            headers = {"Authorization": f"Bearer {token}", "Content-Type": "application/x-protobuf"}
            with httpx.Client(base_url=address, headers=headers, timeout=60) as client:
                for body in bodies[k]:
                    if time.perf_counter() > stop:
                        return
                    begin = time.perf_counter()
                    answer = client.post("/v1/metrics", content=body)
                    assert answer.status_code == 200, answer.text
                    slow.append(time.perf_counter() - begin)
                    sent[k] += points

        threads = [threading.Thread(target=send, args=(k,)) for k in range(senders)]
        begin = time.perf_counter()
        for t in threads:
            t.start()
        for t in threads:
            t.join()
        took = time.perf_counter() - begin
    from watchtide.server.streams.models import Batch

    held = sum(Batch.objects.filter(door="push").values_list("samples", flat=True))
    assert held >= sum(sent), (held, sent)
    return {
        f"OTLP: {senders} senders of {points:,} points a message, points/s": sum(sent) / took,
        "OTLP: answer, median ms": float(np.median(slow)) * 1e3,
        "OTLP: answer, p95 ms": float(np.quantile(slow, 0.95)) * 1e3,
    }


@contextmanager
def _served(settings: dict[str, str]) -> Iterator[str]:
    """The web server and the keeper of streams, as `./run serve` starts them."""
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port = probe.getsockname()[1]
    env = {**os.environ, **settings}
    children = [supervise._web(env, supervise.LOOPBACK, port)]
    if os.environ.get("KEEP", "2") != "1":
        children.append(
            supervise.Child("keeper", env, "watchtide.cli.main", "server", "run", "keep", "streams")
        )
    try:
        supervise._wait_ready(supervise.LOOPBACK, port, children[0])
        yield f"http://127.0.0.1:{port}"
    finally:
        supervise._end(children)


def _message(sender: int, i: int, points: int) -> bytes:
    from opentelemetry.proto.collector.metrics.v1.metrics_service_pb2 import ExportMetricsServiceRequest

    request = ExportMetricsServiceRequest()
    one = request.resource_metrics.add()
    one.resource.attributes.add(key="service.name").value.string_value = f"sender {sender}"
    metric = one.scope_metrics.add().metrics.add(name="gate_load", unit="1")
    at = 1_790_000_000 * 10**9 + i * 10**10
    for n in range(points):
        point = metric.gauge.data_points.add(time_unix_nano=at, as_double=float(n % 97) + i)
        point.attributes.add(key="gate").value.string_value = f"gate {n % 1000}"
        point.attributes.add(key="lane").value.string_value = str(n // 1000)
    return request.SerializeToString()


if __name__ == "__main__":
    from watchtide import kernels

    kernels.use_cache()
    start()
    result = take_file(sys.argv[2]) if sys.argv[1] == "file" else read_long()
    print(json.dumps({k: float(v) for k, v in result.items()}))
