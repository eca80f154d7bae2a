"""Durations as people write them: 90s 15m 24h 7d 2w 12mo 1y, or a bare number of samples; and cadences."""

import re
from collections.abc import Callable
from datetime import timedelta

from watchtide.core.series import SECOND_NS, Ints, calendar, steps
from watchtide.core.series.steps import MONTH_NS, YEAR_NS, Cadence

# Months and years are mean Gregorian ones: a season of 12mo is as long as one of 1y.
_UNITS_NS = {
    "s": SECOND_NS,
    "m": 60 * SECOND_NS,
    "h": 3_600 * SECOND_NS,
    "d": 86_400 * SECOND_NS,
    "w": 604_800 * SECOND_NS,
    "mo": MONTH_NS,
    "y": YEAR_NS,
}
_FORM = re.compile(r"^(\d+(?:\.\d+)?)\s*(s|m|h|d|w|mo|y)?$")
_DAYS = ("mon", "tue", "wed", "thu", "fri", "sat", "sun")
WEEK = (0, 1, 2, 3, 4)
# Other words for calendar cadences.
_WORDS = {"month": "1mo", "quarter": "3mo", "year": "1y"}


def parse_ns(text: str | int | float, *, step_ns: int | None = None) -> int:
    """Nanoseconds of a duration; a bare number counts samples of `step_ns`; months and years are mean ones.

    Raises ValueError for another form.
    """
    found = _FORM.match(str(text).strip())
    if not found:
        raise ValueError(f"{text!r} is no duration; write for example 90s, 15m, 24h, 7d, 2w, 12mo or 1y")
    number, unit = float(found[1]), found[2]
    if unit is None:
        if number == 0:
            return 0
        if step_ns is None:
            raise ValueError(f"{text!r} needs a unit here; write for example {text}m")
        return round(number * step_ns)
    return round(number * _UNITS_NS[unit])


def parse_timedelta(text: str | int | float) -> timedelta:
    """The same as a `timedelta`, to the microsecond."""
    return timedelta(microseconds=parse_ns(text) // 1_000)


def format_ns(ns: int) -> str:
    """The shortest duration in one unit that says exactly this."""
    if ns == 0:
        return "0s"
    for unit in ("y", "mo", "w", "d", "h", "m", "s"):
        length = _UNITS_NS[unit]
        if ns % length == 0 and not (unit == "w" and ns == length):
            return f"{ns // length}{unit}"
    return f"{ns / SECOND_NS:.9f}".rstrip("0").rstrip(".") + "s"


def check_every(text: str | int | float) -> None:
    """Raise ValueError, with what may stand there, for a cadence that cannot be read."""
    words = str(text).strip().lower().split()
    if words in (["auto"], ["rows"]) or (words and words[0] in _WORDS and len(words) == 1):
        return
    if words and words[0] == "workday":
        _weekdays(words[1:])
        return
    try:
        length = parse_ns(text, step_ns=1)
    except ValueError as error:
        raise ValueError(
            f"{text!r} is no cadence; write a duration such as 15m, a calendar cadence (1mo, 3mo, 1y), workday, rows or auto"
        ) from error
    if length <= 0:
        raise ValueError(f"a cadence must be positive, got {text!r}; take for example 15m")


def parse_every(text: str | int | float, own: Cadence, local: Callable[[], Ints]) -> Cadence:
    """The cadence a plan states; `own` where it is auto.

    own : what the stamps say, by which a bare number counts; local : gives the local stamps, which show the working days.
    """
    check_every(text)
    words = str(text).strip().lower().split()
    if words == ["auto"]:
        return own
    if words == ["rows"]:
        return steps.rows(own.step_ns)
    if words[0] == "workday":
        return steps.workday(_weekdays(words[1:]) or calendar.weekdays_of(local()))
    written = _WORDS.get(words[0], str(text).strip().lower())
    found = _FORM.match(written)
    assert found is not None
    number, unit = float(found[1]), found[2]
    if unit in ("mo", "y") and (count := number * (12 if unit == "y" else 1)) == int(count):
        return steps.months(int(count))
    if unit is None and not own.is_even:
        if number == 1:
            return own
        if own.kind == "months" and number == int(number):
            return steps.months(int(number) * own.months)
        raise ValueError(
            f"every: {text} counts samples that have no fixed length; write a duration such as 7d"
        )
    return steps.fixed(parse_ns(written, step_ns=own.step_ns))


def format_every(c: Cadence) -> str:
    """A cadence as a plan states it."""
    match c.kind:
        case "months":
            return format_ns(c.step_ns)
        case "workday":
            return "workday" if c.weekdays == WEEK else f"workday {' '.join(_DAYS[d] for d in c.weekdays)}"
        case "rows":
            return "rows"
    return format_ns(c.step_ns)


def _weekdays(words: list[str]) -> tuple[int, ...]:
    unknown = [w for w in words if w not in _DAYS]
    if unknown:
        raise ValueError(f"{unknown[0]!r} is no weekday; write workday, or workday {' '.join(_DAYS[:4])}")
    return tuple(sorted(_DAYS.index(w) for w in words))
