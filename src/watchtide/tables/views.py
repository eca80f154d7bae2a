"""A stored stream at another cadence: every way to combine, by the wall clock where days are meant."""

import numpy as np

from watchtide.core.series import COMBINES, Floats, Ints, SeriesError, combine_bins
from watchtide.core.series.cadence import step_of
from watchtide.tables import clock
from watchtide.tables.rollup import filled


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
    own = step_of(times)
    if isinstance(every, int) and len(times) > 1 and every < own:
        raise SeriesError(
            f"the stream has a sample every {own / 1e9:g} s, got every {every / 1e9:g} s; nothing finer is stored"
        )
    starts = clock.bin_starts(times, every, zone)
    # Local bins can only rise with time.
    first = np.flatnonzero(np.r_[True, np.diff(starts) > 0])
    sizes = np.diff(np.r_[first, len(starts)])
    seen = ~np.isnan(values)
    bins, codes = starts[first], np.repeat(np.arange(len(first)), sizes)
    out = combine_bins(codes[seen], values[seen], len(first), combine)
    if fill and isinstance(every, int):
        return filled(
            bins, out, int(bins[0]), int(bins[-1]), every, zone, 0.0 if combine == "count" else np.nan
        )
    return bins, out


def at_cadence(
    times: Ints, values: Floats, step_ns: int, zone: str, *, unit: str = "", own_ns: int | None = None
) -> tuple[Ints, Floats]:
    """Samples brought to a formula's cadence where they are finer: counts add up, other values are averaged."""
    if len(times) < 2 or (own_ns or step_of(times)) >= step_ns:
        return times, values
    return coarser(times, values, step_ns, usual_combine(unit, values), zone)


def usual_combine(unit: str, values: Floats) -> str:
    """Counts add up, other values are averaged: told by whole numbers from 0 and a unit that is no rate or ratio."""
    seen = values[~np.isnan(values)]
    is_whole = len(seen) > 0 and bool(np.all(seen >= 0) and np.all(seen == np.round(seen)))
    is_rate = unit.endswith(("/s", "%")) or unit in ("1", "‰", "per mille")
    return "sum" if is_whole and not is_rate else "mean"
