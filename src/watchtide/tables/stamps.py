"""Forms of stamps that people and programs write beside ISO 8601: months, quarters, weeks, years, names of months.

Each form is a pattern and a way to ISO text of the moment at which what it names begins. Forms of digits alone could as well be
numbers: they are read only where they are stated, or where the column's name says that it holds times.
"""

import re
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from watchtide.core.series import Ints

_MONTHS = ("jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec")
_NAME = (
    "(?P<n>jan(?:uary)?|feb(?:ruary)?|mar(?:ch)?|apr(?:il)?|may|june?|july?|aug(?:ust)?|sept?(?:ember)?|oct(?:ober)?|"
    "nov(?:ember)?|dec(?:ember)?)"
)
_WEEKDAY = r"(?:(?:mon|tue|wed|thu|fri|sat|sun)[a-z]*,? )?"
_CLOCK = (
    r"(?:(?:T|,? +)(?P<h>\d{1,2}):(?P<m>\d{2})(?::(?P<s>\d{2}(?:[.,]\d{1,9})?))?(?: ?(?P<p>[ap])\.?m\.?)?)?"
)
# A year that a nanosecond clock holds: 1678 to 2261.
_YEAR = r"(?:1(?:67[89]|6[89]\d|[7-9]\d\d)|2(?:[01]\d\d|2[0-5]\d|26[01]))"
# Days since 30 December 1899, the spreadsheets' day 0: 1910 to 2119.
SERIAL_FIRST, SERIAL_LAST = 3_654, 80_353
SERIAL_ZERO = np.datetime64("1899-12-30", "D")
_TIME_NAME = re.compile(r"time|date|stamp|^ts$|^t$|when|month|quarter|week|period|^day$|year|^yrs?$", re.I)
_YEAR_NAME = re.compile(r"(^|[^a-z])(years?|yrs?|season)([^a-z]|$)|year$|^year", re.I)


@dataclass(frozen=True)
class Form:
    """name; pattern : of one cell, any case; to_iso : matching cells to ISO text; words : what it is, as a reason says it;
    is_digits : whether it could as well be a number."""

    name: str
    pattern: str
    to_iso: Callable[[pa.Array], pa.Array]
    words: str
    is_digits: bool = False


def ordered_pattern() -> str:
    """Numbers of day, month and year whose order nothing shows; a clock behind them."""
    return rf"(?i)^(?P<a>\d{{1,2}})[./-](?P<b>\d{{1,2}})[./-](?P<y>\d{{4}}|\d{{2}}){_CLOCK}$"


def joined(parts: pa.Array, *, day: str = "d", month: str = "o") -> pa.Array:
    """ISO text of captured parts: y, and where captured the month, the day, h, m, s and p (a or p of am and pm)."""

    def part(name: str, default: str) -> pa.Array:
        if parts.type.get_field_index(name) < 0:
            return pa.array([default] * len(parts), pa.string())
        text = pc.fill_null(pc.struct_field(parts, name), "")
        return pc.if_else(pc.equal(text, ""), default, text)

    year = part("y", "1970")
    short = pc.equal(pc.utf8_length(year), 2)
    century = pc.if_else(pc.less(year, "70"), "20", "19")
    year = pc.if_else(short, pc.binary_join_element_wise(century, year, ""), year)
    date = pc.binary_join_element_wise(year, _padded(part(month, "01")), _padded(part(day, "01")), "-")
    hours = part("h", "00").cast(pa.int32())
    half = pc.utf8_lower(part("p", ""))
    noon = pc.equal(hours, 12)
    hours = pc.if_else(pc.and_(pc.equal(half, "p"), pc.invert(noon)), pc.add(hours, 12), hours)
    hours = pc.if_else(pc.and_(pc.equal(half, "a"), noon), 0, hours)
    seconds = pc.replace_substring(part("s", "00"), ",", ".")
    clock = pc.binary_join_element_wise(_padded(hours.cast(pa.string())), part("m", "00"), seconds, ":")
    return pc.binary_join_element_wise(date, clock, "T")


