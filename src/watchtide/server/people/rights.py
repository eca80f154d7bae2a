"""What only people may do, and what only admins may: for views whose rule is finer than a role."""

from typing import Any

from watchtide.server.people.access import ADMIN, role_of
from watchtide.server.people.models import Token
from watchtide.server.problems import Problem


def only_people(request: Any) -> None:
    """Raise Problem (403) for a token: one that leaks must not breed others, nor look after accounts."""
    if isinstance(request.auth, Token):
        raise Problem("this is done by signing in", place="Authorization", remedy="use the page", code=403)


def only_admins(request: Any) -> None:
    """Raise Problem (403) for whoever is no admin, and for tokens."""
    only_people(request)
    if role_of(request.user) != ADMIN:
        raise Problem("only an admin may do this", place="role", remedy="request it from an admin", code=403)
