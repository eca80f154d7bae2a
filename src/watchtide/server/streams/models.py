"""The catalogue of streams, the batches taken in, and samples in two layers."""

from django.db import models
from django.db.models.functions import Now

SIDES = [(s, s) for s in ("both", "above", "below")]
DOORS = [(d, d) for d in ("file", "push", "pull", "derived")]
KINDS = [(k, k) for k in ("samples", "counter", "derived", "source", "retired")]
# Kinds of streams that no screen lists.
HIDDEN = ("counter", "source", "retired")
EXACT = "utf8mb4_bin"
# `cadence_of` of streams whose cadence is stated, as that of a roll-up or a formula is, and not estimated.
CADENCE_STATED = 2**62


def title_of(given: str, own: str, metric: str) -> str:
    """What a stream is called: as somebody named it, else by what sets it apart in its metric, else as its metric."""
    return given or own or metric


class Stream(models.Model):
    """One metric over time. `key` is the series key with metric first; compared byte by byte.

    kind : counter streams hold what a source counted since it began; they are kept out of sight, and the streams of
    their rates are derived from them. Source streams hold what one sender reports of a stream under attributes that identity rules change; they are hidden, as are
    retired ones, which no source feeds any more. joins_sha : of a source or counter, the digest of the key
    of the stream it belongs to; is_sent : whether samples of it were pushed or fetched under its own key; is_additive : whether its values add up; join : how they are combined where a rule says so. title_own : the attributes
    that distinguish it within its metric. arrivals : the latest latenesses in seconds (float32), newest last.
    """

    metric = models.CharField(max_length=200, db_collation=EXACT)
    key = models.TextField(db_collation=EXACT)
    key_sha = models.CharField(max_length=64, unique=True, db_collation=EXACT)
    attributes = models.JSONField(default=list)
    title_given = models.CharField(max_length=200, default="", blank=True)
    title_own = models.CharField(max_length=500, default="", blank=True)
    joins_sha = models.CharField(max_length=64, default="", blank=True, db_index=True, db_collation=EXACT)
    is_sent = models.BooleanField(default=False)
    is_additive = models.BooleanField(default=False)
    join = models.CharField(max_length=8, default="auto")
    family = models.CharField(max_length=200, default="", blank=True)
    unit = models.CharField(max_length=40, default="", blank=True)
    zone = models.CharField(max_length=64, default="UTC")
    bad_side = models.CharField(max_length=8, choices=SIDES, default="both")
    owner = models.CharField(max_length=150, default="", blank=True)
    runbook = models.CharField(max_length=500, default="", blank=True)
    kind = models.CharField(max_length=10, choices=KINDS, default="samples")
    fed_by = models.ManyToManyField("self", symmetrical=False, related_name="feeds_into", blank=True)
    covariates = models.ManyToManyField("self", symmetrical=False, related_name="explains", blank=True)
    denominator = models.ForeignKey("self", null=True, on_delete=models.SET_NULL, related_name="numerators")
    retention_days = models.IntegerField(null=True)
    step_ns = models.BigIntegerField(default=0)
    # A calendar cadence as a plan states it, empty for a fixed one; and how many samples there were when it was estimated.
    cadence = models.CharField(max_length=40, default="", blank=True)
    cadence_of = models.BigIntegerField(default=0)
    first_ns = models.BigIntegerField(null=True)
    last_ns = models.BigIntegerField(null=True)
    samples = models.BigIntegerField(default=0)
    arrivals = models.BinaryField(default=b"", max_length=1024)
    lateness_ns = models.BigIntegerField(null=True)
    made_by = models.ForeignKey("Batch", null=True, on_delete=models.SET_NULL, related_name="made")
    created_at = models.DateTimeField(db_default=Now())

    class Meta:
        db_table = "stream"
        indexes = [models.Index(fields=["metric"])]

    @property
    def title(self) -> str:
        return title_of(self.title_given, self.title_own, self.metric)

    @property
    def name(self) -> str:
        """Metric and title, once where they are the same."""
        return self.metric if self.title == self.metric else f"{self.metric} · {self.title}"


