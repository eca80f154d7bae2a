"""Which findings a route takes, and when: families, attributes, side, size, hours of the week, and who is on watch."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, time
from typing import Any

from watchtide.server import moments
from watchtide.server.lookouts.models import Route
from watchtide.server.problems import Problem
from watchtide.server.streams import calendars
from watchtide.server.streams.models import Calendar, Stream
from watchtide.tables import clock
from watchtide.tables.problems import TableError

SIDES = ("both", "bad", "above", "below")
# What a finding's direction is on: a step down is below.
SIDE_OF = {"above": "above", "up": "above", "below": "below", "down": "below"}
MOST_HOURS = 50


@dataclass(frozen=True)
class Hours:
    """Hours on some days of the week, 1 for Monday; closing before they open they go on into the next day."""

    days: frozenset[int]
    opens: time
    closes: time

    def holds(self, local: datetime) -> bool:
        now = local.time()
        if self.opens < self.closes:
            return local.isoweekday() in self.days and self.opens <= now < self.closes
        if now >= self.opens:
            return local.isoweekday() in self.days
        # Past midnight the watch is that of the day before.
        return now < self.closes and (local.isoweekday() - 2) % 7 + 1 in self.days


@dataclass(frozen=True)
class Takes:
    """metrics : families, empty for all. attributes : that a stream must have. sides : `bad` is the one that is bad for the stream; least : sigmas, 0 for any. hours : when, by
    the clock of `zone`, empty for always; calendar : takes only while one of its events is on, and only those with `who` in
    their name where that is stated."""

    metrics: frozenset[str] = frozenset()
    attributes: frozenset[tuple[str, str]] = frozenset()
    sides: str = "both"
    least: float = 0.0
    hours: tuple[Hours, ...] = ()
    zone: str = "UTC"
    calendar: str = ""
    who: str = ""

    @classmethod
    def of(cls, route: Route) -> "Takes":
        given = route.takes
        return cls(
            frozenset(given.get("metrics", ())),
            frozenset((str(k), str(v)) for k, v in given.get("attributes", {}).items()),
            given.get("sides", "both"),
            given.get("least") or 0.0,
            tuple(_hours(h) for h in given.get("hours", ())),
            given.get("zone", "UTC"),
            given.get("calendar", ""),
            given.get("who", ""),
        )

    @property
    def is_all(self) -> bool:
        """Whether it takes everything at any time."""
        return self == Takes(zone=self.zone)

    def takes_stream(self, stream: Stream | None) -> bool:
        if stream is None:
            return True
        own = {(str(k), str(v)) for k, v in stream.attributes}
        return (not self.metrics or stream.metric in self.metrics) and self.attributes <= own

    def takes_finding(self, finding: dict[str, Any], stream: Stream | None) -> bool:
        """Whether its side and size are those wanted; what has no side or size is taken."""
        side, wanted = SIDE_OF.get(finding["direction"]), self.sides
        if wanted == "bad":
            wanted = stream.bad_side if stream is not None else "both"
        if wanted != "both" and side is not None and side != wanted:
            return False
        return finding["score"] is None or finding["score"] >= self.least

    def is_on_watch(self, now_ns: int) -> bool:
        """Whether it is its time."""
        if self.hours:
            local = moments.local(now_ns, self.zone)
            if not any(h.holds(local) for h in self.hours):
                return False
        return not self.calendar or _has_watch(self.calendar, self.who, now_ns)


def _has_watch(name: str, who: str, now_ns: int) -> bool:
    """Whether an event of a calendar is on. One that is gone or cannot be read lets everything through: nobody is to be
    forgotten."""
    calendar = Calendar.objects.filter(name=name).first()
    if calendar is None:
        return True
    try:
        on = [d.name for d in calendars.days_of(calendar, now_ns, now_ns + 1) if d.start_ns <= now_ns]
    except TableError:
        return True
    return any(who.lower() in name.lower() for name in on)


def _hours(given: dict[str, Any]) -> Hours:
    return Hours(
        frozenset(given["days"]), time.fromisoformat(given["opens"]), time.fromisoformat(given["closes"])
    )


def checked(given: dict[str, Any]) -> dict[str, Any]:
    """What a route takes, as it is kept. Raises Problem for hours, zones and calendars that are none."""
    out = {k: v for k, v in given.items() if v not in (None, "", [], {})}
    if out.get("sides") == "both":
        del out["sides"]
    for i, hours in enumerate(out.get("hours", ())):
        place = f"takes.hours.{i}"
        if not hours["days"]:
            raise Problem(
                "no day of the week is named", place=f"{place}.days", remedy="1 is Monday, 7 Sunday"
            )
        if hours["opens"] == hours["closes"]:
            raise Problem("the hours open when they close", place=place, remedy="leave hours out for always")
    if "zone" in out:
        try:
            clock.zone(out["zone"])
        except ValueError as error:
            raise Problem(str(error), place="takes.zone", remedy="write for example Europe/Dublin") from error
    if "calendar" in out and not Calendar.objects.filter(name=out["calendar"]).exists():
        raise Problem(
            f"no calendar {out['calendar']}", place="takes.calendar", remedy="see /api/v1/calendars", code=404
        )
    return out


def taking(
    routes: Sequence[Route], stream: Stream | None, finding: dict[str, Any] | None = None
) -> list[Route]:
    """The routes that take something now: a finding, or a notice of a stream as a whole."""
    now_ns = moments.now_ns()
    found = []
    for route in routes:
        takes = Takes.of(route)
        if takes.is_all or (
            takes.takes_stream(stream)
            and (not finding or takes.takes_finding(finding, stream))
            and takes.is_on_watch(now_ns)
        ):
            found.append(route)
    return found
