"""Points pushed or pulled: to streams, as one batch that is durable once this returns."""

import threading
import time
from dataclasses import dataclass
from typing import Any

import numpy as np
from django.db import IntegrityError, transaction
from django.utils import timezone

from watchtide.server.jobs import services as jobs
from watchtide.server.streams import catalogue, store
from watchtide.server.streams.models import Batch, Derived
from watchtide.tables.points import Points, Series

# A renamed or deleted stream is found out at most this many seconds later.
CHECK_S = 1.0
MOST_KNOWN = 500_000
COUNTED = " counted"


@dataclass(frozen=True)
class Taken:
    """What became of a message. is_repeat : it had been taken before, and nothing changed."""

    points: int
    is_repeat: bool


class _Numbers:
    """Stream numbers by series, kept until the catalogue changes; shared by the threads of a process."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._known: dict[Series, int] = {}
        self._version: object = None
        self._check_at = 0.0
        self.has_derived = False

    def of(self, series: list[Series], zone: str) -> list[int]:
        with self._lock:
            if time.monotonic() > self._check_at:
                self._check_at = time.monotonic() + CHECK_S
                version = catalogue.version()
                if version != self._version or len(self._known) > MOST_KNOWN:
                    self._known, self._version = {}, version
                    self.has_derived = Derived.objects.exists()
            known = self._known
        missing = [s for s in series if s not in known]
        if missing:
            known.update(zip(missing, find_streams(missing, zone), strict=True))
        return [known[s] for s in series]

    def forget(self) -> None:
        with self._lock:
            self._known, self._version, self._check_at = {}, None, 0.0


numbers = _Numbers()
begun: dict[Series, int] = {}
_told_at = 0.0


def find_streams(series: list[Series], zone: str) -> list[int]:
    """Stream numbers of live series. What counts since it began is kept out of sight, under a name of its own."""
    by_kind: dict[tuple[str, str], list[int]] = {}
    for i, s in enumerate(series):
        by_kind.setdefault(("samples" if s.kind == "samples" else "counter", s.unit), []).append(i)
    out = [0] * len(series)
    for (kind, unit), at in by_kind.items():
        wanted = [
            (series[i].metric + (COUNTED if kind == "counter" else ""), series[i].attributes) for i in at
        ]
        found = catalogue.find_or_make(wanted, kind=kind, unit=unit[:40], zone=zone)
        for i, stream in zip(at, found, strict=True):
            out[i] = stream.pk
    return out


def take(points: Points, *, key: str, source: str, door: str, user: Any = None, zone: str = "UTC") -> Taken:
    """Store points as one batch. With a key seen before nothing changes.

    Blocks and acceptance are one transaction, so that a message is stored whole or not at all.
    """
    digest = catalogue.sha(key)
    if Batch.objects.filter(key=digest).exists():
        return Taken(0, True)
    codes, times, values = points.arrays()
    if len(codes) == 0:
        return Taken(0, False)
    ids = np.array(numbers.of(points.series, zone), np.int64)
    has_counters = any(s.kind != "samples" for s in points.series)
    now = timezone.now()
    try:
        with transaction.atomic():
            batch = Batch.objects.create(
                key=digest, source=source[:255], door=door, created_by=user, accepted_at=now, rows_taken=len(codes),
                rows_aside=points.refused_count, samples=len(codes), streams=len(ids), first_ns=int(times.min()),
                last_ns=int(times.max()), is_renewed=not (has_counters or numbers.has_derived),
            )  # fmt: skip
            writer = store.BlockWriter(batch, "last")
            writer.add(ids[codes], times, values)
            writer.finish()
    except IntegrityError:
        # Somebody sent the very same at the same moment, and was first.
        return Taken(0, True)
    _hint()
    return Taken(len(codes), False)


def _hint() -> None:
    """Tell the page that there is something new, at most once a second."""
    global _told_at
    if time.monotonic() - _told_at > 1.0:
        _told_at = time.monotonic()
        jobs.tell("push")
