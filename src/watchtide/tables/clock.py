"""Time stamps of every kind to nanoseconds in UTC, and local time with its zone's rules."""

from dataclasses import dataclass
from datetime import datetime
from functools import lru_cache
from typing import Any
from zoneinfo import ZoneInfo, available_timezones

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from watchtide.core.series import SECOND_NS, Bools, Ints

DAY_S = 86_400
# Stamps outside these years are slips: nothing is measured there, and nanoseconds end in 2262.
EARLIEST_NS = -2_208_988_800 * SECOND_NS
LATEST_NS = 7_258_118_400 * SECOND_NS

_DATE = r"\d{4}-\d{2}-\d{2}"
_CLOCK = r"\d{2}:\d{2}(:\d{2}([.,]\d{1,9})?)?"
FORMS = {
    "iso with offset": rf"^{_DATE}[T ]{_CLOCK} ?(Z|z|[+-]\d{{2}}:?(\d{{2}})?)$",
    "iso local": rf"^{_DATE}[T ]{_CLOCK}$",
    "date": rf"^{_DATE}$",
    "epoch": r"^-?\d{9,19}(\.\d{1,9})?$",
}


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


@dataclass(frozen=True)
class Localised:
    """UTC stamps of local ones; masks of those in a repeated and in a skipped hour."""

    times: Ints
    repeated: Bools
    skipped: Bools


def localise(local: Ints, name: str, series: Ints | None = None) -> Localised:
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
        second = _second_pass(local, repeated, np.zeros(len(local), np.int64) if series is None else series)
        utc[second] = later[second]
    return Localised(utc, repeated, skipped)


def _second_pass(local: Ints, repeated: Bools, series: Ints) -> Bools:
    """Rows of a repeated hour that come after their stream's clock went back."""
    second = np.zeros(len(local), np.bool_)
    rows = np.flatnonzero(repeated)
    last: dict[tuple[int, int], int] = {}
    gone_back: set[tuple[int, int]] = set()
    for row in rows:
        key = (int(series[row]), int(local[row] // (DAY_S * SECOND_NS)))
        stamp = int(local[row])
        if key in last and stamp <= last[key]:
            gone_back.add(key)
        last[key] = stamp
        second[row] = key in gone_back
    return second


@dataclass(frozen=True)
class Parsed:
    """Stamps of a column. times (n,) ns, local or UTC as `is_local` says; bad : rows that are none;
    form : the kind of stamp; other : rows in another kind of stamp than the column's."""

    times: Ints
    bad: Bools
    other: Bools
    form: str
    is_local: bool


def parse(column: pa.Array) -> Parsed:
    """Read a column of stamps: text of one kind, numbers since 1970, or timestamps.

    The kind of the most rows is the column's; rows of another kind are marked `other` and bad.
    """
    if pa.types.is_timestamp(column.type):
        has_zone = column.type.tz is not None
        exact = column.cast(pa.timestamp("ns", column.type.tz), safe=False)
        bad = np.asarray(column.is_null())
        times = np.asarray(exact.fill_null(0).cast(pa.int64()))
        return Parsed(times, bad, np.zeros(len(bad), np.bool_), "timestamp", not has_zone)
    if pa.types.is_date(column.type):
        bad = np.asarray(column.is_null())
        days = column.cast(pa.date32()).cast(pa.int32()).fill_null(0)
        return Parsed(
            np.asarray(days, np.int64) * DAY_S * SECOND_NS, bad, np.zeros(len(bad), np.bool_), "date", True
        )
    if not pa.types.is_string(column.type) and not pa.types.is_large_string(column.type):
        column = column.cast(pa.string())
    text = pc.utf8_trim_whitespace(column)
    masks = {
        form: np.asarray(pc.fill_null(pc.match_substring_regex(text, p), False)) for form, p in FORMS.items()
    }
    form = max(masks, key=lambda name: int(masks[name].sum()))
    mask = masks[form]
    # A date among local stamps is its midnight; both are one kind.
    if form in ("iso local", "date"):
        mask = masks["iso local"] | masks["date"]
    other = np.zeros(len(mask), np.bool_)
    for name, found in masks.items():
        if name != form:
            other |= found & ~mask
    times = np.zeros(len(mask), np.int64)
    bad = ~mask
    if mask.any():
        good = text.filter(pa.array(mask))
        times[mask], wrong = _epochs(good) if form == "epoch" else _stamps(good, form)
        bad[np.flatnonzero(mask)[wrong]] = True
    bad |= (times < EARLIEST_NS) | (times > LATEST_NS)
    return Parsed(times, bad, other, form, form in ("iso local", "date"))


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


def _epochs(text: pa.Array) -> tuple[Ints, Bools]:
    """Seconds, milli-, micro- or nanoseconds by their size; seconds may have decimals."""
    whole = pc.replace_substring_regex(text, r"\..*$", "").cast(pa.int64())
    part = pc.utf8_rpad(pc.replace_substring_regex(text, r"^[^.]*\.?", ""), 9, "0").cast(pa.int64())
    numbers, parts = np.asarray(whole), np.asarray(part)
    size = np.median(np.abs(numbers))
    scale = SECOND_NS if size < 1e11 else 10**6 if size < 1e14 else 10**3 if size < 1e17 else 1
    fits = np.abs(numbers) <= np.iinfo(np.int64).max // scale
    return np.where(fits, numbers, 0) * scale + parts * scale // SECOND_NS, ~fits


def parse_one(text: str, zone_name: str = "UTC") -> int:
    """One stamp in any of the forms, or `ClockError`; a local one is read in the zone."""
    parsed = parse(pa.array([text]))
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
    return str(format_times(np.array([ns], dtype=np.int64))[0])