class IdentityVersion(models.Model):
    """Identity rules as applied; moved : how many series changed their stream by them."""

    rules = models.JSONField()
    moved = models.IntegerField(default=0)
    created_by = models.ForeignKey("auth.User", null=True, on_delete=models.SET_NULL)
    created_at = models.DateTimeField(db_default=Now())
    undone_at = models.DateTimeField(null=True)
    undone_by = models.ForeignKey("auth.User", null=True, on_delete=models.SET_NULL, related_name="+")

    class Meta:
        db_table = "identity_version"


class Allowance(models.Model):
    """How much a sender may still push, of what, as it was at a moment by the database's clock: it fills with time."""

    who = models.CharField(max_length=200, db_collation=EXACT)
    what = models.CharField(max_length=10)
    left = models.FloatField()
    at = models.DateTimeField()

    class Meta:
        db_table = "push_allowance"
        unique_together = [("who", "what")]


class Upload(models.Model):
    """A file handed in and not yet stored: its bytes lie among the files under their digest."""

    name = models.CharField(max_length=255)
    size = models.BigIntegerField()
    sha = models.CharField(max_length=64)
    created_by = models.ForeignKey("auth.User", null=True, on_delete=models.SET_NULL)
    created_at = models.DateTimeField(db_default=Now())

    class Meta:
        db_table = "upload"


class KeptLook(models.Model):
    """What a large file was found to hold, kept for a while for the page that waits for it.

    digest : of how it was read; problem : (file, place, message, remedy) of one that cannot be, else empty.
    """

    upload = models.ForeignKey(Upload, on_delete=models.CASCADE)
    digest = models.CharField(max_length=64, db_collation=EXACT)
    content = models.JSONField()
    problem = models.JSONField(default=list)
    created_at = models.DateTimeField(db_default=Now())

    class Meta:
        db_table = "kept_look"
        unique_together = [("upload", "digest")]


class KeptLayout(models.Model):
    """A layout under a name, taken by itself for files whose name and columns fit."""

    name = models.CharField(max_length=120, unique=True)
    pattern = models.CharField(max_length=200)
    data = models.JSONField()
    facts = models.JSONField(default=dict)
    created_by = models.ForeignKey("auth.User", null=True, on_delete=models.SET_NULL)
    updated_at = models.DateTimeField(db_default=Now())

    class Meta:
        db_table = "kept_layout"


class Batch(models.Model):
    """What one intake brought. Its rows are visible once accepted_at is set, all together.

    body_sha : digest of what was sent, where its sender named the key. quarantined_at : when it was found that it cannot be
    folded; its samples are then in no answer, and the reason is shown.
    """

    key = models.CharField(max_length=64, unique=True, db_collation=EXACT)
    source = models.CharField(max_length=255)
    door = models.CharField(max_length=8, choices=DOORS, default="file")
    layout = models.JSONField(default=dict)
    rows_taken = models.BigIntegerField(default=0)
    rows_aside = models.BigIntegerField(default=0)
    rows_dropped = models.BigIntegerField(default=0)
    samples = models.BigIntegerField(default=0)
    aside = models.BinaryField(default=b"")
    streams = models.IntegerField(default=0)
    first_ns = models.BigIntegerField(null=True)
    last_ns = models.BigIntegerField(null=True)
    created_by = models.ForeignKey("auth.User", null=True, on_delete=models.SET_NULL)
    created_at = models.DateTimeField(db_default=Now())
    accepted_at = models.DateTimeField(null=True, db_index=True)
    # False while counters' rates or formulas over what it brought have not been made anew.
    is_renewed = models.BooleanField(default=True, db_index=True)
    undone_at = models.DateTimeField(null=True)
    undone_by = models.ForeignKey("auth.User", null=True, on_delete=models.SET_NULL, related_name="+")
    body_sha = models.CharField(max_length=64, default="", blank=True)
    quarantined_at = models.DateTimeField(null=True)
    quarantine_reason = models.CharField(max_length=500, default="", blank=True)

    class Meta:
        db_table = "batch"
        indexes = [models.Index(fields=["door", "-accepted_at"])]


