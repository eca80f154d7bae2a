"""Points pushed or pulled: to streams, as one batch that is durable once this returns."""

import threading
import time
from dataclasses import dataclass
from typing import Any

import numpy as np
from django.db import IntegrityError, transaction

from watchtide.server import disk, moments, patience
from watchtide.server.jobs import services as jobs
from watchtide.server.problems import Problem
from watchtide.server.streams import catalogue, identity, store
from watchtide.server.streams.models import Batch, Derived
from watchtide.tables.points import Points, Series

# A renamed or deleted stream is found out at most this many seconds later.
CHECK_S = 1.0
MOST_KNOWN = 500_000


@dataclass(frozen=True)
class Taken:
    """What became of a message. is_repeat : it had been taken before, and nothing changed."""

    points: int
    is_repeat: bool


class _Numbers:
    """Stream numbers by series, kept until the catalogue changes; shared by the threads of a process."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._known: dict[Series, int | None] = {}
        self._refused: dict[Series, str] = {}
        self._indirect: set[Series] = set()
        self._version: object = None
        self._check_at = 0.0
        self.has_derived = False

    def of(self, series: list[Series], zone: str) -> list[int | None]:
        """The number of the stream that holds each series, None for one that is refused."""
        with self._lock:
            if time.monotonic() > self._check_at:
                self._check_at = time.monotonic() + CHECK_S
                version = catalogue.version()
                if version != self._version or len(self._known) > MOST_KNOWN:
                    self._known, self._version = {}, version
                    self._refused, self._indirect = {}, set()
                    self.has_derived = Derived.objects.exists()
            known = self._known
        missing = [s for s in series if s not in known]
        if missing:
            found = identity.find_streams(missing, zone)
            known.update(zip(missing, found.numbers, strict=True))
            self._refused |= found.refused
            self._indirect |= found.indirect
        return [known[s] for s in series]

    def why(self, series: Series) -> str:
        """Why a series is refused."""
        return self._refused.get(series, "a series that cannot be kept")

    def has_indirect(self, series: list[Series]) -> bool:
        """Whether a stream has to be put together from any of these."""
        return not self._indirect.isdisjoint(series)

    def forget(self) -> None:
        with self._lock:
            self._known, self._version, self._check_at = {}, None, 0.0


numbers = _Numbers()
begun: dict[Series, int] = {}
_told_at = 0.0


@patience.retried
def take(
    points: Points,
    *,
    key: str,
    source: str,
    door: str,
    user: Any = None,
    zone: str = "UTC",
    body_sha: str = "",
) -> Taken:
    """Store points as one batch. With a key seen before nothing changes.

    Blocks and acceptance are one transaction, so that a message is stored whole or not at all. body_sha : digest of what was
    sent, where the sender named the key. Raises Problem (422) where the key came with something else before.
    """
    digest = catalogue.sha(key)
    if _is_repeat(digest, body_sha):
        return Taken(0, True)
    disk.check_room()
    codes, times, values = points.arrays()
    if len(codes) == 0:
        return Taken(0, False)
    found = numbers.of(points.series, zone)
    if None in found:
        counts = np.bincount(codes, minlength=len(found))
        for s, number, count in zip(points.series, found, counts.tolist(), strict=True):
            if number is None:
                points.refuse(numbers.why(s), count)
        taken = np.array([number is not None for number in found])[codes]
        codes, times, values = codes[taken], times[taken], values[taken]
        if len(codes) == 0:
            return Taken(0, False)
    ids = np.array([number or 0 for number in found], np.int64)
    is_indirect = numbers.has_indirect(points.series)
    now = moments.now()
    try:
        with transaction.atomic():
            batch = Batch.objects.create(
                key=digest, source=source[:255], door=door, created_by=user, accepted_at=now, rows_taken=len(codes),
                rows_aside=points.refused_count, samples=len(codes), streams=len(ids), first_ns=int(times.min()),
                last_ns=int(times.max()), is_renewed=not (is_indirect or numbers.has_derived), body_sha=body_sha,
            )  # fmt: skip
            writer = store.BlockWriter(batch, "last")
            writer.add(ids[codes], times, values)
            writer.finish()
    except IntegrityError:
        # Somebody sent the same key at the same moment, and was first.
        if not _is_repeat(digest, body_sha):
            raise
        return Taken(0, True)
    _hint()
    return Taken(len(codes), False)


def _is_repeat(digest: str, body_sha: str) -> bool:
    """Whether a batch has this key. Raises Problem (422) where it held something else."""
    before = Batch.objects.filter(key=digest).values_list("body_sha", flat=True).first()
    if before is None:
        return False
    if before and body_sha and before != body_sha:
        raise Problem(
            "this key came with another body before; nothing is stored",
            place="Idempotency-Key",
            remedy="take a new key for each batch, and the same one only to send the same batch again",
            code=422,
        )
    return True


def _hint() -> None:
    """Tell the page that there is something new, at most once a second."""
    global _told_at
    if time.monotonic() - _told_at > 1.0:
        _told_at = time.monotonic()
        jobs.tell("push")
