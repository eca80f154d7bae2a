"""Links in mail: each does one thing, for a while, without a session; only their digests are kept."""

import secrets
from datetime import timedelta

from django.conf import settings

from watchtide.server import moments
from watchtide.server.lookouts.models import Group, Link, Route
from watchtide.server.people.access import digest_of

# Logs hide what begins so.
PREFIX = "wtl_"
LASTS = timedelta(days=7)


def make(route: Route, group: Group | None = None) -> str:
    """The address of a new link: to confirm a route's address, or to give a verdict on a group."""
    text = PREFIX + secrets.token_urlsafe(24)
    Link.objects.create(digest=digest_of(text), route=route, group=group, expires_at=moments.now() + LASTS)
    return f"{settings.ADDRESS}/{'confirm' if group is None else 'verdict'}/{text}"


def find(text: str, *, is_verdict: bool) -> Link | None:
    """The link of this text, where it is of this sort and has not ended."""
    found = Link.objects.select_related("route", "group__lookout").filter(
        digest=digest_of(text), expires_at__gt=moments.now(), group__isnull=not is_verdict
    )
    return found.first()


def prune() -> int:
    """Delete the links that have ended. Returns how many."""
    return Link.objects.filter(expires_at__lte=moments.now()).delete()[0]
