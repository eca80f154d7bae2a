"""Transforms as a step of a plan, each with its way back, so that findings are shown on the original values.

A score is the same before and after: residual and spread are both carried back by the transform's gain at
each sample, and the expected value is what is left of the sample.
"""

from dataclasses import dataclass
from typing import Any

import numpy as np
from numba import njit

from watchtide.core.robust import mad_sigma
from watchtide.core.series import Floats

NAMES = (
    "none",
    "log",
    "box-cox",
    "z-score",
    "min-max",
    "difference",
    "percent",
    "rolling mean",
    "rolling median",
)
# Those that put each value on another scale by itself, without looking at its neighbours.
POINTWISE = ("log", "box-cox", "z-score", "min-max")


@dataclass(frozen=True)
class Transform:
    """A transform with what was learnt from the training part; lag or window in samples, of observed ones where `by_row`."""

    name: str
    lag: int = 1
    facts: tuple[tuple[str, float], ...] = ()
    by_row: bool = False

    def __getitem__(self, name: str) -> float:
        return dict(self.facts)[name]

    def as_data(self) -> dict[str, Any]:
        return {"name": self.name, "lag": self.lag, **dict(self.facts)}


def learn(name: str, training: Floats, lag: int = 1) -> Transform:
    """A transform with its figures from the training part alone; (n,) values, NaN skipped.

    lag : samples between the two values of a difference or percent change (a season's for a seasonal difference), or
    in the window of a rolling one. Raises ValueError for an unknown name, or values a logarithm cannot take.
    """
    if name not in NAMES:
        raise ValueError(f"transform must be one of {', '.join(NAMES)}, got {name!r}")
    if lag < 1:
        raise ValueError(f"a transform needs a lag of at least 1 sample, got {lag}")
    seen = training[~np.isnan(training)]
    facts: dict[str, float] = {}
    if name in ("log", "box-cox") and np.any(seen <= 0):
        raise ValueError(
            f"transform {name} needs values above 0, the least is {seen.min():g}; take form: multiplicative, or another transform"
        )
    if name == "box-cox":
        varied = len(seen) > 2 and float(np.ptp(seen)) > 0
        # Imported here: this one function takes longer to import than all that most scans need.
        from scipy.stats import boxcox_normmax

        facts["power"] = float(np.clip(boxcox_normmax(seen, method="mle"), -2.0, 2.0)) if varied else 1.0
    if name == "z-score":
        facts["centre"] = float(np.median(seen)) if len(seen) else 0.0
        facts["scale"] = (mad_sigma(seen) if len(seen) else 0.0) or 1.0
    if name == "min-max":
        low, high = (float(seen.min()), float(seen.max())) if len(seen) else (0.0, 1.0)
        facts["low"], facts["range"] = low, (high - low) or 1.0
    return Transform(name, lag, tuple(facts.items()))


def forward(t: Transform, y: Floats) -> Floats:
    """(n,) transformed values; NaN where the value, or what it is compared with, is missing."""
    with np.errstate(invalid="ignore", divide="ignore"):
        match t.name:
            case "log":
                return np.where(y > 0, np.log(np.maximum(y, 1e-300)), np.nan)
            case "box-cox":
                p = t["power"]
                safe = np.maximum(y, 1e-300)
                return np.where(y > 0, np.log(safe) if abs(p) < 1e-9 else (safe**p - 1) / p, np.nan)
            case "z-score":
                return np.asarray((y - t["centre"]) / t["scale"])
            case "min-max":
                return np.asarray((y - t["low"]) / t["range"])
            case "difference":
                return y - _lagged(y, t.lag, t.by_row)
            case "percent":
                before = _lagged(y, t.lag, t.by_row)
                return np.where(before != 0, (y / before - 1) * 100, np.nan)
            case "rolling mean":
                return np.asarray(_rolling(y, t.lag, False))
            case "rolling median":
                return np.asarray(_rolling(y, t.lag, True))
    return y.copy()


def back(t: Transform, y: Floats, expected: Floats, spread: Floats) -> tuple[Floats, Floats]:
    """Expected values and spreads on the original scale; arrays of (n,), y the original values.

    Pointwise transforms are inverted. Of the others the expected value is y less the residual that its gain carries back: a
    rolling mean of k samples moves by 1 / k of what its newest sample does. Missing where y is, but for differences.
    """
    with np.errstate(invalid="ignore", over="ignore"):
        match t.name:
            case "none":
                return expected, spread
            case "log":
                middle = np.exp(expected)
                return middle, middle * spread
            case "box-cox":
                p = t["power"]
                inner = np.maximum(p * expected + 1, 1e-12)
                middle = np.exp(expected) if abs(p) < 1e-9 else inner ** (1 / p)
                return middle, spread * (middle if abs(p) < 1e-9 else middle ** (1 - p))
            case "z-score":
                return expected * t["scale"] + t["centre"], spread * t["scale"]
            case "min-max":
                return expected * t["range"] + t["low"], spread * t["range"]
            case "difference":
                return _lagged(y, t.lag, t.by_row) + expected, spread
            case "percent":
                before = _lagged(y, t.lag, t.by_row)
                return before * (1 + expected / 100), np.abs(before) * spread / 100
            case "rolling mean":
                moved = forward(t, y)
                return y - (moved - expected) * t.lag, spread * t.lag
        moved = forward(t, y)
        return y - (moved - expected), spread


def _lagged(y: Floats, lag: int, by_row: bool) -> Floats:
    """(n,) the value `lag` samples before each one, or `lag` observed samples before."""
    out = np.full(len(y), np.nan)
    if by_row:
        seen = np.flatnonzero(~np.isnan(y))
        before = np.searchsorted(seen, np.arange(len(y))) - lag
        out[before >= 0] = y[seen[before[before >= 0]]]
        return out
    out[lag:] = y[: max(len(y) - lag, 0)]
    return out


@njit(cache=True, nogil=True)
def _rolling(y, window, is_median):  # type: ignore[no-untyped-def]
    """Mean or median of the last `window` samples, the newest included; NaN where one of them is missing."""
    n = len(y)
    out = np.full(n, np.nan)
    for i in range(window - 1, n):
        part = y[i - window + 1 : i + 1]
        if not np.isnan(part).any():
            out[i] = np.median(part) if is_median else np.mean(part)
    return out
