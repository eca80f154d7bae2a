"""The tide table: one row a stream, with its state and the strongest of its open findings."""

import struct
import threading
from collections import Counter, OrderedDict
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from functools import cached_property
from typing import Any, NamedTuple

import numpy as np
import orjson
from cachetools import LRUCache
from django.db import connection

from watchtide.core.judge import fleet
from watchtide.core.series import SECOND_NS
from watchtide.engine.many import together
from watchtide.plan.model import Fleet
from watchtide.server.logbook import services as logbook
from watchtide.server.moments import at, ns
from watchtide.server.negotiation import Json
from watchtide.server.scans import arranged, reading, services, standing
from watchtide.server.scans.models import Scan, ScanStream, Standing
from watchtide.server.streams import catalogue
from watchtide.server.streams.models import HIDDEN, Stream, title_of

HOUR_NS = 3_600 * SECOND_NS
# A stream is silent when it is this many of its steps behind the newest of the table.
SILENT_STEPS = 24
# Samples closer than a second come in bursts, of which there may be none for a night or a Sunday.
BURST_SILENT_NS = 48 * HOUR_NS
# Tables kept by one process: with and without ribbons, and by the fleet's rule.
MOST_KEPT = 4
# Orders and words by which one of them is kept arranged.
MOST_WAYS = 32
# Streams whose ribbons one answer has at most, and the form of each: its number, its length, and that many signed bytes.
MOST_RIBBONS = 1_000
RIBBON_HEAD = struct.Struct("<IH")
_lock = threading.Lock()
_kept: "OrderedDict[Any, tuple[Any, Shared]]" = OrderedDict()


@dataclass(frozen=True)
class Strongest:
    """Which of the open findings stand on top: so many, at most so many a family and a stream, within a span in ns."""

    most: int = 8
    family: int = 3
    stream: int = 1
    begin: int | None = None
    end: int | None = None


def open_findings() -> list[dict[str, Any]]:
    """What somebody should look at, of all standing scans, strongest first."""
    return [f for f in reading.standing_findings() if _is_open(f)]


class Facts(NamedTuple):
    """What the table shows of a stream itself."""

    id: int
    metric: str
    title_given: str
    title_own: str
    unit: str
    zone: str
    bad_side: str
    step_ns: int
    cadence: str
    owner: str
    attributes: list[list[str]]
    lateness_ns: int | None


class Row(NamedTuple):
    """What of a scanned stream the table shows; the rest of its row is far longer."""

    scan: int
    stream: int
    last_value: float | None
    last_ns: int | None
    ribbon: bytes
    from_ns: int | None
    to_ns: int | None
    blocks: bytes = b""


@dataclass
class Made:
    """What a table was made of: of each finished scan what it has of its streams, and of each stream what its row rests on, and the row. The next table
    takes from it what is still so."""

    scanned: dict[tuple[int, datetime | None], dict[int, Row]] = field(default_factory=dict)
    rows: dict[int, tuple[Any, dict[str, Any]]] = field(default_factory=dict)


@dataclass(frozen=True)
class Shared:
    """The tide table as everybody has it, kept as long as it is so. facts : beside the rows; findings : the open ones, strongest first; open_by_scan :
    when each scan finished, and how many of them are its."""

    facts: dict[str, Any]
    rows: list[dict[str, Any]]
    findings: list[dict[str, Any]]
    open_by_scan: tuple[tuple[datetime | None, int], ...]
    made: "Made"

    def new_since(self, last_looked: datetime | None) -> int:
        """Open findings of scans that finished after somebody looked last; all, if they never did."""
        return sum(
            n
            for finished, n in self.open_by_scan
            if last_looked is None or (finished is not None and finished > last_looked)
        )

    @cached_property
    def all_rows(self) -> orjson.Fragment:
        """Every row as JSON: megabytes where there are thousands, so only once somebody wants them."""
        return orjson.Fragment(Json().render(self.rows))

    @cached_property
    def by_number(self) -> dict[int, dict[str, Any]]:
        """Rows by the number of their stream."""
        return {row["id"]: row for row in self.rows}

    def bad_side(self, stream: int) -> str:
        return self.by_number[stream]["bad_side"] if stream in self.by_number else "both"

    @cached_property
    def _words(self) -> list[str]:
        return [arranged.words_of(row) for row in self.rows]

    @cached_property
    def _arranged(self) -> LRUCache[tuple[str, str, bool], arranged.Arranged]:
        return LRUCache(MOST_WAYS)

    def arranged(self, sort: str, text: str, *, by_family: bool = True) -> arranged.Arranged:
        """The rows in an order and by words; the latest few ways are kept, as a window of the same way follows another."""
        key = sort, " ".join(text.lower().split()), by_family
        with _lock:
            known = self._arranged.get(key)
            if known is None:
                known = self._arranged[key] = arranged.arrange(
                    self.rows, self._words, sort, text, by_family=by_family
                )
        return known


