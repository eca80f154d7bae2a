"""Samples in two layers: immutable intake blocks, folded into segments by a job (`folding`).

A batch is written as blocks, each one INSERT; nothing of it is visible until the last transaction marks the
batch accepted. Reads merge segments with the blocks not yet folded; of two samples with one stamp the one
received later wins.
"""

import hashlib
import threading
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from itertools import pairwise

import numpy as np
import pyarrow as pa
import pyarrow.parquet as papq
from django.db import connection, transaction
from django.db.models import QuerySet

from watchtide.core.series import SECOND_NS, Floats, Ints
from watchtide.server.streams.models import Batch, Block, Segment, Stream
from watchtide.tables.extract import without_doubles

SEGMENT_SAMPLES = 16_384
# Two packed columns of random numbers stay just under 16 MB for this many samples.
BLOCK_SAMPLES = 1_000_000
DAY_NS = 86_400 * SECOND_NS
_ENTRY = np.dtype([("stream", "<i8"), ("start", "<i4"), ("count", "<i4"), ("first", "<i8"), ("last", "<i8")])
_FRAME = np.dtype([("sample", "<i4"), ("byte", "<i4")])


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
    file = papq.ParquetFile(pa.BufferReader(payload))
    table = file.read(use_threads=False)
    return table.column(0).to_numpy(), table.column(1).to_numpy()


@dataclass(frozen=True)
class Index:
    """What lies where in a block: one entry a stream, sorted by it, and the first sample and byte of each frame."""

    entries: np.ndarray
    frames: np.ndarray

    def to_bytes(self) -> bytes:
        head = np.array([len(self.entries), len(self.frames)], "<i4").tobytes()
        plain = head + self.entries.tobytes() + self.frames.tobytes()
        packed = pa.compress(plain, codec="zstd", asbytes=True)
        return np.array([len(plain)], "<i4").tobytes() + packed

    @staticmethod
    def from_bytes(data: bytes) -> "Index":
        size = int(np.frombuffer(data, "<i4", 1)[0])
        plain = pa.decompress(data[4:], size, codec="zstd", asbytes=True)
        n, m = np.frombuffer(plain, "<i4", 2)
        entries = np.frombuffer(plain, _ENTRY, n, 8)
        return Index(entries, np.frombuffer(plain, _FRAME, m, 8 + n * _ENTRY.itemsize))

    def find(self, stream_id: int) -> np.void | None:
        at = int(np.searchsorted(self.entries["stream"], stream_id))
        if at < len(self.entries) and self.entries["stream"][at] == stream_id:
            return self.entries[at]
        return None

    def bytes_of(self, entry: np.void, payload_size: int) -> tuple[int, int, int]:
        """(first byte, byte past the last, first sample) of the frames that hold an entry."""
        start, stop = int(entry["start"]), int(entry["start"] + entry["count"])
        a = int(np.searchsorted(self.frames["sample"], start, side="right")) - 1
        b = int(np.searchsorted(self.frames["sample"], stop, side="left"))
        end = int(self.frames["byte"][b]) if b < len(self.frames) else payload_size
        return int(self.frames["byte"][a]), end, int(self.frames["sample"][a])


def make_block(streams: Ints, times: Ints, values: Floats) -> tuple[bytes, Index]:
    """Payload and index of samples already sorted by stream, then time."""
    starts = np.flatnonzero(np.r_[True, np.diff(streams) != 0]) if len(streams) else np.empty(0, np.int64)
    counts = np.diff(np.r_[starts, len(streams)])
    entries = np.empty(len(starts), _ENTRY)
    entries["stream"], entries["start"], entries["count"] = streams[starts], starts, counts
    entries["first"], entries["last"] = times[starts], times[starts + counts - 1]
    parts, frames, size = [], [], 0
    for a in range(0, len(times), SEGMENT_SAMPLES):
        frames.append((a, size))
        parts.append(pack(times[a : a + SEGMENT_SAMPLES], values[a : a + SEGMENT_SAMPLES]))
        size += len(parts[-1])
    return b"".join(parts), Index(entries, np.array(frames, _FRAME))


