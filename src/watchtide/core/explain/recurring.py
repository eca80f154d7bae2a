"""A day or week against the same one of the n before it: what is usual of it, and within which limits.

Nothing is fitted: a Saturday is set beside the Saturdays before. What was itself out of the ordinary then is left out.
"""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from scipy.stats import t as student

from watchtide.core.robust import mad_sigma
from watchtide.core.series import Bools, Floats, Ints
from watchtide.core.series.calendar import MONDAY_NS
from watchtide.core.series.coarser import LEAST_NS, By, Coarse
from watchtide.core.series.steps import DAY_NS

# Without so many before there are no limits; from so many on one far from the rest is left out.
LEAST, LEAST_TO_JUDGE = 3, 5
FAR_SIGMAS = 6.0
# A period of which less than this was seen is none to compare with.
WHOLE = 0.9


@dataclass(frozen=True)
class Totals:
    """Series by the same periods. numbers : (m,) of the periods, rising by one where none is missing; starts, ends : (m,) in ns;
    values, share : (k, m) of each series, NaN and 0 where it has none; is_sum : whether values are sums, else means."""

    numbers: Ints
    starts: Ints
    ends: Ints
    values: Floats
    share: Floats
    is_sum: bool

    def together(self) -> tuple[Floats, Floats]:
        """(m,) values and shares of all series: sums of what adds up, else means; NaN where none was seen."""
        known = ~np.isnan(self.values)
        count = known.sum(axis=0)
        whole = np.where(known, self.values, 0.0).sum(axis=0)
        with np.errstate(divide="ignore", invalid="ignore"):
            whole = np.where(count > 0, whole if self.is_sum else whole / count, np.nan)
        return whole, self.share.mean(axis=0)


def totals_of(rows: Sequence[tuple[Coarse, Ints] | None], by: By, *, is_sum: bool) -> Totals:
    """Series, each by its own periods, on the periods of all. rows : (series, (m,) local offsets of its begins); None for one
    without samples, of which there must be others."""
    numbers = [None if row is None else _numbers(row[0].times + row[1], by) for row in rows]
    every = np.unique(np.concatenate([n for n in numbers if n is not None]))
    starts, ends = np.zeros((2, len(every)), np.int64)
    values, share = np.full((len(rows), len(every)), np.nan), np.zeros((len(rows), len(every)))
    for i, (row, own) in enumerate(zip(rows, numbers, strict=True)):
        if row is None or own is None:
            continue
        at = np.searchsorted(every, own)
        starts[at], ends[at] = row[0].times, row[0].ends
        values[i, at], share[i, at] = row[0].values, row[0].share
    return Totals(every, starts, ends, values, share, is_sum)


def _numbers(local: Ints, by: By) -> Ints:
    """(m,) periods counted on the local clock, by their begins on it."""
    # Half an hour in, so that a begin at midnight is never taken for the period before.
    return (local + DAY_NS // 48 - (MONDAY_NS if by == "week" else 0)) // LEAST_NS[by]


@dataclass(frozen=True)
class Usual:
    """One row a period, each (m,). usual : mean of those before, NaN without any; lower, upper : limits, NaN under `LEAST` of
    them; count : how many they rest on; left_out : how many were far from the rest."""

    usual: Floats
    lower: Floats
    upper: Floats
    count: Ints
    left_out: Ints


def usual_of(
    numbers: Ints, values: Floats, share: Floats, *, every: int, n: int, interval: float = 0.95
) -> Usual:
    """What is usual of each period by the same ones before: those `every`, 2 · `every` … n · `every` periods earlier.

    numbers : (m,) of the periods, rising by one where none is missing; values : (m,) of each, NaN for none; share : (m,) of its
    time, how much was seen. Limits are those of the next one of a normal sample: mean ± t s √(1 + 1/m), Student's t with m − 1
    degrees of freedom (Hahn and Meeker 1991, chapter 4). From five on, one further than 6 robust sigmas from the median is left out.
    Each row rests on periods strictly before its own.
    """
    m = len(numbers)
    usual, lower, upper = np.full((3, m), np.nan)
    count, left_out = np.zeros(m, np.int64), np.zeros(m, np.int64)
    ok = ~np.isnan(values) & (share >= WHOLE)
    for i in range(m):
        seen = values[_before(numbers, int(numbers[i]), every, n) & ok]
        kept = seen[~is_far(seen)]
        count[i], left_out[i] = len(kept), len(seen) - len(kept)
        if not len(kept):
            continue
        usual[i] = kept.mean()
        if len(kept) >= LEAST:
            reach = student.ppf(0.5 + interval / 2, len(kept) - 1) * kept.std(ddof=1)
            reach *= np.sqrt(1 + 1 / len(kept))
            lower[i], upper[i] = usual[i] - reach, usual[i] + reach
    return Usual(usual, lower, upper, count, left_out)


def _before(numbers: Ints, own: int, every: int, n: int) -> Bools:
    """(m,) which periods are the same ones before, the n nearest."""
    back = own - numbers
    return np.asarray((back > 0) & (back % every == 0) & (back <= n * every))


def references(
    numbers: Ints, values: Floats, share: Floats, own: int, *, every: int, n: int
) -> tuple[Ints, Bools]:
    """(numbers of the periods that one is set beside, which of them are left out), as `usual_of` takes them."""
    at = np.flatnonzero(_before(numbers, own, every, n) & ~np.isnan(values) & (share >= WHOLE))
    return numbers[at], is_far(values[at])


def is_far(seen: Floats) -> Bools:
    """(k,) which of some values lie far from the rest; none where they are few or all the same."""
    if len(seen) < LEAST_TO_JUDGE:
        return np.zeros(len(seen), np.bool_)
    scale = mad_sigma(seen)
    return np.asarray(np.abs(seen - np.median(seen)) > FAR_SIGMAS * scale) & (scale > 0)