def shared(rate: float | None, *, has_ribbons: bool = True) -> Shared:
    """The tide table, put together once a process for everybody who looks, and anew only when something of it has changed. rate : of the fleet's
    rule, None without it."""
    key = rate, has_ribbons
    # Others who look meanwhile wait for the same table.
    with _lock:
        state = _state_of_all()
        known = _kept.get(key)
        if known is None or known[0] != state:
            table = tide_table(rate, has_ribbons=has_ribbons, before=known[1].made if known else None)
            names = ("rows", "findings", "open_by_scan", "made")
            known = state, Shared(table, *(table.pop(name) for name in names))
            _kept[key] = known
            while len(_kept) > MOST_KEPT:
                _kept.popitem(last=False)
        _kept.move_to_end(key)
        return known[1]


# What the table shows of streams, of what stands for them, and of who took which finding, each in one number: sums of checksums, which
# the order of rows does not change. The rows of a finished scan do not change, however many scans there have been.
_STATES = (
    "SELECT COUNT(*), COALESCE(SUM(CRC32(CONCAT_WS(CHAR(31), id, `key`, title_given, title_own, unit, zone, bad_side, owner, kind, step_ns,"
    " cadence, COALESCE(denominator_id, 0), COALESCE(lateness_ns, 0)))), 0) FROM stream",
    "SELECT COUNT(*), COALESCE(SUM(CRC32(CONCAT_WS(CHAR(31), stream_id, COALESCE(scan_id, 0)))), 0) FROM standing",
    "SELECT COUNT(*), COALESCE(SUM(CRC32(CONCAT_WS(CHAR(31), id, taken_by))), 0) FROM finding WHERE taken_by > ''",
    "SELECT 0, COALESCE(MAX(id), 0) FROM finding",
    "SELECT COUNT(*), COALESCE(SUM(CRC32(CONCAT_WS(CHAR(31), id, finished_at))), 0) FROM scan",
)


def _state_of_all() -> tuple[Any, ...]:
    with connection.cursor() as cursor:
        found = []
        for query in _STATES:
            cursor.execute(query)
            found.append(tuple(map(int, cursor.fetchone())))
    return logbook.version(), *found


def ribbons(streams: Iterable[int]) -> bytes:
    """The ribbons of these streams by their standing scans, in their order; streams without one are left out."""
    wanted = list(streams)
    pairs = Standing.objects.filter(stream_id__in=wanted, scan__isnull=False).values_list(
        "stream_id", "scan_id"
    )
    scans = dict(pairs)
    found = {
        stream: ribbon
        for stream, scan, ribbon in ScanStream.objects.filter(
            stream_id__in=wanted, scan_id__in=set(scans.values())
        ).values_list("stream_id", "scan_id", "ribbon")
        if scans.get(stream) == scan
    }
    return b"".join(RIBBON_HEAD.pack(s, len(found[s])) + bytes(found[s]) for s in wanted if s in found)


