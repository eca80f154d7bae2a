"""All findings of the standing scans with their verdicts: quick with a hundred thousand of them, and quicker where little has changed.

What was found of a stream, and its rows, are kept by the process for as long as what they rest on is the same.
"""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from itertools import groupby
from operator import itemgetter
from typing import Any, NamedTuple

import numpy as np
from django.db.models import Count, Max, Sum

from watchtide.core.scoring import verdicts
from watchtide.core.series import keys
from watchtide.server.logbook import services as logbook
from watchtide.server.moments import at
from watchtide.server.scans.models import Finding, Standing
from watchtide.server.streams.models import Stream, title_of

FIELDS = (
    "pk", "stream_id", "scan_id", "start_ns", "end_ns", "kind", "direction", "score", "peak_ns", "peak_value", "expected",
    "points", "size", "confidence", "raised_ns",
)  # fmt: skip
# Streams of a scan that are read anew by their numbers; of more than these the whole scan is read.
MOST_BY_NUMBER = 1_000

Place = tuple[int, int]


class Named(NamedTuple):
    """What rows say of their stream."""

    key: str
    metric: str
    title: str
    unit: str
    zone: str


@dataclass(frozen=True)
class Found:
    """What a scan found of one stream: its findings as FIELDS by start, and as arrays (k,) what is reckoned with."""

    mark: tuple[float, ...]
    fields: list[tuple[Any, ...]]
    pk: Any
    start: Any
    end: Any
    peak: Any
    score: Any


@dataclass(frozen=True)
class Rows:
    """Findings of one stream as the screens show them, and what else than the findings they rest on."""

    found: Found
    rests_on: tuple[Any, ...]
    rows: list[dict[str, Any]]


@dataclass(frozen=True)
class Kept:
    """All findings as they were put together last: by what state, in their order, and by scan and stream."""

    state: tuple[Any, ...]
    rows: list[dict[str, Any]]
    made: dict[Place, Rows]


NOTHING = Kept((), [], {})
# Replaced as a whole: requests are answered in several threads.
_kept = NOTHING


def forget() -> None:
    """Keep nothing, as a process does that has just begun."""
    global _kept
    _kept = NOTHING


def _of_rows(mark: tuple[float, ...], fields: list[tuple[Any, ...]]) -> Found:
    named = dict(zip(FIELDS, zip(*fields, strict=True), strict=True))
    peak = [s if p is None else p for s, p in zip(named["start_ns"], named["peak_ns"], strict=True)]
    whole = (np.array(x, np.int64) for x in (named["pk"], named["start_ns"], named["end_ns"], peak))
    return Found(mark, fields, *whole, np.array([x or 0.0 for x in named["score"]], np.float64))


def _findings(mark: dict[Place, tuple[float, ...]], made: dict[Place, Rows]) -> dict[Place, Found]:
    """What was found in each of these places, a scan and a stream; read where what was made before is of another."""
    before = {place: made[place].found for place in mark if place in made}
    known = {place: found for place, found in before.items() if found.mark == mark[place]}
    fresh: dict[int, list[int]] = {}
    for scan, stream in mark.keys() - known.keys():
        fresh.setdefault(scan, []).append(stream)
    for scan, streams in fresh.items():
        own = Finding.objects.filter(scan_id=scan)
        if len(streams) <= MOST_BY_NUMBER:
            own = own.filter(stream_id__in=streams)
        wanted = set(streams)
        ordered = own.order_by("stream_id", "start_ns", "pk").values_list(*FIELDS)
        for stream, rows in groupby(ordered, key=itemgetter(1)):
            if stream in wanted:
                known[scan, stream] = _of_rows(mark[scan, stream], list(rows))
    return known


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
        self._known: dict[str, list[tuple[int, int, int, str]]] = {}

    def covering(self, key: str) -> list[tuple[int, int, int, str]]:
        """(number, start, end, verdict) of the entries that cover a stream, in the order they were made."""
        if key not in self._known:
            self._known[key] = sorted(r for own in keys.covering(self._by_scope, key) for r in own)
        return self._known[key]

    def taken(self, key: str, start: Any, end: Any, peak: Any) -> tuple[Any, Any]:
        """(numbers of the entries whose verdict findings of a stream take, 0 for none; places in VERDICTS, -1 for none)."""
        own = self.covering(key)
        if not own:
            return np.zeros(len(start), np.int64), np.full(len(start), -1, np.int64)
        pk, a, b = (np.array([r[i] for r in own], np.int64) for i in range(3))
        rank = np.array([verdicts.PRECEDENCE[r[3]] for r in own], np.int64)
        at = verdicts.taken(start, end, peak, a, b, rank)
        return np.where(at >= 0, pk[at], 0), np.where(at >= 0, rank[at], -1)


