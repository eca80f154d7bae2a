"""One metric over time on an even grid, and how raw samples get there."""

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]
Bools = NDArray[np.bool_]
Strings = NDArray[np.str_]

SECOND_NS = 1_000_000_000
WEEK_S = 7 * 86_400
# Larger numbers stand for a missing value, or are a slip: their squares are beyond what a number holds.
LARGEST = 1e100
COMBINES = ("mean", "sum", "count", "min", "max", "last", "p50", "p95", "p99")
# A grid this much longer than the samples that fill it is a slip in a stamp, not a gap.
MOST_GRID_SAMPLES = 20_000_000


def at_stamps(times: Ints, values: Floats, stamps: Ints) -> Floats:
    """(m,) the values whose times are exactly these stamps; NaN where there is none. times of (n,), sorted."""
    if len(times) == 0:
        return np.full(len(stamps), np.nan)
    at = np.minimum(np.searchsorted(times, stamps), len(times) - 1)
    return np.where(times[at] == stamps, values[at], np.nan)


class SeriesError(ValueError):
    """The samples cannot be put on a grid; the message says why and what to do."""


@dataclass(frozen=True)
class Series:
    """Samples of one stream on a grid.

    times : (n,) int64, nanoseconds since 1970 in UTC; evenly `step_ns` apart where the cadence is fixed; the stamp of a
        bin is its start.
    values : (n,) float64, NaN where a sample is missing.
    offsets_ns : (n,) int64, what to add for local wall-clock time; zeros for UTC.
    axis_ns : (n,) even stamps `step_ns` apart on the axis of a cadence that is not fixed (`core.series.cadence`), None where it is.
    ends_ns : (n,) when each bin is over, None where that is a step later.
    """

    times: Ints
    values: Floats
    step_ns: int
    offsets_ns: Ints
    axis_ns: Ints | None = None
    ends_ns: Ints | None = None

    def __len__(self) -> int:
        return len(self.times)

    def with_values(self, values: Floats) -> "Series":
        return replace(self, values=values)

    @property
    def axis(self) -> Ints:
        """(n,) stamps that days, weeks and other lengths are counted on."""
        return self.times if self.axis_ns is None else self.axis_ns

    @property
    def ends(self) -> Ints:
        """(n,) when each bin is over, and so known."""
        return self.times + self.step_ns if self.ends_ns is None else self.ends_ns

    def part(self, first: int, stop: int) -> "Series":
        """The bins first … stop - 1."""
        cut = slice(first, stop)
        return Series(
            self.times[cut],
            self.values[cut],
            self.step_ns,
            self.offsets_ns[cut],
            None if self.axis_ns is None else self.axis_ns[cut],
            None if self.ends_ns is None else self.ends_ns[cut],
        )


def distinct(times: Ints) -> Ints:
    """(m,) the stamps in order, each once; those that are so already come back as they are."""
    steps = np.diff(times)
    if np.all(steps > 0):
        return times
    ordered = times if np.all(steps >= 0) else np.sort(times)
    keep = np.ones(len(ordered), np.bool_)
    keep[1:] = ordered[1:] != ordered[:-1]
    return ordered[keep]


