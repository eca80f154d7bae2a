"""Links in mail: each does one thing, for a while, without a session; only their digests are kept."""

from datetime import timedelta

from django.conf import settings

from watchtide.server import moments
from watchtide.server.boards.models import BoardLink
from watchtide.server.lookouts.models import Group, Link, Route
from watchtide.server.people.access import LINK_PREFIX, digest_of, new_text

LASTS = timedelta(days=7)


def make(route: Route, group: Group | None = None) -> str:
    """The address of a new link: to confirm a route's address, or to give a verdict on a group."""
    text = new_text(LINK_PREFIX)
    Link.objects.create(digest=digest_of(text), route=route, group=group, expires_at=moments.now() + LASTS)
    return f"{settings.ADDRESS}/{'confirm' if group is None else 'verdict'}/{text}"


def find(text: str, *, is_verdict: bool) -> Link | None:
    """The link of this text, where it is of this sort and has not ended."""
    found = Link.objects.select_related("route", "group__lookout").filter(
        digest=digest_of(text), expires_at__gt=moments.now(), group__isnull=not is_verdict
    )
    return found.first()


def prune() -> int:
    """Delete the links that have ended, those of boards too. Returns how many."""
    now = moments.now()
    return sum(kind.objects.filter(expires_at__lte=now).delete()[0] for kind in (Link, BoardLink))
