"""Published scorecards: frozen, with their own copy of all that was counted."""

from django.db import models
from django.db.models.functions import Now

from watchtide.server.scans.models import Scan
from watchtide.server.streams.models import EXACT, Stream


class Published(models.Model):
    """A scorecard as it was when somebody put their name to it; never changed after.

    selection : which part of the scan; content : as counted; findings, labels : the files that were counted, gzipped.
    """

    title = models.CharField(max_length=200)
    scan = models.ForeignKey(Scan, null=True, on_delete=models.SET_NULL)
    plan_name = models.CharField(max_length=120)
    plan_number = models.IntegerField()
    plan_text = models.TextField()
    mode = models.CharField(max_length=8)
    selection = models.JSONField(default=dict)
    content = models.JSONField()
    findings = models.BinaryField()
    labels = models.BinaryField()
    logbook_version = models.BigIntegerField()
    code_version = models.CharField(max_length=40)
    author = models.CharField(max_length=150)
    created_at = models.DateTimeField(db_default=Now())

    class Meta:
        db_table = "published"


class PublishedStream(models.Model):
    """One stream's scores as they were counted. points : times, scores and flags, as publishing.pack writes them."""

    published = models.ForeignKey(Published, on_delete=models.CASCADE, related_name="streams")
    stream = models.ForeignKey(Stream, null=True, on_delete=models.SET_NULL)
    key = models.TextField(db_collation=EXACT)
    samples_digest = models.CharField(max_length=64, db_collation=EXACT)
    points = models.BinaryField()

    class Meta:
        db_table = "published_stream"
