"""Time stamps of every kind to nanoseconds in UTC, and local time with its zone's rules."""

from collections.abc import Iterable
from dataclasses import dataclass, field
from datetime import datetime
from functools import lru_cache
from typing import Any
from zoneinfo import ZoneInfo, available_timezones

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from watchtide.core.series import SECOND_NS, Bools, Ints, calendar, steps
from watchtide.tables import stamps

DAY_S = 86_400
# The whole years that a nanosecond clock holds: 1678 to 2261.
EARLIEST_NS = -9_214_560_000 * SECOND_NS
LATEST_NS = 9_214_646_400 * SECOND_NS - 1

_DATE = r"\d{4}-\d{2}-\d{2}"
_CLOCK = r"\d{2}:\d{2}(:\d{2}([.,]\d{1,9})?)?"
FORMS = {
    "iso with offset": rf"^{_DATE}[T ]{_CLOCK} ?(Z|z|[+-]\d{{2}}:?(\d{{2}})?)$",
    "iso local": rf"^{_DATE}[T ]{_CLOCK}$",
    "date": rf"^{_DATE}$",
    "epoch": r"^-?\d{9,19}(\.\d{1,9})?$",
}
# Taken only when stated: nothing in a stamp such as 01/05/26 tells the day from the month.
ORDERED = stamps.ordered_pattern()
STATED_FORMS = ("day first", "month first", *stamps.FORMS)


class ClockError(ValueError):
    """A zone or stamp that cannot be used."""


def zone(name: str) -> ZoneInfo:
    """The zone of this name. Raises ClockError with what to write instead."""
    if name not in available_timezones():
        raise ClockError(
            f"{name!r} is no known time zone; write an area and place such as Europe/Dublin, or UTC"
        )
    return ZoneInfo(name)


@lru_cache(maxsize=64)
def _transitions(name: str, first_day: int, last_day: int) -> tuple[tuple[int, ...], tuple[int, ...]]:
    """(moments in UTC seconds, offsets in seconds from then on) between two days since 1970."""
    rules = zone(name)

    def offset(second: int) -> int:
        shift = datetime.fromtimestamp(second, rules).utcoffset()
        return int(shift.total_seconds()) if shift is not None else 0

    moments, offsets = [first_day * DAY_S], [offset(first_day * DAY_S)]
    for day in range(first_day, last_day + 1):
        a, b = day * DAY_S, (day + 1) * DAY_S
        while offset(a) != offset(b):
            low, high = a, b
            while high - low > 1:
                middle = (low + high) // 2
                low, high = (middle, high) if offset(middle) == offset(a) else (low, middle)
            moments.append(high)
            offsets.append(offset(high))
            a = high
    return tuple(moments), tuple(offsets)


