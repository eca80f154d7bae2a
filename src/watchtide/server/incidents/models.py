"""An incident, the spans of streams in it, the entries that judge it, and what was done to it."""

from django.db import models
from django.db.models.functions import Now

from watchtide.server.logbook.models import Entry
from watchtide.server.streams.models import Stream

OPEN, CLOSED, APART = "open", "closed", "apart"
STATES = [(s, s) for s in (OPEN, CLOSED, APART)]


class Incident(models.Model):
    """state : apart says that what was proposed is not one thing, so that it is not proposed again."""

    title = models.CharField(max_length=200)
    state = models.CharField(max_length=8, choices=STATES, default=OPEN, db_index=True)
    cause = models.CharField(max_length=500, default="", blank=True)
    note = models.TextField(default="", blank=True)
    taken_by = models.CharField(max_length=150, default="", blank=True)
    entries = models.ManyToManyField(Entry, related_name="incidents", blank=True)
    created_by = models.CharField(max_length=150, default="", blank=True)
    created_at = models.DateTimeField(db_default=Now())

    class Meta:
        db_table = "incident"


class Part(models.Model):
    """A closed span of a stream that belongs to an incident: its findings are those of the standing scan that touch it,
    whichever scan that is."""

    incident = models.ForeignKey(Incident, on_delete=models.CASCADE, related_name="parts")
    stream = models.ForeignKey(Stream, on_delete=models.CASCADE)
    start_ns = models.BigIntegerField()
    end_ns = models.BigIntegerField()

    class Meta:
        db_table = "incident_part"
        unique_together = [("incident", "stream", "start_ns", "end_ns")]


class Change(models.Model):
    """What was done to an incident, when, and by whom."""

    incident = models.ForeignKey(Incident, on_delete=models.CASCADE, related_name="changes")
    action = models.CharField(max_length=16)
    content = models.JSONField()
    by = models.CharField(max_length=150)
    at = models.DateTimeField(db_default=Now())

    class Meta:
        db_table = "incident_change"
