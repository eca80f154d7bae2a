"""Undoing a batch, retention, and the sweep of what is no longer needed."""

from collections.abc import Callable
from contextlib import AbstractContextManager
from datetime import datetime, timedelta
from typing import Any

import numpy as np
from django.conf import settings
from django.db import transaction
from django.db.models import Q

from watchtide.core.series import SECOND_NS, Floats, Ints
from watchtide.server import moments
from watchtide.server.jobs import services as jobs
from watchtide.server.jobs.models import OPEN, Job
from watchtide.server.problems import Problem
from watchtide.server.streams import corrections, folding, renewing, rolling, store
from watchtide.server.streams.models import Batch, Block, Displaced, RollPart, Segment, Stream

DAY_NS = 86_400 * SECOND_NS


def undo_window() -> timedelta:
    return timedelta(days=settings.UNDO_DAYS)


def can_undo(batch: Batch, now: datetime | None = None) -> bool:
    """now : of a list of batches, read once for all."""
    return (
        batch.accepted_at is not None
        and batch.undone_at is None
        and batch.door != "derived"
        and batch.accepted_at > (now or moments.now()) - undo_window()
    )


def check(batch: Batch) -> None:
    """Raise Problem (409) for a batch that cannot be undone any more."""
    if batch.undone_at is not None:
        raise Problem(
            "this batch has been undone", place=f"batch {batch.pk}", remedy="store the file again", code=409
        )
    if not can_undo(batch):
        days = settings.UNDO_DAYS
        raise Problem(
            f"a batch can be undone for {days} days", place=f"batch {batch.pk}", remedy="correct it by a new batch", code=409
        )  # fmt: skip


def undo(batch: Batch, user: Any, begin: Callable[[], AbstractContextManager[Any]] = store.snapshot) -> int:
    """Take a batch back: its samples go, what it wrote over returns, later batches stay. Returns streams touched.

    begin : what begins the transaction, as a job's own does.
    """
    check(batch)
    folding.fold()
    with folding.one_at_a_time(), begin():
        locked = Batch.objects.select_for_update().get(pk=batch.pk)
        if locked.undone_at is not None:
            raise Problem(
                "this batch has been undone", place=f"batch {batch.pk}", remedy="reload the page", code=409
            )
        if locked.quarantined_at is not None:
            # Nobody ever saw what could not be folded.
            locked.blocks.filter(folded_at__isnull=True).delete()
        if locked.blocks.filter(folded_at__isnull=True).exists():
            raise Problem("the batch is still being folded", remedy="try again in a minute", code=503)
        ids = streams_of(locked)
        anew = rolling.corrections(locked, ids) if locked.roll_parts.exists() else []
        changed = renewing.spans_of([locked]) if locked.door in ("push", "pull") else {}
        spans = renewing.spans_of([*anew, locked])
        for gone in [*anew, locked]:
            _undo_samples(gone)
        corrections.report(locked, corrections.UNDONE, spans)
        redone = rolling.take_back(locked, anew)
        Batch.objects.filter(pk__in=[b.pk for b in anew]).delete()
        locked.undone_at, locked.undone_by = moments.now(), user
        # The same file may be stored again: its key is free.
        locked.key = f"undone-{locked.pk}-{locked.key}"[:64]
        locked.save(update_fields=["undone_at", "undone_by", "key"])
        jobs.tell("batch", locked.pk)
        renewing.after_undo(changed, locked)
        if redone:
            jobs.enqueue("fold", "Fold what an undone roll-up left", {})
    return len(ids)


def _undo_samples(batch: Batch) -> None:
    """Take a folded batch's samples out of all its streams."""
    later = _later_blocks(batch)
    changes = folding.Changes()
    for stream in Stream.objects.select_for_update().filter(pk__in=streams_of(batch)).order_by("pk"):
        _undo_stream(batch, stream, later.get(stream.pk, {}), changes)
    folding.write(changes)
    # From here on it is no later batch to any other.
    batch.blocks.all().delete()
    batch.displaced.all().delete()


def _later_blocks(batch: Batch) -> dict[int, dict[int, list[int]]]:
    """By stream of this batch: the later batches that wrote to it, in order, each with its blocks."""
    found = Block.objects.filter(batch__undone_at__isnull=True).filter(
        Q(batch__accepted_at__gt=batch.accepted_at)
        | Q(batch__accepted_at=batch.accepted_at, batch_id__gt=batch.pk)
    )
    blocks = list(found.order_by("batch__accepted_at", "batch_id", "pk").values_list("pk", "batch_id"))
    own = np.array(streams_of(batch), np.int64)
    out: dict[int, dict[int, list[int]]] = {}
    for (pk, number), index in zip(blocks, store.indexes.of([pk for pk, _ in blocks]), strict=True):
        for stream in np.intersect1d(index.entries["stream"], own).tolist():
            out.setdefault(stream, {}).setdefault(number, []).append(pk)
    return out


def streams_of(batch: Batch) -> list[int]:
    return sorted(renewing.spans_of([batch]))


