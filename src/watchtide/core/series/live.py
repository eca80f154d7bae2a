"""What live sources count, and what explains them: rates of counters, quantiles of buckets, aligned covariates."""

from collections.abc import Sequence

import numpy as np

from watchtide.core.series import Floats, Ints, cadence


def bucket_quantile(bounds: Sequence[float], counts: Sequence[float], share: float) -> float:
    """A quantile of a histogram, by a straight line within the bucket that holds it.

    bounds : (m,) rising upper bounds; counts : (m + 1,) of the buckets between them, the last beyond all bounds.
    The lowest bucket begins at 0 where its bound is positive, else at its bound; the value of the last bucket is
    the highest bound, since nothing says how far it reaches. NaN for an empty histogram.
    """
    total = float(sum(counts))
    if total <= 0 or not bounds:
        return float("nan")
    rank, before = share * total, 0.0
    for i, count in enumerate(counts):
        if before + count >= rank and count > 0:
            if i >= len(bounds):
                return float(bounds[-1])
            high = float(bounds[i])
            low = float(bounds[i - 1]) if i else min(0.0, high)
            return low + (high - low) * (rank - before) / count
        before += count
    return float(bounds[-1])


def rates(times: Ints, values: Floats) -> tuple[Ints, Floats]:
    """Rates per second of a counter's samples, each at the begin of its interval.

    A counter that is lower than before began anew: what it shows was counted since. Missing samples are skipped,
    so that the interval reaches over them.
    """
    begins, rate, _ = intervals(times, values)
    return begins, rate


def intervals(times: Ints, values: Floats) -> tuple[Ints, Floats, Ints]:
    """(begins, rates per second, ends) of the intervals between a counter's samples; see `rates`."""
    seen = ~np.isnan(values)
    t, v = times[seen], values[seen]
    if len(t) < 2:
        return t[:0], v[:0], t[:0]
    change = np.diff(v)
    gained = np.where(change >= 0, change, v[1:])
    return t[:-1], gained / (np.diff(t) / 1e9), t[1:]


def aligned(
    times: Ints, values: Floats, grid: Ints, *, ends: Ints, most_hold_ns: int | None = None
) -> Floats:
    """(n,) a covariate at the bins of a target, which begin at `grid` and end at `ends`, without looking ahead.

    Finer samples are averaged within each target bin; a coarser covariate keeps its last known value, at most
    `most_hold_ns` long (default: twice its own cadence). Bins before its first sample are missing.
    """
    out = np.full(len(grid), np.nan)
    seen = ~np.isnan(values)
    t, v = times[seen], values[seen]
    if len(t) == 0 or len(grid) == 0:
        return out
    own = cadence.step_of(t)
    hold = most_hold_ns if most_hold_ns is not None else 2 * own
    if own < np.median(ends - grid):
        at = np.searchsorted(grid, t, side="right") - 1
        inside = (at >= 0) & (t < ends[np.maximum(at, 0)])
        sums = np.bincount(at[inside], v[inside], len(grid))
        counts = np.bincount(at[inside], minlength=len(grid))
        with np.errstate(invalid="ignore"):
            out = np.where(counts > 0, sums / counts, np.nan)
    last = np.searchsorted(t, grid, side="right") - 1
    held = (last >= 0) & (grid - t[np.maximum(last, 0)] <= hold) & np.isnan(out)
    out[held] = v[last[held]]
    return out
