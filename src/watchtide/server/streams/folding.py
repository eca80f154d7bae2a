"""Folding: intake blocks into segments, oldest first, rewriting only the segments they touch.

One fold runs at a time, under a lock of the database. Every group of blocks is folded in one transaction: its
segments are there and its blocks marked, or neither. What a batch wrote over is kept with it for undoing.
"""

import logging
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field

import numpy as np
from django.db import connection, transaction

from watchtide.core.series import SECOND_NS, Floats, Ints, cadence
from watchtide.plan import durations
from watchtide.server import moments, patience
from watchtide.server.jobs import services as jobs
from watchtide.server.problems import Busy
from watchtide.server.streams import store
from watchtide.server.streams.models import CADENCE_STATED, Batch, Block, Displaced, Segment, Stream
from watchtide.tables import clock

log = logging.getLogger("watchtide.folding")
# Blocks folded in one transaction; in memory they take 16 bytes a sample, and as much again for sorting.
GROUP_SAMPLES = 4_000_000
STREAMS_AT_ONCE = 500
ARRIVALS = 64
# The cadence of a stream is estimated from so many of its newest samples, anew each time there are twice as many as then,
# and whenever the last differences differ from it by as much as a coarser or finer cadence does.
CADENCE_SAMPLES = 4_096
LAST_STEPS = 64
LEAST_ARRIVALS = 5
MOST_LATE_S = 2 * 86_400

Samples = tuple[Ints, Floats]


@contextmanager
def one_at_a_time(wait_s: int = 300) -> Iterator[None]:
    """Hold the lock that every change of segments needs; it goes with the connection, however that ends."""
    name = f"fold {connection.settings_dict['NAME']}"[:64]
    with connection.cursor() as cursor:
        cursor.execute("SELECT GET_LOCK(%s, %s)", [name, wait_s])
        if cursor.fetchone()[0] != 1:
            raise Busy("samples are being rearranged; try again in a few minutes")
        try:
            yield
        finally:
            cursor.execute("SELECT RELEASE_LOCK(%s)", [name])


def fold(
    tell: Callable[[int], None] = lambda done: None, *, group_samples: int = GROUP_SAMPLES, wait_s: int = 300
) -> int:
    """Fold every accepted block. Returns the number of samples folded. Raises Busy after `wait_s`."""
    total = 0
    with one_at_a_time(wait_s):
        while group := _next_group(group_samples):
            total += _fold_what_can_be(group)
            tell(total)
    return total


def _fold_what_can_be(group: Sequence[int]) -> int:
    """Fold a group, and where that fails its halves: what cannot be folded by itself goes into quarantine, not the rest."""
    try:
        return _fold_whole(group)
    except (MemoryError, OSError):
        # The machine's fault and not the batch's.
        raise
    except Exception as error:
        if patience.is_passing(error):
            raise
        if len(group) == 1:
            _quarantine(group[0], error)
            return 0
    middle = len(group) // 2
    return _fold_what_can_be(group[:middle]) + _fold_what_can_be(group[middle:])


@patience.retried
def _fold_whole(group: Sequence[int]) -> int:
    with transaction.atomic():
        return _fold_group(group)


def _quarantine(block: int, error: Exception) -> None:
    """Take the batch of a block that cannot be folded out of all answers, and say so; its blocks are kept as they are."""
    log.error("block %s cannot be folded; its batch goes into quarantine", block, exc_info=error)
    with transaction.atomic():
        batch = Batch.objects.get(blocks=block)
        batch.quarantined_at = moments.now()
        batch.quarantine_reason = f"block {block}: {type(error).__name__}: {error}"[:500]
        batch.save(update_fields=["quarantined_at", "quarantine_reason"])
        jobs.tell("batch", batch.pk)


def _next_group(most: int) -> list[int]:
    """Numbers of the oldest blocks to be folded together."""
    found = store.waiting_blocks()
    group: list[int] = []
    held = 0
    for pk, samples in found.order_by("batch__accepted_at", "batch_id", "pk").values_list("pk", "samples"):
        if group and held + samples > most:
            break
        group.append(pk)
        held += samples
    return group


