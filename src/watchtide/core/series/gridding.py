"""Where samples go on the grid of a cadence: months, working days, rows, and fixed steps whose stamps jitter."""

from dataclasses import dataclass, replace

import numpy as np
from numba import njit

from watchtide.core.series import MOST_GRID_SAMPLES, Floats, Ints, SeriesError, combine_bins
from watchtide.core.series.calendar import MONDAY_NS, month_of, month_start, place_of_day
from watchtide.core.series.steps import DAY_NS, Cadence, Found

# Weights of a new sample in the running phase, 30 samples' memory, and in its drift a step: critically damped. Holt (1957).
TRACK = 1.0 / 32.0
TRACK_DRIFT = TRACK**2 / 4
MOST_DRIFTED = 64.0


@dataclass(frozen=True)
class Grid:
    """Where samples go. bins : (n,) place of each sample, NaN-free, 0 … m - 1; labels : (m,) stamps of the places, on the
    clock of the stamps that were laid; axis : (m,) even stamps; ends : (m,) when each place is over; held : (k, 2) places
    without a sample although none is missing, because samples drift past the edge of a place, and the places they repeat;
    track : by which the next samples of stamps that stray are placed, None for others, and where only all of them can say."""

    bins: Ints
    labels: Ints
    axis: Ints
    ends: Ints
    held: Ints
    track: "Track | None" = None

    def __len__(self) -> int:
        return len(self.labels)


_NONE = np.empty((0, 2), np.int64)


@dataclass(frozen=True)
class Track:
    """A running phase after some samples. last_ns : their newest stamp; middle, drift : as `lay_jittered` has them by then."""

    step_ns: int
    anchor_ns: int
    width_ns: float
    middle: float
    drift: float
    last_ns: int

    def places(self, times: Ints) -> "tuple[Ints, Track] | None":
        """The round times that the next samples belong to, as laying all samples together gives them, and the phase after
        them; None where the phase moves on by a whole step. times : (n,) stamps in order."""
        last = self.last_ns - self.anchor_ns
        labels, slips, middle, drift = _track(
            times - self.anchor_ns, self.step_ns, self.width_ns, self.middle, self.drift, last, True
        )
        if slips.any():
            return None
        now = replace(self, middle=middle, drift=drift, last_ns=int(times[-1])) if len(times) else self
        return labels + self.anchor_ns, now


def _span(place: Ints) -> Ints:
    """All places from the first to the last. Raises SeriesError for more than 20 million."""
    first, last = int(place.min()), int(place.max())
    if last - first >= MOST_GRID_SAMPLES:
        raise SeriesError(
            f"the span holds {last - first + 1:,} samples at this cadence, more than "
            f"{MOST_GRID_SAMPLES:,}; look for a stray stamp or take a coarser cadence (--every)"
        )
    return np.arange(first, last + 1, dtype=np.int64)


def lay_months(local: Ints, cadence: Cadence) -> Grid:
    """Places of calendar months. A place with one stamp keeps it; others get the usual distance from the month's begin."""
    n = cadence.months
    place = np.floor_divide(month_of(local), n)
    span = _span(place)
    begin = month_start(span * n)
    ends = month_start((span + 1) * n)
    bins = place - span[0]
    counts = np.bincount(bins, minlength=len(span))
    labels = begin
    if counts.max() <= 1:
        labels = _usual_stamps(local - begin[bins], ends[bins] - local, begin, ends)
        labels[bins] = local
    return Grid(bins, labels, span * cadence.step_ns, ends, _NONE)


def lay_workdays(local: Ints, cadence: Cadence) -> Grid:
    """Places of the weekdays that occur; what falls on another day counts for the one before it."""
    day = (local - MONDAY_NS) // DAY_NS
    place = place_of_day(day, cadence.weekdays)
    span = _span(place)
    begin = _day_start(span, cadence.weekdays)
    clock = (local - MONDAY_NS) % DAY_NS
    bins = place - span[0]
    # All at one time of day keep it.
    labels = begin + (int(clock[0]) if np.all(clock == clock[0]) else 0)
    return Grid(bins, labels, MONDAY_NS + span * cadence.step_ns, begin + DAY_NS, _NONE)


def _usual_stamps(into: Ints, left: Ints, begin: Ints, ends: Ints) -> Ints:
    """(m,) stamps at the usual distance from where months begin, or end: last days of months lie at one distance from the end.

    into, left : (n,) distances of samples from the begin and the end of their month; begin, ends : (m,) of the months.
    """
    usual = ends - int(np.median(left)) if np.ptp(left) < np.ptp(into) else begin + int(np.median(into))
    return np.asarray(np.clip(usual, begin, ends - 1))


