"""What is kept about a person beyond the account."""

from typing import Any

from django.db import models
from django.db.models.functions import Now

# Columns of the tide table beside name and ribbon, and those a new person has.
ALL_COLUMNS = ("value", "state", "open", "strongest", "newest", "owner", "cadence")
COLUMNS = ("value", "state", "open")


def usual_columns() -> list[str]:
    return list(COLUMNS)


class Person(models.Model):
    """When somebody last looked at the tide table, so that it can say what is new, and which columns theirs has."""

    user = models.OneToOneField("auth.User", on_delete=models.CASCADE, related_name="person")
    last_looked = models.DateTimeField(null=True)
    columns = models.JSONField(default=usual_columns)
    disabled_at = models.DateTimeField(null=True)

    class Meta:
        db_table = "person"


class SignIn(models.Model):
    """One session of a browser. Only the digest of its key is kept here; what has ended is signed in no more.

    agent : what the browser says of itself.
    """

    user = models.ForeignKey("auth.User", on_delete=models.CASCADE, related_name="sign_ins")
    digest = models.CharField(max_length=64, unique=True)
    address = models.CharField(max_length=45, blank=True)
    agent = models.CharField(max_length=200, blank=True)
    created_at = models.DateTimeField(db_default=Now())
    last_seen_at = models.DateTimeField(db_default=Now())
    ended_at = models.DateTimeField(null=True)

    class Meta:
        db_table = "sign_in"


PURPOSES = ("invitation", "password")


class AccountLink(models.Model):
    """A link by which somebody sets the password of an account, once and for a time: of a new account, or a forgotten one."""

    user = models.ForeignKey("auth.User", on_delete=models.CASCADE, related_name="account_links")
    purpose = models.CharField(max_length=12, choices=[(p, p) for p in PURPOSES])
    digest = models.CharField(max_length=64, unique=True)
    made_by = models.CharField(max_length=150, blank=True)
    created_at = models.DateTimeField(db_default=Now())
    expires_at = models.DateTimeField()
    used_at = models.DateTimeField(null=True)

    class Meta:
        db_table = "account_link"


class AuditEntry(models.Model):
    """One entry of the audit trail. by : the account, empty for nobody signed in; subject : what it was done to."""

    at = models.DateTimeField(db_default=Now())
    by = models.CharField(max_length=150, blank=True)
    what = models.CharField(max_length=40)
    subject = models.CharField(max_length=300, blank=True)
    address = models.CharField(max_length=45, blank=True)

    class Meta:
        db_table = "audit_entry"
        indexes = [models.Index(fields=["what", "at"])]

    def save(self, *args: Any, **kwargs: Any) -> None:
        if self.pk is not None:
            raise RuntimeError("the trail is added to and never changed")
        super().save(*args, **kwargs)


SCOPES = ("push", "read", "write")


class Token(models.Model):
    """A key for scripts and senders. Only its digest is kept; `hint` is its beginning, to tell it apart."""

    name = models.CharField(max_length=120)
    digest = models.CharField(max_length=64, unique=True)
    hint = models.CharField(max_length=16)
    scopes = models.JSONField(default=list)
    owner = models.ForeignKey("auth.User", on_delete=models.CASCADE, related_name="tokens")
    created_at = models.DateTimeField(db_default=Now())
    expires_at = models.DateTimeField(null=True)
    revoked_at = models.DateTimeField(null=True)
    last_used_at = models.DateTimeField(null=True)

    class Meta:
        db_table = "token"