def read_frames(payload: bytes, index: Index, first_byte: int = 0) -> tuple[Ints, Floats]:
    """All samples of the frames that lie in these bytes, which begin at `first_byte` of the payload."""
    inside = index.frames["byte"][
        (index.frames["byte"] >= first_byte) & (index.frames["byte"] < first_byte + len(payload))
    ]
    cuts = [*(int(b) - first_byte for b in inside), len(payload)]
    parts = [unpack(payload[a:b]) for a, b in pairwise(cuts)]
    return np.concatenate([p[0] for p in parts]), np.concatenate([p[1] for p in parts])


def of_streams(payload: bytes, index: Index) -> Iterator[tuple[int, Ints, Floats]]:
    """(stream, times, values) of each stream in a whole block."""
    times, values = read_frames(payload, index)
    columns = (index.entries[name].tolist() for name in ("stream", "start", "count"))
    for stream, a, n in zip(*columns, strict=True):
        yield stream, times[a : a + n], values[a : a + n]


def by_stream_and_time(streams: Ints, times: Ints) -> Ints:
    """Order by stream, then time, equal ones as they stand; quick where times rise within each stream."""
    least = int(streams.min()) if len(streams) else 0
    codes = streams - least
    # Sixteen bits are sorted by radix, many times as fast as by comparing.
    small = codes.astype(np.uint16) if len(codes) and codes.max() < 65_536 else codes
    order = np.argsort(small, kind="stable")
    s, t = codes[order], times[order]
    if np.any((np.diff(t) < 0) & (np.diff(s) == 0)):
        return np.lexsort((times, codes))
    return order


