"""Plans and their versions, scans, what they found, and which scan stands for a stream."""

from django.db import models
from django.db.models.functions import Now

from watchtide.server.streams.models import EXACT, Stream


class Plan(models.Model):
    name = models.CharField(max_length=120, unique=True)
    created_at = models.DateTimeField(db_default=Now())

    class Meta:
        db_table = "plan"


class PlanVersion(models.Model):
    """One text of a plan; never changed once made."""

    plan = models.ForeignKey(Plan, on_delete=models.CASCADE, related_name="versions")
    number = models.IntegerField()
    text = models.TextField()
    digest = models.CharField(max_length=64, db_collation=EXACT)
    author = models.CharField(max_length=150, default="")
    created_at = models.DateTimeField(db_default=Now())

    class Meta:
        db_table = "plan_version"
        unique_together = [("plan", "number"), ("plan", "digest")]


class Scan(models.Model):
    """A plan version run over some streams. `finished_at` is set with all its rows, in one transaction."""

    plan_version = models.ForeignKey(PlanVersion, on_delete=models.PROTECT)
    is_standing = models.BooleanField(default=False)
    mode = models.CharField(max_length=8, choices=[("fit", "fit"), ("replay", "replay")], default="fit")
    job = models.ForeignKey("jobs.Job", null=True, on_delete=models.SET_NULL)
    code_version = models.CharField(max_length=40)
    logbook_version = models.BigIntegerField(default=0)
    span_from_ns = models.BigIntegerField(null=True)
    span_to_ns = models.BigIntegerField(null=True)
    step_ns = models.BigIntegerField(default=0)
    longest_season_ns = models.BigIntegerField(null=True)
    created_by = models.CharField(max_length=150, default="")
    created_at = models.DateTimeField(db_default=Now())
    finished_at = models.DateTimeField(null=True, db_index=True)

    class Meta:
        db_table = "scan"


class ScanStream(models.Model):
    """One stream of a scan: what was resolved, the ribbon, and where the stage output is kept.

    level : as it settled, some by their family's tail; promised : what the stream's own tails say of the levels of a
    curve, as services.promises_kept; blocks : the fleet's p-values by day, as services.BLOCK.
    """

    scan = models.ForeignKey(Scan, on_delete=models.CASCADE, related_name="streams")
    stream = models.ForeignKey(Stream, on_delete=models.CASCADE)
    samples_digest = models.CharField(max_length=64, db_collation=EXACT)
    stage_key = models.CharField(max_length=64, db_collation=EXACT)
    left_out = models.JSONField(default=list)
    resolved = models.JSONField(default=dict)
    notes = models.JSONField(default=list)
    level = models.JSONField(default=dict)
    promised = models.BinaryField(default=b"")
    blocks = models.BinaryField(default=b"")
    level_above = models.FloatField(null=True)
    level_below = models.FloatField(null=True)
    samples = models.IntegerField(default=0)
    last_value = models.FloatField(null=True)
    last_ns = models.BigIntegerField(null=True)
    strongest = models.FloatField(default=0)
    ribbon = models.BinaryField(default=b"")
    ribbon_from_ns = models.BigIntegerField(null=True)
    ribbon_to_ns = models.BigIntegerField(null=True)

    class Meta:
        db_table = "scan_stream"
        unique_together = [("scan", "stream")]


class Finding(models.Model):
    scan = models.ForeignKey(Scan, on_delete=models.CASCADE, related_name="findings")
    stream = models.ForeignKey(Stream, on_delete=models.CASCADE)
    start_ns = models.BigIntegerField()
    end_ns = models.BigIntegerField()
    kind = models.CharField(max_length=12)
    direction = models.CharField(max_length=8, default="")
    score = models.FloatField(null=True)
    peak_ns = models.BigIntegerField(null=True)
    peak_value = models.FloatField(null=True)
    expected = models.FloatField(null=True)
    points = models.IntegerField(default=1)
    window = models.IntegerField(default=1)
    size = models.FloatField(null=True)
    confidence = models.FloatField(null=True)
    raised_ns = models.BigIntegerField(null=True)
    taken_by = models.CharField(max_length=150, default="", blank=True)

    class Meta:
        db_table = "finding"
        indexes = [
            models.Index(fields=["scan", "stream", "start_ns"]),
            models.Index(fields=["stream", "start_ns"]),
            # Few are anybody's.
            models.Index(fields=["taken_by"]),
        ]


class Standing(models.Model):
    """The plan version that speaks for a stream, and its latest finished scan."""

    stream = models.OneToOneField(Stream, on_delete=models.CASCADE, related_name="standing")
    plan_version = models.ForeignKey(PlanVersion, on_delete=models.PROTECT)
    scan = models.ForeignKey(Scan, null=True, on_delete=models.SET_NULL)

    class Meta:
        db_table = "standing"


class Card(models.Model):
    """What was counted of a scan against one version of the logbook.

    selection : empty for the scorecard of all of its streams; else what was asked, as the cards' services write it.
    """

    scan = models.ForeignKey(Scan, on_delete=models.CASCADE)
    logbook_version = models.BigIntegerField()
    selection = models.CharField(max_length=80, default="", db_collation=EXACT)
    content = models.JSONField()
    created_at = models.DateTimeField(db_default=Now())

    class Meta:
        db_table = "scorecard"
        unique_together = [("scan", "logbook_version", "selection")]
