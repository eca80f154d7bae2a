"""A plan kept running on live streams, and where it stands on each of them."""

from django.db import models
from django.db.models.functions import Now

from watchtide.server.scans.models import PlanVersion
from watchtide.server.streams.corrections import IMPORTED, UNDONE
from watchtide.server.streams.models import Batch, Stream

LEARNING, STEADY, ADRIFT, SILENT, QUIET, FAILING = (
    "learning",
    "steady",
    "adrift",
    "silent",
    "quiet",
    "failing",
)
STATES = [(s, s) for s in (LEARNING, STEADY, ADRIFT, SILENT, QUIET, FAILING)]
HOOK, CHAT, MAIL = "hook", "chat", "mail"
KINDS = [(k, k) for k in (HOOK, CHAT, MAIL)]
UNCONFIRMED, READY = "unconfirmed", "ready"
ROUTE_STATES = [(s, s) for s in (UNCONFIRMED, READY)]
WAITING, SENT, FAILED, HELD = "waiting", "sent", "failed", "held"
OUTBOX_STATES = [(s, s) for s in (WAITING, SENT, FAILED, HELD)]
BEGAN, ENDED, REMINDER, SILENCE, RESUMED, TEST = "began", "ended", "reminder", "silent", "resumed", "test"
LIMIT, LOOK = "limit", "look"
# A letter that asks whether an address wants mail; no notice of anything.
CONFIRM = "confirm"
NOTICE_KINDS = [(k, k) for k in (BEGAN, ENDED, REMINDER, SILENCE, RESUMED, LIMIT, LOOK, TEST, CONFIRM)]


class Route(models.Model):
    """Where notices go. secret : what a hook's notices are signed with, shown once; has_points : whether the points of the
    span come along; takes : which findings it takes and when, as `taking.Takes` reads it, all of them where it is empty;
    most_an_hour : what is beyond that waits and is joined into one; confirmed_at : when somebody at a mail address said that
    it wants them; failures : in a row, since it last went well."""

    kind = models.CharField(max_length=8, choices=KINDS)
    name = models.CharField(max_length=120, unique=True)
    to = models.CharField(max_length=500)
    secret = models.CharField(max_length=80, default="", blank=True)
    has_points = models.BooleanField(default=False)
    takes = models.JSONField(default=dict)
    most_an_hour = models.IntegerField(null=True)
    confirmed_at = models.DateTimeField(null=True)
    failures = models.IntegerField(default=0)
    failing_since = models.DateTimeField(null=True)
    last_detail = models.CharField(max_length=300, default="", blank=True)
    created_by = models.CharField(max_length=150, default="", blank=True)
    created_at = models.DateTimeField(db_default=Now())

    class Meta:
        db_table = "route"

    @property
    def is_open(self) -> bool:
        """Whether notices may go there: a mail address has to be confirmed first."""
        return self.kind != MAIL or self.confirmed_at is not None

    @property
    def state(self) -> str:
        return READY if self.is_open else UNCONFIRMED


class Lookout(models.Model):
    """scope : {"metric", "attributes"} or {"streams"}; every, wait : a duration or "auto"; skip_last : samples left out at the
    end; limit : {"above" or "below", "within"}, which is foreseen, or empty; looked_at : when it was last looked for what is due;
    worker : which one did, and so remembers where the streams stand."""

    name = models.CharField(max_length=120)
    plan_version = models.ForeignKey(PlanVersion, on_delete=models.PROTECT, related_name="lookouts")
    scope = models.JSONField()
    every = models.CharField(max_length=20, default="auto")
    wait = models.CharField(max_length=20, default="auto")
    skip_last = models.IntegerField(default=0)
    notify = models.JSONField(default=dict)
    limit = models.JSONField(default=dict)
    routes = models.ManyToManyField(Route, related_name="lookouts", blank=True)
    is_on = models.BooleanField(default=True)
    looked_at = models.DateTimeField(null=True)
    worker = models.CharField(max_length=60, default="", blank=True)
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
    # Findings raised up to here were there when the stream joined: nobody is to be woken by them.
    known_ns = models.BigIntegerField(null=True)
    # Of a limit: through which bin it was looked for, and when it is foreseen to be reached, None while it is not.
    foreseen_through_ns = models.BigIntegerField(null=True)
    foreseen_ns = models.BigIntegerField(null=True)

    class Meta:
        db_table = "lookout_stream"
        unique_together = [("lookout", "stream")]
        # What is due is queried every second or two.
        indexes = [models.Index(fields=["lookout", "next_ns"])]


