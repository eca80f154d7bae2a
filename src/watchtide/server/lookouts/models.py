"""A plan kept running on live streams, and where it stands on each of them."""

from django.db import models
from django.db.models.functions import Now

from watchtide.server.scans.models import PlanVersion
from watchtide.server.streams.models import Stream

LEARNING, STEADY, ADRIFT, SILENT, QUIET, FAILING = (
    "learning",
    "steady",
    "adrift",
    "silent",
    "quiet",
    "failing",
)
STATES = [(s, s) for s in (LEARNING, STEADY, ADRIFT, SILENT, QUIET, FAILING)]


class Lookout(models.Model):
    """scope : {"metric", "attributes"} or {"streams"}; every, wait : a duration or "auto"; skip_last : samples left out at the
    end; looked_at : when it was last looked for what is due."""

    name = models.CharField(max_length=120)
    plan_version = models.ForeignKey(PlanVersion, on_delete=models.PROTECT, related_name="lookouts")
    scope = models.JSONField()
    every = models.CharField(max_length=20, default="auto")
    wait = models.CharField(max_length=20, default="auto")
    skip_last = models.IntegerField(default=0)
    notify = models.JSONField(default=dict)
    is_on = models.BooleanField(default=True)
    looked_at = models.DateTimeField(null=True)
    created_by = models.CharField(max_length=150, default="", blank=True)
    created_at = models.DateTimeField(db_default=Now())

    class Meta:
        db_table = "lookout"


class Watched(models.Model):
    """One stream of a lookout. judged_through_ns : end of the newest bin that was judged; upkeep : the replay's state, as
    `engine.upkeep` writes it; findings : all that were raised, as they stand; late : samples that came after their bin was judged; newest_ns : the newest sample, newest_at : when it was first seen."""

    lookout = models.ForeignKey(Lookout, on_delete=models.CASCADE, related_name="watched")
    stream = models.ForeignKey(Stream, on_delete=models.CASCADE)
    state = models.CharField(max_length=10, choices=STATES, default=LEARNING)
    since = models.DateTimeField(db_default=Now())
    why = models.CharField(max_length=500, default="", blank=True)
    needs = models.CharField(max_length=300, default="", blank=True)
    judged_through_ns = models.BigIntegerField(null=True)
    next_ns = models.BigIntegerField(null=True)
    judged = models.BigIntegerField(default=0)
    late = models.BigIntegerField(default=0)
    newest_ns = models.BigIntegerField(null=True)
    newest_at = models.DateTimeField(null=True)
    upkeep = models.BinaryField(default=b"")
    findings = models.JSONField(default=list)

    class Meta:
        db_table = "lookout_stream"
        unique_together = [("lookout", "stream")]
