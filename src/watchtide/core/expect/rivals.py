"""Other readings of the seasons that were found: a tide, with a day or week beside, by the sun or by the clock."""

from collections.abc import Callable

import numpy as np

from watchtide.core.expect.frame import Frame, Period
from watchtide.core.series import SECOND_NS
from watchtide.core.series.steps import DAY_NS, WEEK_NS

Periods = tuple[Period, ...]


def variants(frame: Frame, periods: Periods) -> list[tuple[str, Callable[[Periods], Periods]]]:
    """Other readings of the same seasons, each tried on top of the best so far.

    A half-day season that is nearly the moon's is the moon's and the sun's together, which a few weeks hardly part. A day too faint to be found among rare events may still part night from noon, and a week Sunday from
    Monday; and whether a day follows the clocks or the sun and the moon shows only where the clocks have changed.
    """
    out: list[tuple[str, Callable[[Periods], Periods]]] = []
    span = int(frame.times[-1]) - int(frame.times[0]) + frame.step_ns if len(frame) else 0
    if any(is_lunar(p) for p in periods):
        out.append(("the moon's half day of 12.4206 h and the sun's of 12 h", as_tide))
    if span >= 3 * WEEK_NS and 4 * frame.step_ns <= DAY_NS:
        if not periods:
            out.append(("a day", lambda own: (Period(DAY_NS, is_local=True),)))
        elif all(p.ns < DAY_NS and is_calendar(p) for p in periods):
            out.append(("a day beside its parts", _with_day))
        if not any(p.ns == WEEK_NS for p in periods):
            out.append(("a week beside the day", _with_week))
    if periods and np.any(frame.offsets_ns != frame.offsets_ns[:1]) and any(is_calendar(p) for p in periods):
        local = any(p.is_local for p in periods)
        words = "days by UTC, not by the clocks" if local else "days by the clocks, not by UTC"
        out.append((words, lambda own: tuple(turned(p, not local) for p in own)))
    return out


# The principal lunar and solar half-day constituents of any tide.
LUNAR_NS, SOLAR_NS = 44_714_164_000_000, 12 * 3_600 * SECOND_NS


def is_lunar(p: Period) -> bool:
    return abs(p.ns - LUNAR_NS) < 0.015 * LUNAR_NS and p.ns != SOLAR_NS


def as_tide(own: Periods) -> Periods:
    rest = [p for p in own if not is_lunar(p) and p.ns != SOLAR_NS]
    # What follows the moon and the sun does not follow the clocks.
    return tuple(
        sorted(
            {Period(LUNAR_NS, False), Period(SOLAR_NS, False), *(turned(p, False) for p in rest)},
            key=lambda p: p.ns,
        )
    )


def _with_day(own: Periods) -> Periods:
    return (*own, Period(DAY_NS, own[-1].is_local))


def _with_week(own: Periods) -> Periods:
    return (*own, Period(WEEK_NS, own[-1].is_local)) if any(p.ns == DAY_NS for p in own) else own


def turned(p: Period, is_local: bool) -> Period:
    """A season of days by the clocks or by UTC; others stay as they are."""
    return Period(p.ns, is_local) if is_calendar(p) else p


def is_calendar(p: Period) -> bool:
    """Whole days, or whole parts of one."""
    return p.ns % DAY_NS == 0 or DAY_NS % p.ns == 0
