"""Calendars written out in a separate process, which is ended when it takes too long.

A few lines of iCalendar can ask for years of work: a rule whose conditions never meet is searched to the year 9999.
`python -m watchtide.tables.expansion` reads one JSON line, then the calendar, and answers with one JSON line.
"""

import json
import resource
import subprocess
import sys
from dataclasses import astuple, dataclass
from typing import Any

from watchtide.tables import calendars, label_calendar
from watchtide.tables.calendars import Day
from watchtide.tables.problems import TableError

# Of the processor: a busy machine makes a calendar slow, not large.
MOST_SECONDS = 10
MOST_WAIT_S = 60
MOST_MEMORY = 1 << 30


@dataclass(frozen=True)
class Expansion:
    """events : as written in the file; days : their occurrences within the span."""

    events: int
    days: list[Day]


def expand(data: bytes, first_ns: int, last_ns: int, zone: str, *, name: str = "calendar") -> Expansion:
    """Read a calendar and write out what touches a closed span, as `calendars.days`, in at most ten seconds of processor time.

    Raises TableError as `calendars.read` and `calendars.days` do, and where it takes too long or too much memory.
    """
    answer = _apart(data, {"first_ns": first_ns, "last_ns": last_ns, "zone": zone, "name": name})
    return Expansion(answer["events"], [Day(*row) for row in answer["days"]])


def label_rows(data: bytes, name: str, zone: str) -> list[tuple[int, dict[str, Any]]]:
    """`label_calendar.rows_of`, within the same limits. Raises TableError as `expand`."""
    return [(i, row) for i, row in _apart(data, {"zone": zone, "name": name})["rows"]]


def _apart(data: bytes, stated: dict[str, Any]) -> dict[str, Any]:
    name = stated["name"]
    if len(data) > calendars.MOST_BYTES:
        raise TableError(
            name, "", f"larger than {calendars.MOST_BYTES >> 20} MB", "leave out what is long past"
        )
    try:
        done = subprocess.run(
            [sys.executable, "-m", "watchtide.tables.expansion"],
            input=json.dumps(stated | {"seconds": MOST_SECONDS}).encode() + b"\n" + data,
            capture_output=True,
            timeout=MOST_WAIT_S,
        )
    except subprocess.TimeoutExpired:
        done = None
    if done is None or done.returncode != 0:
        raise TableError(
            name, "", f"cannot be written out within {MOST_SECONDS} s and {MOST_MEMORY >> 30} GB",
            "leave out rules that repeat very often, and those whose conditions never meet",
        )  # fmt: skip
    answer: dict[str, Any] = json.loads(done.stdout)
    if "problem" in answer:
        raise TableError(*answer["problem"])
    return answer


def main() -> None:
    stated = json.loads(sys.stdin.buffer.readline())
    resource.setrlimit(resource.RLIMIT_CPU, (stated["seconds"], stated["seconds"]))
    resource.setrlimit(resource.RLIMIT_AS, (MOST_MEMORY, MOST_MEMORY))
    data, name, zone = sys.stdin.buffer.read(), stated["name"], stated["zone"]
    answer: dict[str, Any]
    try:
        if "first_ns" in stated:
            read = calendars.read(data, name)
            found = calendars.days(read, stated["first_ns"], stated["last_ns"], zone, name=name)
            answer = {"events": len(read.walk("VEVENT")), "days": [astuple(day) for day in found]}
        else:
            answer = {"rows": label_calendar.rows_of(data, name, zone)}
    except TableError as error:
        answer = {"problem": [error.file, error.place, error.message, error.remedy]}
    json.dump(answer, sys.stdout)


if __name__ == "__main__":
    main()