def _padded(text: pa.Array) -> pa.Array:
    return pc.utf8_lpad(text, 2, "0")


def _by_pattern(pattern: str) -> Callable[[pa.Array], pa.Array]:
    def to_iso(text: pa.Array) -> pa.Array:
        parts = pc.extract_regex(text, pattern)
        if parts.type.get_field_index("n") < 0:
            return joined(parts)
        short = pc.utf8_slice_codeunits(pc.utf8_lower(pc.struct_field(parts, "n")), 0, 3)
        number = pc.add(pc.index_in(short, pa.array(_MONTHS)), 1).cast(pa.string())
        names = [parts.type.field(i).name for i in range(parts.type.num_fields)]
        fields = [number if name == "n" else pc.struct_field(parts, name) for name in names]
        return joined(pa.StructArray.from_arrays(fields, ["o" if n == "n" else n for n in names]))

    return to_iso


def _quarter(text: pa.Array) -> pa.Array:
    parts = pc.extract_regex(text, _QUARTER)
    first = pc.fill_null(pc.struct_field(parts, "y1"), "")
    is_first = pc.not_equal(first, "")
    year = pc.if_else(is_first, first, pc.struct_field(parts, "y2"))
    quarter = pc.if_else(is_first, pc.struct_field(parts, "q1"), pc.struct_field(parts, "q2")).cast(
        pa.int32()
    )
    month = pc.subtract(pc.multiply(quarter, 3), 2).cast(pa.string())
    return pc.binary_join_element_wise(year, _padded(month), "01", "-")


def _week(text: pa.Array) -> pa.Array:
    """The Monday of an ISO week, or its day where one is written."""
    parts = pc.extract_regex(text, _WEEK)
    year, week = (np.asarray(pc.struct_field(parts, n).cast(pa.int64())) for n in ("y", "w"))
    written = pc.fill_null(pc.struct_field(parts, "d"), "")
    day = np.asarray(pc.if_else(pc.equal(written, ""), "1", written).cast(pa.int64()))
    # The week with 4 January is the first.
    fourth = (year - 1970).astype("datetime64[Y]").astype("datetime64[D]") + 3
    monday = fourth - (fourth.astype(np.int64) + 3) % 7
    date = monday + (week - 1) * 7 + (day - 1)
    last = (year - 1969).astype("datetime64[Y]").astype("datetime64[D]") + 3
    is_real = monday + (week - 1) * 7 < last - (last.astype(np.int64) + 3) % 7
    return pa.array(
        [str(d) if ok else "no such week" for d, ok in zip(date, is_real, strict=True)], pa.string()
    )


def _serial(text: pa.Array) -> pa.Array:
    days = np.asarray(text.cast(pa.float64()))
    moment = SERIAL_ZERO.astype("datetime64[ms]") + np.rint(days * 86_400_000).astype(np.int64)
    return pa.array(np.datetime_as_string(moment, unit="ms").tolist(), pa.string())


