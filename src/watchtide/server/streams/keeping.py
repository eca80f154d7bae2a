"""What the streams need all the time: feeds fetched, live blocks folded, rates and formulas renewed, leftovers swept."""

import contextlib
import time
from concurrent.futures import Future, ThreadPoolExecutor
from datetime import timedelta

from django.db import close_old_connections, connection
from django.db.models import Max, Min, Sum
from django.utils import timezone

from watchtide.server.problems import Busy
from watchtide.server.streams import feeds, folding, renewing, undoing
from watchtide.server.streams.models import Batch, Block, Feed

FOLD_SAMPLES = 1_000_000
# A fold rewrites the last segment of every stream that got something: the more streams, the rarer.
FOLD_AGE_S, FOLD_AGE_A_STREAM_S, MOST_FOLD_AGE_S = 10.0, 0.02, 300.0
SWEEP_EVERY_S = 3_600.0


class Keeper:
    """One round after another; a slow feed holds up neither the others nor the folding."""

    def __init__(self, threads: int = 4) -> None:
        self._pool = ThreadPoolExecutor(threads, thread_name_prefix="feed")
        self._running: dict[int, Future[bool]] = {}
        self._swept_at = time.monotonic() - SWEEP_EVERY_S + 60

    def round(self) -> None:
        close_old_connections()
        self._running = {pk: f for pk, f in self._running.items() if not f.done()}
        for feed in feeds.due():
            if feed.pk not in self._running:
                self._running[feed.pk] = self._pool.submit(_pull, feed)
        if Batch.objects.filter(is_renewed=False, accepted_at__isnull=False).exists():
            renewing.renew()
        if is_fold_due():
            # A job may be folding a file; the live samples are read from their blocks meanwhile.
            with contextlib.suppress(Busy):
                folding.fold(wait_s=0)
        if time.monotonic() - self._swept_at > SWEEP_EVERY_S:
            self._swept_at = time.monotonic()
            undoing.sweep()
            undoing.apply_retention()


def _pull(feed: Feed) -> bool:
    try:
        return feeds.pull(feed)
    finally:
        connection.close()


def is_fold_due() -> bool:
    """Whether enough live samples wait, or some for long. Files have a job of their own for it."""
    waiting = Block.objects.filter(folded_at__isnull=True, batch__accepted_at__isnull=False).exclude(
        batch__door="file"
    )
    facts = waiting.aggregate(
        samples=Sum("samples"), since=Min("batch__accepted_at"), streams=Max("batch__streams")
    )
    if not facts["samples"]:
        return False
    age = min(FOLD_AGE_S + FOLD_AGE_A_STREAM_S * facts["streams"], MOST_FOLD_AGE_S)
    return facts["samples"] >= FOLD_SAMPLES or timezone.now() - facts["since"] >= timedelta(seconds=age)