def tide_table(
    rate: float | None = None,
    metric: str | None = None,
    *,
    has_ribbons: bool = True,
    before: Made | None = None,
) -> dict[str, Any]:
    """One row a stream, and the open findings, strongest first. rate : the share of false ones to allow across all streams, day by day; None lets every
    finding through. metric : of these streams only. before : what a table of the same kind was made of."""
    # What counters hold, and what ratios divide by, is there for others to read.
    found = Stream.objects.exclude(kind__in=HIDDEN).filter(numerators__isnull=True)
    if metric is not None:
        found = found.filter(metric=metric)
    streams = [Facts(*facts) for facts in found.order_by("metric", "pk").values_list(*Facts._fields)]
    stands = {s: scan for scan, s in standing.pairs()}
    finished = dict(Scan.objects.filter(pk__in=set(stands.values())).values_list("pk", "finished_at"))
    made = Made()
    only = None if metric is None else [stream.id for stream in streams]
    _read_scanned(made, before, finished, only, has_ribbons=has_ribbons, has_blocks=rate is not None)
    scanned = {(scan, s): row for (scan, _), rows in made.scanned.items() for s, row in rows.items()}
    findings, held_back = _held_to_fleet(reading.standing_findings(), scanned, rate)
    by_stream: dict[int, list[dict[str, Any]]] = {}
    for f in findings:
        by_stream.setdefault(f["stream"], []).append(f)
    newest = max((r.last_ns for r in scanned.values() if r.last_ns is not None), default=None)
    for stream in streams:
        r = scanned.get((stands.get(stream.id, 0), stream.id))
        rests_on = stream, stands.get(stream.id), r, by_stream.get(stream.id, []), newest
        known = before.rows.get(stream.id) if before is not None else None
        made.rows[stream.id] = known if known and known[0] == rests_on else (rests_on, _row(*rests_on))
    rows = [row for _, row in made.rows.values()]
    unjudged_all = [f for f in findings if _is_open(f)]
    ends = [(r["ribbon_from"], r["ribbon_to"]) for r in rows if r["ribbon_from"] is not None]
    return {
        "rows": rows,
        "span_from": min((a for a, _ in ends), default=None),
        "span_to": max((b for _, b in ends), default=None),
        "zone": catalogue.usual_zone() or "UTC",
        "open": len(unjudged_all),
        "open_by_scan": tuple(
            (finished.get(s), n) for s, n in Counter(f["scan"] for f in unjudged_all).items()
        ),
        "held_back": held_back,
        "quiet": sum(f["quiet"] and f["verdict"] is None for f in findings),
        "fleet_promise": fleet.PROMISE if rate is not None else "",
        "findings": unjudged_all,
        "made": made,
    }


def _row(
    stream: Facts, scan: int | None, r: Row | None, mine: Sequence[dict[str, Any]], newest: int | None
) -> dict[str, Any]:
    """One row of the table. mine : the findings of the stream; newest : the newest sample of all streams."""
    unjudged = [f for f in mine if _is_open(f)]
    return {
        "id": stream.id,
        "metric": stream.metric,
        "title": title_of(stream.title_given, stream.title_own, stream.metric),
        "unit": stream.unit,
        "zone": stream.zone,
        "bad_side": stream.bad_side,
        "step_s": stream.step_ns / 1e9,
        "cadence": stream.cadence,
        "scan": scan,
        "last_value": r.last_value if r else None,
        "last": at(r.last_ns) if r else None,
        "state": _state(stream, r, unjudged, newest),
        "open": len(unjudged),
        "strongest": max((f["score"] or 0 for f in unjudged), default=0.0),
        "newest": max((f["start"] for f in unjudged), default=None),
        "owner": stream.owner,
        "attributes": " ".join(f"{name}={value}" for name, value in stream.attributes),
        "judged_until": _judged_until(stream, r),
        "ribbon": services.ribbon_text(r.ribbon) if r else "",
        "ribbon_from": at(r.from_ns) if r else None,
        "ribbon_to": at(r.to_ns) if r else None,
        "marks": [
            {"time": f["start"], "side": 1 if f["direction"] == "up" else -1}
            for f in mine
            if f["kind"] == "shift"
        ],
    }


