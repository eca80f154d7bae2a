"""What may be done with accounts: invite, change roles, disable, set passwords. One transaction each, noted in the trail."""

from datetime import timedelta
from typing import Any

from django.conf import settings
from django.contrib.auth import update_session_auth_hash
from django.contrib.auth.models import User
from django.contrib.auth.password_validation import validate_password
from django.core.exceptions import ValidationError
from django.db import transaction
from django.db.models.functions import Lower, Now

from watchtide.server import moments
from watchtide.server.people import sessions, trail
from watchtide.server.people.access import ADMIN, LINK_PREFIX, digest_of, give_role, new_text, role_of
from watchtide.server.people.models import AccountLink, Person, SignIn
from watchtide.server.people.trail import Who
from watchtide.server.problems import Problem


@transaction.atomic
def invite(who: Who, name: str, full_name: str, role: str) -> tuple[User, str]:
    """Make an account that nobody can use yet, and the link by which its owner sets a password. (account, link's text)"""
    # Names are compared byte by byte in the database; two that differ in case only would be mistaken for each other.
    if User.objects.annotate(low=Lower("username")).filter(low=name.lower()).exists():
        raise Problem(
            f"there is an account {name}", place="name", remedy="choose another name, or send that one a new link", code=409
        )  # fmt: skip
    user = User(username=name, first_name=full_name, is_active=False)
    user.set_unusable_password()
    user.save()
    give_role(user, role)
    trail.add("invited", f"{name} as {role}", **who)
    return user, _link(user, "invitation", who["by"])


@transaction.atomic
def new_link(who: Who, user: User) -> tuple[str, str]:
    """A link in place of the earlier ones: of an invitation again, or for a forgotten password. (purpose, text)"""
    if user.is_active:
        purpose = "password"
    elif is_invited(user):
        purpose = "invitation"
    else:
        raise Problem(
            f"{user.username} is disabled", place="person", remedy="enable the account first", code=409
        )
    AccountLink.objects.filter(user=user, used_at=None).delete()
    trail.add(f"link for {purpose} made", user.username, **who)
    return purpose, _link(user, purpose, who["by"])


def _link(user: User, purpose: str, by: str) -> str:
    text = new_text(LINK_PREFIX)
    until = moments.now() + timedelta(days=settings.INVITATION_DAYS)
    AccountLink.objects.create(
        user=user, purpose=purpose, digest=digest_of(text), made_by=by[:150], expires_at=until
    )
    return text


def link_of(text: str, *, is_locked: bool = False) -> AccountLink:
    """The link of this text. Raises Problem (410) for one that is unknown, used or over."""
    found = AccountLink.objects.select_related("user")
    if is_locked:
        found = found.select_for_update()
    link = found.filter(digest=digest_of(text.strip()), used_at=None, expires_at__gt=Now()).first()
    if link is None:
        raise Problem(
            "this link is not known, was used, or is over", place="link", remedy="request a new one from an admin", code=410
        )  # fmt: skip
    return link


@transaction.atomic
def use_link(address: str, link: str, password: str) -> User:
    """Set the password of the link's account, which can be used from now on. Every other session and link of it ends."""
    found = link_of(link, is_locked=True)
    user = found.user
    if found.purpose == "password" and not user.is_active:
        raise Problem(
            f"{user.username} is disabled", place="link", remedy="an admin can enable the account", code=410
        )
    check_password(password, user)
    user.set_password(password)
    user.is_active = True
    user.save(update_fields=["password", "is_active"])
    AccountLink.objects.filter(user=user, used_at=None).update(used_at=Now())
    sessions.end(SignIn.objects.filter(user=user))
    trail.add(f"link for {found.purpose} used", user.username, user.username, address)
    return user


def change_password(request: Any, user: User, old: str, new: str) -> None:
    """Set the password of whoever is signed in; every other session ends. Raises Problem where the present one does not match."""
    trail.check_sign_in(request, user.username)
    if not user.check_password(old):
        # Outside the transaction: the failure must be counted.
        trail.failed(request, user.username)
        raise Problem("the present password does not match", place="old", remedy="type it again", code=403)
    check_password(new, user, place="new")
    own = sessions.current(request)
    with transaction.atomic():
        user.set_password(new)
        user.save(update_fields=["password"])
        sessions.end(SignIn.objects.filter(user=user).exclude(pk=own.pk if own else None))
        trail.note(request, "password changed")
    # Django gives this session a new key, which our row of it follows.
    update_session_auth_hash(request, user)
    if own is not None:
        SignIn.objects.filter(pk=own.pk).update(digest=digest_of(request.session.session_key))


def check_password(password: str, user: User, *, place: str = "password") -> None:
    """Raise Problem for a password that cannot stand."""
    try:
        validate_password(password, user)
    except ValidationError as error:
        raise Problem(" ".join(error.messages), place=place, remedy="choose another") from error


@transaction.atomic
def set_role(who: Who, user: User, role: str) -> None:
    """Give another role. Raises Problem (409) where nobody could look after accounts any more."""
    admins = _locked_admins()
    before = role_of(user)
    if role == before:
        return
    if before == ADMIN:
        _check_not_last(user, admins)
    if user.is_superuser:
        user.is_superuser = False
        user.save(update_fields=["is_superuser"])
    give_role(user, role)
    trail.add("role changed", f"{user.username}: {before} to {role}", **who)


@transaction.atomic
def set_active(who: Who, user: User, is_active: bool) -> None:
    """Disable an account, which ends its sessions and links and stops its tokens; or let it be used again."""
    was_invited = is_invited(user)
    if user.is_active == is_active and not (was_invited or _was_disabled(user)):
        return
    if not is_active and role_of(user) == ADMIN:
        _check_not_last(user, _locked_admins())
    # Without a password it waits for its owner again, who needs a new link.
    user.is_active = is_active and user.has_usable_password()
    user.save(update_fields=["is_active"])
    Person.objects.update_or_create(user=user, defaults={"disabled_at": None if is_active else moments.now()})
    if not is_active:
        sessions.end(SignIn.objects.filter(user=user))
        AccountLink.objects.filter(user=user, used_at=None).delete()
    trail.add("enabled" if is_active else "disabled", user.username, **who)


def _locked_admins() -> set[int]:
    """Admins who can sign in. Locked, so that two cannot be the last at the same moment."""
    rows = User.objects.select_for_update().filter(is_active=True).order_by("pk")
    return {user.pk for user in rows.prefetch_related("groups") if role_of(user) == ADMIN}


def _check_not_last(user: User, admins: set[int]) -> None:
    if admins == {user.pk}:
        raise Problem(
            f"{user.username} is the last admin", place="role", remedy="make somebody else an admin first", code=409
        )  # fmt: skip


DEMO_PASSWORD = "an account has the password demo; change it before serving"


def has_demo_password() -> bool:
    """Whether somebody can sign in with the demo's password, which is in the documentation."""
    return any(user.check_password("demo") for user in User.objects.filter(is_active=True))


def is_invited(user: User) -> bool:
    """Whether an account waits for its owner to set the first password; the link may be over."""
    return not user.is_active and not user.has_usable_password() and not _was_disabled(user)


def states(users: Any) -> dict[int, str]:
    """active, invited or disabled, by number of account."""
    return {u.pk: "active" if u.is_active else "invited" if is_invited(u) else "disabled" for u in users}


def _was_disabled(user: User) -> bool:
    person = getattr(user, "person", None)
    return person is not None and person.disabled_at is not None
