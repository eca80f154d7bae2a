"""The catalogue of streams, the batches taken in, and samples in two layers."""

from django.db import models

SIDES = [(s, s) for s in ("both", "above", "below")]
EXACT = "utf8mb4_bin"


class Stream(models.Model):
    """One metric over time. `key` is the series key with metric first; compared byte by byte."""

    metric = models.CharField(max_length=200, db_collation=EXACT)
    key = models.TextField(db_collation=EXACT)
    key_sha = models.CharField(max_length=64, unique=True, db_collation=EXACT)
    attributes = models.JSONField(default=list)
    unit = models.CharField(max_length=40, default="", blank=True)
    zone = models.CharField(max_length=64, default="UTC")
    bad_side = models.CharField(max_length=8, choices=SIDES, default="both")
    step_ns = models.BigIntegerField(default=0)
    first_ns = models.BigIntegerField(null=True)
    last_ns = models.BigIntegerField(null=True)
    samples = models.BigIntegerField(default=0)
    created_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        db_table = "stream"
        indexes = [models.Index(fields=["metric"])]

    @property
    def title(self) -> str:
        return " · ".join(value for _, value in self.attributes) or self.metric


class Upload(models.Model):
    """A file handed in and not yet stored: its bytes lie in the data folder under its number."""

    name = models.CharField(max_length=255)
    size = models.BigIntegerField()
    sha = models.CharField(max_length=64)
    created_by = models.ForeignKey("auth.User", null=True, on_delete=models.SET_NULL)
    created_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        db_table = "upload"


class Batch(models.Model):
    """What one intake brought. Its rows are visible once accepted_at is set, all together."""

    key = models.CharField(max_length=64, unique=True, db_collation=EXACT)
    source = models.CharField(max_length=255)
    layout = models.JSONField(default=dict)
    rows_taken = models.BigIntegerField(default=0)
    rows_aside = models.BigIntegerField(default=0)
    aside = models.BinaryField(default=b"")
    streams = models.IntegerField(default=0)
    created_by = models.ForeignKey("auth.User", null=True, on_delete=models.SET_NULL)
    created_at = models.DateTimeField(auto_now_add=True)
    accepted_at = models.DateTimeField(null=True, db_index=True)

    class Meta:
        db_table = "batch"


class Block(models.Model):
    """An immutable intake block: samples of many streams of one batch, at most 16 MB of Parquet."""

    batch = models.ForeignKey(Batch, on_delete=models.CASCADE, related_name="blocks")
    payload = models.BinaryField()
    samples = models.IntegerField()

    class Meta:
        db_table = "intake_block"


class Piece(models.Model):
    """Where one stream's samples lie within a block not yet folded."""

    block = models.ForeignKey(Block, on_delete=models.CASCADE, related_name="pieces")
    stream = models.ForeignKey(Stream, on_delete=models.CASCADE, related_name="pieces")
    start = models.IntegerField()
    count = models.IntegerField()
    first_ns = models.BigIntegerField()
    last_ns = models.BigIntegerField()

    class Meta:
        db_table = "intake_piece"
        indexes = [models.Index(fields=["stream", "first_ns"])]


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
