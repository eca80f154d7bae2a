"""Calendars kept on the server: known days for plans, charts and explanations."""

import hashlib
from datetime import timedelta
from functools import lru_cache
from typing import Any

from django.db import transaction
from django.db.models.functions import Now

from watchtide.core.series import SECOND_NS
from watchtide.server import moments
from watchtide.server.jobs import services as jobs
from watchtide.server.streams.models import Calendar
from watchtide.tables import calendars, clock, expansion

DAY_NS = 86_400 * SECOND_NS
QUARTER_NS = 91 * DAY_NS


def keep(name: str, data: bytes, zone: str, user: Any) -> tuple[Calendar, bool]:
    """Keep a calendar under a name, in place of what had it. (calendar, whether it is new or changed)."""
    clock.zone(zone)
    sha = hashlib.sha256(data).hexdigest()
    known = Calendar.objects.filter(name=name).first()
    if known is not None and known.sha == sha and known.zone == zone:
        return known, False
    now = moments.now_ns()
    year = int(timedelta(days=366).total_seconds()) * SECOND_NS
    # Written out once, so that a rule that cannot be read is refused now and not on somebody's chart. Outside the
    # transaction: it may take ten seconds.
    written = expansion.expand(data, now - 2 * year, now + 2 * year, zone, name=name)
    facts = {"payload": data, "sha": sha, "zone": zone, "events": written.events, "created_by": user}
    with transaction.atomic():
        kept, _ = Calendar.objects.update_or_create(name=name, defaults={**facts, "updated_at": Now()})
        jobs.tell("calendar", kept.pk)
    kept.refresh_from_db()
    return kept, True


@lru_cache(maxsize=256)
def _written(payload: bytes, first: int, last: int, zone: str, name: str) -> list[calendars.Day]:
    """A calendar written out over whole quarters: a scan reads the days of every stream."""
    return expansion.expand(payload, first * QUARTER_NS, (last + 1) * QUARTER_NS - 1, zone, name=name).days


def days_of(calendar: Calendar, first_ns: int, last_ns: int) -> list[calendars.Day]:
    """Occurrences of a kept calendar within a closed span. Raises TableError as `expansion.expand` does."""
    if last_ns - first_ns > calendars.MOST_DAYS * DAY_NS:
        raise calendars.too_long(calendar.name)
    first, last = first_ns // QUARTER_NS, last_ns // QUARTER_NS
    days = _written(bytes(calendar.payload), first, last, calendar.zone, calendar.name)
    return [d for d in days if d.stop_ns > first_ns and d.start_ns <= last_ns]
