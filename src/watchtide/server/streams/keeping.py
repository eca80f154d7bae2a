"""What the streams need all the time: feeds fetched, live blocks folded, rates and formulas renewed, leftovers swept."""

import time
from concurrent.futures import Future, ThreadPoolExecutor
from datetime import timedelta

from django.db import connection
from django.db.models import Max, Min, Sum
from structlog.contextvars import bound_contextvars

from watchtide.server import moments
from watchtide.server.jobs.duties import Duty
from watchtide.server.people import sessions, trail
from watchtide.server.streams import feeds, files, folding, renewing, store, undoing
from watchtide.server.streams.models import Batch, Feed

FOLD_SAMPLES = 1_000_000
# A fold rewrites the last segment of every stream that got something: the more streams, the rarer.
FOLD_AGE_S, FOLD_AGE_A_STREAM_S, MOST_FOLD_AGE_S = 10.0, 0.02, 300.0
SWEEP_EVERY_S = 3_600.0


class Fetching:
    """Feeds that are due, each in a thread: a slow one holds up neither the others nor the folding."""

    def __init__(self, threads: int = 4) -> None:
        self._pool = ThreadPoolExecutor(threads, thread_name_prefix="feed")
        self._running: dict[int, Future[bool]] = {}

    def __call__(self) -> None:
        self._running = {pk: f for pk, f in self._running.items() if not f.done()}
        for feed in feeds.due():
            if feed.pk not in self._running:
                self._running[feed.pk] = self._pool.submit(_pull, feed)


def renew() -> None:
    if Batch.objects.filter(is_renewed=False, accepted_at__isnull=False).exists():
        renewing.renew()


def fold() -> None:
    if is_fold_due():
        # A job may be folding a file; the live samples are read from their blocks meanwhile.
        folding.fold(wait_s=0)


def duties() -> list[Duty]:
    """What is done in turn, a round a second."""
    first_sweep = time.monotonic() + 60
    return [
        Duty("fetch feeds", Fetching()),
        Duty("renew rates and formulas", renew),
        Duty("fold live samples", fold),
        Duty("sweep leftovers", undoing.sweep, every_s=SWEEP_EVERY_S, due_at=first_sweep),
        Duty("delete old audit entries", trail.forget_old, every_s=SWEEP_EVERY_S, due_at=first_sweep),
        Duty("forget old sessions", sessions.forget_old, every_s=SWEEP_EVERY_S, due_at=first_sweep),
        Duty("forget old uploads", files.sweep_uploads, every_s=SWEEP_EVERY_S, due_at=first_sweep),
        Duty("apply retention", undoing.apply_retention, every_s=SWEEP_EVERY_S, due_at=first_sweep),
    ]


def _pull(feed: Feed) -> bool:
    try:
        with bound_contextvars(feed=feed.pk):
            return feeds.pull(feed)
    finally:
        connection.close()


def is_fold_due() -> bool:
    """Whether enough live samples wait, or some for long. Files have a job of their own for it."""
    waiting = store.waiting_blocks().exclude(batch__door="file")
    facts = waiting.aggregate(
        samples=Sum("samples"), since=Min("batch__accepted_at"), streams=Max("batch__streams")
    )
    if not facts["samples"]:
        return False
    age = min(FOLD_AGE_S + FOLD_AGE_A_STREAM_S * facts["streams"], MOST_FOLD_AGE_S)
    return facts["samples"] >= FOLD_SAMPLES or moments.now() - facts["since"] >= timedelta(seconds=age)
