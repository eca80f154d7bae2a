"""The trail: who did what of consequence, and when. Rows are added and, once old, dropped; none is ever changed."""

import json
from collections.abc import Iterator
from datetime import timedelta
from typing import Any

from django.conf import settings
from django.db.models.functions import Now
from django.http import HttpRequest

from watchtide.server import addresses
from watchtide.server.people.models import Deed
from watchtide.server.problems import Problem

# Failed sign-ins within this time, at which the next is refused: of a name from one address, of a name, from an address.
WITHIN = timedelta(minutes=15)
MOST_HERE, MOST_A_NAME, MOST_AN_ADDRESS = 10, 100, 50
FAILED = "sign-in failed"


def note(request: HttpRequest | Any, what: str, subject: Any = "", *, by: str | None = None) -> None:
    """Write down a deed. by : whose, where it is not the one signed in."""
    user = getattr(request, "user", None)
    own = user.get_username() if user is not None and user.is_authenticated else ""
    Deed.objects.create(
        by=(own if by is None else by)[:150],
        what=what,
        subject=str(subject)[:300],
        address=addresses.of(request)[:45],
    )


def check_sign_in(request: HttpRequest | Any, name: str) -> None:
    """Raise Problem (429) where too many sign-ins have failed lately. Counted in the database, by every process alike."""
    lately = Deed.objects.filter(what=FAILED, at__gt=Now() - WITHIN)
    address = addresses.of(request)[:45]
    own, here = lately.filter(subject=_of(name)), lately.filter(address=address)
    is_over = (
        own.filter(address=address).count() >= MOST_HERE
        or own.count() >= MOST_A_NAME
        or here.count() >= MOST_AN_ADDRESS
    )
    if is_over:
        note(request, "sign-in refused", _of(name))
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
    for deed in Deed.objects.order_by("pk").iterator(chunk_size=2_000):
        yield json.dumps(as_row(deed), ensure_ascii=False) + "\n"


def as_row(deed: Deed) -> dict[str, Any]:
    at = deed.at.isoformat().replace("+00:00", "Z")
    return {
        "id": deed.pk,
        "at": at,
        "by": deed.by,
        "what": deed.what,
        "subject": deed.subject,
        "address": deed.address,
    }


def forget_old() -> int:
    """Drop what is older than the trail is kept."""
    return Deed.objects.filter(at__lt=Now() - timedelta(days=settings.TRAIL_DAYS)).delete()[0]
