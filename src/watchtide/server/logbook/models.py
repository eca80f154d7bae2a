"""Entries over streams or attribute scopes, and every revision of each."""

from django.db import models
from django.db.models.functions import Now

from watchtide.core.scoring.rows import ORIGINS, VERDICTS

VERDICT_CHOICES = [(v, v) for v in VERDICTS]
# What may be said of a finding: that a span was looked through is said of time.
JUDGEMENT_CHOICES = [c for c in VERDICT_CHOICES if c[0] != "reviewed"]
ORIGIN_CHOICES = [(o, o) for o in ORIGINS]


class Entry(models.Model):
    """One span of the annotated history. `scope` is a series key: empty for every stream."""

    scope = models.TextField(default="", blank=True, db_collation="utf8mb4_bin")
    start_ns = models.BigIntegerField()
    end_ns = models.BigIntegerField()
    verdict = models.CharField(max_length=12, choices=VERDICT_CHOICES)
    kind = models.CharField(max_length=80, default="", blank=True)
    cause = models.CharField(max_length=500, default="", blank=True)
    note = models.TextField(default="", blank=True)
    author = models.CharField(max_length=150, default="", blank=True)
    origin = models.CharField(max_length=12, choices=ORIGIN_CHOICES, default="independent")
    stratum = models.CharField(max_length=120, default="", blank=True)
    probability = models.FloatField(null=True)
    created_at = models.DateTimeField(db_default=Now())
    deleted_at = models.DateTimeField(null=True)

    class Meta:
        db_table = "logbook_entry"
        indexes = [models.Index(fields=["start_ns", "end_ns"]), models.Index(fields=["deleted_at"])]


class ChangeSet(models.Model):
    """Entries that were changed in one go, by an import or by hand; it can be undone in one go."""

    title = models.CharField(max_length=200)
    added = models.IntegerField(default=0)
    changed = models.IntegerField(default=0)
    removed = models.IntegerField(default=0)
    by = models.CharField(max_length=150)
    at = models.DateTimeField(db_default=Now())
    undone_by = models.CharField(max_length=150, default="", blank=True)
    undone_at = models.DateTimeField(null=True)

    class Meta:
        db_table = "logbook_change_set"


class Quiet(models.Model):
    """Planned work: until its end findings are kept and marked, and left out of figures."""

    scope = models.TextField(default="", blank=True, db_collation="utf8mb4_bin")
    start_ns = models.BigIntegerField()
    end_ns = models.BigIntegerField()
    reason = models.CharField(max_length=500)
    by = models.CharField(max_length=150)
    at = models.DateTimeField(db_default=Now())
    ended_by = models.CharField(max_length=150, default="", blank=True)

    class Meta:
        db_table = "logbook_quiet"


class Revision(models.Model):
    """What an entry, or planned work, became, when, and by whom. Its number is the logbook's version."""

    entry = models.ForeignKey(Entry, null=True, on_delete=models.CASCADE, related_name="revisions")
    quiet = models.ForeignKey(Quiet, null=True, on_delete=models.CASCADE, related_name="revisions")
    change_set = models.ForeignKey(ChangeSet, null=True, on_delete=models.PROTECT, related_name="revisions")
    action = models.CharField(max_length=12)
    content = models.JSONField()
    by = models.CharField(max_length=150)
    at = models.DateTimeField(db_default=Now())

    class Meta:
        db_table = "logbook_revision"