@dataclass
class _Piece:
    batch: int
    times: Ints
    values: Floats
    is_derived: bool = False


@dataclass
class Changes:
    """What a fold writes, gathered over many streams so that few statements do it."""

    drop: list[int] = field(default_factory=list)
    make: list[Segment] = field(default_factory=list)
    displaced: list[Displaced] = field(default_factory=list)
    streams: list[Stream] = field(default_factory=list)


def _fold_group(group: Sequence[int]) -> int:
    pieces: dict[int, list[_Piece]] = {}
    received: dict[int, float] = {}
    count = 0
    blocks = {b.pk: b for b in Block.objects.filter(pk__in=group).select_related("batch")}
    for pk in group:
        block = blocks.pop(pk)
        index = store.Index.from_bytes(bytes(block.index))
        if block.batch.door in ("push", "pull"):
            received[block.batch_id] = block.batch.created_at.timestamp()
        for stream, times, values in store.of_streams(bytes(block.payload), index):
            piece = _Piece(block.batch_id, times, values, block.batch.door == "derived")
            pieces.setdefault(stream, []).append(piece)
        count += block.samples
    ids, streams = sorted(pieces), list[Stream]()
    for a in range(0, len(ids), STREAMS_AT_ONCE):
        some = ids[a : a + STREAMS_AT_ONCE]
        streams += _fold_streams({i: pieces[i] for i in some}, received)
    # Last, and so for a moment only: whoever writes about a stream, as a finding that is raised, waits for who writes to its row.
    write_facts(streams)
    Block.objects.filter(pk__in=group).update(folded_at=moments.now())
    return count


def _fold_streams(pieces: dict[int, list[_Piece]], received: dict[int, float]) -> list[Stream]:
    """Fold what came for some streams; returns them with their new facts, which are not written yet. Who else changes these facts
    holds the lock of `one_at_a_time` too."""
    changes = Changes()
    # Locked with whoever writes about a stream; who deletes one waits. In the order of their numbers.
    shared = "SELECT * FROM stream WHERE id IN %s ORDER BY id LOCK IN SHARE MODE"
    streams = {s.pk: s for s in Stream.objects.raw(shared, [tuple(pieces)])}
    known: dict[int, list[tuple[int, int, int, int]]] = {}
    found = Segment.objects.filter(stream_id__in=list(pieces)).order_by("stream_id", "first_ns")
    for pk, stream, first, last, n in found.values_list("pk", "stream_id", "first_ns", "last_ns", "count"):
        known.setdefault(stream, []).append((pk, first, last, n))
    touched = {i: _touched(known.get(i, []), parts) for i, parts in pieces.items() if i in streams}
    wanted = [pk for rows in touched.values() for pk, *_ in rows]
    payloads = dict(Segment.objects.filter(pk__in=wanted).values_list("pk", "payload"))
    for i, rows in touched.items():
        old = [store.unpack(bytes(payloads.pop(pk))) for pk, *_ in rows]
        _fold_one(streams[i], rows, old, pieces[i], known.get(i, []), changes)
        learn_lateness(streams[i], pieces[i], received)
    write_segments(changes)
    return changes.streams


def _touched(known: list[tuple[int, int, int, int]], parts: list[_Piece]) -> list[tuple[int, int, int, int]]:
    """Segments that the new samples overlap, and short ones right before them.

    A short neighbour is taken along while it is at most twice as long as what is gathered: so each sample is
    rewritten about log2(16,384) times while a stream grows by few at a time, and few short segments remain.
    """
    low = min(int(p.times[0]) for p in parts)
    high = max(int(p.times[-1]) for p in parts)
    rows = [r for r in known if r[2] >= low and r[1] <= high]
    gathered = sum(len(p.times) for p in parts) + sum(r[3] for r in rows)
    for row in reversed([r for r in known if r[2] < low]):
        if row[3] >= store.SEGMENT_SAMPLES or row[3] > 2 * gathered:
            break
        rows.insert(0, row)
        gathered += row[3]
    return rows