class Block(models.Model):
    """An immutable intake block: samples of many streams of one batch, at most 16 MB.

    payload : frames, each Parquet bytes of up to 16,384 samples, sorted by stream and time. index : which stream's
    samples lie where, and where each frame begins (`store.Index`). A folded block is kept for undoing its batch.
    """

    batch = models.ForeignKey(Batch, on_delete=models.CASCADE, related_name="blocks")
    payload = models.BinaryField()
    index = models.BinaryField(default=b"")
    samples = models.IntegerField()
    folded_at = models.DateTimeField(null=True, db_index=True)

    class Meta:
        db_table = "intake_block"


class Displaced(models.Model):
    """Samples of a stream that a batch wrote over, so that undoing it brings them back."""

    batch = models.ForeignKey(Batch, on_delete=models.CASCADE, related_name="displaced")
    stream = models.ForeignKey(Stream, on_delete=models.CASCADE)
    payload = models.BinaryField()

    class Meta:
        db_table = "displaced"
        constraints = [models.UniqueConstraint(fields=["batch", "stream"], name="displaced_once")]


class RollPart(models.Model):
    """What a batch added to a roll-up of some attributes: merged with the other batches' it gives the figures."""

    batch = models.ForeignKey(Batch, on_delete=models.CASCADE, related_name="roll_parts")
    group_sha = models.CharField(max_length=64, db_collation=EXACT)
    first_ns = models.BigIntegerField()
    last_ns = models.BigIntegerField()
    payload = models.BinaryField()

    class Meta:
        db_table = "roll_part"
        indexes = [models.Index(fields=["group_sha", "first_ns"])]


class Segment(models.Model):
    """Up to 16,384 samples of one stream, sorted and without double stamps."""

    stream = models.ForeignKey(Stream, on_delete=models.CASCADE, related_name="segments")
    first_ns = models.BigIntegerField()
    last_ns = models.BigIntegerField()
    count = models.IntegerField()
    payload = models.BinaryField()

    class Meta:
        db_table = "segment"
        indexes = [models.Index(fields=["stream", "first_ns"])]


class Derived(models.Model):
    """A formula over streams; its result is streams of their own, renewed when what it reads has changed."""

    metric = models.CharField(max_length=200, unique=True, db_collation=EXACT)
    formula = models.TextField()
    by = models.JSONField(default=list)
    every_ns = models.BigIntegerField(null=True)
    unit = models.CharField(max_length=40, default="", blank=True)
    bad_side = models.CharField(max_length=8, choices=SIDES, default="both")
    zone = models.CharField(max_length=64, default="UTC")
    message = models.CharField(max_length=500, default="", blank=True)
    renewed_at = models.DateTimeField(null=True)
    created_by = models.ForeignKey("auth.User", null=True, on_delete=models.SET_NULL)
    created_at = models.DateTimeField(db_default=Now())

    class Meta:
        db_table = "derived"


class Calendar(models.Model):
    """An iCalendar file: known days, with recurring events and zones."""

    name = models.CharField(max_length=120, unique=True)
    payload = models.BinaryField()
    sha = models.CharField(max_length=64)
    zone = models.CharField(max_length=64, default="UTC")
    events = models.IntegerField(default=0)
    created_by = models.ForeignKey("auth.User", null=True, on_delete=models.SET_NULL)
    updated_at = models.DateTimeField(db_default=Now())

    class Meta:
        db_table = "calendar"


class Feed(models.Model):
    """A page fetched on a schedule: OpenMetrics text, or an iCalendar file."""

    name = models.CharField(max_length=120, unique=True)
    kind = models.CharField(max_length=12, choices=[(k, k) for k in ("metrics", "calendar")])
    url = models.CharField(max_length=500)
    every_s = models.IntegerField(default=60)
    timeout_s = models.IntegerField(default=10)
    attributes = models.JSONField(default=dict)
    zone = models.CharField(max_length=64, default="UTC")
    is_on = models.BooleanField(default=True)
    next_at = models.DateTimeField(null=True, db_index=True)
    last_at = models.DateTimeField(null=True)
    last_status = models.CharField(max_length=300, default="", blank=True)
    last_samples = models.IntegerField(default=0)
    is_fine = models.BooleanField(null=True)
    failures = models.IntegerField(default=0)
    created_by = models.ForeignKey("auth.User", null=True, on_delete=models.SET_NULL)

    class Meta:
        db_table = "feed"
