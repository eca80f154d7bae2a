"""The job row, which is the truth about long work, the events that tell the page to look, and signs of life."""

from django.db import models
from django.db.models.functions import Now

STATE_CHOICES = [(s, s) for s in ("queued", "running", "done", "failed", "cancelled")]
OPEN = ("queued", "running")


class Job(models.Model):
    """One piece of long work.

    fence grows with every worker that takes the job; a worker whose number is no longer the row's has
    lost it, and none of its writes count. lease_until is renewed while the work goes on.
    """

    kind = models.CharField(max_length=40)
    lane = models.CharField(max_length=16)
    title = models.CharField(max_length=200)
    arguments = models.JSONField(default=dict)
    state = models.CharField(max_length=12, choices=STATE_CHOICES, default="queued")
    done = models.IntegerField(default=0)
    total = models.IntegerField(default=0)
    message = models.CharField(max_length=1000, default="", blank=True)
    log = models.TextField(default="", blank=True)
    result = models.JSONField(default=dict)
    is_cancel_asked = models.BooleanField(default=False)
    attempt = models.IntegerField(default=0)
    fence = models.BigIntegerField(default=0)
    # While it is open, no second job of the same work: what it is about, NULL once it is over.
    once = models.CharField(max_length=100, null=True, unique=True)
    # Which worker should do it, since it remembers what the job is about; empty for any.
    prefers = models.CharField(max_length=60, default="", blank=True)
    lease_until = models.DateTimeField(null=True)
    woken_at = models.DateTimeField(null=True)
    created_by = models.ForeignKey("auth.User", null=True, on_delete=models.SET_NULL)
    created_at = models.DateTimeField(db_default=Now())
    started_at = models.DateTimeField(null=True)
    ended_at = models.DateTimeField(null=True)

    class Meta:
        db_table = "job"
        indexes = [models.Index(fields=["state", "lease_until"]), models.Index(fields=["-created_at"])]


class Event(models.Model):
    """A hint that something changed: what, and which. Never data."""

    kind = models.CharField(max_length=40)
    subject = models.CharField(max_length=80, default="")
    payload = models.JSONField(default=dict)
    created_at = models.DateTimeField(db_default=Now(), db_index=True)

    class Meta:
        db_table = "event"


class Beat(models.Model):
    """A worker, a keeper, or one duty of a keeper: when it was last there, and how its last round went.

    failures : rounds in a row that failed; next_at : when a failing duty is tried again.
    """

    name = models.CharField(max_length=60, primary_key=True)
    is_process = models.BooleanField(default=True)
    beat_at = models.DateTimeField()
    failures = models.IntegerField(default=0)
    message = models.CharField(max_length=500, default="", blank=True)
    next_at = models.DateTimeField(null=True)

    class Meta:
        db_table = "beat"


class Tally(models.Model):
    """Figures that take a sum over whole tables, counted now and then for all who want them."""

    name = models.CharField(max_length=40, primary_key=True)
    at = models.DateTimeField()
    figures = models.JSONField()

    class Meta:
        db_table = "tally"
