"""How samples follow one another: a fixed step, months, days of some weekdays, or row by row."""

from dataclasses import dataclass
from typing import Literal

from watchtide.core.series import SECOND_NS

DAY_NS = 86_400 * SECOND_NS
WEEK_NS = 7 * DAY_NS
# The mean Gregorian year, 365.2425 days, and its twelfth: whole seconds both.
YEAR_NS = 31_556_952 * SECOND_NS
MONTH_NS = YEAR_NS // 12
# Absent weekdays are a rule, and not gaps, where chance alone would leave them out this rarely.
CHANCE_ABSENT = 1e-3
Kind = Literal["fixed", "months", "workday", "rows"]


@dataclass(frozen=True)
class Cadence:
    """One cadence. step_ns : the length of a step, of calendar cadences the mean one.

    months : calendar months a step, of kind `months`; weekdays : those that occur (Monday 0), of kind `workday`.
    """

    kind: Kind
    step_ns: int
    months: int = 0
    weekdays: tuple[int, ...] = ()

    @property
    def is_even(self) -> bool:
        """Whether steps have one length: stamp and axis are then the same."""
        return self.kind == "fixed"


def fixed(step_ns: int) -> Cadence:
    return Cadence("fixed", int(step_ns))


def months(count: int) -> Cadence:
    """A step of so many calendar months. Raises ValueError under 1."""
    if count < 1:
        raise ValueError(f"a calendar cadence needs at least 1 month, got {count}")
    return Cadence("months", count * MONTH_NS, months=count)


def workday(weekdays: tuple[int, ...]) -> Cadence:
    """Steps from one of these weekdays to the next. Raises ValueError for fewer than two or all seven."""
    if not 2 <= len(set(weekdays)) <= 6:
        raise ValueError(f"working days need 2 to 6 weekdays, got {len(set(weekdays))}; take every: 1d or 7d")
    return Cadence("workday", WEEK_NS // len(set(weekdays)), weekdays=tuple(sorted(set(weekdays))))


def rows(step_ns: int) -> Cadence:
    """Each row follows the one before; step_ns : the usual distance, by which rates a week are counted."""
    return Cadence("rows", max(int(step_ns), 1))


@dataclass(frozen=True)
class Change:
    """A change to a coarser cadence: before and after, the stamp at which it begins and the one at which it is known."""

    before: Cadence
    after: Cadence
    begins_ns: int
    known_ns: int


@dataclass(frozen=True)
class Found:
    """The cadence of a stream. share : of the differences between neighbours that are one step; phase_ns : where in a step
    the middle of the samples lies, and width_ns how far they stray from it on either side, where stamps are not exact; is_regular : whether there is any cadence to be seen;
    change : to a coarser cadence on the way, None without one."""

    cadence: Cadence
    share: float
    is_exact: bool = True
    is_regular: bool = True
    phase_ns: int = 0
    width_ns: int = 0
    change: Change | None = None
