"""All findings of the standing scans with their verdicts, by column: quick with a hundred thousand of them.

What a scan found does not change; it is read once a process. Verdicts are worked out anew when the logbook changes.
"""

import threading
from collections import OrderedDict
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from django.db.models import Count, Max, Sum

from watchtide.core.scoring import verdicts
from watchtide.core.series import keys
from watchtide.server.logbook import services as logbook
from watchtide.server.moments import at
from watchtide.server.scans.models import Finding, Standing
from watchtide.server.streams.models import Stream

FIELDS = (
    "pk", "stream_id", "scan_id", "start_ns", "end_ns", "kind", "direction", "score", "peak_ns", "peak_value", "expected",
    "points", "size", "confidence", "raised_ns",
)  # fmt: skip
MOST_KEPT = 8
# Requests are answered in several threads.
_lock = threading.Lock()
_latest: list[Any] = []
_columns: OrderedDict[int, tuple[Any, "Columns"]] = OrderedDict()


@dataclass(frozen=True)
class Columns:
    """Findings of one scan: their fields as lists, and as arrays (k,) what is reckoned with."""

    lists: tuple[list[Any], ...]
    stream: Any
    start: Any
    end: Any
    peak: Any


def of_scan(scan: int, mark: Any) -> Columns:
    """What a scan found, by stream and start; mark : changes when its findings do."""
    with _lock:
        known = _columns.get(scan)
        if known is not None and known[0] == mark:
            _columns.move_to_end(scan)
            return known[1]
    rows = list(
        Finding.objects.filter(scan_id=scan).order_by("stream_id", "start_ns", "pk").values_list(*FIELDS)
    )
    lists = tuple(list(x) for x in zip(*rows, strict=True)) if rows else tuple([] for _ in FIELDS)
    named = dict(zip(FIELDS, lists, strict=True))
    peak = [s if p is None else p for s, p in zip(named["start_ns"], named["peak_ns"], strict=True)]
    arrays = (np.array(x, np.int64) for x in (named["stream_id"], named["start_ns"], named["end_ns"], peak))
    columns = Columns(lists, *arrays)
    with _lock:
        _columns[scan] = mark, columns
        while len(_columns) > MOST_KEPT:
            _columns.popitem(last=False)
    return columns


class Entries:
    """The live entries that give verdicts, by the scopes they are over."""

    def __init__(self, span: tuple[int, int] | None = None) -> None:
        found = logbook.live().exclude(verdict="reviewed")
        if span is not None:
            found = found.filter(start_ns__lte=span[1], end_ns__gte=span[0])
        by_scope: dict[frozenset[tuple[str, str]], list[tuple[int, int, int, str]]] = {}
        for scope, *row in found.order_by("pk").values_list("scope", "pk", "start_ns", "end_ns", "verdict"):
            by_scope.setdefault(keys.pairs_of(scope), []).append(tuple(row))
        self._by_scope = by_scope
        self._known: dict[str, tuple[Any, ...]] = {}

    def covering(self, key: str) -> tuple[Any, Any, Any, Any]:
        """(numbers, starts, ends, precedences) of the entries that cover a stream, in the order they were made."""
        if key not in self._known:
            rows = sorted(r for own in keys.covering(self._by_scope, key) for r in own)
            pk, start, end = (np.array([r[i] for r in rows], np.int64) for i in range(3))
            rank = np.array([verdicts.PRECEDENCE[r[3]] for r in rows], np.int64)
            self._known[key] = pk, start, end, rank
        return self._known[key]

    def taken(self, key: str, start: Any, end: Any, peak: Any) -> tuple[Any, Any]:
        """(numbers of the entries whose verdict findings of a stream take, 0 for none; places in VERDICTS, -1 for none)."""
        pk, a, b, rank = self.covering(key)
        at = verdicts.taken(start, end, peak, a, b, rank)
        if not len(pk):
            return np.zeros(len(at), np.int64), at
        return np.where(at >= 0, pk[at], 0), np.where(at >= 0, rank[at], -1)


