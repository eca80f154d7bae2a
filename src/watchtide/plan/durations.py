"""Durations as people write them: 90s 15m 24h 7d 2w, or a bare number of samples."""

import re

from watchtide.core.series import SECOND_NS

_UNITS = {"s": 1, "m": 60, "h": 3_600, "d": 86_400, "w": 604_800}
_FORM = re.compile(r"^(\d+(?:\.\d+)?)\s*(s|m|h|d|w|mo|y)?$")


def parse_ns(text: str | int | float, *, step_ns: int | None = None) -> int:
    """Nanoseconds of a duration; a bare number counts samples of `step_ns`.

    Raises ValueError for another form, and for months and years, which are no fixed length.
    """
    found = _FORM.match(str(text).strip())
    if not found:
        raise ValueError(f"{text!r} is no duration; write for example 90s, 15m, 24h, 7d or 2w")
    number, unit = float(found[1]), found[2]
    if unit in ("mo", "y"):
        raise ValueError(
            f"{text!r}: months and years have no fixed length and are not taken here; write days"
        )
    if unit is None:
        if number == 0:
            return 0
        if step_ns is None:
            raise ValueError(f"{text!r} needs a unit here; write for example {text}m")
        return round(number * step_ns)
    return round(number * _UNITS[unit] * SECOND_NS)


def format_ns(ns: int) -> str:
    """The shortest duration in one unit that says exactly this."""
    if ns == 0:
        return "0s"
    for unit in ("w", "d", "h", "m", "s"):
        length = _UNITS[unit] * SECOND_NS
        if ns % length == 0 and not (unit == "w" and ns == length):
            return f"{ns // length}{unit}"
    return f"{ns / SECOND_NS:.9f}".rstrip("0").rstrip(".") + "s"