VERDICTS = tuple(verdicts.PRECEDENCE)


def pairs(stream: int | None = None) -> list[tuple[int, int]]:
    """(scan, stream) of what stands."""
    held = Standing.objects.filter(scan__isnull=False)
    if stream is not None:
        held = held.filter(stream_id=stream)
    return list(held.values_list("scan_id", "stream_id"))


def marks(places: Sequence[Place], stream: int | None = None) -> dict[Place, tuple[float, ...]]:
    """Of each place where something was found, what tells that it is the same as before."""
    wanted = set(places)
    sums = {
        "n": Count("pk"), "last": Max("pk"), "starts": Sum("start_ns"), "ends": Sum("end_ns"), "scores": Sum("score"),
    }  # fmt: skip
    found = Finding.objects.filter(scan_id__in={scan for scan, _ in places})
    if stream is not None:
        found = found.filter(stream_id=stream)
    told = found.order_by().values_list("scan_id", "stream_id").annotate(**sums)
    return {
        (scan, own): (*map(int, whole), scores or 0.0)
        for scan, own, *whole, scores in told
        if (scan, own) in wanted
    }


def rows(stream: int | None = None) -> list[dict[str, Any]]:
    """All findings of the standing scans as the screens show them, strongest first. Not to be changed: they are kept.

    Those of a stream are put together anew when its findings, entries over it, its name, or who took what have changed.
    """
    global _kept
    mark = marks(pairs(stream), stream)
    named = _named(mark)
    held: dict[int, dict[int, str]] = {}
    taken = Finding.objects.filter(scan_id__in={scan for scan, _ in mark}).exclude(taken_by="")
    for own, pk, name in taken.values_list("stream_id", "pk", "taken_by"):
        held.setdefault(own, {})[pk] = name
    state = (logbook.version(), mark, held, named)
    kept = _kept
    if stream is None and kept.state == state:
        return kept.rows
    entries, spans = Entries(), logbook.quiet_spans()
    made: dict[Place, Rows] = {}
    for place, found in _findings(mark, kept.made).items():
        own = named[place[1]]
        rests_on = (
            own, entries.covering(own.key), tuple(logbook.quiet_for(own.key, spans)), held.get(place[1], {}),
        )  # fmt: skip
        known = kept.made.get(place)
        if known is None or known.found is not found or known.rests_on != rests_on:
            known = Rows(found, rests_on, _rows_of(own, found, entries, *rests_on[2:]))
        made[place] = known
    out = _in_order(made.values())
    if stream is None:
        _kept = Kept(state, out, made)
    return out


def _rows_of(
    own: Named, found: Found, entries: Entries, quiet: Iterable[tuple[int, int]], held: dict[int, str]
) -> list[dict[str, Any]]:
    """The findings of one stream as rows, with the verdicts of the entries over it."""
    pk, verdict = entries.taken(own.key, found.start, found.end, found.peak)
    is_quiet = np.zeros(len(found.start), np.bool_)
    for low, high in quiet:
        is_quiet |= (found.start <= high) & (found.end >= low)
    shared = {"metric": own.metric, "title": own.title, "unit": own.unit, "zone": own.zone}
    more = zip(found.fields, pk.tolist(), verdict.tolist(), is_quiet.tolist(), strict=True)
    return [row((*fields, *rest), shared, held.get(fields[0], "")) for fields, *rest in more]


def _in_order(made: Iterable[Rows]) -> list[dict[str, Any]]:
    """The rows of several streams, strongest first; of equal ones the earlier one."""
    each = list(made)
    if not each:
        return []
    flat = [row for own in each for row in own.rows]
    pk, start, score = (
        np.concatenate([getattr(own.found, n) for own in each]) for n in ("pk", "start", "score")
    )
    return [flat[i] for i in np.lexsort((pk, start, -score)).tolist()]


def _named(places: Iterable[Place]) -> dict[int, Named]:
    fields = ("pk", "key", "metric", "title_given", "title_own", "unit", "zone")
    wanted = {stream for _, stream in places}
    found = Stream.objects.all() if len(wanted) > MOST_BY_NUMBER else Stream.objects.filter(pk__in=wanted)
    return {
        pk: Named(key, metric, title_of(given, own, metric), unit, zone)
        for pk, key, metric, given, own, unit, zone in found.values_list(*fields)
        if pk in wanted
    }


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
