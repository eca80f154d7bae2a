"""A stored stream at another cadence: every way to combine, by the wall clock where days are meant."""

import numpy as np

from watchtide.core.series import COMBINES, Floats, Ints, SeriesError, infer_step
from watchtide.tables import clock


def coarser(
    times: Ints, values: Floats, every: int | str, combine: str, zone: str = "UTC", *, fill: bool = False
) -> tuple[Ints, Floats]:
    """Samples combined per bin: (bin starts in UTC ns, values), in order.

    every : nanoseconds, `month` or `year`; days, weeks, months and years follow the zone's wall clock.
    combine : one of `COMBINES`. A bin of only missing samples is missing; with `fill`, bins without any sample stand
    there as missing too (0 for `count`). Raises SeriesError for a cadence finer than what is stored, or a combination
    that is not known.
    """
    if combine not in COMBINES:
        raise SeriesError(f"combine must be one of {', '.join(COMBINES)}, got {combine!r}")
    if len(times) == 0:
        return times, values
    order = np.argsort(times, kind="stable")
    times, values = times[order], values[order]
    own = infer_step(times)
    if isinstance(every, int) and len(times) > 1 and every < own:
        raise SeriesError(
            f"the stream has a sample every {own / 1e9:g} s, got every {every / 1e9:g} s; nothing finer is stored"
        )
    starts = clock.bin_starts(times, every, zone)
    # Local bins can only rise with time.
    first = np.flatnonzero(np.r_[True, np.diff(starts) > 0])
    sizes = np.diff(np.r_[first, len(starts)])
    seen = ~np.isnan(values)
    out = _combine(values, seen, first, sizes, combine)
    bins = starts[first]
    if fill and isinstance(every, int):
        from watchtide.tables.rollup import all_bins

        grid = all_bins(int(bins[0]), int(bins[-1]), every, zone)
        whole = np.full(len(grid), 0.0 if combine == "count" else np.nan)
        whole[np.searchsorted(grid, bins)] = out
        return grid, whole
    return bins, out


def _combine(values: Floats, seen: np.ndarray, first: Ints, sizes: Ints, combine: str) -> Floats:
    counts = np.add.reduceat(seen.astype(np.int64), first)
    match combine:
        case "count":
            return counts.astype(np.float64)
        case "sum" | "mean":
            sums = np.add.reduceat(np.where(seen, values, 0.0), first)
            with np.errstate(invalid="ignore", divide="ignore"):
                return np.where(counts > 0, sums / counts if combine == "mean" else sums, np.nan)
        case "min" | "max":
            pad, reduce = (np.inf, np.minimum) if combine == "min" else (-np.inf, np.maximum)
            out = reduce.reduceat(np.where(seen, values, pad), first)
            return np.where(counts > 0, out, np.nan)
    out = np.full(len(first), np.nan)
    share = None if combine == "last" else float(combine[1:]) / 100
    for i, (a, n) in enumerate(zip(first.tolist(), sizes.tolist(), strict=True)):
        part = values[a : a + n][seen[a : a + n]]
        if len(part):
            out[i] = part[-1] if share is None else np.quantile(part, share)
    return out


def usual_combine(unit: str, values: Floats) -> str:
    """Counts add up, other values are averaged: told by whole numbers from 0 and a unit that is no rate or ratio."""
    seen = values[~np.isnan(values)]
    is_whole = len(seen) > 0 and bool(np.all(seen >= 0) and np.all(seen == np.round(seen)))
    is_rate = unit.endswith(("/s", "%")) or unit in ("1", "‰", "per mille")
    return "sum" if is_whole and not is_rate else "mean"


def aligned(
    times: Ints, values: Floats, grid: Ints, *, step_ns: int, most_hold_ns: int | None = None
) -> Floats:
    """(n,) a covariate at the stamps of a target, without looking ahead.

    Finer samples are averaged within each target bin; a coarser covariate keeps its last known value, at most
    `most_hold_ns` long (default: twice its own cadence). Bins before its first sample are missing.
    """
    out = np.full(len(grid), np.nan)
    seen = ~np.isnan(values)
    t, v = times[seen], values[seen]
    if len(t) == 0 or len(grid) == 0:
        return out
    own = infer_step(t)
    hold = most_hold_ns if most_hold_ns is not None else 2 * own
    if own < step_ns:
        at = np.searchsorted(grid, t, side="right") - 1
        inside = (at >= 0) & (t < grid[np.maximum(at, 0)] + step_ns)
        sums = np.bincount(at[inside], v[inside], len(grid))
        counts = np.bincount(at[inside], minlength=len(grid))
        with np.errstate(invalid="ignore"):
            out = np.where(counts > 0, sums / counts, np.nan)
    last = np.searchsorted(t, grid, side="right") - 1
    held = (last >= 0) & (grid - t[np.maximum(last, 0)] <= hold) & np.isnan(out)
    out[held] = v[last[held]]
    return out
