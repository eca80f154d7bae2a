"""What is measured. Times are medians of several runs after one that is not counted; ratios where there is
something to set them against in the same run."""

import gzip
import resource
import subprocess
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
    from watchtide.core import decompose, shifts
    from watchtide.core.decompose import smoothing
    from watchtide.core.judge.grouping import Group
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
    from watchtide.engine.many import run
    from watchtide.engine.scan import stages
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


def intake() -> dict[str, Any]:
    """Five million rows by file and Parquet, pushes over HTTP, reading back, and plain LOAD DATA beside it."""
    from bench import intake as real

    return real.measure()


def quality() -> dict[str, Any]:
    """How well each baseline tells trouble from chance, on labelled streams; see bench/quality.py."""
    from bench import quality as real

    told = real.measure()
    real.show(told["all"])
    real.show(told["family"])
    real.show(told["kind"])
    return {f"{name}, {figure}": value for name, row in told["all"].items() for figure, value in row.items()}


def speed() -> dict[str, Any]:
    """What the scan of a thousand streams from one file takes by command, and the kernels behind it."""
    from bench import speed as real

    return real.measure()


def promises() -> dict[str, Any]:
    """Seen over promised false-flag rates out of sample, through every kind of baseline; see bench/promises.py."""
    from bench import promises as real

    return real.measure()


def forecasts() -> dict[str, Any]:
    """Forecasts of tables of every cadence against repeating the last season; see bench/forecasts.py."""
    from bench import forecasts as real

    return real.measure()


def faults() -> dict[str, Any]:
    """200 kills, the wire to the database cut and slowed, its disk full, its clock stepped, 300 hostile inputs; see bench/faults.py."""
    from bench import faults as real

    out: dict[str, Any] = {}
    for name, part in (
        ("killed", real.measure),
        ("wire", real.cut),
        ("disk", real.full),
        ("clock", real.step),
        ("hostile", real.harmful),
    ):
        with real.folder() as place:
            out |= {f"{name}: {k}": v for k, v in part(place).items() if k != "log"}
    return out


def cards() -> dict[str, Any]:
    """Scorecards of 1,000 streams, 100,000 findings and 20,000 entries."""
    from bench import cards as real

    return real.measure()


def watch() -> dict[str, Any]:
    """Live streams judged as they come."""
    from bench import watch as live

    return live.measure()


def networks() -> dict[str, Any]:
    from bench import networks as real

    return real.measure()


def screens() -> dict[str, Any]:
    from bench import screens as real

    return real.measure()


def scale() -> dict[str, Any]:
    """One scan of many streams by processes, on a cluster, and with a worker killed."""
    from bench import scale as real

    return real.measure()


def gone() -> dict[str, Any]:
    """Two hosts, each taken away once while it works; see bench/gone.py."""
    from bench import gone as real

    return real.measure()


def live() -> dict[str, Any]:
    """Two hosts over one database, live, with many who read; see bench/live.py."""
    from bench import live as real

    return real.measure()


ALL: dict[str, Callable[[], dict[str, Any]]] = {
    "numerics": numerics,
    "scan": scan,
    "speed": speed,
    "quality": quality,
    "promises": promises,
    "networks": networks,
    "forecasts": forecasts,
    "faults": faults,
    "intake": intake,
    "cards": cards,
    "bundle": bundle,
    "page": page,
    "watch": watch,
    "live": live,
    "scale": scale,
    "gone": gone,
    "screens": screens,
    "code": code,
}