def _undo_stream(batch: Batch, stream: Stream, later: dict[int, list[int]], changes: folding.Changes) -> None:
    own, _ = written_by(batch, stream.pk)
    back_t, back_v = _displaced(batch.pk, stream.pk)
    for newer, blocks in later.items():
        tsuccessors, _ = store.merge(list(store.pieces(blocks, stream.pk)))
        both = np.isin(own, tsuccessors)
        if not both.any():
            continue
        # The newer batch wrote over this one's samples; now it has written over what was there before.
        _displace_instead(newer, stream.pk, own[both], back_t, back_v)
        own = own[~both]
        keep = np.isin(back_t, own)
        back_t, back_v = back_t[keep], back_v[keep]
    if len(own) == 0:
        return
    rows = list(Segment.objects.filter(stream=stream).order_by("first_ns").values_list("pk", "first_ns", "last_ns", "count"))  # fmt: skip
    low, high = int(own[0]), int(own[-1])
    touched = [r for r in rows if r[2] >= low and r[1] <= high]
    payloads = dict(Segment.objects.filter(pk__in=[r[0] for r in touched]).values_list("pk", "payload"))
    times, values = store.merge([store.unpack(bytes(payloads[r[0]])) for r in touched])
    stay = ~np.isin(times, own)
    times, values = store.merge([(times[stay], values[stay]), (back_t, back_v)])
    kept = [r for r in rows if r not in touched]
    folding.replace_segments(stream, [r[0] for r in touched], times, values, kept, changes)


def written_by(batch: Batch, stream_id: int) -> tuple[Ints, Floats]:
    """The samples a batch wrote to a stream, from its kept blocks."""
    blocks = list(batch.blocks.order_by("pk").values_list("pk", flat=True))
    return store.merge(list(store.pieces(blocks, stream_id)))


def _displaced(batch: int, stream_id: int) -> tuple[Ints, Floats]:
    found = Displaced.objects.filter(batch_id=batch, stream_id=stream_id).first()
    return store.unpack(bytes(found.payload)) if found else (np.empty(0, np.int64), np.empty(0))


def _displace_instead(newer: int, stream_id: int, stamps: Ints, back_t: Ints, back_v: Floats) -> None:
    times, values = _displaced(newer, stream_id)
    stay = ~np.isin(times, stamps)
    from_before = np.isin(back_t, stamps)
    times, values = store.merge([(times[stay], values[stay]), (back_t[from_before], back_v[from_before])])
    Displaced.objects.filter(batch_id=newer, stream_id=stream_id).delete()
    if len(times):
        Displaced.objects.create(batch_id=newer, stream_id=stream_id, payload=store.pack(times, values))


def expired(stream: Stream, days: int, now_ns: int) -> dict[str, Any]:
    """What keeping a stream for so many days would drop: samples, and up to when. Changes nothing."""
    cutoff = now_ns - days * DAY_NS
    times, _ = store.read(stream.pk, None, cutoff - 1)
    return {"stream": stream.pk, "title": stream.title, "samples": len(times), "before_ns": cutoff}


def apply_retention(now_ns: int | None = None) -> int:
    """Drop samples older than each stream is to be kept. Returns how many went."""
    now = now_ns if now_ns is not None else moments.now_ns()
    dropped = 0
    folding.fold()
    for stream in Stream.objects.filter(retention_days__isnull=False, first_ns__isnull=False).order_by("pk"):
        cutoff = now - int(stream.retention_days or 0) * DAY_NS
        if stream.first_ns is not None and stream.first_ns < cutoff:
            with folding.one_at_a_time(), transaction.atomic():
                dropped += _drop_before(stream.pk, cutoff)
    return dropped


def _drop_before(stream_id: int, cutoff: int) -> int:
    stream = Stream.objects.select_for_update().get(pk=stream_id)
    rows = list(Segment.objects.filter(stream=stream).order_by("first_ns").values_list("pk", "first_ns", "last_ns", "count"))  # fmt: skip
    old = [r for r in rows if r[1] < cutoff]
    edge = [r for r in old if r[2] >= cutoff]
    payloads = dict(Segment.objects.filter(pk__in=[r[0] for r in edge]).values_list("pk", "payload"))
    times, values = store.merge([store.unpack(bytes(payloads[r[0]])) for r in edge])
    a = int(np.searchsorted(times, cutoff))
    changes = folding.Changes()
    kept = [r for r in rows if r not in old]
    folding.replace_segments(stream, [r[0] for r in old], times[a:], values[a:], kept, changes)
    folding.write(changes)
    return sum(r[3] for r in old) - (len(times) - a)


def sweep() -> dict[str, int]:
    """Remove what can no longer be needed: dead batches, blocks past tsuccessor undo window, handed-in files."""
    now = moments.now()
    if not Job.objects.filter(kind="intake", state__in=OPEN).exists():
        for batch in Batch.objects.filter(accepted_at__isnull=True, created_at__lt=now - timedelta(hours=1)):
            discard(batch)
    past = now - undo_window()
    blocks, _ = Block.objects.filter(folded_at__isnull=False, batch__accepted_at__lt=past).delete()
    Displaced.objects.filter(batch__accepted_at__lt=past).delete()
    rolled = rolling.compact(past)
    # Empty batches of pushes are many and say nothing any more.
    Batch.objects.filter(
        door__in=("push", "pull", "derived"), accepted_at__lt=past, blocks__isnull=True
    ).exclude(pk__in=RollPart.objects.values("batch_id")).delete()
    return {"blocks": blocks, "rolled": rolled}


def discard(batch: Batch) -> None:
    """Forget a batch that was never accepted, with the streams that were made for it and got nothing.

    Another batch that has not been accepted yet may have found these streams: it takes them over, and if it comes to nothing
    they go with it.
    """
    streams = Stream.objects.filter(made_by=batch, samples=0)
    with transaction.atomic():
        ids = list(streams.select_for_update().values_list("pk", flat=True))
        batch.delete()
        successor = (
            Batch.objects.filter(accepted_at__isnull=True, undone_at__isnull=True).order_by("pk").first()
        )
        if successor is not None:
            Stream.objects.filter(pk__in=ids).update(made_by=successor)
            return
        held = {int(s) for _, index in store.pending() for s in index.entries["stream"]}
        Stream.objects.filter(pk__in=set(ids) - held, standing__isnull=True, scanstream__isnull=True).delete()
