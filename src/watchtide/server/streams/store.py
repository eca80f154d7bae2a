"""Samples in two layers: immutable intake blocks, folded into segments by a job.

A batch is written as blocks, each one INSERT; nothing of it is visible until the last transaction marks
the batch accepted. Reads merge segments with the pieces not yet folded; of two samples with one stamp the
one received later wins. Folding rewrites only the segments it touches.
"""

import hashlib
from collections.abc import Iterable, Sequence
from itertools import pairwise

import numpy as np
import pyarrow as pa
import pyarrow.parquet as papq
from django.db import transaction
from django.db.models import Max, Min

from watchtide.core.series import SECOND_NS, Floats, Ints
from watchtide.server.streams.models import Batch, Block, Piece, Segment, Stream

SEGMENT_SAMPLES = 16_384
# Two delta-packed columns stay well under 16 MB for this many samples.
BLOCK_SAMPLES = 1_000_000
DAY_NS = 86_400 * SECOND_NS

Rows = tuple[int, Ints, Floats]


def pack(times: Ints, values: Floats) -> bytes:
    """Parquet bytes of samples: delta-packed times, byte-stream-split values, zstd."""
    sink = pa.BufferOutputStream()
    papq.write_table(
        pa.table({"time": pa.array(times), "value": pa.array(values)}),
        sink,
        compression="zstd",
        use_dictionary=False,
        column_encoding={"time": "DELTA_BINARY_PACKED", "value": "BYTE_STREAM_SPLIT"},
        write_statistics=False,
        store_schema=False,
    )
    return bytes(sink.getvalue())


def unpack(payload: bytes) -> tuple[Ints, Floats]:
    table = papq.read_table(pa.BufferReader(payload))
    return table.column("time").to_numpy(), table.column("value").to_numpy()


def write_blocks(batch: Batch, rows: Iterable[Rows]) -> int:
    """Write a batch's samples as blocks, each in one transaction. Returns the number of samples."""
    pending: list[Rows] = []
    held = total = 0
    for stream, times, values in rows:
        for a in range(0, len(times), BLOCK_SAMPLES):
            part = (stream, times[a : a + BLOCK_SAMPLES], values[a : a + BLOCK_SAMPLES])
            if held and held + len(part[1]) > BLOCK_SAMPLES:
                _write_block(batch, pending)
                pending, held = [], 0
            pending.append(part)
            held += len(part[1])
            total += len(part[1])
    if pending:
        _write_block(batch, pending)
    return total


@transaction.atomic
def _write_block(batch: Batch, rows: Sequence[Rows]) -> None:
    times = np.concatenate([r[1] for r in rows])
    values = np.concatenate([r[2] for r in rows])
    block = Block.objects.create(batch=batch, payload=pack(times, values), samples=len(times))
    start = 0
    pieces = []
    for stream, t, _ in rows:
        pieces.append(
            Piece(
                block=block,
                stream_id=stream,
                start=start,
                count=len(t),
                first_ns=int(t.min()),
                last_ns=int(t.max()),
            )
        )
        start += len(t)
    Piece.objects.bulk_create(pieces, batch_size=1000)


def read(stream_id: int, first_ns: int | None = None, last_ns: int | None = None) -> tuple[Ints, Floats]:
    """Samples of one stream in time order within a closed span."""
    segments = Segment.objects.filter(stream_id=stream_id).order_by("first_ns")
    pieces = Piece.objects.filter(stream_id=stream_id, block__batch__accepted_at__isnull=False)
    if first_ns is not None:
        segments, pieces = segments.filter(last_ns__gte=first_ns), pieces.filter(last_ns__gte=first_ns)
    if last_ns is not None:
        segments, pieces = segments.filter(first_ns__lte=last_ns), pieces.filter(first_ns__lte=last_ns)
    # Both layers in one snapshot: a fold between the two queries would hide or double samples.
    with transaction.atomic():
        stored = list(segments.values_list("payload", flat=True))
        fresh = list(
            pieces.order_by("block__batch__accepted_at", "block_id").values_list(
                "block__payload", "start", "count"
            )
        )
    parts = [unpack(bytes(p)) for p in stored]
    for payload, start, count in fresh:
        times, values = unpack(bytes(payload))
        parts.append((times[start : start + count], values[start : start + count]))
    times, values = merge(parts)
    if first_ns is not None or last_ns is not None:
        a = np.searchsorted(times, first_ns) if first_ns is not None else 0
        b = np.searchsorted(times, last_ns, side="right") if last_ns is not None else len(times)
        return times[a:b], values[a:b]
    return times, values