def regrid(
    times: Ints,
    values: Floats,
    step_ns: int,
    *,
    combine: str = "mean",
    anchor_ns: int = 0,
    spoken: Ints | None = None,
) -> Series:
    """Put unordered samples on an even grid; bins without an observed sample are NaN.

    times, values : (n,) stamps and values; NaN values are skipped.
    combine : one of `COMBINES`; `last` is the last in time, then in the order given. With `count`
        an empty bin between the first and the last sample is 0, not missing.
    anchor_ns : the grid holds `anchor_ns + k * step_ns`. Samples that already sit evenly on another
        phase keep it: the phase of the first sample is used when every stamp shares it.
    spoken : stamps that decide on the phase; None lets all of them.
    Raises SeriesError for a step that is not positive, an unknown `combine`, or a grid of more than
    20 million bins (a stray stamp). O(n log n).
    """
    if step_ns <= 0:
        raise SeriesError(f"cadence must be positive, got {step_ns} ns; take for example 15m")
    if combine not in COMBINES:
        raise SeriesError(f"combine must be one of {', '.join(COMBINES)}, got {combine!r}")
    if len(times) == 0:
        empty = np.empty(0, np.int64)
        return Series(empty, np.empty(0), step_ns, empty)
    phases = ((times if spoken is None or len(spoken) == 0 else spoken) - anchor_ns) % step_ns
    phase = int(phases[0]) if np.all(phases == phases[0]) else 0
    bins = (times - anchor_ns - phase) // step_ns
    first, last = int(bins.min()), int(bins.max())
    if last - first >= MOST_GRID_SAMPLES:
        raise SeriesError(
            f"the span holds {last - first + 1:,} samples at this cadence, more than "
            f"{MOST_GRID_SAMPLES:,}; look for a stray stamp or take a coarser cadence (--every)"
        )
    grid = (np.arange(first, last + 1, dtype=np.int64) * step_ns) + anchor_ns + phase
    seen = ~np.isnan(values)
    if len(bins) == len(grid) and combine != "count" and np.all(np.diff(bins) == 1):
        # One sample a bin, in order: there is nothing to combine.
        return Series(grid, values.astype(np.float64), step_ns, np.zeros(len(grid), np.int64))
    order = np.lexsort((times[seen], bins[seen]))
    binned = combine_bins((bins[seen] - first)[order], values[seen][order], len(grid), combine)
    return Series(grid, binned, step_ns, np.zeros(len(grid), np.int64))


def combine_bins(bins: Ints, values: Floats, n: int, combine: str) -> Floats:
    """(n,) observed values, sorted by bin, reduced to one a bin; bins without one are NaN, with `count` 0."""
    out = np.zeros(n) if combine == "count" else np.full(n, np.nan)
    if len(bins) == 0:
        return out
    starts = np.flatnonzero(np.r_[True, np.diff(bins) != 0])
    sizes = np.diff(np.r_[starts, len(bins)])
    at = bins[starts]
    match combine:
        case "count":
            out[at] = sizes
        case "sum":
            out[at] = np.add.reduceat(values, starts)
        case "mean":
            out[at] = np.add.reduceat(values, starts) / sizes
        case "min":
            out[at] = np.minimum.reduceat(values, starts)
        case "max":
            out[at] = np.maximum.reduceat(values, starts)
        case "last":
            out[at] = values[starts + sizes - 1]
        case _:
            share = float(combine[1:]) / 100
            pieces = np.split(values, starts[1:])
            out[at] = [np.quantile(piece, share) for piece in pieces]
    return out


@dataclass(frozen=True)
class WallClock:
    """How the samples of a series lie on the even grid of local wall-clock time.

    position : (n,) int64, index of each sample on the local grid; two samples share one in the
        hour that clocks repeat, and the skipped hour leaves indices that no sample has.
    length : number of local grid positions.
    start_ns : local time of position 0.
    """

    position: Ints
    length: int
    start_ns: int

    def spread_out(self, values: Floats) -> Floats:
        """Values on the local grid: the mean where two share a position, NaN where none is."""
        if self.length == len(values) and np.all(np.diff(self.position) == 1):
            return values.copy()
        seen = ~np.isnan(values)
        sums = np.bincount(self.position[seen], values[seen], self.length)
        counts = np.bincount(self.position[seen], minlength=self.length)
        with np.errstate(invalid="ignore", divide="ignore"):
            return np.asarray(np.where(counts > 0, sums / counts, np.nan), dtype=np.float64)


def wall_clock(series: Series) -> WallClock:
    """Lay a series on local time, so that a daily season keeps its hour through a clock change.

    Offsets that are no whole number of steps (a two-hour cadence under a one-hour change) are
    rounded down to the grid.
    """
    if len(series) == 0:
        return WallClock(np.empty(0, np.int64), 0, 0)
    local = series.axis if series.axis_ns is not None else series.times + series.offsets_ns
    start = int(local[0])
    position = (local - start) // series.step_ns
    shift = min(0, int(position.min()))
    position = position - shift
    return WallClock(position, int(position.max()) + 1, start + shift * series.step_ns)