def _fold_one(
    stream: Stream,
    rows: list[tuple[int, int, int, int]],
    old: list[Samples],
    parts: list[_Piece],
    known: list[tuple[int, int, int, int]],
    changes: Changes,
) -> None:
    times, values = store.merge(old)
    whole_t, whole_v = store.merge([(times, values), *((p.times, p.values) for p in parts)])
    # Where no stamp stands twice, as is usual, nothing is displaced.
    if len(whole_t) < len(times) + sum(len(p.times) for p in parts):
        changes.displaced += _displaced(stream, times, values, parts)
    if stream.kind == "samples":
        whole_t, whole_v = _without_withdrawn(whole_t, whole_v, parts)
    kept = [r for r in known if r not in rows]
    replace_segments(stream, [r[0] for r in rows], whole_t, whole_v, kept, changes)


def _without_withdrawn(times: Ints, values: Floats, parts: list[_Piece]) -> Samples:
    """Without the samples that combining sources withdrew: as missing ones they would pass for the stream's own stamps."""
    withdrawn = [p.times[np.isnan(p.values)] for p in parts if p.is_derived]
    if not any(len(t) for t in withdrawn):
        return times, values
    keep = ~(np.isnan(values) & np.isin(times, np.concatenate(withdrawn)))
    return times[keep], values[keep]


def _displaced(stream: Stream, times: Ints, values: Floats, parts: list[_Piece]) -> list[Displaced]:
    """What each batch in its turn writes over."""
    by_batch: dict[int, list[Samples]] = {}
    for p in parts:
        by_batch.setdefault(p.batch, []).append((p.times, p.values))
    out = []
    for batch, samples in by_batch.items():
        t, v = store.merge(samples)
        gone = _not_its_own(batch, stream.pk, *displaced_by(times, values, t))
        if len(gone[0]):
            out.append(Displaced(batch_id=batch, stream_id=stream.pk, payload=store.pack(*gone)))
        times, values = store.merge([(times, values), (t, v)])
    return out


def displaced_by(times: Ints, values: Floats, new: Ints) -> Samples:
    """Samples whose stamps are among the new ones."""
    if len(times) == 0 or len(new) == 0 or new[0] > times[-1] or new[-1] < times[0]:
        return times[:0], values[:0]
    at = np.minimum(np.searchsorted(times, new), len(times) - 1)
    at = at[times[at] == new]
    return times[at], values[at]


def _not_its_own(batch: int, stream: int, times: Ints, values: Floats) -> Samples:
    """Without what an earlier block of the same batch wrote in an earlier fold."""
    if len(times) == 0:
        return times, values
    earlier = Block.objects.filter(batch_id=batch, folded_at__isnull=False).order_by("pk")
    for own, _ in store.pieces(list(earlier.values_list("pk", flat=True)), stream):
        keep = ~np.isin(times, own)
        times, values = times[keep], values[keep]
    return times, values


def replace_segments(
    stream: Stream, drop: list[int], times: Ints, values: Floats, kept: list[tuple[int, int, int, int]], changes: Changes
) -> None:  # fmt: skip
    """Plan to put these samples in the place of some segments, and bring the stream's facts up to date."""
    changes.drop += drop
    size = store.SEGMENT_SAMPLES
    for a in range(0, len(times), size):
        t = times[a : a + size]
        changes.make.append(
            Segment(
                stream_id=stream.pk,
                first_ns=int(t[0]),
                last_ns=int(t[-1]),
                count=len(t),
                payload=store.pack(t, values[a : a + size]),
            )
        )
    firsts = [r[1] for r in kept] + ([int(times[0])] if len(times) else [])
    lasts = [r[2] for r in kept] + ([int(times[-1])] if len(times) else [])
    stream.first_ns, stream.last_ns = min(firsts, default=None), max(lasts, default=None)
    stream.samples = sum(r[3] for r in kept) + len(times)
    learn_cadence(stream, times)
    changes.streams.append(stream)


