"""What is measured. Times are medians of several runs after one that is not counted; ratios where there is
something to set them against in the same run."""

import gzip
import os
import resource
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np

ROOT = Path(__file__).resolve().parents[1]
QUARTER = 900 * 10**9


def median_time(work: Callable[[], Any], runs: int = 5) -> float:
    work()
    times = []
    for _ in range(runs):
        begin = time.perf_counter()
        work()
        times.append(time.perf_counter() - begin)
    return float(np.median(times))


def taps(n: int, seed: int = 0) -> np.ndarray:
    """Counts with a day and a week, every 15 minutes."""
    rng = np.random.default_rng(seed)
    i = np.arange(n)
    hour, weekend = i % 96, (i // 96) % 7 >= 5
    shape = np.exp(-(((hour - 34) / 8) ** 2)) + 1.2 * np.exp(-(((hour - 70) / 10) ** 2)) + 0.04
    return rng.poisson(200 * shape * np.where(weekend, 0.6, 1.0)).astype(float)


def numerics() -> dict[str, Any]:
    from watchtide.core import decompose, shifts, smoothing
    from watchtide.core.grouping import Group
    from watchtide.core.scoring.curve import Scored, curve
    from watchtide.core.scoring.rows import Label

    y = taps(8_640)
    weights = np.random.default_rng(0).random(len(y))
    direct = median_time(lambda: smoothing.fit_points(y, weights, 185, 1, 0, len(y)))
    fast = median_time(lambda: smoothing.loess(y, weights, 185, 1))
    plain = median_time(lambda: decompose.loess(y, 96))
    robust = median_time(lambda: decompose.loess(y, 96, robust=True))
    two = median_time(lambda: decompose.loess_seasons(y, [96, 672], robust=True), 3)
    steps = np.random.default_rng(1).normal(size=100_000) + np.repeat(
        np.random.default_rng(2).normal(0, 5, 50), 2_000
    )
    z = np.random.default_rng(3).standard_t(4, 20_000)
    times = np.arange(20_000, dtype=np.int64) * QUARTER
    labels = [Label(int(times[k]), int(times[k + 8])) for k in range(100, 19_900, 198)]
    scored = [Scored("", times, z)]
    all_levels = median_time(lambda: curve(scored, labels, group=Group(2, 3)))
    one_level = median_time(lambda: curve(scored, labels, group=Group(2, 3), levels=np.array([4.0])))
    return {
        "smoothing 8,640 samples, window 185: direct / convolved": direct / fast,
        "robust loess, 8,640 samples, period 96, s": robust,
        "plain loess, s": plain,
        "robust / plain": robust / plain,
        "two seasons (96, 672) / one, robust": two / robust,
        "step search, 100,000 samples, 50 shifts, s": median_time(lambda: shifts.search(steps), 3),
        "201 levels, 20,000 samples, 100 labels, ms": all_levels * 1e3,
        "one level, ms": one_level * 1e3,
        "201 levels / one level": all_levels / one_level,
    }


def scan() -> dict[str, Any]:
    """60 streams × 10,752 samples, by the default plan, in one process and in two."""
    from watchtide.engine import run, stages
    from watchtide.plan import Plan
    from watchtide.plan.text import from_data

    n, count = 10_752, 60
    times = 1_785_110_400 * 10**9 + np.arange(n, dtype=np.int64) * QUARTER
    streams = [stages.Input(f"stream={k}", times, taps(n, k), "Europe/Dublin") for k in range(count)]
    list(run.scan_many(streams[:2], Plan()))

    def once(plan: Plan, jobs: int, part: int = count) -> float:
        begin = time.perf_counter()
        for _ in run.scan_many(streams[:part], plan, jobs=jobs):
            pass
        return part * n / (time.perf_counter() - begin)

    auto, slot = Plan(), from_data({"baseline": {"kind": "slot", "seasons": ["24h", "7d"]}})
    one, two = once(auto, 1), once(auto, 2)
    bases = [stages.fit(s, auto) for s in streams[:6]]
    reflag = median_time(lambda: [stages.flag(b, auto) for b in bases])
    return {
        "auto scan, one process, samples/s": one,
        "auto scan, two processes with their start, samples/s": two,
        "two processes / one": two / one,
        "same slot, one process, samples/s": once(slot, 1, 20),
        "a new level on a kept fit, samples/s": 6 * n / reflag,
        "a new level / a new fit": (6 * n / reflag) / one,
        "peak memory of this process, MB": resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024,
    }


INTAKE = """
import resource, sys, time
from watchtide import kernels
kernels.use_cache()
from watchtide.tables import layout, read
begin = time.perf_counter()
raw = read.read(sys.argv[1])
taken = layout.extract(raw, layout.guess(raw, zone="Europe/Dublin"))
print(taken.rows, time.perf_counter() - begin, resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024)
"""


def intake() -> dict[str, Any]:
    """A CSV of 500,000 rows in 50 streams: read and told apart, then stored and read back."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "rows.csv"
        stamps = [str(np.datetime64("2026-05-01T00:00") + np.timedelta64(15 * i, "m")) for i in range(10_000)]
        with path.open("w") as file:
            file.write("stamp,gate,taps\n")
            values = {g: taps(10_000, g).astype(int) for g in range(50)}
            for i, stamp in enumerate(stamps):
                file.writelines(f"{stamp},gate {g},{values[g][i]}\n" for g in range(50))
        said = subprocess.run(
            [sys.executable, "-c", INTAKE, str(path)], capture_output=True, text=True, check=True
        ).stdout
        rows, seconds, peak = (float(x) for x in said.split())
        size = path.stat().st_size
        with gzip.open(Path(folder) / "x.gz", "wb", 1) as packed:
            packed.write(path.read_bytes())
        zipped = (Path(folder) / "x.gz").stat().st_size
        stored = _store(path)
    return {
        "CSV of 500,000 rows, read and told apart, rows/s": rows / seconds,
        "peak memory of that process, MB": peak,
        "CSV size, MB": size / 1e6,
        "CSV / gzip": size / zipped,
        **stored,
    }


def _django() -> None:
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "watchtide.server.settings")
    os.environ["WATCHTIDE_DB_NAME"] = "watchtide_bench"
    import MySQLdb

    env = os.environ
    connection = MySQLdb.connect(
        unix_socket=env["WATCHTIDE_DB_SOCKET"],
        user=env["WATCHTIDE_DB_USER"],
        passwd=env["WATCHTIDE_DB_PASSWORD"],
    )
    connection.cursor().execute("CREATE DATABASE IF NOT EXISTS watchtide_bench COLLATE utf8mb4_bin")
    import django
    from django.core.management import call_command

    django.setup()
    call_command("migrate", verbosity=0)


def _store(path: Path) -> dict[str, Any]:
    """Through the intake job's own service into MariaDB, folded, and read back."""
    _django()
    from django.db import connection

    from watchtide.server.jobs import services as jobs
    from watchtide.server.jobs.models import Job
    from watchtide.server.streams import services, store
    from watchtide.server.streams.models import Batch, Segment, Stream

    Batch.objects.all().delete()
    Stream.objects.all().delete()
    upload = services.take_upload("rows.csv", [path.read_bytes()], None)
    job = Job.objects.create(kind="intake", lane="bulk", title="bench")
    lease = jobs.claim(job.pk)
    assert lease is not None
    begin = time.perf_counter()
    result = services.accept(upload, {"zone": "Europe/Dublin"}, lease)
    stored = time.perf_counter() - begin
    begin = time.perf_counter()
    store.fold(result["ids"])
    folded = time.perf_counter() - begin
    one = Stream.objects.first()
    assert one is not None
    read = median_time(lambda: store.read(one.pk))
    with connection.cursor() as cursor:
        cursor.execute("SELECT SUM(LENGTH(payload)) FROM segment")
        size = float(cursor.fetchone()[0])
    samples = sum(Segment.objects.values_list("count", flat=True))
    long = Stream.objects.create(metric="long", key="metric=long", key_sha="l" * 64)
    batch = Batch.objects.create(key="long" * 16, source="bench")
    store.write_blocks(
        batch,
        [
            (
                long.pk,
                np.arange(1_000_000, dtype=np.int64) * 60 * 10**9,
                np.cumsum(np.random.default_rng(0).normal(size=1_000_000)),
            )
        ],
    )
    Batch.objects.filter(pk=batch.pk).update(accepted_at="2026-01-01T00:00Z")
    store.fold([long.pk])
    from watchtide.engine import reduce

    def page() -> None:
        _, values = store.read(long.pk)
        reduce.indices(values, None, np.empty(0, np.int64), 4000)

    return {
        "the same through the intake job into MariaDB, rows/s": result["rows"] / stored,
        "folding, samples/s": samples / folded,
        "bytes a sample in segments": size / samples,
        "reading one stream of 10,000 back, ms": read * 1e3,
        "reading 1,000,000 samples and reducing them to 4,000, ms": median_time(page) * 1e3,
    }


def bundle() -> dict[str, Any]:
    """Size of the built front end as it travels."""
    dist = ROOT / "web" / "dist"
    total = {"js": 0, "css": 0}
    first = 0
    for file in (dist / "assets").iterdir():
        kind = file.suffix[1:]
        if kind in total:
            packed = len(gzip.compress(file.read_bytes(), 9))
            total[kind] += packed
            if file.name.startswith("main-") and kind == "js":
                first = packed
    return {
        "JavaScript before the first screen, kB gzipped": first / 1e3,
        "all JavaScript, kB gzipped": total["js"] / 1e3,
        "all styles, kB gzipped": total["css"] / 1e3,
    }


def page() -> dict[str, Any]:
    """The workbench in a real browser: first paint, a level's way to new figures, a million samples."""
    from bench import page as real

    return real.measure()


def code() -> dict[str, Any]:
    """Lines that are not blank, and the share of tests among them."""
    listed = subprocess.run(
        ["git", "ls-files"], cwd=ROOT, capture_output=True, text=True, check=True
    ).stdout.split("\n")
    lines = {"tests": 0, "all": 0}
    for name in listed:
        if (
            name.endswith((".py", ".ts", ".tsx", ".css"))
            and "/migrations/" not in name
            and not name.endswith("schema.d.ts")
        ):
            count = sum(bool(line.strip()) for line in (ROOT / name).read_text().splitlines())
            lines["all"] += count
            lines["tests"] += count if name.startswith("tests/") or ".test." in name else 0
    return {
        "lines of code": lines["all"],
        "of them tests": lines["tests"],
        "share of tests": lines["tests"] / lines["all"],
    }


ALL: dict[str, Callable[[], dict[str, Any]]] = {
    "numerics": numerics,
    "scan": scan,
    "intake": intake,
    "bundle": bundle,
    "page": page,
    "code": code,
}