def merge(parts: Sequence[tuple[Ints, Floats]]) -> tuple[Ints, Floats]:
    """Samples in time order; of those with one stamp the last given stays."""
    if not parts:
        return np.empty(0, np.int64), np.empty(0)
    times = np.concatenate([p[0] for p in parts])
    values = np.concatenate([p[1] for p in parts])
    if len(times) < 2 or np.all(np.diff(times) > 0):
        return times, values
    order = np.argsort(times, kind="stable")
    times, values = times[order], values[order]
    last = np.r_[times[1:] != times[:-1], True]
    return times[last], values[last]


def fold(stream_ids: Sequence[int]) -> int:
    """Fold accepted pieces of these streams into segments, rewriting those touched. Returns samples."""
    count = 0
    for stream_id in sorted(stream_ids):
        count += _fold_stream(stream_id)
    Block.objects.filter(batch__accepted_at__isnull=False, pieces__isnull=True).delete()
    return count


@transaction.atomic
def _fold_stream(stream_id: int) -> int:
    stream = Stream.objects.select_for_update().get(pk=stream_id)
    pieces = list(
        Piece.objects.filter(stream_id=stream_id, block__batch__accepted_at__isnull=False)
        .order_by("block__batch__accepted_at", "block_id")
        .select_related("block")
    )
    if not pieces:
        return 0
    low, high = min(p.first_ns for p in pieces), max(p.last_ns for p in pieces)
    touched = list(
        Segment.objects.filter(stream_id=stream_id, last_ns__gte=low, first_ns__lte=high).order_by("first_ns")
    )
    before = Segment.objects.filter(stream_id=stream_id, last_ns__lt=low).order_by("-last_ns").first()
    if before is not None and before.count < SEGMENT_SAMPLES:
        # Fill up the last segment instead of leaving a short one behind every fold.
        touched.insert(0, before)
    parts = [unpack(bytes(s.payload)) for s in touched]
    for p in pieces:
        times, values = unpack(bytes(p.block.payload))
        parts.append((times[p.start : p.start + p.count], values[p.start : p.start + p.count]))
    times, values = merge(parts)
    Segment.objects.filter(pk__in=[s.pk for s in touched]).delete()
    Segment.objects.bulk_create(
        [
            Segment(
                stream_id=stream_id,
                first_ns=int(times[a]),
                last_ns=int(times[min(a + SEGMENT_SAMPLES, len(times)) - 1]),
                count=min(SEGMENT_SAMPLES, len(times) - a),
                payload=pack(times[a : a + SEGMENT_SAMPLES], values[a : a + SEGMENT_SAMPLES]),
            )
            for a in range(0, len(times), SEGMENT_SAMPLES)
        ],
        batch_size=50,
    )
    Piece.objects.filter(pk__in=[p.pk for p in pieces]).delete()
    facts = Segment.objects.filter(stream_id=stream_id).aggregate(first=Min("first_ns"), last=Max("last_ns"))
    stream.first_ns, stream.last_ns = facts["first"], facts["last"]
    stream.samples = sum(Segment.objects.filter(stream_id=stream_id).values_list("count", flat=True))
    stream.save(update_fields=["first_ns", "last_ns", "samples"])
    return sum(p.count for p in pieces)


def digest(times: Ints, values: Floats) -> str:
    """SHA-256 over the digests of (time, value) a UTC day: the same however the samples are cut."""
    whole = hashlib.sha256()
    if len(times):
        days = times // DAY_NS
        edges = np.r_[0, np.flatnonzero(np.diff(days)) + 1, len(times)]
        # Missing samples have many bit patterns; they count as one.
        plain = np.where(np.isnan(values), np.nan, values + 0.0)
        for a, b in pairwise(edges):
            day = hashlib.sha256(times[a:b].astype("<i8").tobytes())
            day.update(plain[a:b].astype("<f8").tobytes())
            whole.update(day.digest())
    return whole.hexdigest()