def _day_start(place: Ints, weekdays: tuple[int, ...]) -> Ints:
    """(m,) local stamps at which the days at these places among the weekdays that occur begin."""
    count = len(weekdays)
    days = (place // count) * 7 + np.array(weekdays, np.int64)[place % count]
    return np.asarray(MONDAY_NS + days * DAY_NS)


def ahead(cadence: Cadence, labels: Ints, steps: int) -> tuple[Ints, Ints]:
    """(labels, ends) of the next places of months or working days after these local labels, at the same place of each."""
    count = np.arange(1, steps + 1, dtype=np.int64)
    if cadence.kind == "months":
        n = cadence.months
        place = np.floor_divide(month_of(labels), n)
        into, left = labels - month_start(place * n), month_start((place + 1) * n) - labels
        later = place[-1] + count
        begin, ends = month_start(later * n), month_start((later + 1) * n)
        return _usual_stamps(into, left, begin, ends), ends
    place = place_of_day((labels[-1:] - MONDAY_NS) // DAY_NS, cadence.weekdays)[0] + count
    begin = _day_start(place, cadence.weekdays)
    return begin + int((labels[-1] - MONDAY_NS) % DAY_NS), begin + DAY_NS


def lay_rows(times: Ints, cadence: Cadence) -> Grid:
    """One place a row, in order of time and then as given; a row is known with its stamp."""
    order = np.argsort(times, kind="stable")
    bins = np.empty(len(times), np.int64)
    bins[order] = np.arange(len(times))
    axis = np.arange(len(times), dtype=np.int64) * cadence.step_ns
    return Grid(bins, times[order], axis, times[order], _NONE)


def lay_jittered(times: Ints, found: Found, anchor_ns: int = 0) -> Grid:
    """Places of a fixed cadence whose stamps stray: one sample a place, labelled with the round time it belongs to.

    times : (n,) stamps in order. A running phase follows the samples, so that a clock that drifts does not put
    two into one place. A sample never lies past the end of its place: what is said of a place needs nothing later.
    """
    step = found.cadence.step_ns
    offset, width = _offset(found, anchor_ns), float(found.width_ns)
    labels, slips, middle, drift = _track(times - anchor_ns, step, width, offset, 0.0, 0, False)
    place = labels // step
    span = _span(place)
    bins = place - span[0]
    jumps = np.flatnonzero(slips & (np.diff(place, prepend=place[0]) == 2))
    held = np.stack([bins[jumps] - 1, bins[jumps] - 2], axis=1) if len(jumps) else _NONE
    out = span * step + anchor_ns
    track = None if slips[-1] else Track(step, anchor_ns, width, middle, drift, int(times[-1]))
    return Grid(bins, out, out, out + step, held, track)


def _offset(found: Found, anchor_ns: int) -> float:
    """Where the middle of the samples lies beside the round time they belong to, -step / 2 … step.

    Where a round time lies among the samples they stray around it; else they are late, and belong to the one before.
    """
    step = found.cadence.step_ns
    middle = float((found.phase_ns - anchor_ns) % step)
    return middle - step if middle + found.width_ns >= step else middle


@njit(cache=True, nogil=True)
def _track(times, step, width, middle, drift, last, has_last):  # type: ignore[no-untyped-def]
    """(n,) round time each sample belongs to, and whether the running phase has just moved on by a whole step; and the phase
    and its drift after them. middle, drift, last : of the samples before, where there are any."""
    n = len(times)
    out = np.empty(n, np.int64)
    slips = np.zeros(n, np.bool_)
    for i in range(n):
        t = times[i]
        if i > 0 or has_last:
            # A clock that is off runs on through a gap, for as long as that can be foretold.
            middle += drift * min(max((t - last) / step, 0.0), MOST_DRIFTED)
        last = t
        place = np.int64(np.floor((t - middle) / step + 0.5))
        # Never past its own end.
        least = t // step
        if place < least:
            place = least
        elif place > least + 1:
            place = least + 1
        out[i] = place * step
        away = min(max(t - out[i] - middle, -0.5 * step), 0.5 * step)
        middle += TRACK * away
        drift += TRACK_DRIFT * away
        if middle + 1.3 * width > 0.99 * step:
            middle -= step
            slips[min(i + 1, n - 1)] = True
        elif middle < -0.5 * step:
            middle += step
    return out, slips, middle, drift


def combined(grid: Grid, times: Ints, values: Floats, combine: str) -> Floats:
    """(m,) the values of samples combined in their places; NaN where there is none, 0 with `count`.

    times, values : (n,) as they were laid; combine : one of `COMBINES`.
    """
    seen = ~np.isnan(values)
    order = np.lexsort((times[seen], grid.bins[seen]))
    out = combine_bins(grid.bins[seen][order], values[seen][order], len(grid), combine)
    if combine != "count":
        for to, source in grid.held:
            out[to] = out[source] if np.isnan(out[to]) else out[to]
    return out


def doubled(grid: Grid) -> int | None:
    """The first place that holds more than one sample, None where there is none."""
    counts = np.bincount(grid.bins, minlength=len(grid))
    return int(np.argmax(counts > 1)) if counts.max(initial=0) > 1 else None
