"""The audit trail: sign-ins, tokens, deletions and other actions that must be accounted for. Entries are added and, once old,
deleted; none is changed."""

import json
from collections.abc import Iterator
from datetime import timedelta
from typing import Any, TypedDict

from django.conf import settings
from django.db.models.functions import Now
from django.http import HttpRequest

from watchtide.server import addresses
from watchtide.server.people.models import AuditEntry
from watchtide.server.problems import Problem

# Failed sign-ins within this time from which the next is refused: of a name from one address, of a name, from an address.
WITHIN = timedelta(minutes=15)
MOST_HERE, MOST_A_NAME, MOST_AN_ADDRESS = 10, 100, 50
FAILED, REFUSED = "sign-in failed", "sign-in refused"


class Who(TypedDict):
    """Whom an entry names: the account, and the address it came from."""

    by: str
    address: str


def note(request: HttpRequest | Any, what: str, subject: Any = "", *, by: str | None = None) -> None:
    """Add an entry. by : the account, None for the one signed in. Call it in the transaction of what it records."""
    who = of(request)
    add(what, subject, who["by"] if by is None else by, who["address"])


def of(request: HttpRequest | Any) -> Who:
    """Who and where a request comes from, for a job that does what was requested."""
    user = getattr(request, "user", None)
    own = user.get_username() if user is not None and user.is_authenticated else ""
    return Who(by=own[:150], address=addresses.of(request)[:45])


def add(what: str, subject: Any, by: str, address: str) -> None:
    AuditEntry.objects.create(by=by[:150], what=what, subject=str(subject)[:300], address=address)


def check_sign_in(request: HttpRequest | Any, name: str) -> None:
    """Raise Problem (429) after too many failed sign-ins. They are counted in the database, for all processes together."""
    recent = AuditEntry.objects.filter(what=FAILED, at__gt=Now() - WITHIN)
    address = addresses.of(request)[:45]
    own, here = recent.filter(subject=_of(name)), recent.filter(address=address)
    is_over = (
        own.filter(address=address).count() >= MOST_HERE
        or own.count() >= MOST_A_NAME
        or here.count() >= MOST_AN_ADDRESS
    )
    if is_over:
        # One entry a minute and address: strangers must not fill the trail.
        if not AuditEntry.objects.filter(
            what=REFUSED, address=address, at__gt=Now() - timedelta(minutes=1)
        ).exists():
            note(request, REFUSED, _of(name))
        minutes = int(WITHIN.total_seconds() // 60)
        raise Problem(
            "too many sign-ins have failed",
            place="password",
            remedy=f"wait {minutes} minutes, or have an admin set a new password",
            code=429,
            retry_after=int(WITHIN.total_seconds()),
        )


def failed(request: HttpRequest | Any, name: str) -> None:
    note(request, FAILED, _of(name))


def _of(name: str) -> str:
    return name.strip().lower()[:150]


def as_lines() -> Iterator[str]:
    """The whole trail as JSON Lines, oldest first."""
    for entry in AuditEntry.objects.order_by("pk").iterator(chunk_size=2_000):
        yield json.dumps(as_row(entry), ensure_ascii=False) + "\n"


def as_row(entry: AuditEntry) -> dict[str, Any]:
    at = entry.at.isoformat().replace("+00:00", "Z")
    return {
        "id": entry.pk,
        "at": at,
        "by": entry.by,
        "what": entry.what,
        "subject": entry.subject,
        "address": entry.address,
    }


def forget_old() -> int:
    """Drop what is older than the trail is kept."""
    return AuditEntry.objects.filter(at__lt=Now() - timedelta(days=settings.TRAIL_DAYS)).delete()[0]
