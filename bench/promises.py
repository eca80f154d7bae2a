"""Whether levels keep what they promise out of sample, through every kind of baseline and on every kind of noise.

Each stream is a daily season with noise: trained on its first 60 % and carried over the rest, and for some kinds replayed as if
live. Printed are seen over promised, the mean over the streams, for one in 1,000 samples and for half a finding a week.
"""

from concurrent.futures import ProcessPoolExecutor
from typing import Any

import numpy as np
from scipy.signal import lfilter

KINDS = (
    "auto", "harmonic", "loess", "classical", "slot", "rolling", "spectrum", "trailing", "fixed", "isolation",
)  # fmt: skip
REPLAYED = ("harmonic", "slot")
NOISES = (
    "Gaussian",
    "t4",
    "Gaussian AR 0.6",
    "t5 AR 0.5",
    "Gaussian AR 0.95",
    "counts",
    "bursty counts",
    "shares",
)
STREAMS = 24
WEEKS, STEP = 14, 1_800 * 10**9
LEVELS = {"odds": 1_000.0, "per-week": 0.5}


def noise(name: str, rng: np.random.Generator, n: int) -> np.ndarray:
    match name:
        case "Gaussian":
            return rng.normal(size=n)
        case "t4":
            return rng.standard_t(4, n)
        case "Gaussian AR 0.95":
            return np.asarray(lfilter([1.0], [1.0, -0.95], rng.normal(size=n)))
        case "Gaussian AR 0.6":
            return np.asarray(lfilter([1.0], [1.0, -0.6], rng.normal(size=n)))
        case _:
            return np.asarray(lfilter([1.0], [1.0, -0.5], rng.standard_t(5, n)))


def stream_of(name: str, seed: int) -> Any:
    from watchtide.engine.scan import stages

    n = WEEKS * 7 * 48
    rng = np.random.default_rng([seed, NOISES.index(name), 77])
    t = np.arange(n)
    shape = np.sin(2 * np.pi * t / 48) + 0.4 * np.cos(4 * np.pi * t / 48)
    times = 1_780_272_000 * 10**9 + t.astype(np.int64) * STEP
    if name == "counts":
        return stages.Input("s", times, rng.poisson(12 * (1.5 + shape)).astype(float))
    if name == "bursty counts":
        return stages.Input("s", times, rng.poisson(30 * (1.5 + shape) * rng.gamma(4, 0.25, n)).astype(float))
    if name == "shares":
        trials = rng.poisson(200 * (1.5 + shape))
        failed = rng.binomial(trials, np.clip(rng.beta(6, 294, n), 0, 1))
        with np.errstate(invalid="ignore", divide="ignore"):
            values = np.where(trials > 0, 100 * failed / trials, np.nan)
        return stages.Input("s", times, values, denominators=trials.astype(float))
    return stages.Input("s", times, 50 + 8 * shape + noise(name, rng, n))


def once(task: tuple[str, str, int, str]) -> dict[str, float]:
    """Seen over promised of one stream at each level; a fit is made once, a replay for each level."""
    from watchtide.engine.scan import stages
    from watchtide.plan.text import from_data

    kind, name, seed, mode = task
    stream = stream_of(name, seed)
    times, n = stream.times, len(stream.times)
    data: dict[str, Any] = {"baseline": {"train": {"share": 0.6}}, "shifts": {"of": "none"}}
    if kind != "auto":
        data["baseline"] |= {"kind": kind, "seasons": ["24h"]}
    base = stages.fit(stream, from_data(data)) if mode == "fit" else None
    out = {}
    for reading, amount in LEVELS.items():
        plan = from_data(data | {"flag": {"level": {reading: amount}}})
        got = stages.flag(base, plan) if base is not None else stages.scan(stream, plan, (), "replay")
        cut = got.base.train_stop
        weeks = (n - cut) * STEP / (7 * 86_400e9)
        if reading == "odds":
            out[reading] = float(np.mean(got.flags[cut:] != 0)) * amount
        else:
            found = [f for f in got.findings if f.start > int(times[cut - 1]) and f.kind == "outlier"]
            out[reading] = len(found) / weeks / amount
    return out


def measure(ways: list[tuple[str, str]] | None = None, seeds: range = range(STREAMS)) -> dict[str, Any]:
    ways = ways or [*((kind, "fit") for kind in KINDS), *((kind, "replay") for kind in REPLAYED)]
    tasks = [(kind, name, seed, mode) for kind, mode in ways for name in NOISES for seed in seeds]
    import multiprocessing

    with ProcessPoolExecutor(2, mp_context=multiprocessing.get_context("spawn")) as pool:
        rows = list(pool.map(once, tasks, chunksize=4))
    out: dict[str, Any] = {}
    for kind, mode in ways:
        for reading in LEVELS:
            for name in NOISES:
                own = [
                    r[reading]
                    for t, r in zip(tasks, rows, strict=True)
                    if t[:2] == (kind, name) and t[3] == mode
                ]
                out[f"{kind} {mode}, {reading}, {name}: seen / promised"] = float(np.mean(own))
    return out
