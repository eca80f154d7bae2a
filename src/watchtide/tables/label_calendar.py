"""Labels as iCalendar events and back: our own fields travel as X- properties, so that nothing is lost."""

from datetime import UTC, datetime, timedelta
from typing import Any
from urllib.parse import quote, unquote

import icalendar

from watchtide.core.scoring.rows import Label
from watchtide.core.series import SECOND_NS
from watchtide.tables import calendars, clock
from watchtide.tables.problems import TableError

OWN = "X-WATCHTIDE-"
FIELDS = ("series", "verdict", "kind", "cause", "note", "author", "origin", "stratum", "probability")
# Characters that every program leaves alone in a property; others travel percent-encoded.
PLAIN = " -_.!()/=+*'@#&"
# Recurring events of other programs are written out so far past their beginning.
REACH_NS = 2 * 366 * 86_400 * SECOND_NS


def to_calendar(rows: list[dict[str, Any]], labels: list[Label]) -> str:
    """An iCalendar file of labels; rows as tables.labels.as_rows has them, one a label.

    An event ends where the next moment begins; the exact closed span stands beside it.
    """
    out = icalendar.Calendar()
    out.add("prodid", "-//Watch Tide//labels 1//EN")
    out.add("version", "2.0")
    for i, (row, label) in enumerate(zip(rows, labels, strict=True)):
        event = icalendar.Event()
        event.add("uid", f"{i}-{label.start}-{label.end}@watchtide")
        event.add("dtstamp", datetime(2026, 1, 1, tzinfo=UTC))
        event.add("dtstart", _second(label.start))
        event.add("dtend", max(_second(label.end), _second(label.start)) + timedelta(seconds=1))
        words = [label.verdict, label.kind, label.cause]
        event.add("summary", ", ".join(w for w in words if w))
        if label.note:
            event.add("description", label.note.replace("\r", ""))
        event.add(f"{OWN}START", row["start"])
        event.add(f"{OWN}END", row["end"])
        for field in FIELDS:
            if row[field] != "":
                event.add(f"{OWN}{field.upper()}", quote(str(row[field]), safe=PLAIN))
        out.add_component(event)
    return str(out.to_ical().decode())


def _second(ns: int) -> datetime:
    return datetime.fromtimestamp(ns // SECOND_NS, UTC)


def rows_of(data: bytes, name: str, zone: str = "UTC") -> list[tuple[int, dict[str, Any]]]:
    """Plain rows of an iCalendar file, numbered by event; events of other programs become spans with a note.

    An event of ours that another program has moved takes its new place. Recurring events are written out over two years.
    """
    calendar = calendars.read(data, name)
    rows: list[tuple[int, dict[str, Any]]] = []
    foreign = icalendar.Calendar()
    for i, event in enumerate(calendar.walk("VEVENT"), start=1):
        if f"{OWN}START" not in event or "RRULE" in event:
            foreign.add_component(event)
            continue
        row: dict[str, Any] = {f: unquote(str(event.get(f"{OWN}{f.upper()}", ""))) for f in FIELDS}
        row["start"], row["end"] = str(event[f"{OWN}START"]), str(event.get(f"{OWN}END", ""))
        begin = event.decoded("dtstart", None)
        if (
            isinstance(begin, datetime)
            and begin.tzinfo is not None
            and int(begin.timestamp()) != clock.parse_one(row["start"]) // SECOND_NS
        ):
            end = event.decoded("dtend", begin + timedelta(seconds=1))
            row["start"] = clock.format_time(int(begin.timestamp()) * SECOND_NS)
            row["end"] = clock.format_time(int((end - timedelta(seconds=1)).timestamp()) * SECOND_NS)
        rows.append((i, row))
    for zone_part in calendar.walk("VTIMEZONE"):
        foreign.add_component(zone_part)
    events = foreign.walk("VEVENT")
    if events:
        first = min(_first_moment(e, name) for e in events)
        days = calendars.days(
            foreign,
            first - SECOND_NS,
            max(_first_moment(e, name) for e in events) + REACH_NS,
            zone,
            name=name,
        )
        for day in days:
            stop = max(day.stop_ns - 1, day.start_ns)
            rows.append(
                (
                    len(rows) + 1,
                    {
                        "start": clock.format_time(day.start_ns),
                        "end": clock.format_time(stop),
                        "verdict": "unsure",
                        "note": day.name,
                    },
                )
            )
    return rows


def _first_moment(event: Any, name: str) -> int:
    begin = event.decoded("dtstart", None)
    if begin is None:
        raise TableError(name, "an event", "has no DTSTART", "every event needs one")
    moment = begin if isinstance(begin, datetime) else datetime(begin.year, begin.month, begin.day)
    if moment.tzinfo is None:
        moment = moment.replace(tzinfo=UTC) - timedelta(days=1)
    return int(moment.timestamp()) * SECOND_NS
