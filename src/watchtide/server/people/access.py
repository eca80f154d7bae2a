"""Who may do what: sessions for the browser, and three roles."""

from django.contrib.auth.models import AbstractBaseUser, Group
from drf_spectacular.extensions import OpenApiAuthenticationExtension
from rest_framework.authentication import SessionAuthentication
from rest_framework.permissions import SAFE_METHODS, BasePermission

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


class ByRole(BasePermission):
    """Everybody signed in may read; analysts and admins may write."""

    message = "your role may read only; ask an admin for the analyst role"

    def has_permission(self, request, view) -> bool:
        if not request.user or not request.user.is_authenticated:
            return False
        return request.method in SAFE_METHODS or role_of(request.user) in (ANALYST, ADMIN)


def give_role(user: AbstractBaseUser, role: str) -> None:
    user.groups.set([Group.objects.get_or_create(name=role)[0]])


class SessionScheme(OpenApiAuthenticationExtension):
    """How the schema tells of signing in."""

    target_class = "watchtide.server.people.access.Session"
    name = "session"

    def get_security_definition(self, auto_schema):
        return {"type": "apiKey", "in": "cookie", "name": "watchtide_session"}
