"""Sessions of browsers: listed, ended one by one, and over when they are not used."""

from datetime import timedelta
from typing import Any

from asgiref.sync import sync_to_async
from django.conf import settings
from django.contrib.auth import login
from django.contrib.auth.models import AbstractBaseUser, AnonymousUser
from django.db.models import Count, QuerySet
from django.db.models.functions import Now
from django.http import HttpRequest
from django.utils.functional import SimpleLazyObject

from watchtide.server import addresses
from watchtide.server.middleware import Around
from watchtide.server.people import trail
from watchtide.server.people.access import digest_of
from watchtide.server.people.models import SignIn

BACKEND = "django.contrib.auth.backends.ModelBackend"
# The time of the last use is kept to this, so that not every request writes.
TOUCH = timedelta(minutes=1)
# A session that is over is listed no more, and its row deleted after this.
KEPT = timedelta(days=30)


def begin(request: HttpRequest | Any, user: AbstractBaseUser) -> None:
    """Sign somebody in: Django's session, our row of it, and the entry in the trail."""
    login(request, user, backend=BACKEND)
    SignIn.objects.create(
        user=user,
        digest=digest_of(request.session.session_key),
        address=addresses.of(request)[:45],
        agent=request.headers.get("User-Agent", "")[:200],
    )
    trail.note(request, "signed in", by=user.get_username())


def current(request: HttpRequest | Any) -> SignIn | None:
    """The row of the session that a request comes with, whatever has become of it."""
    key = request.session.session_key
    # The time comes with it: both are the database's.
    found = SignIn.objects.annotate(now=Now())
    return found.filter(digest=digest_of(key)).first() if key else None


def open_ones(user: AbstractBaseUser) -> QuerySet[SignIn]:
    """Sessions by which somebody is signed in, the last used first."""
    idle = timedelta(minutes=settings.SESSION_IDLE_MINUTES)
    found = SignIn.objects.filter(user=user, ended_at=None, last_seen_at__gt=Now() - idle)
    return found.order_by("-last_seen_at")


def counts(users: list[int]) -> dict[int, int]:
    """Open sessions by number of account."""
    idle = timedelta(minutes=settings.SESSION_IDLE_MINUTES)
    found = SignIn.objects.filter(user__in=users, ended_at=None, last_seen_at__gt=Now() - idle)
    return dict(found.order_by().values_list("user").annotate(n=Count("pk")))


def end(found: QuerySet[SignIn]) -> int:
    """End sessions at once. Returns how many."""
    return found.filter(ended_at=None).update(ended_at=Now())


def forget_old() -> int:
    """Delete rows of sessions that were over long ago, and Django's own that have run out."""
    from django.contrib.sessions.models import Session

    Session.objects.filter(expire_date__lt=Now()).delete()
    return SignIn.objects.filter(last_seen_at__lt=Now() - KEPT).delete()[0]


def _checked(request: HttpRequest, user: Any) -> Any:
    """The person of a session, or nobody where it was ended or not used for too long."""
    if not user.is_authenticated:
        return user
    row = current(request)
    if row is None or row.ended_at is not None:
        return AnonymousUser()
    now = row.now
    if now - row.last_seen_at > timedelta(minutes=settings.SESSION_IDLE_MINUTES):
        SignIn.objects.filter(pk=row.pk).update(ended_at=now)
        return AnonymousUser()
    if now - row.last_seen_at > TOUCH:
        SignIn.objects.filter(pk=row.pk).update(last_seen_at=now, address=addresses.of(request)[:45])
    return user


class OpenSessions(Around):
    """Behind Django's authentication: nobody is signed in by a session that is over."""

    def before(self, request: HttpRequest) -> None:
        found = request.user
        request.user = SimpleLazyObject(lambda: _checked(request, found))  # type: ignore[assignment]

        async def auser() -> Any:
            # Evaluated in a thread: it reads the database.
            return await sync_to_async(lambda: _checked(request, found))()

        request.auser = auser  # type: ignore[method-assign]
