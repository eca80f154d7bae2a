"""Cadences by the calendar: months of their own lengths, and days of some weekdays."""

import numpy as np

from watchtide.core.series import Ints
from watchtide.core.series.steps import CHANCE_ABSENT, DAY_NS, Found, months, workday

# 1970-01-05 00:00, a Monday.
MONDAY_NS = 4 * DAY_NS


def month_of(local: Ints) -> Ints:
    """(n,) months since January 1970 of local stamps."""
    return local.astype("datetime64[ns]").astype("datetime64[M]").astype(np.int64)


def month_start(month: Ints) -> Ints:
    """(n,) local stamps at which months since January 1970 begin."""
    return month.astype("datetime64[M]").astype("datetime64[ns]").astype(np.int64)


def find_months(days: Ints) -> Found | None:
    """Months, quarters or years: one stamp a step, at about the same place of its month."""
    if len(days) < 3:
        return None
    month = month_of(days)
    apart = np.diff(month)
    lengths, counts = np.unique(apart, return_counts=True)
    usual = int(lengths[np.argmax(counts)])
    if usual < 1 or np.any(apart % usual):
        return None
    into = days - month_start(month)
    left = month_start(month + 1) - days
    is_exact = np.all(into == into[0]) or np.all(left == left[0])
    steps = np.diff(days)
    if not is_exact and (np.all(steps == steps[0]) or min(np.ptp(into), np.ptp(left)) > 6 * DAY_NS):
        return None
    return Found(months(usual), float(np.mean(apart == usual)))


def find_workdays(days: Ints) -> Found | None:
    """Days on some weekdays alone, where chance would hardly leave the others out."""
    steps = np.diff(days)
    if len(days) < 8 or np.any(steps % DAY_NS):
        return None
    day = (days - MONDAY_NS) // DAY_NS
    present = np.bincount(day % 7, minlength=7) > 0
    count = int(present.sum())
    if not 2 <= count <= 6:
        return None
    span = np.arange(day[0], day[-1] + 1)
    due = present[span % 7]
    filled = len(day) / int(due.sum())
    absent = np.bincount(span[~due] % 7, minlength=7)[~present]
    if filled < 0.4 or absent.min() < 2 or (1 - filled) ** int(absent.min()) > CHANCE_ABSENT:
        return None
    own = workday(tuple(np.flatnonzero(present).tolist()))
    return Found(own, float(np.mean(np.diff(place_of_day(day, own.weekdays)) == 1)))


def place_of_day(day: Ints, weekdays: tuple[int, ...]) -> Ints:
    """(n,) place of each day (since a Monday) among the days that occur; a day that does not takes the one before it."""
    rank = np.searchsorted(np.array(weekdays), day % 7, side="right") - 1
    return np.asarray((day // 7) * len(weekdays) + rank)


def weekdays_of(local: Ints) -> tuple[int, ...]:
    """The weekdays that occur among local stamps; Monday to Friday at least where they span less than two weeks."""
    if len(local) == 0:
        return (0, 1, 2, 3, 4)
    day = (local - MONDAY_NS) // DAY_NS
    seen = set((day % 7).tolist())
    if int(day.max() - day.min()) < 14:
        seen |= {0, 1, 2, 3, 4}
    return tuple(sorted(seen))