def write(changes: Changes) -> None:
    write_segments(changes)
    write_facts(changes.streams)


def write_segments(changes: Changes) -> None:
    Segment.objects.filter(pk__in=changes.drop).delete()
    Segment.objects.bulk_create(changes.make, batch_size=100)
    _keep_displaced(changes.displaced)


def write_facts(streams: Sequence[Stream]) -> None:
    """Write what folding knows of streams, in the order of their numbers, so that two writers never wait for one another."""
    # One plain statement a row: a tenth of the time that building bulk_update's expressions takes.
    facts = ("first_ns", "last_ns", "samples", "arrivals", "lateness_ns", "step_ns", "cadence", "cadence_of")
    # A cadence that was stated meanwhile stands; `cadence_of` says so, and is written last.
    stated = [f"{name} = IF(cadence_of = {CADENCE_STATED}, {name}, %s)" for name in facts[-3:]]
    places = ", ".join([*(f"{name} = %s" for name in facts[:-3]), *stated])
    with connection.cursor() as cursor:
        cursor.executemany(
            f"UPDATE stream SET {places} WHERE id = %s",
            [[*(getattr(s, name) for name in facts), s.pk] for s in sorted(streams, key=lambda s: s.pk)],
        )


def _keep_displaced(rows: Sequence[Displaced]) -> None:
    """Keep what batches wrote over, together with what their blocks in earlier folds did."""
    found = Displaced.objects.filter(
        batch_id__in={r.batch_id for r in rows}, stream_id__in={r.stream_id for r in rows}
    )
    earlier = {(d.batch_id, d.stream_id): d for d in found} if rows else {}
    for row in rows:
        held = earlier.get((row.batch_id, row.stream_id))
        if held is not None:
            row.payload = store.pack(
                *store.merge([store.unpack(bytes(held.payload)), store.unpack(row.payload)])
            )
            held.delete()
    Displaced.objects.bulk_create(rows, batch_size=100)


def learn_cadence(stream: Stream, times: Ints) -> None:
    """Estimate a stream's cadence from samples just written, where there is reason to."""
    if len(times) < 2 or stream.cadence_of == CADENCE_STATED:
        return
    if stream.step_ns and stream.samples < 2 * stream.cadence_of and not _has_changed(stream, times):
        return
    found = cadence.find(times[-CADENCE_SAMPLES:], lambda t: clock.utc_locals(t, stream.zone))
    stream.step_ns = found.cadence.step_ns
    stream.cadence = "" if found.cadence.is_even else durations.format_every(found.cadence)
    stream.cadence_of = stream.samples


def _has_changed(stream: Stream, times: Ints) -> bool:
    """Whether the newest differences are those of another cadence."""
    if stream.last_ns is None or int(times[-1]) < stream.last_ns or len(times) < cadence.KNOWN_STAMPS:
        return False
    usual = float(np.median(np.diff(times[-LAST_STEPS - 1 :])))
    return (
        not stream.step_ns / cadence.COARSER < usual < stream.step_ns * cadence.COARSER and not stream.cadence
    )


def learn_lateness(stream: Stream, parts: Sequence[_Piece], received: dict[int, float]) -> None:
    """How late this stream's samples usually arrive: the 95th percentile of the latest 64 pushes and pulls.

    The newest sample of a batch tells; one more than two days old is history filled in, and tells nothing.
    """
    late = [received[p.batch] - float(p.times[-1]) / SECOND_NS for p in parts if p.batch in received]
    late = [s for s in late if s <= MOST_LATE_S]
    if not late:
        return
    arrivals = np.r_[np.frombuffer(bytes(stream.arrivals), "<f4"), np.maximum(late, 0)][-ARRIVALS:]
    stream.arrivals = arrivals.astype("<f4").tobytes()
    if len(arrivals) >= LEAST_ARRIVALS:
        stream.lateness_ns = int(np.quantile(arrivals, 0.95) * SECOND_NS)
