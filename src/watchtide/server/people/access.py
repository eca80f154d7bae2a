"""Who may do what: sessions for the browser, tokens with scopes for scripts, and three roles."""

import hashlib
import secrets
from datetime import datetime, timedelta
from typing import Any

from django.contrib.auth.models import AbstractBaseUser, Group
from django.db.models import Q
from django.db.models.functions import Now
from drf_spectacular.extensions import OpenApiAuthenticationExtension
from rest_framework.authentication import BaseAuthentication, SessionAuthentication
from rest_framework.exceptions import AuthenticationFailed
from rest_framework.permissions import SAFE_METHODS, BasePermission

from watchtide.server.people.models import Token

# Of tokens, and of links that need no session.
PREFIX, LINK_PREFIX = "wt_", "wtl_"

VIEWER, ANALYST, ADMIN = "viewer", "analyst", "admin"


class Session(SessionAuthentication):
    """Django's session; a missing one answers 401, so that the page knows to ask for sign-in."""

    def authenticate_header(self, request) -> str:
        return "Session"


def role_of(user: AbstractBaseUser) -> str:
    if user.is_superuser:
        return ADMIN
    names = {group.name for group in user.groups.all()}
    return ADMIN if ADMIN in names else ANALYST if ANALYST in names else VIEWER


def make_token(
    user: AbstractBaseUser, name: str, scopes: list[str], expires_at: datetime | None = None
) -> tuple[Token, str]:
    """A new token, and its text, which is not kept and cannot be shown again."""
    text = new_text(PREFIX)
    token = Token.objects.create(
        name=name, digest=digest_of(text), hint=text[:9], scopes=scopes, owner=user, expires_at=expires_at
    )
    return token, text


def new_text(prefix: str) -> str:
    """A token or the secret part of a link, new and not to be guessed. prefix : by which logs know what to hide."""
    return prefix + secrets.token_urlsafe(32)


def digest_of(text: str) -> str:
    """What is kept of a token, a link or a session's key. They are random and long: one pass of SHA-256 leaves nothing to guess."""
    return hashlib.sha256(text.encode()).hexdigest()


class Bearer(BaseAuthentication):
    """`Authorization: Bearer wt_…`: the owner's rights, as far as the token's scopes go."""

    def authenticate(self, request) -> tuple[Any, Token] | None:
        text = self.text_of(request)
        if text is None:
            return None
        found = Token.objects.select_related("owner").filter(digest=digest_of(text.strip()), revoked_at=None)
        token = found.filter(Q(expires_at=None) | Q(expires_at__gt=Now())).annotate(now=Now()).first()
        if token is None or not token.owner.is_active:
            raise AuthenticationFailed(
                "the token is not known, has expired or was revoked; make a new one in Settings"
            )
        if token.last_used_at is None or token.now - token.last_used_at > timedelta(minutes=1):
            Token.objects.filter(pk=token.pk).update(last_used_at=token.now)
        return token.owner, token

    def text_of(self, request) -> str | None:
        """The token that a request brings, None where it brings none."""
        kind, _, text = request.headers.get("Authorization", "").partition(" ")
        return text if kind.lower() == "bearer" else None

    def authenticate_header(self, request) -> str:
        return "Bearer"


class InAddress(Bearer):
    """`?token=wt_…`, for feed readers, which send no headers. Only for what may do no more than read one feed."""

    def text_of(self, request) -> str | None:
        return request.GET.get("token")


class ByRole(BasePermission):
    """Everybody signed in may read, and write what is their own; analysts and admins may write the rest.

    A token also needs the scope for it. What is a person's own is said by the view's `is_personal`, and what only an admin may
    do by its `admin_methods`.
    """

    message = "your role may read only; ask an admin for the analyst role"

    def has_permission(self, request, view) -> bool:
        if not request.user or not request.user.is_authenticated:
            return False
        if isinstance(request.auth, Token):
            scope = getattr(view, "token_scope", "read" if request.method in SAFE_METHODS else "write")
            if scope not in request.auth.scopes:
                self.message = f"the token lacks the scope {scope}; make one that has it"
                return False
        if request.method in SAFE_METHODS or getattr(view, "is_personal", False):
            return True
        if request.method in getattr(view, "admin_methods", ()) and role_of(request.user) == ANALYST:
            self.message = "only an admin may delete this for good; ask one"
            return False
        return role_of(request.user) in (ANALYST, ADMIN)


def may_read(request: Any) -> bool:
    """Whether a request that is no API's comes with a session, or a token that may read."""
    if request.user.is_authenticated:
        return True
    try:
        found = Bearer().authenticate(request)
    except AuthenticationFailed:
        return False
    return found is not None and "read" in found[1].scopes


def give_role(user: AbstractBaseUser, role: str) -> None:
    user.groups.set([Group.objects.get_or_create(name=role)[0]])


class SessionScheme(OpenApiAuthenticationExtension):
    """How the schema tells of signing in."""

    target_class = "watchtide.server.people.access.Session"
    name = "session"

    def get_security_definition(self, auto_schema):
        return {"type": "apiKey", "in": "cookie", "name": "watchtide_session"}


class BearerScheme(OpenApiAuthenticationExtension):
    """How the schema tells of tokens."""

    target_class = "watchtide.server.people.access.Bearer"
    name = "token"

    def get_security_definition(self, auto_schema):
        return {"type": "http", "scheme": "bearer"}


class InAddressScheme(OpenApiAuthenticationExtension):
    """How the schema describes tokens in an address."""

    target_class = "watchtide.server.people.access.InAddress"
    name = "token_in_address"

    def get_security_definition(self, auto_schema):
        return {"type": "apiKey", "in": "query", "name": "token"}