class BlockWriter:
    """Writes a batch's samples as blocks, each in a transaction of its own, in bounded memory.

    Equal stamps of a stream are combined by the batch's rule, also where they stand in different blocks: `finish`
    finds those and writes one more block with what they come to.
    """

    def __init__(self, batch: Batch, rule: str = "mean", *, block_samples: int | None = None) -> None:
        self.batch, self.rule = batch, rule
        self.samples = 0
        self.first_ns: int | None = None
        self.last_ns: int | None = None
        self.doubles = 0
        self._most = block_samples or BLOCK_SAMPLES
        self._held: list[tuple[Ints, Ints, Floats]] = []
        self._count = 0
        self._written: list[tuple[int, np.ndarray]] = []
        self._weights: list[dict[int, tuple[Ints, Ints]]] = []

    def add(self, streams: Ints, times: Ints, values: Floats) -> None:
        for a in range(0, len(times), self._most):
            b = min(a + self._most, len(times))
            if self._count and self._count + b - a > self._most:
                self.flush()
            self._held.append((streams[a:b], times[a:b], values[a:b]))
            self._count += b - a

    def flush(self) -> None:
        if not self._count:
            return
        streams, times, values = (np.concatenate([h[i] for h in self._held]) for i in range(3))
        self._held, self._count = [], 0
        order = by_stream_and_time(streams, times)
        streams, times, values = streams[order], times[order], values[order]
        weights: dict[int, tuple[Ints, Ints]] = {}
        if np.any((np.diff(times) == 0) & (np.diff(streams) == 0)):
            streams, times, values, weights = self._combine(streams, times, values)
        entries = self._write(streams, times, values)
        self._written.append(entries)
        self._weights.append(weights)

    def _combine(
        self, streams: Ints, times: Ints, values: Floats
    ) -> tuple[Ints, Ints, Floats, dict[int, tuple[Ints, Ints]]]:
        cuts = np.r_[0, np.flatnonzero(np.diff(streams)) + 1, len(streams)]
        out: list[tuple[Ints, Ints, Floats]] = []
        weights: dict[int, tuple[Ints, Ints]] = {}
        for a, b in pairwise(cuts):
            t, v, n = without_doubles(times[a:b], values[a:b], self.rule)
            if len(t) < b - a:
                weights[int(streams[a])] = (t[n != 1], n[n != 1])
                self.doubles += int(b - a - len(t))
            out.append((np.full(len(t), streams[a]), t, v))
        s, t, v = (np.concatenate([o[i] for o in out]) for i in range(3))
        return s, t, v, weights

    def _write(self, streams: Ints, times: Ints, values: Floats) -> tuple[int, np.ndarray]:
        payload, index = make_block(streams, times, values)
        with transaction.atomic():
            block = Block.objects.create(
                batch=self.batch, payload=payload, index=index.to_bytes(), samples=len(times)
            )
        self.samples += len(times)
        low, high = int(times.min()), int(times.max())
        self.first_ns = low if self.first_ns is None else min(low, self.first_ns)
        self.last_ns = high if self.last_ns is None else max(high, self.last_ns)
        return block.pk, index.entries

    def finish(self) -> None:
        """Write what is held, and settle equal stamps that stand in different blocks."""
        self.flush()
        if len(self._written) < 2:
            return
        fixed: list[tuple[Ints, Ints, Floats]] = []
        for stream, blocks in self._overlapping():
            parts = [(i, *self._piece(i, stream)) for i in blocks]
            t, v = self._settle(stream, parts)
            if len(t):
                fixed.append((np.full(len(t), stream), t, v))
        if fixed:
            self.doubles += sum(len(f[1]) for f in fixed)
            s, t, v = (np.concatenate([f[i] for f in fixed]) for i in range(3))
            self._write(s, t, v)

    def _overlapping(self) -> Iterator[tuple[int, list[int]]]:
        """Streams whose pieces in several blocks overlap in time, and the blocks."""
        whole = np.concatenate([entries for _, entries in self._written])
        where = np.repeat(np.arange(len(self._written)), [len(e) for _, e in self._written])
        order = np.lexsort((whole["first"], whole["stream"]))
        stream, first, last = (whole[name][order] for name in ("stream", "first", "last"))
        # Sorted by their first stamps, pieces overlap somewhere only if two neighbours do.
        clash = (stream[1:] == stream[:-1]) & (first[1:] <= last[:-1])
        for s in np.unique(stream[1:][clash]):
            yield int(s), sorted(where[order][stream == s].tolist())

    def _piece(self, block: int, stream: int) -> tuple[Ints, Floats]:
        pk = self._written[block][0]
        return next(iter(pieces([pk], stream)))

    def _settle(self, stream: int, parts: list[tuple[int, Ints, Floats]]) -> tuple[Ints, Floats]:
        """Stamps of a stream that stand in several blocks, and what they come to by the rule."""
        times = np.concatenate([t for _, t, _ in parts])
        distinct, inverse, counts = np.unique(times, return_inverse=True, return_counts=True)
        if len(distinct) == len(times):
            return distinct[:0], np.empty(0)
        if self.rule == "last":
            return distinct[:0], np.empty(0)
        values = np.concatenate([v for _, _, v in parts])
        if self.rule == "mean":
            weights = np.concatenate([self._weight(i, stream, t) for i, t, _ in parts])
            weights = np.where(np.isnan(values), 0, weights)
            sums = np.bincount(inverse, np.where(weights > 0, values, 0) * weights, len(distinct))
            total = np.bincount(inverse, weights, len(distinct))
            with np.errstate(invalid="ignore"):
                out = np.where(total > 0, sums / total, np.nan)
        else:
            # `first`, and `refuse`, which raises here.
            _, out, _ = without_doubles(times, values, self.rule)
        return distinct[counts > 1], out[counts > 1]

    def _weight(self, block: int, stream: int, times: Ints) -> Ints:
        weights = np.ones(len(times), np.int64)
        if stream in self._weights[block]:
            at, n = self._weights[block][stream]
            weights[np.searchsorted(times, at)] = n
        return weights


def write_blocks(batch: Batch, rows: Sequence[tuple[int, Ints, Floats]], rule: str = "last") -> int:
    """Write whole streams of a batch as blocks. Returns the number of samples."""
    writer = BlockWriter(batch, rule)
    for stream, times, values in rows:
        writer.add(np.full(len(times), stream, np.int64), times, values)
    writer.finish()
    return writer.samples


class _Indexes:
    """Indexes of blocks by number; they never change, so that one read of them serves the whole process."""

    def __init__(self, most: int = 2_000) -> None:
        self._lock, self._known, self._most = threading.Lock(), dict[int, Index](), most

    def of(self, blocks: Sequence[int]) -> list[Index]:
        with self._lock:
            found = {pk: self._known[pk] for pk in blocks if pk in self._known}
        missing = [pk for pk in blocks if pk not in found]
        for pk, data in Block.objects.filter(pk__in=missing).values_list("pk", "index") if missing else ():
            found[pk] = Index.from_bytes(bytes(data))
        with self._lock:
            if len(self._known) + len(missing) > self._most:
                self._known.clear()
            self._known.update((pk, found[pk]) for pk in missing[: self._most])
        return [found[pk] for pk in blocks]


