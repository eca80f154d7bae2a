"""A round of review, what is in it, and what each person said."""

from django.db import models
from django.db.models.functions import Now

from watchtide.server.logbook.models import VERDICT_CHOICES, Entry
from watchtide.server.scans.models import Finding, Scan
from watchtide.server.streams.models import Stream

STRONGEST, SAMPLE, UNFLAGGED = "strongest", "sample", "unflagged"
KINDS = [(k, k) for k in (STRONGEST, SAMPLE, UNFLAGGED)]


class Round(models.Model):
    """What is judged one after another, pinned to one scan. filters : metric, begin_ns, end_ns, least, as far as stated."""

    scan = models.ForeignKey(Scan, on_delete=models.CASCADE)
    kind = models.CharField(max_length=10, choices=KINDS)
    filters = models.JSONField(default=dict)
    created_by = models.CharField(max_length=150, default="", blank=True)
    created_at = models.DateTimeField(db_default=Now())

    class Meta:
        db_table = "review_round"


class Item(models.Model):
    """A finding, or a span that nobody flagged. done : verdicts that stand; looks : how many are wanted, of different people.

    settled_by : who decided where two people differed; claimed : who has it before them, until the lease runs out.
    """

    round = models.ForeignKey(Round, on_delete=models.CASCADE, related_name="items")
    place = models.IntegerField()
    stream = models.ForeignKey(Stream, on_delete=models.CASCADE)
    finding = models.ForeignKey(Finding, null=True, on_delete=models.SET_NULL)
    start_ns = models.BigIntegerField()
    end_ns = models.BigIntegerField()
    stratum = models.CharField(max_length=120, default="", blank=True)
    probability = models.FloatField(null=True)
    looks = models.IntegerField(default=1)
    done = models.IntegerField(default=0)
    settled_by = models.CharField(max_length=150, default="", blank=True)
    claimed_by = models.CharField(max_length=150, default="", blank=True)
    claimed_at = models.DateTimeField(null=True)

    class Meta:
        db_table = "review_item"
        indexes = [models.Index(fields=["round", "place"])]


class Judgement(models.Model):
    """What one person said of an item. also : entries written beside `entry` by the same stroke. undone_at : taken back."""

    item = models.ForeignKey(Item, on_delete=models.CASCADE, related_name="judgements")
    verdict = models.CharField(max_length=12, choices=VERDICT_CHOICES)
    entry = models.ForeignKey(Entry, null=True, on_delete=models.SET_NULL)
    also = models.JSONField(default=list)
    split = models.ForeignKey(Item, null=True, on_delete=models.SET_NULL, related_name="+")
    by = models.CharField(max_length=150)
    at = models.DateTimeField(db_default=Now())
    undone_at = models.DateTimeField(null=True)

    class Meta:
        db_table = "review_judgement"
        indexes = [models.Index(fields=["item", "by"])]
