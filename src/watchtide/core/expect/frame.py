"""What a baseline sees: samples on their grid, which of them may train, seasons, and what stands beside them."""

from collections.abc import Sequence
from dataclasses import dataclass, field, replace

import numpy as np
from numba import njit

from watchtide.core.expect.quantile import Counted
from watchtide.core.series import Bools, Floats, Ints, Series, WallClock, wall_clock
from watchtide.core.series.calendar import MONDAY_NS
from watchtide.core.series.steps import DAY_NS, MONTH_NS

__all__ = ["DAY_NS", "MONDAY_NS", "Frame", "Period", "period_of"]

# A season longer than this is held out by parts of it: few histories hold eight cycles.
LONG_NS = 28 * DAY_NS


@dataclass(frozen=True)
class Period:
    """A season's length; is_local: it follows the wall clock (days, weeks, months, years and whole parts of a day)."""

    ns: int
    is_local: bool

    def samples(self, step_ns: int) -> float:
        return self.ns / step_ns


def period_of(samples: float, step_ns: int) -> Period:
    """The period of this many samples; whole days, months and years, and whole parts of a day, follow the wall clock."""
    ns = round(samples * step_ns)
    return Period(ns, DAY_NS % ns == 0 or ns % DAY_NS == 0 or ns % MONTH_NS == 0)


@dataclass(frozen=True)
class Frame:
    """Samples of one stream as a baseline takes them; arrays of (n,) on the even grid.

    values : what was observed (after a transform), NaN where missing.
    usable : samples that may train: observed, in training, not left out.
    weights : prior weights of the samples, their mean about 1; ones where none is stated.
    columns : (k, n) known days and covariates, NaN where unknown; names : (k,) what they are.
    counted : what makes the values counts, or ratios of counts; None for what is not counted.
    places : slots worked out so far; frames of the same times share them.
    """

    times: Ints
    offsets_ns: Ints
    step_ns: int
    values: Floats
    usable: Bools
    weights: Floats
    columns: Floats = field(default_factory=lambda: np.zeros((0, 0)))
    names: tuple[str, ...] = ()
    counted: Counted | None = None
    places: dict[tuple[Period, int], Ints] = field(default_factory=dict, repr=False, compare=False)

    def __len__(self) -> int:
        return len(self.times)

    @property
    def trained(self) -> Floats:
        """(n,) values that may train, NaN elsewhere."""
        return np.where(self.usable, self.values, np.nan)

    @property
    def on_known_day(self) -> Bools:
        """(n,) samples on a known day: what happens there is no trouble, and no new level."""
        days = [i for i, name in enumerate(self.names) if name == "known day"]
        return np.any(self.columns[days] > 0, axis=0) if days else np.zeros(len(self), np.bool_)

    def part(self, first: int, stop: int) -> "Frame":
        """The samples first … stop - 1."""
        if first == 0 and stop >= len(self):
            return self
        cut = slice(first, stop)
        return Frame(
            self.times[cut],
            self.offsets_ns[cut],
            self.step_ns,
            self.values[cut],
            self.usable[cut],
            self.weights[cut],
            self.columns[:, cut],
            self.names,
            None if self.counted is None else self.counted.at(cut),
        )

    @property
    def event(self) -> Floats | None:
        """(n,) what one counted event adds to a value: 1 for counts, less the larger a ratio's denominator."""
        return None if self.counted is None else self.counted.event

    def with_values(self, values: Floats) -> "Frame":
        return replace(self, values=values, usable=self.usable & ~np.isnan(values))

    def with_usable(self, usable: Bools) -> "Frame":
        return replace(self, usable=usable & ~np.isnan(self.values))

    def clock(self) -> WallClock:
        return wall_clock(Series(self.times, self.values, self.step_ns, self.offsets_ns))


def frame_of(series: Series, usable: Bools | None = None, weights: Floats | None = None) -> Frame:
    """A frame of a plain series: all observed samples train, all weigh the same."""
    n = len(series)
    return Frame(
        series.times,
        series.offsets_ns,
        series.step_ns,
        series.values,
        ~np.isnan(series.values) if usable is None else usable & ~np.isnan(series.values),
        np.ones(n) if weights is None else weights,
        np.zeros((0, n)),
    )


def phase(frame: Frame, period: Period) -> Floats:
    """(n,) place of each sample within a season, 0 … 1; local seasons start at midnight, weeks on Monday."""
    moment = frame.times + frame.offsets_ns if period.is_local else frame.times
    return np.asarray(_remainders(moment, MONDAY_NS, period.ns) / period.ns)


@njit(cache=True, nogil=True)
def _remainders(moments, start, length):  # type: ignore[no-untyped-def]
    """(n,) what is left of each moment after whole lengths since `start`; a division only where a cycle ends."""
    out = np.empty(len(moments), np.int64)
    rest = 0
    for i in range(len(moments)):
        rest += moments[i] - (moments[i - 1] if i else start)
        if rest < 0 or rest >= length:
            rest %= length
        out[i] = rest
    return out


def slots(frame: Frame, period: Period, count: int) -> Ints:
    """(n,) which of `count` equal parts of a season each sample lies in; not to be written to, as every fit on these times shares them."""
    known = frame.places.get((period, count))
    if known is None:
        known = np.minimum((phase(frame, period) * count).astype(np.int64), count - 1)
        frame.places[period, count] = known
    return known


def slot_count(frame: Frame, period: Period) -> int:
    """Slots of a season: one a sample, or a multiple's worth rounded where it is no whole number."""
    return max(2, round(period.samples(frame.step_ns)))


def cycle_blocks(frame: Frame, periods: Sequence[Period], folds: int, *, least_ns: int = DAY_NS) -> Ints:
    """(n,) fold of each sample: whole cycles of the longest season (at least a day), dealt out in turn.

    Where fewer than two rounds of such blocks exist, days are dealt out, of a season longer than four weeks its twelfths: a
    season must foretell more than its neighbours already do. The same part of each cycle then goes to another fold.
    Where days are too few, the usable span is cut into `2 folds` equal blocks.
    """
    longest = max((p.ns for p in periods), default=0)
    block = max(longest, least_ns)
    if len(frame) == 0:
        return np.empty(0, np.int64)
    origin = int(frame.times[0])
    span = int(frame.times[-1]) - origin + frame.step_ns
    if span < 2 * folds * block:
        least = max(longest // 12, least_ns, frame.step_ns) if longest > LONG_NS else max(least_ns, 1)
        if longest > LONG_NS and span >= 2 * folds * least:
            cycle, within = np.divmod(frame.times - origin, longest)
            return np.asarray((within // least + cycle) % folds, dtype=np.int64)
        # Fewer than two rounds: days keep a block shorter than the season it must be predicted from.
        block = least if span >= 2 * folds * least else max(span // (2 * folds), frame.step_ns)
    return np.asarray(((frame.times - origin) // block) % folds, dtype=np.int64)
