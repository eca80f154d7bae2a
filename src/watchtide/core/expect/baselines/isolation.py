"""Baseline by random isolation trees on lagged windows, alone or with the samples of other streams beside."""

from typing import Any

import numpy as np
from numba import njit

from watchtide.core.expect.baselines import Fitted, Parts
from watchtide.core.expect.baselines.rolling import trail
from watchtide.core.expect.frame import Frame, Period
from watchtide.core.series import Bools, Floats

EULER = 0.5772156649015329


def fit(
    frame: Frame,
    periods: tuple[Period, ...],
    *,
    lags: int = 8,
    trees: int = 100,
    subsample: int = 256,
    share: float | None = None,
    seed: int = 1,
) -> Fitted:
    """Random trees on the rows of the training part: the last `lags` samples, and the columns beside.

    trees, subsample : how many trees, each grown on so many rows drawn without replacement, to a depth of log2 of it.
    share : expected share of outliers; the score is scaled so that this share of the training rows reaches
        4 sigmas. None scales it by the rows' own tail.
    Raises ValueError for lags, trees or subsample out of range. Liu, Ting and Zhou (2008), algorithms 1 to 3.
    """
    for name, value, least, most in (
        ("lags", lags, 1, 512),
        ("trees", trees, 1, 2000),
        ("subsample", subsample, 8, 4096),
    ):
        if not least <= value <= most:
            raise ValueError(f"{name} must be between {least} and {most}, got {value}")
    if share is not None and not 0 < share < 0.5:
        raise ValueError(f"share must be above 0 and under 0.5, got {share:g}")
    rows, whole = features(frame, lags)
    usable = _windows_usable(frame.usable, lags) & whole
    kept = rows[usable]
    facts: dict[str, Any] = {
        "lags": lags,
        "trees": trees,
        "subsample": min(subsample, len(kept)),
        "share": share,
    }
    if len(kept) < 8:
        return Fitted(
            "isolation", periods, {"cuts": np.zeros((0, 1, 4))}, facts | {"middle": 0.5, "scale": 1.0}
        )
    cuts = grow(kept, trees, subsample, np.random.default_rng(seed))
    size = facts["subsample"]
    strength = strengths(kept, cuts, size)
    middle = float(np.median(strength))
    high = (
        float(np.quantile(strength, 1 - share))
        if share
        else middle + 4 * 1.4826 * float(np.median(np.abs(strength - middle)))
    )
    return Fitted(
        "isolation",
        periods,
        {"cuts": cuts},
        facts | {"middle": middle, "scale": max((high - middle) / 4, 1e-6)},
    )


def grow(rows: Floats, trees: int, subsample: int, rng: np.random.Generator) -> Floats:
    """(trees, nodes, 4) random trees on (n, k) rows, each on so many of them drawn without replacement."""
    size = min(subsample, len(rows))
    depth = int(np.ceil(np.log2(size)))
    cuts = np.zeros((trees, 2 ** (depth + 1) - 1, 4))
    for t in range(trees):
        chosen = rows[rng.choice(len(rows), size, replace=False)]
        _grow(np.ascontiguousarray(chosen), cuts[t], depth, rng.random((2 ** (depth + 1), 2)))
    return cuts


def features(frame: Frame, lags: int) -> tuple[Floats, Bools]:
    """(n, lags + k) the samples up to each one, newest first, and what stands beside; and which rows are whole."""
    n = len(frame)
    rows = np.full((n, lags + len(frame.columns)), np.nan)
    for j in range(min(lags, n)):
        rows[j:, j] = frame.values[: n - j]
    for j, column in enumerate(frame.columns):
        rows[:, lags + j] = column
    return rows, ~np.isnan(rows).any(axis=1)


def _windows_usable(usable: Bools, lags: int) -> Bools:
    count = np.cumsum(np.r_[0, usable])
    at = np.arange(len(usable)) + 1
    return np.asarray((count[at] - count[np.maximum(at - lags, 0)]) == lags)


@njit(cache=True, nogil=True)
def _grow(rows, cuts, depth, chance):  # type: ignore[no-untyped-def]
    """One tree as an array heap. A node holds feature, cut, rows in it, and 1 where it splits."""
    n = len(rows)
    at = np.zeros(n, np.int64)
    cuts[0, 2] = n
    for level in range(depth):
        for node in range(2**level - 1, 2 ** (level + 1) - 1):
            if cuts[node, 2] <= 1:
                continue
            # A feature that varies here; tried from a random one on.
            k = rows.shape[1]
            begin = int(chance[node, 0] * k)
            for tried in range(k):
                f = (begin + tried) % k
                low, high = np.inf, -np.inf
                for i in range(n):
                    if at[i] == node:
                        low, high = min(low, rows[i, f]), max(high, rows[i, f])
                if high > low:
                    cut = low + chance[node, 1] * (high - low)
                    cuts[node, 0], cuts[node, 1], cuts[node, 3] = f, cut, 1.0
                    for i in range(n):
                        if at[i] == node:
                            at[i] = 2 * node + (1 if rows[i, f] < cut else 2)
                            cuts[at[i], 2] += 1
                    break


def _usual_depth(n: float) -> float:
    """Mean depth at which a search among n rows ends without finding."""
    return 0.0 if n <= 1 else 2 * (float(np.log(n - 1)) + EULER) - 2 * (n - 1) / n if n > 2 else 1.0


@njit(cache=True, nogil=True)
def _depths(rows, cuts, usual):  # type: ignore[no-untyped-def]
    out = np.zeros(len(rows))
    for i in range(len(rows)):
        total = 0.0
        for t in range(len(cuts)):
            node = 0
            depth = 0.0
            while cuts[t, node, 3] > 0:
                f = int(cuts[t, node, 0])
                node = 2 * node + (1 if rows[i, f] < cuts[t, node, 1] else 2)
                depth += 1.0
            total += depth + usual[int(cuts[t, node, 2])]
        out[i] = total / len(cuts)
    return out


def strengths(rows: Floats, cuts: Floats, size: int) -> Floats:
    """(n,) 2 ** (-depth / usual depth): near 1 for what is set apart at once, 0.5 for the common."""
    usual = np.array([_usual_depth(m) for m in range(size + 1)])
    return np.asarray(2.0 ** (-_depths(rows, cuts, usual) / max(_usual_depth(size), 1e-9)))


def strength(fitted: Fitted, frame: Frame) -> Floats:
    """(n,) how odd each row is, in robust sigmas of the training rows; NaN where a row is not whole."""
    rows, whole = features(frame, fitted.facts["lags"])
    out = np.full(len(frame), np.nan)
    cuts = fitted.arrays["cuts"]
    if len(cuts) and whole.any():
        own = strengths(np.ascontiguousarray(rows[whole]), cuts, fitted.facts["subsample"])
        out[whole] = (own - fitted.facts["middle"]) / fitted.facts["scale"]
    return out


def expect(fitted: Fitted, frame: Frame) -> Parts:
    """The median of the window before each sample; what the trees say comes beside it, by `strength`."""
    lags = max(fitted.facts["lags"], 3)
    middle, _ = trail(frame.values, frame.usable, lags, True, 2)
    return Parts(middle, middle, np.zeros((len(fitted.periods), len(frame))))