class Correction(models.Model):
    """A stream's history that was corrected behind what a lookout had judged. batch : what was taken back, or brought earlier samples; since_ns : the first stamp that may have changed; judged_at : when it was judged anew; gone, come :
    findings that are no more, and that are new; changed : pairs of those that differ, before and now."""

    lookout = models.ForeignKey(Lookout, on_delete=models.CASCADE, related_name="corrections")
    stream = models.ForeignKey(Stream, on_delete=models.CASCADE)
    batch = models.ForeignKey(Batch, on_delete=models.CASCADE)
    why = models.CharField(max_length=8, choices=[(w, w) for w in (IMPORTED, UNDONE)])
    since_ns = models.BigIntegerField()
    noted_at = models.DateTimeField(db_default=Now())
    judged_at = models.DateTimeField(null=True)
    gone = models.JSONField(default=list)
    come = models.JSONField(default=list)
    changed = models.JSONField(default=list)

    class Meta:
        db_table = "lookout_correction"
        indexes = [models.Index(fields=["lookout", "judged_at"])]


class Group(models.Model):
    """What one notice stands for: findings of a lookout that began together. ended_at : when the last of them was over.

    judged_at, judged_by, verdict, entries : the verdict that was given from a notice, and the logbook entries it wrote;
    opened_at : when a link of a notice was first opened.
    """

    lookout = models.ForeignKey(Lookout, on_delete=models.CASCADE, related_name="groups")
    start_ns = models.BigIntegerField()
    is_quiet = models.BooleanField(default=False)
    reminded_at = models.DateTimeField(db_default=Now())
    ended_at = models.DateTimeField(null=True)
    opened_at = models.DateTimeField(null=True)
    judged_at = models.DateTimeField(null=True)
    judged_by = models.CharField(max_length=150, default="", blank=True)
    verdict = models.CharField(max_length=12, default="", blank=True)
    entries = models.JSONField(default=list)

    class Meta:
        db_table = "lookout_group"


class Raised(models.Model):
    """A finding that was announced, once: by stream, begin and kind. end_ns : of the last flagged sample so far."""

    group = models.ForeignKey(Group, on_delete=models.CASCADE, related_name="raised")
    stream = models.ForeignKey(Stream, on_delete=models.CASCADE)
    start_ns = models.BigIntegerField()
    end_ns = models.BigIntegerField(default=0)
    kind = models.CharField(max_length=8)
    direction = models.CharField(max_length=8, default="", blank=True)
    lookout = models.ForeignKey(Lookout, on_delete=models.CASCADE)
    is_open = models.BooleanField(default=True)

    class Meta:
        db_table = "lookout_raised"
        unique_together = [("lookout", "stream", "start_ns", "kind", "direction")]


class Notice(models.Model):
    """One message about a lookout, before it is sent anywhere. uid : its name to the outside, the same in every attempt;
    points : of the finding's span, as CSV, where a route sends them; around : of that and what lies beside it, for a
    picture; picture : that, once it was drawn; facts : `facts.Facts` as JSON."""

    uid = models.CharField(max_length=40, unique=True)
    kind = models.CharField(max_length=10, choices=NOTICE_KINDS)
    lookout = models.ForeignKey(Lookout, null=True, on_delete=models.CASCADE, related_name="notices")
    group = models.ForeignKey(Group, null=True, on_delete=models.CASCADE, related_name="notices")
    stream = models.ForeignKey(Stream, null=True, on_delete=models.SET_NULL)
    subject = models.TextField(default="", blank=True)
    title = models.CharField(max_length=300)
    text = models.TextField(default="", blank=True)
    finding = models.JSONField(default=dict)
    points = models.TextField(default="", blank=True)
    around = models.TextField(default="", blank=True)
    picture = models.BinaryField(default=b"")
    facts = models.JSONField(default=dict)
    more = models.JSONField(default=list)
    created_at = models.DateTimeField(db_default=Now())

    class Meta:
        db_table = "notice"


class Link(models.Model):
    """An address in a mail that does one thing without signing anybody in. Only its digest is kept. route, group : whose
    address it confirms, or which incident it gives a verdict on, as whom."""

    digest = models.CharField(max_length=64, unique=True)
    route = models.ForeignKey(Route, on_delete=models.CASCADE, related_name="links")
    group = models.ForeignKey(Group, null=True, on_delete=models.CASCADE, related_name="links")
    expires_at = models.DateTimeField()

    class Meta:
        db_table = "mail_link"


class Delivery(models.Model):
    """A notice on its way to one route. attempts : when, with what outcome, and in which words; due_at : the next try;
    is_beyond : held because the route has had its most for the hour."""

    notice = models.ForeignKey(Notice, on_delete=models.CASCADE, related_name="deliveries")
    route = models.ForeignKey(Route, on_delete=models.CASCADE, related_name="deliveries")
    state = models.CharField(max_length=8, choices=OUTBOX_STATES, default=WAITING)
    is_beyond = models.BooleanField(default=False)
    attempts = models.JSONField(default=list)
    due_at = models.DateTimeField(db_default=Now(), null=True)
    claimed_until = models.DateTimeField(null=True)
    created_at = models.DateTimeField(db_default=Now())

    class Meta:
        db_table = "delivery"
        unique_together = [("notice", "route")]
        indexes = [models.Index(fields=["state", "due_at"])]
