"""The same series by the hour, day, week or month of its time zone, with the plan unchanged.

Nothing is fitted anew: what was seen and what was expected are put together over the same samples, so that the two stay
comparable where some are missing.
"""

from dataclasses import dataclass
from typing import Literal

import numpy as np

from watchtide.core.series import SECOND_NS, Floats, Ints, Series
from watchtide.core.series.calendar import MONDAY_NS
from watchtide.core.series.steps import DAY_NS, WEEK_NS

By = Literal["hour", "day", "week", "month"]
HOUR_NS = 3_600 * SECOND_NS
# The shortest length of each period: a series whose steps are longer says nothing by it.
LEAST_NS: dict[By, int] = {"hour": HOUR_NS, "day": DAY_NS, "week": WEEK_NS, "month": 28 * DAY_NS}


@dataclass(frozen=True)
class Periods:
    """Periods that hold at least one bin. starts, ends : (m,) nanoseconds since 1970 in UTC; first : (m,) the first bin of each."""

    starts: Ints
    ends: Ints
    first: Ints

    def __len__(self) -> int:
        return len(self.starts)


def periods(series: Series, by: By) -> Periods:
    """Hours, days, weeks (from Monday) or months in the series' time zone. O(n).

    Raises ValueError where a step is longer than the period.
    """
    if series.step_ns > LEAST_NS[by]:
        raise ValueError(f"samples are further apart than one {by}; take a longer period")
    if not len(series):
        return Periods(series.times, series.times, series.times)
    local = series.times + series.offsets_ns
    begins, stops = _edges(local, by)
    # By the hour the one that a clock change repeats comes twice.
    key = begins - series.offsets_ns if by == "hour" else begins
    is_first = np.ones(len(key), np.bool_)
    is_first[1:] = key[1:] != key[:-1]
    first = np.flatnonzero(is_first)
    starts = begins[first] - series.offsets_ns[first]
    # The offset at a period's end is that of the next one; the last is taken to keep its own.
    last = np.r_[first[1:], len(key)] - 1
    ends = stops[first] - series.offsets_ns[np.minimum(last + 1, len(key) - 1)]
    return Periods(starts, ends, first)


def _edges(local: Ints, by: By) -> tuple[Ints, Ints]:
    """(n,) begin and end on the local clock of the period of each stamp."""
    if by == "month":
        month = local.astype("datetime64[ns]").astype("datetime64[M]")
        begin = month.astype("datetime64[ns]").astype(np.int64)
        return begin, (month + 1).astype("datetime64[ns]").astype(np.int64)
    length = LEAST_NS[by]
    origin = MONDAY_NS if by == "week" else 0
    begin = (local - origin) // length * length + origin
    return begin, begin + length


@dataclass(frozen=True)
class Coarse:
    """One row a period, each (m,). times, ends : when it begins and ends; values, expected : sums or means; score : the one furthest from 0 inside, with its sign;
    share : of the period's time, how much was seen."""

    times: Ints
    ends: Ints
    values: Floats
    expected: Floats
    score: Floats
    share: Floats


def coarser(series: Series, by: By, *, is_sum: bool, expected: Floats, z: Floats) -> Coarse:
    """The series, what was expected of it and its scores by longer periods.

    expected, z : (n,), NaN where there is none. A period is expected only where each of its seen samples is: otherwise
    the two figures would be of different samples. Raises ValueError as `periods`. O(n).
    """
    got = periods(series, by)
    if not len(got):
        nothing = np.empty(0)
        return Coarse(got.starts, got.ends, nothing, nothing, nothing, nothing)
    seen = ~np.isnan(series.values)
    count = np.add.reduceat(seen.astype(np.int64), got.first)

    def together(x: Floats) -> Floats:
        """Over the seen samples; NaN where one of them has none, or nothing was seen."""
        total = np.add.reduceat(np.where(seen, x, 0.0), got.first)
        with np.errstate(divide="ignore", invalid="ignore"):
            return np.where(count > 0, total if is_sum else total / count, np.nan)

    # Of each period the place of the score furthest from 0.
    size = np.where(np.isnan(z), -1.0, np.abs(z))
    most = np.maximum.reduceat(size, got.first)
    number = np.repeat(np.arange(len(got)), np.diff(np.r_[got.first, len(z)]))
    at = np.flatnonzero(size == most[number])
    place = at[np.searchsorted(number[at], np.arange(len(got)))]
    return Coarse(
        got.starts,
        got.ends,
        together(series.values),
        together(expected),
        np.where(most < 0, np.nan, z[place]),
        np.minimum(count * series.step_ns / (got.ends - got.starts), 1.0),
    )