def _read_scanned(
    made: Made, before: Made | None, finished: dict[int, datetime | None], only: Sequence[int] | None, *,
    has_ribbons: bool, has_blocks: bool,
) -> None:  # fmt: skip
    """What these scans have of their streams; of one that was known as finished it is what it was. only : of these streams."""
    known = before.scanned if before is not None else {}
    made.scanned.update({key: known[key] for key in finished.items() if key in known})
    fresh = [scan for scan, when in finished.items() if (scan, when) not in made.scanned]
    # Without what nobody wants the rows are a tenth as long.
    left_out = [n for n, is_wanted in (("ribbon", has_ribbons), ("blocks", has_blocks)) if not is_wanted]
    columns = {name: _COLUMNS.get(name, name) for name in Row._fields if name not in left_out}
    found = ScanStream.objects.filter(scan_id__in=fresh)
    if only is not None:
        found = found.filter(stream_id__in=only)
    for scan in fresh:
        made.scanned[scan, finished[scan]] = {}
    for values in found.values_list(*columns.values()):
        row = Row(**dict.fromkeys(left_out, b""), **dict(zip(columns, values, strict=True)))
        made.scanned[row.scan, finished[row.scan]][row.stream] = row


_COLUMNS = {"scan": "scan_id", "stream": "stream_id", "from_ns": "ribbon_from_ns", "to_ns": "ribbon_to_ns"}


def _is_open(f: dict[str, Any]) -> bool:
    """Whether somebody should look: no verdict yet, and not in planned work."""
    return f["verdict"] is None and not f["quiet"]


def _held_to_fleet(
    findings: list[dict[str, Any]], scanned: dict[tuple[int, int], Row], rate: float | None
) -> tuple[list[dict[str, Any]], int]:
    """The findings that stand out of all streams of their days, and how many open ones do not."""
    if rate is None:
        return findings, 0
    # Scans of an earlier version kept no p-values: all of theirs are shown until they are scanned again.
    rows = {
        key: np.frombuffer(bytes(r.blocks), services.BLOCK) for key, r in scanned.items() if len(r.blocks)
    }
    keeping = together.rejected(
        [b["number"].astype(np.int64) for b in rows.values()],
        [b["p"].astype(np.float64) for b in rows.values()],
        Fleet(rate=rate),
    )
    days = dict(zip(rows, keeping, strict=True))

    def stands_out(f: dict[str, Any]) -> bool:
        own = days.get((f["scan"], f["stream"]))
        span = fleet.numbers(ns(f["start"]), ns(f["end"]), services.BLOCK_NS)
        return f["kind"] != "outlier" or own is None or not own.isdisjoint(span)

    kept = [f for f in findings if stands_out(f)]
    return kept, sum(map(_is_open, findings)) - sum(map(_is_open, kept))


def _judged_until(stream: Facts | Stream, row: Row | None) -> np.datetime64 | None:
    """Until when a stream's samples are all there, by its usual lateness; None where it is not known to be late."""
    if row is None or row.to_ns is None or not stream.lateness_ns:
        return None
    return at(row.to_ns - stream.lateness_ns)


def _state(
    stream: Facts | Stream, row: Row | None, unjudged: Sequence[dict[str, Any]], newest: int | None
) -> str:
    if row is None or row.last_ns is None:
        return "learning"
    usual = (
        BURST_SILENT_NS if 0 < stream.step_ns < SECOND_NS else SILENT_STEPS * max(stream.step_ns, 1) + HOUR_NS
    )
    if newest is not None and newest - row.last_ns > usual:
        return "silent"
    since = at(row.last_ns - 24 * HOUR_NS)
    return "adrift" if any(f["kind"] == "outlier" and f["end"] > since for f in unjudged) else "steady"


def strongest(findings: Sequence[dict[str, Any]], caps: Strongest) -> list[dict[str, Any]]:
    """The first of these, at most so many, so many a family and so many a stream, within the span."""
    chosen: list[dict[str, Any]] = []
    begin, end = at(caps.begin), at(caps.end)
    for f in findings:
        if (begin is not None and f["end"] < begin) or (end is not None and f["start"] > end):
            continue
        family = sum(c["metric"] == f["metric"] for c in chosen)
        stream = sum(c["stream"] == f["stream"] for c in chosen)
        if family < caps.family and stream < caps.stream:
            chosen.append(f)
        if len(chosen) == caps.most:
            break
    return chosen
