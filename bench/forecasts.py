"""Forecasts of ordinary tables of every cadence against repeating the last season: error, and how much lies in the interval.

Each table is cut by its horizon, forecast, and compared with what came. Over the tables the geometric mean of the ratio of both
errors must lie under 1, and 90 to 99 % of the samples in the 95 % interval.
"""

import warnings
from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
from scipy.signal import lfilter

HOUR, DAY = 3_600 * 10**9, 86_400 * 10**9
START = np.datetime64("2026-03-02T00:00:00", "ns")
SEEDS = (0, 1, 2)


@dataclass(frozen=True)
class Table:
    """times (ns), values; horizon and season in samples."""

    name: str
    times: np.ndarray
    values: np.ndarray
    horizon: int
    season: int


def _walk(rng: np.random.Generator, n: int, sigma: float) -> np.ndarray:
    return np.cumsum(rng.normal(0, sigma, n))


def _months(count: int, each: int) -> np.ndarray:
    return np.arange(
        np.datetime64("1994-01", "M"), np.datetime64("1994-01", "M") + count * each, each
    ).astype("datetime64[ns]")


def tables(seed: int) -> Iterator[Table]:
    rng = np.random.default_rng([seed, 61])

    def even(name: str, step: int, values: np.ndarray, horizon: int, season: int) -> Table:
        times = START.astype(np.int64) + np.arange(len(values), dtype=np.int64) * step
        return Table(name, times, values, horizon, season)

    n = 48 * 7 * 12
    t = np.arange(n)
    week = np.array([1, 1.02, 1.03, 1.02, 0.98, 0.8, 0.75])[(t // 48) % 7]
    day = 1 + 0.25 * np.sin(2 * np.pi * (t % 48) / 48 - 2) + 0.1 * np.sin(4 * np.pi * (t % 48) / 48)
    weather = lfilter([1.0], [1.0, -0.97], rng.normal(0, 0.03, n))
    yield even(
        "half-hourly demand",
        HOUR // 2,
        9_000 * week * day * np.exp(0.6 * weather + 0.2 * _walk(rng, n, 0.004)),
        336,
        336,
    )
    n = 24 * 60
    t = np.arange(n)
    wave = 5 * np.sin(2 * np.pi * t / 24)
    yield even("hourly, steady growth", HOUR, 100 + 0.05 * t + wave + rng.normal(0, 1, n), 168, 24)
    yield even("hourly, level", HOUR, 100 + wave + rng.normal(0, 1, n), 168, 24)
    yield even("hourly, random walk", HOUR, 100 + _walk(rng, n, 0.5) + wave, 48, 24)
    yield even(
        "hourly counts", HOUR, rng.poisson(30 * (1.2 + np.sin(2 * np.pi * t / 24))).astype(float), 168, 24
    )
    n = 800
    t = np.arange(n)
    growth = np.exp(0.0006 * t + _walk(rng, n, 0.01))
    yield even(
        "daily sales",
        DAY,
        rng.poisson(200 * np.array([1, 1, 1, 1, 1.2, 1.5, 0.6])[t % 7] * growth).astype(float),
        28,
        7,
    )
    days = START.astype("datetime64[D]") + np.arange(1_100)
    working = days[np.is_busday(days)].astype("datetime64[ns]").astype(np.int64)
    k = np.arange(len(working))
    yield Table(
        "working days",
        working,
        50 + 6 * np.cos(2 * np.pi * (k % 5) / 5) + _walk(rng, len(k), 0.4) + rng.normal(0, 2, len(k)),
        20,
        5,
    )
    n = 5 * 52
    t = np.arange(n)
    yield even(
        "weeks", 7 * DAY, 400 + 0.4 * t + 60 * np.cos(2 * np.pi * t / 52.18) + rng.normal(0, 12, n), 26, 52
    )
    n = 15 * 12
    t = np.arange(n)
    yield Table(
        "months", _months(n, 1).astype(np.int64),
        np.exp(4.7 + 0.008 * t + 0.15 * np.sin(2 * np.pi * t / 12) + rng.normal(0, 0.03, n)), 24, 12,
    )  # fmt: skip
    n = 25 * 4
    t = np.arange(n)
    yield Table(
        "quarters", _months(n, 3).astype(np.int64),
        200 + 1.5 * t + 18 * np.array([1, -1, 0.5, -0.5])[t % 4] + _walk(rng, n, 2.0) + rng.normal(0, 3, n), 8, 4,
    )  # fmt: skip


def once(table: Table) -> tuple[float, float]:
    """Mean absolute error over that of repeating the last season; share within the 95 % interval."""
    from watchtide.engine.prepare.preparing import Input
    from watchtide.engine.scan import ahead
    from watchtide.plan import Plan

    cut = len(table.values) - table.horizon
    stream = Input("s", table.times, table.values)
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        got = ahead.forecast(stream, Plan(), table.horizon, skip_last=table.horizon)
    came = table.values[cut:]
    repeated = np.resize(table.values[cut - table.season : cut], table.horizon)
    # Calendar cadences may take another number of steps: what both have is compared.
    m = min(len(came), len(got.expected))
    error, naive = (float(np.nanmean(np.abs(came[:m] - x[:m]))) for x in (got.expected, repeated))
    return error / naive, float(np.mean((came[:m] >= got.lower[:m]) & (came[:m] <= got.upper[:m])))


def measure() -> dict[str, float]:
    rows: dict[str, list[tuple[float, float]]] = {}
    for seed in SEEDS:
        for table in tables(seed):
            rows.setdefault(table.name, []).append(once(table))
    out = {}
    for name, own in rows.items():
        out[f"{name}: error / repeating the last season"] = float(
            np.exp(np.mean([np.log(r) for r, _ in own]))
        )
        out[f"{name}: within the 95 % interval"] = float(np.mean([c for _, c in own]))
    every = [r for own in rows.values() for r in own]
    out["all: error / repeating the last season"] = float(np.exp(np.mean([np.log(r) for r, _ in every])))
    out["all: within the 95 % interval"] = float(np.mean([c for _, c in every]))
    return out
