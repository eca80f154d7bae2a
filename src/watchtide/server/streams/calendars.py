"""Calendars kept on the server: known days for plans, charts and explanations."""

import hashlib
from datetime import timedelta
from functools import lru_cache
from typing import Any

from django.db import transaction

from watchtide.core.series import SECOND_NS
from watchtide.server import moments
from watchtide.server.jobs import services as jobs
from watchtide.server.streams.models import Calendar
from watchtide.tables import calendars, clock


@transaction.atomic
def keep(name: str, data: bytes, zone: str, user: Any) -> tuple[Calendar, bool]:
    """Keep a calendar under a name, in place of what had it. (calendar, whether it is new or changed)."""
    clock.zone(zone)
    read = calendars.read(data, name)
    now = int(moments.now().timestamp()) * SECOND_NS
    year = int(timedelta(days=366).total_seconds()) * SECOND_NS
    # Written out once, so that a rule that cannot be read is refused now and not on somebody's chart.
    calendars.days(read, now - 2 * year, now + 2 * year, zone, name=name)
    sha = hashlib.sha256(data).hexdigest()
    known = Calendar.objects.filter(name=name).first()
    if known is not None and known.sha == sha and known.zone == zone:
        return known, False
    kept, _ = Calendar.objects.update_or_create(
        name=name,
        defaults={
            "payload": data,
            "sha": sha,
            "zone": zone,
            "events": len(read.walk("VEVENT")),
            "created_by": user,
        },
    )
    jobs.tell("calendar", kept.pk)
    return kept, True


@lru_cache(maxsize=16)
def _read(payload: bytes, name: str) -> Any:
    """A calendar's text read once: a scan asks for its days for every stream."""
    return calendars.read(payload, name)


def days_of(calendar: Calendar, first_ns: int, last_ns: int) -> list[calendars.Day]:
    """Occurrences of a kept calendar within a span."""
    read = _read(bytes(calendar.payload), calendar.name)
    return calendars.days(read, first_ns, last_ns, calendar.zone, name=calendar.name)