indexes = _Indexes()


def waiting_blocks() -> QuerySet[Block]:
    """Accepted blocks that are not folded, without those of batches in quarantine."""
    return Block.objects.filter(
        batch__accepted_at__isnull=False, batch__quarantined_at__isnull=True, folded_at__isnull=True
    )


def pending() -> list[tuple[int, Index]]:
    """(number, index) of accepted blocks that are not folded, in the order they count."""
    found = waiting_blocks()
    blocks = list(found.order_by("batch__accepted_at", "batch_id", "pk").values_list("pk", flat=True))
    return list(zip(blocks, indexes.of(blocks), strict=True))


def pieces(blocks: Sequence[int], stream_id: int) -> Iterator[tuple[Ints, Floats]]:
    """A stream's samples in each of these blocks, fetching only the frames that hold them."""
    for pk, index in zip(blocks, indexes.of(blocks), strict=True):
        entry = index.find(stream_id)
        if entry is None:
            yield np.empty(0, np.int64), np.empty(0)
        else:
            yield _piece(pk, index, entry)


def _piece(block: int, index: Index, entry: np.void) -> tuple[Ints, Floats]:
    first, stop, sample = index.bytes_of(entry, 1 << 30)
    with connection.cursor() as cursor:
        cursor.execute(
            "SELECT SUBSTRING(payload, %s, %s) FROM intake_block WHERE id = %s",
            [first + 1, stop - first, block],
        )
        row = cursor.fetchone()
    times, values = read_frames(bytes(row[0]), index, first)
    a = int(entry["start"]) - sample
    return times[a : a + int(entry["count"])], values[a : a + int(entry["count"])]


def read(stream_id: int, first_ns: int | None = None, last_ns: int | None = None) -> tuple[Ints, Floats]:
    """Samples of one stream in time order within a closed span."""
    segments = Segment.objects.filter(stream_id=stream_id).order_by("first_ns")
    if first_ns is not None:
        segments = segments.filter(last_ns__gte=first_ns)
    if last_ns is not None:
        segments = segments.filter(first_ns__lte=last_ns)
    low = first_ns if first_ns is not None else np.iinfo(np.int64).min
    high = last_ns if last_ns is not None else np.iinfo(np.int64).max
    # Both layers in one snapshot: a fold between the queries would hide or double samples.
    with snapshot():
        parts = [unpack(bytes(p)) for p in segments.values_list("payload", flat=True)]
        for pk, index in pending():
            entry = index.find(stream_id)
            if entry is not None and entry["last"] >= low and entry["first"] <= high:
                parts.append(_piece(pk, index, entry))
    times, values = merge(parts)
    if first_ns is not None or last_ns is not None:
        a, b = np.searchsorted(times, low), np.searchsorted(times, high, side="right")
        return times[a:b], values[a:b]
    return times, values


def newest_ns(streams: Sequence[Stream]) -> int | None:
    """Stamp of the newest sample of these streams, folded or not; None where there is none."""
    newest = [s.last_ns for s in streams if s.last_ns is not None]
    for _, index in pending():
        entries = (index.find(s.pk) for s in streams)
        newest += [int(entry["last"]) for entry in entries if entry is not None]
    return max(newest, default=None)


@contextmanager
def snapshot() -> Iterator[None]:
    """A transaction whose reads all see one moment; inside another such one it is that one's.

    Raises RuntimeError inside any other transaction: there each read would see a later moment, and a fold between two of them
    would hide samples or double them.
    """
    # Those of a test around everything it does say nothing.
    outer = [block for block in connection.atomic_blocks if not block._from_testcase]
    if outer:
        if not getattr(connection, "is_snapshot", False):
            raise RuntimeError(
                "snapshot() inside another transaction: begin that transaction with snapshot()"
            )
        yield
        return
    if not connection.in_atomic_block:
        with connection.cursor() as cursor:
            cursor.execute("SET TRANSACTION ISOLATION LEVEL REPEATABLE READ")
    with transaction.atomic():
        connection.is_snapshot = True  # type: ignore[attr-defined]
        try:
            yield
        finally:
            connection.is_snapshot = False  # type: ignore[attr-defined]


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
