"""Whether levels keep what they promise out of sample, through every kind of baseline and on every kind of noise.

Each stream is a daily season with noise: trained on its first 60 %, flagged on the rest. Printed are seen over promised,
the mean over the streams, for one in 1,000 samples and for half a finding a week.
"""

from concurrent.futures import ProcessPoolExecutor
from typing import Any

import numpy as np
from scipy.signal import lfilter

KINDS = (
    "auto", "harmonic", "loess", "classical", "slot", "rolling", "spectrum", "trailing", "fixed", "isolation",
)  # fmt: skip
NOISES = ("Gaussian", "t4", "Gaussian AR 0.6", "t5 AR 0.5")
STREAMS = 12
WEEKS, STEP = 14, 1_800 * 10**9
LEVELS = {"odds": 1_000.0, "per-week": 0.5}


def noise(name: str, rng: np.random.Generator, n: int) -> np.ndarray:
    match name:
        case "Gaussian":
            return rng.normal(size=n)
        case "t4":
            return rng.standard_t(4, n)
        case "Gaussian AR 0.6":
            return np.asarray(lfilter([1.0], [1.0, -0.6], rng.normal(size=n)))
        case _:
            return np.asarray(lfilter([1.0], [1.0, -0.5], rng.standard_t(5, n)))


def once(task: tuple[str, str, int]) -> dict[str, float]:
    """Seen over promised of one stream at each level; the fit is made once."""
    from watchtide.engine import stages
    from watchtide.plan.text import from_data

    kind, name, seed = task
    n = WEEKS * 7 * 48
    rng = np.random.default_rng([seed, NOISES.index(name), 77])
    t = np.arange(n)
    values = 50 + 8 * np.sin(2 * np.pi * t / 48) + 3 * np.cos(4 * np.pi * t / 48) + noise(name, rng, n)
    times = 1_780_272_000 * 10**9 + t.astype(np.int64) * STEP
    data: dict[str, Any] = {"baseline": {"train": {"share": 0.6}}, "shifts": {"of": "none"}}
    if kind != "auto":
        data["baseline"] |= {"kind": kind, "seasons": ["24h"]}
    base = stages.fit(stages.Input("s", times, values), from_data(data))
    out = {}
    cut = base.train_stop
    weeks = (n - cut) * STEP / (7 * 86_400e9)
    for reading, amount in LEVELS.items():
        got = stages.flag(base, from_data(data | {"flag": {"level": {reading: amount}}}))
        if reading == "odds":
            out[reading] = float(np.mean(got.flags[cut:] != 0)) * amount
        else:
            found = [f for f in got.findings if f.start > int(times[cut - 1]) and f.kind == "outlier"]
            out[reading] = len(found) / weeks / amount
    return out


def measure() -> dict[str, Any]:
    tasks = [(kind, name, seed) for kind in KINDS for name in NOISES for seed in range(STREAMS)]
    import multiprocessing

    with ProcessPoolExecutor(2, mp_context=multiprocessing.get_context("spawn")) as pool:
        rows = list(pool.map(once, tasks, chunksize=4))
    out: dict[str, Any] = {}
    for kind in KINDS:
        for reading in LEVELS:
            for name in NOISES:
                own = [r[reading] for t, r in zip(tasks, rows, strict=True) if t[:2] == (kind, name)]
                out[f"{kind}, {reading}, {name}: seen / promised"] = float(np.mean(own))
    return out
