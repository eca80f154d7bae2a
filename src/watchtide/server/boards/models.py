"""Boards for other people, and links to look at one without signing in."""

from django.db import models
from django.db.models.functions import Now


class Board(models.Model):
    """panes : in the order of the keyboard, each with its kind, place and settings (`panes.checked`); version : counts changes."""

    name = models.CharField(max_length=120, unique=True)
    panes = models.JSONField(default=list)
    version = models.IntegerField(default=1)
    created_by = models.CharField(max_length=150, default="", blank=True)
    created_at = models.DateTimeField(db_default=Now())

    class Meta:
        db_table = "board"


class BoardLink(models.Model):
    """A link that shows one board until it ends. Only its digest is kept; hint is its beginning, to tell it apart."""

    board = models.ForeignKey(Board, on_delete=models.CASCADE, related_name="links")
    digest = models.CharField(max_length=64, unique=True)
    hint = models.CharField(max_length=16)
    expires_at = models.DateTimeField()
    created_by = models.CharField(max_length=150, default="", blank=True)
    created_at = models.DateTimeField(db_default=Now())

    class Meta:
        db_table = "board_link"