VERDICTS = tuple(verdicts.PRECEDENCE)


def pairs(stream: int | None = None) -> list[tuple[int, int]]:
    """(scan, stream) of what stands."""
    held = Standing.objects.filter(scan__isnull=False)
    if stream is not None:
        held = held.filter(stream_id=stream)
    return list(held.values_list("scan_id", "stream_id"))


def marks(scans: Sequence[int]) -> dict[int, tuple[int, ...]]:
    """What tells that a scan's findings are the same as before."""
    sums = {"n": Count("pk"), "last": Max("pk"), "starts": Sum("start_ns"), "ends": Sum("end_ns")}
    found = Finding.objects.filter(scan_id__in=scans).values_list("scan_id").annotate(**sums)
    return {scan: tuple(map(int, mark)) for scan, *mark in found}


def rows(stream: int | None = None) -> list[dict[str, Any]]:
    """All findings of the standing scans as the screens show them, strongest first. Not to be changed: they are kept.

    They are put together anew when scans, logbook, streams or who took what have changed.
    """
    standing = pairs(stream)
    by_scan: dict[int, set[int]] = {}
    for scan, own in standing:
        by_scan.setdefault(scan, set()).add(own)
    named_by = ("key", "metric", "title_given", "title_own", "unit", "zone")
    streams = Stream.objects.only(*named_by).in_bulk({s for _, s in standing})
    mark = marks(list(by_scan))
    held = dict(
        Finding.objects.filter(scan_id__in=by_scan).exclude(taken_by="").values_list("pk", "taken_by")
    )
    named = [(s.pk, s.key, s.metric, s.title, s.unit, s.zone) for s in streams.values()]
    state = (logbook.version(), sorted(standing), mark, held, named)
    with _lock:
        if stream is None and _latest and _latest[0] == state:
            return _latest[1]
    entries = Entries()
    spans = logbook.quiet_spans()
    out: list[dict[str, Any]] = []
    for scan, wanted in by_scan.items():
        columns = of_scan(scan, mark.get(scan))
        edges = np.flatnonzero(np.diff(columns.stream)) + 1
        for a, b in zip([0, *edges.tolist()], [*edges.tolist(), len(columns.stream)], strict=True):
            if a == b or int(columns.stream[a]) not in wanted:
                continue
            own = streams[int(columns.stream[a])]
            part = slice(a, b)
            start, end, peak = columns.start[part], columns.end[part], columns.peak[part]
            pk, verdict = entries.taken(own.key, start, end, peak)
            quiet = np.zeros(b - a, np.bool_)
            for low, high in logbook.quiet_for(own.key, spans):
                quiet |= (start <= high) & (end >= low)
            shared = {"metric": own.metric, "title": own.title, "unit": own.unit, "zone": own.zone}
            told = zip(
                *(x[part] for x in columns.lists), pk.tolist(), verdict.tolist(), quiet.tolist(), strict=True
            )
            out += [row(values, shared, held.get(values[0], "")) for values in told]
    out.sort(key=lambda r: (-(r["score"] or 0), r["start"], r["id"]))
    if stream is None:
        with _lock:
            _latest[:] = state, out
    return out


def row(values: tuple[Any, ...], shared: dict[str, Any], taken_by: str) -> dict[str, Any]:
    """One finding as the screens show it. values : FIELDS, then entry, place in VERDICTS, and whether it is quiet."""
    (
        pk, stream, scan, start, end, kind, direction, score, peak, peak_value, expected, points, size, confidence, raised,
        entry, verdict, quiet,
    ) = values  # fmt: skip
    return {
        "id": pk, "stream": stream, **shared, "scan": scan, "start": at(start), "end": at(end), "kind": kind,
        "direction": direction, "score": score, "peak": at(peak), "peak_value": peak_value,
        "expected": expected, "points": points, "size": size, "confidence": confidence,
        "raised": at(raised), "taken_by": taken_by, "quiet": quiet,
        "verdict": VERDICTS[verdict] if verdict >= 0 else None, "entry": entry or None,
    }  # fmt: skip