def _table(name: str, first_ns: int, last_ns: int) -> tuple[Ints, Ints]:
    first = int(first_ns // SECOND_NS // DAY_S) - 2
    last = int(last_ns // SECOND_NS // DAY_S) + 2
    moments, offsets = _transitions(name, first, last)
    return np.asarray(moments) * SECOND_NS, np.asarray(offsets) * SECOND_NS


def utc_offsets(times: Ints, name: str) -> Ints:
    """(n,) what to add to UTC stamps for the zone's local time, in nanoseconds."""
    if len(times) == 0 or name == "UTC":
        return np.zeros(len(times), np.int64)
    moments, offsets = _table(name, int(times.min()), int(times.max()))
    return offsets[np.searchsorted(moments, times, side="right") - 1]


def utc_locals(times: Ints, name: str) -> Ints:
    """(n,) local stamps of UTC ones; the array itself for UTC."""
    return times if len(times) == 0 or name == "UTC" else times + utc_offsets(times, name)


@dataclass(frozen=True)
class Localised:
    """UTC stamps of local ones; masks of those in a repeated and in a skipped hour."""

    times: Ints
    repeated: Bools
    skipped: Bools


@dataclass
class Passes:
    """What is known of the hours that clocks repeat, kept from chunk to chunk of one file."""

    last: dict[tuple[int, int], int] = field(default_factory=dict)
    gone_back: set[tuple[int, int]] = field(default_factory=set)


def localise(local: Ints, name: str, series: Ints | None = None, passes: Passes | None = None) -> Localised:
    """UTC of local stamps in file order.

    A stamp in the hour that clocks repeat is its first pass, until the stamps of its stream
    (`series`, an integer code a row) stop rising within that hour: from there on it is the second. A
    stamp in the skipped hour takes the offset before the change.
    """
    if len(local) == 0 or name == "UTC":
        blank = np.zeros(len(local), np.bool_)
        return Localised(local, blank, blank)
    moments, offsets = _table(
        name, int(local.min()) - DAY_S * SECOND_NS, int(local.max()) + DAY_S * SECOND_NS
    )
    possible = np.unique(offsets)[::-1]  # the larger offset is the first pass
    utc = np.full(len(local), np.iinfo(np.int64).min)
    later = utc.copy()
    hits = np.zeros(len(local), np.int8)
    for shift in possible:
        guess = local - shift
        fits = offsets[np.searchsorted(moments, guess, side="right") - 1] == shift
        later[fits & (hits == 1)] = guess[fits & (hits == 1)]
        utc[fits & (hits == 0)] = guess[fits & (hits == 0)]
        hits += fits
    skipped = hits == 0
    if skipped.any():
        guess = local[skipped] - possible[-1]
        before = offsets[np.maximum(np.searchsorted(moments, guess, side="right") - 2, 0)]
        utc[skipped] = local[skipped] - before
    repeated = hits > 1
    if repeated.any():
        codes = np.zeros(len(local), np.int64) if series is None else series
        second = _second_pass(local, repeated, codes, passes or Passes())
        utc[second] = later[second]
    return Localised(utc, repeated, skipped)


def _second_pass(local: Ints, repeated: Bools, series: Ints, passes: Passes) -> Bools:
    """Rows of a repeated hour that come after their stream's clock went back."""
    second = np.zeros(len(local), np.bool_)
    for row in np.flatnonzero(repeated):
        key = (int(series[row]), int(local[row] // (DAY_S * SECOND_NS)))
        stamp = int(local[row])
        if key in passes.last and stamp <= passes.last[key]:
            passes.gone_back.add(key)
        passes.last[key] = stamp
        second[row] = key in passes.gone_back
    return second


@dataclass(frozen=True)
class Parsed:
    """Stamps of a column. times (n,) ns, local or UTC as `is_local` says; bad : rows that are none;
    form : the kind of stamp; other : rows in another kind of stamp than the column's; scale : ns a unit
    of epoch stamps."""

    times: Ints
    bad: Bools
    other: Bools
    form: str
    is_local: bool
    scale: int = 1


def parse(column: pa.Array, form: str | None = None, *, scale: int | None = None) -> Parsed:
    """Read a column of stamps: text of one kind, numbers since 1970, or timestamps.

    The kind of the most rows is the column's; rows of another kind are marked `other` and bad. A later chunk
    of the same file is given the `form` and `scale` of the first. `day first` and `month first`, and forms of digits alone
    (`stamps.FORMS`), are only taken when stated.
    """
    n = len(column)
    none = np.zeros(n, np.bool_)
    if pa.types.is_timestamp(column.type):
        has_zone = column.type.tz is not None
        times, bad = _typed(column)
        kind = "timestamp" if has_zone else "local timestamp"
        is_other = form is not None and form != kind
        return Parsed(times, bad | is_other, none | is_other, kind, not has_zone)
    if pa.types.is_date(column.type):
        bad = np.asarray(column.is_null())
        days = np.asarray(column.cast(pa.date32()).cast(pa.int32()).fill_null(0), np.int64)
        bad |= (days < EARLIEST_NS // SECOND_NS // DAY_S) | (days > LATEST_NS // SECOND_NS // DAY_S)
        return Parsed(np.where(bad, 0, days) * DAY_S * SECOND_NS, bad, none, "date", True)
    if not pa.types.is_string(column.type) and not pa.types.is_large_string(column.type):
        column = column.cast(pa.string())
    is_reordered = form in ("day first", "month first")
    if not is_reordered:
        form = form or _form_of(column)
    quick = _all_alike(column, str(form), scale)
    if quick is not None:
        return quick
    text = pc.utf8_trim_whitespace(column)
    if is_reordered:
        text, form = _reordered(text, str(form)), "iso local"
    form = str(form)
    mask = _matches(text, form)
    # A date among local stamps is its midnight; both are one kind.
    if form in ("iso local", "date"):
        mask = mask | _matches(text, "date" if form == "iso local" else "iso local")
    other = none.copy()
    if not mask.all():
        rest = text.filter(pa.array(~mask))
        other[~mask] = np.any([_matches(rest, name) for name in _PLAIN if name != form], axis=0)
    times = np.zeros(n, np.int64)
    bad = ~mask
    if mask.any():
        good = text.filter(pa.array(mask))
        if form == "epoch":
            times[mask], wrong, scale = _epochs(good, scale)
        elif form in stamps.FORMS:
            times[mask], wrong = _stamps(stamps.FORMS[form].to_iso(good), "iso local")
        else:
            times[mask], wrong = _stamps(good, form)
        bad[np.flatnonzero(mask)[wrong]] = True
    bad |= (times < EARLIEST_NS) | (times > LATEST_NS)
    is_local = form in ("iso local", "date") or form in stamps.FORMS
    return Parsed(times, bad, other, form, is_local, scale or 1)


# Forms that no number has.
_PLAIN = (*FORMS, *(name for name, form in stamps.FORMS.items() if not form.is_digits))


def _matches(text: pa.Array, form: str) -> Bools:
    """(n,) cells that are stamps of this form."""
    pattern = FORMS[form] if form in FORMS else stamps.FORMS[form].pattern
    return np.asarray(pc.fill_null(pc.match_substring_regex(text, pattern), False))


def _typed(column: pa.Array) -> tuple[Ints, Bools]:
    """Nanoseconds of a timestamp column; stamps that do not fit are bad instead of wrapping around."""
    unit = {"s": 10**9, "ms": 10**6, "us": 10**3, "ns": 1}[column.type.unit]
    counts = np.asarray(column.cast(pa.int64()).fill_null(0))
    bad = np.asarray(column.is_null()) | (counts < EARLIEST_NS // unit) | (counts > LATEST_NS // unit)
    return np.where(bad, 0, counts) * unit, bad


def _form_of(column: pa.Array) -> str:
    """The kind of stamp that most of the first rows are."""
    text = pc.utf8_trim_whitespace(column.slice(0, 5_000))
    best, most = "iso with offset", 0
    for name in _PLAIN:
        count = int(_matches(text, name).sum())
        if count > most:
            best, most = name, count
        if most == len(text):
            break
    return best


def _all_alike(column: pa.Array, form: str, scale: int | None) -> Parsed | None:
    """The whole column at once, where every row is a stamp of this kind without any blemish."""
    none = np.zeros(len(column), np.bool_)
    if column.null_count or len(column) == 0 or form in stamps.FORMS:
        return None
    try:
        if form == "epoch":
            counts = np.asarray(column.cast(pa.int64()))
            scale = scale or _scale(counts)
            # Fewer than nine digits are a number, not a time.
            if np.abs(counts).min() < 10**8 or np.abs(counts).max() > np.iinfo(np.int64).max // scale:
                return None
            times = counts * scale
        else:
            kind = pa.timestamp("ns", "UTC") if form == "iso with offset" else pa.timestamp("ns")
            times = np.asarray(column.cast(kind).cast(pa.int64()))
    except pa.ArrowInvalid:
        return None
    if times.min() < EARLIEST_NS or times.max() > LATEST_NS:
        return None
    return Parsed(times, none, none, form, form in ("iso local", "date"), scale or 1)


def _reordered(text: pa.Array, form: str) -> pa.Array:
    """Stamps such as 1/5/26 0:30 as ISO text; others stay as they are."""
    parts = pc.extract_regex(text, ORDERED)
    found = parts.is_valid()
    day, month = ("a", "b") if form == "day first" else ("b", "a")
    return pc.if_else(found, stamps.joined(parts, day=day, month=month), text)


def _stamps(text: pa.Array, form: str) -> tuple[Ints, Bools]:
    tidy = pc.replace_substring(pc.replace_substring_regex(text, r"^(\S+) (\d)", r"\1T\2"), " ", "")
    tidy = pc.replace_substring(tidy, ",", ".")
    kind = pa.timestamp("ns", "UTC") if form == "iso with offset" else pa.timestamp("ns")
    try:
        return np.asarray(tidy.cast(kind).cast(pa.int64())), np.zeros(len(text), np.bool_)
    except pa.ArrowInvalid:
        # Something like a 31 June: row by row, to tell which.
        times = np.zeros(len(text), np.int64)
        wrong = np.zeros(len(text), np.bool_)
        for i, stamp in enumerate(tidy.to_pylist()):
            try:
                times[i] = _one_stamp(stamp)
            except (ValueError, OverflowError):
                wrong[i] = True
        return times, wrong


def _one_stamp(stamp: str) -> int:
    whole, _, rest = stamp.partition(".")
    digits = ""
    while rest and rest[0].isdigit():
        digits, rest = digits + rest[0], rest[1:]
    moment = datetime.fromisoformat((whole + rest).replace("z", "Z"))
    seconds = moment.timestamp() if moment.tzinfo else moment.replace(tzinfo=ZoneInfo("UTC")).timestamp()
    return int(seconds) * SECOND_NS + int((digits or "0").ljust(9, "0"))


def _scale(counts: Ints) -> int:
    """Nanoseconds a unit of epoch stamps, by their size: seconds, milli-, micro- or nanoseconds."""
    size = np.median(np.abs(counts))
    return SECOND_NS if size < 1e11 else 10**6 if size < 1e14 else 10**3 if size < 1e17 else 1


def _epochs(text: pa.Array, scale: int | None) -> tuple[Ints, Bools, int]:
    """Seconds, milli-, micro- or nanoseconds; seconds may have decimals."""
    whole = pc.replace_substring_regex(text, r"\..*$", "").cast(pa.int64())
    part = pc.utf8_rpad(pc.replace_substring_regex(text, r"^[^.]*\.?", ""), 9, "0").cast(pa.int64())
    numbers, parts = np.asarray(whole), np.asarray(part)
    is_below = np.asarray(pc.starts_with(text, "-"))
    scale = scale or _scale(numbers)
    fits = np.abs(numbers) <= np.iinfo(np.int64).max // scale
    times = np.where(fits, numbers, 0) * scale + np.where(is_below, -1, 1) * (parts * scale // SECOND_NS)
    return times, ~fits, scale


def parse_one(text: str, zone_name: str = "UTC") -> int:
    """One stamp in any of the forms, or `ClockError`; a local one is read in the zone."""
    parsed = parse(pa.array([text]))
    if parsed.bad[0]:
        # Alone, four digits are a year.
        parsed = parse(pa.array([text]), form="year")
    if parsed.bad[0]:
        raise ClockError(f"{text!r} is no time; write for example 2026-08-22T09:15:00Z")
    if parsed.is_local:
        return int(localise(parsed.times, zone_name).times[0])
    return int(parsed.times[0])


def format_times(times: Ints) -> Any:
    """(n,) text in UTC with Z, with as many decimals as any of them needs."""
    if len(times) == 0:
        return np.empty(0, dtype="U1")
    unit = "s" if np.all(times % SECOND_NS == 0) else "ms" if np.all(times % 10**6 == 0) else "ns"
    return np.char.add(np.datetime_as_string(times.astype("datetime64[ns]"), unit=unit), "Z")


def format_time(ns: int) -> str:
    unit = "s" if ns % SECOND_NS == 0 else "ms" if ns % 10**6 == 0 else "ns"
    return f"{np.datetime64(int(ns), 'ns').astype(f'datetime64[{unit}]')}Z"


def texts_of(stamps: Iterable[int]) -> dict[int, str]:
    """Each stamp as `format_time` writes it, each with as few decimals as it needs."""
    times = np.array(sorted(stamps), dtype=np.int64)
    kinds = np.where(times % SECOND_NS == 0, 0, np.where(times % 10**6 == 0, 1, 2))
    out: dict[int, str] = {}
    for kind in range(3):
        some = times[kinds == kind]
        out |= dict(zip(some.tolist(), (str(t) for t in format_times(some)), strict=True))
    return out


def is_calendar(every_ns: int) -> bool:
    """Whether a cadence is a day or a whole number of days, which follow the wall clock."""
    return every_ns >= DAY_S * SECOND_NS and every_ns % (DAY_S * SECOND_NS) == 0


def months_in(every: int | str) -> int:
    """How many calendar months a cadence is, 0 for one that is none."""
    if isinstance(every, str):
        return {"month": 1, "quarter": 3, "year": 12}.get(every, 0)
    return every // steps.MONTH_NS if every > 0 and every % steps.MONTH_NS == 0 else 0


def bin_starts(times: Ints, every: int | str, zone_name: str = "UTC") -> Ints:
    """(n,) UTC start of the bin of each stamp.

    every : nanoseconds, or `month` or `year`; whole mean months are calendar months. Days and longer follow the zone's wall
        clock, so that a day has 23 or 25 hours where the clocks change; weeks begin on Monday. Shorter bins divide the UTC day.
    """
    count = months_in(every)
    if isinstance(every, int) and not count and not is_calendar(every):
        return times // every * every
    local = times + utc_offsets(times, zone_name)
    day = DAY_S * SECOND_NS
    if count:
        starts = calendar.month_start(calendar.month_of(local) // count * count)
    elif isinstance(every, int):
        # 1970-01-05 was a Monday.
        anchor = 4 * day if every % (7 * day) == 0 else 0
        starts = (local - anchor) // every * every + anchor
    else:
        raise ValueError(f"bins must be nanoseconds, month or year, got {every!r}")
    distinct, inverse = np.unique(starts, return_inverse=True)
    return localise(distinct, zone_name).times[inverse]
