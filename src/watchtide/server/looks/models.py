"""A day's or week's look that is sent each morning."""

from django.db import models
from django.db.models.functions import Now

from watchtide.server.lookouts.models import Route
from watchtide.server.streams.models import Stream

DAY, WEEK = "day", "week"
PERIODS = [(DAY, DAY), (WEEK, WEEK)]


class Morning(models.Model):
    """stream, or metric and attributes : of what; n : how many periods before it is set beside; at : when, by the clock of
    `zone`; sent_for : the begin of the latest period that was sent, in ns."""

    stream = models.ForeignKey(Stream, null=True, on_delete=models.CASCADE)
    metric = models.CharField(max_length=200, default="", blank=True)
    attributes = models.JSONField(default=dict)
    by = models.CharField(max_length=5, choices=PERIODS, default=DAY)
    n = models.IntegerField(default=8)
    at = models.TimeField()
    zone = models.CharField(max_length=64)
    route = models.ForeignKey(Route, on_delete=models.CASCADE, related_name="mornings")
    sent_for = models.BigIntegerField(null=True)
    created_by = models.CharField(max_length=150, default="", blank=True)
    created_at = models.DateTimeField(db_default=Now())

    class Meta:
        db_table = "morning"