_QUARTER = rf"(?i)^(?:(?P<y1>{_YEAR})[ -]?Q(?P<q1>[1-4])|Q(?P<q2>[1-4])[ -]?(?P<y2>{_YEAR}))$"
_WEEK = rf"(?i)^(?P<y>{_YEAR})-?W(?P<w>0[1-9]|[1-4]\d|5[0-3])(?:-?(?P<d>[1-7]))?$"
_MONTH = rf"(?i)^(?P<y>{_YEAR})(?:[-/]|M)(?P<o>0?[1-9]|1[0-2])$"
_MONTH_NAME = rf"(?i)^{_NAME}\.?[ -]?'?(?P<y>\d{{4}}|\d{{2}})$"
_YEAR_FIRST = rf"(?i)^(?P<y>{_YEAR})[-/.](?P<o>\d{{1,2}})[-/.](?P<d>\d{{1,2}}){_CLOCK}$"
_DAY_NAME = rf"(?i)^{_WEEKDAY}(?P<d>\d{{1,2}})(?:st|nd|rd|th)?[ ./-]?{_NAME}\.?,?[ ./-]?(?P<y>\d{{4}}|\d{{2}}){_CLOCK}$"
_NAME_DAY = rf"(?i)^{_WEEKDAY}{_NAME}\.?[ -](?P<d>\d{{1,2}})(?:st|nd|rd|th)?,?[ -](?P<y>\d{{4}}){_CLOCK}$"
_COMPACT = rf"^(?P<y>{_YEAR})(?P<o>0[1-9]|1[0-2])(?P<d>0[1-9]|[12]\d|3[01])$"
_MONTH_DIGITS = rf"^(?P<y>{_YEAR})\.?(?P<o>0[1-9]|1[0-2])$"
_YEAR_ONLY = rf"^(?P<y>{_YEAR})(?:\.0+)?$"

FORMS = {
    form.name: form
    for form in (
        Form("year first", _YEAR_FIRST, _by_pattern(_YEAR_FIRST), "dates with the year first"),
        Form("month", _MONTH, _by_pattern(_MONTH), "months"),
        Form("month name", _MONTH_NAME, _by_pattern(_MONTH_NAME), "months by name"),
        Form("day and month name", _DAY_NAME, _by_pattern(_DAY_NAME), "dates with names of months"),
        Form("month name and day", _NAME_DAY, _by_pattern(_NAME_DAY), "dates with names of months"),
        Form("quarter", _QUARTER, _quarter, "quarters"),
        Form("week", _WEEK, _week, "ISO weeks"),
        Form("compact date", _COMPACT, _by_pattern(_COMPACT), "dates of eight digits, and no counts", True),
        Form("year", _YEAR_ONLY, _by_pattern(_YEAR_ONLY), "years, and no counts", True),
        Form(
            "month digits",
            _MONTH_DIGITS,
            _by_pattern(_MONTH_DIGITS),
            "months of six digits, and no decimals",
            True,
        ),
        Form(
            "serial day",
            r"^\d{4,5}(?:\.\d+)?$",
            _serial,
            "spreadsheet serial days, counted from 30 December 1899",
            True,
        ),
    )
}
# Nearly all of a column of digits must be such stamps: one number that is none makes it a column of numbers.
LEAST_DIGITS = 0.98


def by_name(name: str, text: pa.Array) -> tuple[str | None, str]:
    """(the form of digits that a column of this name holds, why); None for one that holds none, or is not named like a time.

    text : cells without the blanks around them. Years need a column that is named like one; serial days must rise or stay.
    """
    filled = text.filter(pc.not_equal(pc.fill_null(text, ""), ""))
    if not _TIME_NAME.search(name) or len(filled) == 0:
        return None, ""
    for form in FORMS.values():
        if not form.is_digits or (form.name == "year" and not (_YEAR_NAME.search(name) or _is_only(name))):
            continue
        fits = np.asarray(pc.match_substring_regex(filled, form.pattern))
        if float(fits.mean()) < LEAST_DIGITS:
            continue
        if form.name == "serial day" and not _are_serials(filled.filter(pa.array(fits))):
            continue
        return form.name, f"{form.words}: the column is named {name}"
    return None, ""


def _is_only(name: str) -> bool:
    """Whether a name says time and nothing finer than a year."""
    return bool(re.fullmatch(r"time|date|when|period|t", name, re.I))


def _are_serials(text: pa.Array) -> bool:
    days: Ints = np.asarray(text.cast(pa.float64()))
    is_within = bool(np.all((days >= SERIAL_FIRST) & (days <= SERIAL_LAST)))
    # Days go on by days; counts that happen to lie there do not.
    return is_within and bool(np.median(np.abs(np.diff(days))) <= 366) if len(days) > 1 else is_within
