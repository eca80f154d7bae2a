"""iCalendar files: events with recurrence and zones, as spans of UTC time."""

from dataclasses import dataclass
from datetime import UTC, date, datetime, time, timedelta
from itertools import islice
from typing import TYPE_CHECKING, Any
from zoneinfo import ZoneInfo

from watchtide.core.series import SECOND_NS
from watchtide.tables import clock
from watchtide.tables.problems import TableError

if TYPE_CHECKING:
    import icalendar

MOST_BYTES = 4 << 20
MOST_EVENTS = 20_000
MOST_DAYS = 20 * 366
# A caller may round a span of that length outwards, to remember it for the next one.
SLACK_DAYS = 184


@dataclass(frozen=True)
class Day:
    """One event, or one occurrence of a recurring one. The span is half-open: `stop_ns` is the first moment after it."""

    start_ns: int
    stop_ns: int
    name: str
    is_all_day: bool
    place: str = ""


def read(data: bytes, name: str = "calendar") -> "icalendar.Calendar":
    """The calendar of a file. Raises TableError for one that is none, or too large."""
    # Few commands meet a calendar: the others need not wait for its reader.
    import icalendar

    if len(data) > MOST_BYTES:
        raise TableError(name, "", f"larger than {MOST_BYTES >> 20} MB", "leave out what is long past")
    try:
        found = icalendar.Calendar.from_ical(data.decode("utf-8-sig"))
    except UnicodeDecodeError as error:
        raise TableError(name, "", "not UTF-8 text", "iCalendar files are UTF-8") from error
    except (ValueError, IndexError, KeyError, TypeError) as error:
        raise TableError(
            name, _line(data), f"is no iCalendar file ({str(error)[:120]})", "export it anew"
        ) from error
    if not isinstance(found, icalendar.Calendar):
        raise TableError(
            name, "line 1", "begins with no calendar", "give a file that begins with BEGIN:VCALENDAR"
        )
    return found


def _line(data: bytes) -> str:
    for i, line in enumerate(data.decode("utf-8", "replace").splitlines(), 1):
        if line.strip() and ":" not in line and not line.startswith((" ", "\t")):
            return f"line {i}"
    return ""


def days(
    calendar: "icalendar.Calendar", first_ns: int, last_ns: int, zone: str = "UTC", *, name: str = "calendar"
) -> list[Day]:
    """Occurrences that touch a closed span, in order; recurring ones are written out.

    zone : of dates and of stamps that state none. A day is the local one, of 23 to 25 hours. Raises TableError where
    more than 20,000 occurrences fall into the span, and for rules that cannot be read.
    """
    import recurring_ical_events

    if last_ns - first_ns > (MOST_DAYS + SLACK_DAYS) * 86_400 * SECOND_NS:
        raise too_long(name)
    rules = clock.zone(zone)
    # A day more on each side: dates have no zone, and a local day may begin before its UTC one.
    start = datetime.fromtimestamp(first_ns // SECOND_NS, UTC) - timedelta(days=1)
    stop = datetime.fromtimestamp(last_ns // SECOND_NS, UTC) + timedelta(days=2)
    out = []
    try:
        _refuse_bombs(calendar, name)
        found = recurring_ical_events.of(calendar, skip_bad_series=False).between(start, stop)
        for event in islice(found, MOST_EVENTS + 1):
            out.append(_day(event, rules))
    except TableError:
        raise
    except (ValueError, KeyError, TypeError, AttributeError, OverflowError) as error:
        raise TableError(
            name, "", f"an event cannot be read ({str(error)[:120]})", "export the calendar anew"
        ) from error
    if len(out) > MOST_EVENTS:
        raise TableError(name, "", f"more than {MOST_EVENTS:,} occurrences", "ask for a shorter span")
    inside = [d for d in out if d.stop_ns > first_ns and d.start_ns <= last_ns]
    return sorted(inside, key=lambda d: (d.start_ns, d.stop_ns, d.name))


def too_long(name: str) -> TableError:
    return TableError(name, "", "a span of more than 20 years", "choose a shorter one")


def _refuse_bombs(calendar: "icalendar.Calendar", name: str) -> None:
    """Refuse rules that repeat more than hourly: no day is known that way."""
    for event in calendar.walk("VEVENT"):
        rule = event.get("RRULE")
        rules = rule if isinstance(rule, list) else [rule] if rule else []
        for one in rules:
            frequency = str((one.get("FREQ") or [""])[0]).upper()
            times = _times_a_day(one, frequency)
            if times > 24:
                what = str(event.get("SUMMARY", "an event"))[:60]
                often = (
                    frequency.lower() if frequency in ("SECONDLY", "MINUTELY") else f"{times:,} times a day"
                )
                raise TableError(name, what, f"repeats {often}", "known days repeat hourly at most")


def _times_a_day(rule: Any, frequency: str) -> int:
    """How often at most a rule of RFC 5545 (3.3.10) makes an event begin within one day.

    Parts finer than the frequency multiply; hours, minutes and seconds that are not stated are those of DTSTART.
    """
    counts = {part: len(rule.get(part) or [None]) for part in ("BYHOUR", "BYMINUTE", "BYSECOND")}
    if frequency == "SECONDLY":
        return 86_400
    if frequency == "MINUTELY":
        return 1_440 * counts["BYSECOND"]
    of_an_hour = counts["BYMINUTE"] * counts["BYSECOND"]
    return (24 if frequency == "HOURLY" else counts["BYHOUR"]) * of_an_hour


def _day(event: "icalendar.Event", rules: ZoneInfo) -> Day:
    start = event.get("DTSTART").dt
    is_all_day = isinstance(start, date) and not isinstance(start, datetime)
    end = event.get("DTEND")
    if end is not None:
        stop = end.dt
    elif event.get("DURATION") is not None:
        stop = start + event.get("DURATION").dt
    else:
        stop = start + timedelta(days=1) if is_all_day else start
    text = str(event.get("SUMMARY", "")).strip() or "without a name"
    return Day(
        _ns(start, rules), _ns(stop, rules), text[:200], is_all_day, str(event.get("LOCATION", ""))[:200]
    )


def _ns(moment: date | datetime, rules: ZoneInfo) -> int:
    if not isinstance(moment, datetime):
        moment = datetime.combine(moment, time(), rules)
    elif moment.tzinfo is None:
        moment = moment.replace(tzinfo=rules)
    seconds = int(moment.astimezone(UTC).replace(microsecond=0).timestamp())
    return seconds * SECOND_NS + moment.microsecond * 1_000
