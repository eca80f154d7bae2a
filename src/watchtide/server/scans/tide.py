"""The tide table: one row a stream, with its state and the strongest of its open findings."""

import struct
import threading
from collections import Counter, OrderedDict
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any, NamedTuple

import numpy as np
import orjson
from django.db import connection

from watchtide.core.judge import fleet
from watchtide.core.series import SECOND_NS
from watchtide.engine.many import together
from watchtide.plan.model import Fleet
from watchtide.server.logbook import services as logbook
from watchtide.server.moments import at, ns
from watchtide.server.negotiation import Json
from watchtide.server.scans import reading, services, standing
from watchtide.server.scans.models import Scan, ScanStream, Standing
from watchtide.server.streams import catalogue
from watchtide.server.streams.models import HIDDEN, Stream

HOUR_NS = 3_600 * SECOND_NS
# A stream is silent when it is this many of its steps behind the newest of the table.
SILENT_STEPS = 24
# Samples closer than a second come in bursts, of which there may be none for a night or a Sunday.
BURST_SILENT_NS = 48 * HOUR_NS
# Tables kept by one process: with and without ribbons, and by the fleet's rule.
MOST_KEPT = 4
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


@dataclass(frozen=True)
class Shared:
    """The tide table as everybody has it. facts : beside the rows; rows : as JSON; findings : the open ones, strongest first; open_by_scan : when each
    scan finished, and how many of them are its."""

    facts: dict[str, Any]
    rows: orjson.Fragment
    findings: list[dict[str, Any]]
    open_by_scan: tuple[tuple[datetime | None, int], ...]

    def new_since(self, last_looked: datetime | None) -> int:
        """Open findings of scans that finished after somebody looked last; all, if they never did."""
        return sum(
            n
            for finished, n in self.open_by_scan
            if last_looked is None or (finished is not None and finished > last_looked)
        )


def shared(rate: float | None, *, has_ribbons: bool = True) -> Shared:
    """The tide table, put together once a process for everybody who looks, and anew only when something of it has changed. rate : of the fleet's
    rule, None without it."""
    key = rate, has_ribbons
    # Others who look meanwhile wait for the same table.
    with _lock:
        state = _state_of_all()
        known = _kept.get(key)
        if known is None or known[0] != state:
            table = tide_table(rate, has_ribbons=has_ribbons)
            rows = orjson.Fragment(Json().render(table.pop("rows")))
            known = state, Shared(table, rows, table.pop("findings"), table.pop("open_by_scan"))
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
    rate: float | None = None, metric: str | None = None, *, has_ribbons: bool = True
) -> dict[str, Any]:
    """One row a stream, and the open findings, strongest first. rate : the share of false ones to allow across all streams, day by day; None lets every
    finding through. metric : of these streams only."""
    stands = {s: scan for scan, s in standing.pairs()}
    finished = dict(Scan.objects.filter(pk__in=set(stands.values())).values_list("pk", "finished_at"))
    scanned = _scanned(finished, has_ribbons=has_ribbons, has_blocks=rate is not None)
    findings, held_back = _held_to_fleet(reading.standing_findings(), scanned, rate)
    by_stream: dict[int, list[dict[str, Any]]] = {}
    for f in findings:
        by_stream.setdefault(f["stream"], []).append(f)
    newest = max((r.last_ns for r in scanned.values() if r.last_ns is not None), default=None)
    rows = []
    # What counters hold, and what ratios divide by, is there for others to read.
    streams = Stream.objects.exclude(kind__in=HIDDEN).filter(numerators__isnull=True)
    if metric is not None:
        streams = streams.filter(metric=metric)
    for stream in streams.defer("arrivals").order_by("metric", "pk"):
        scan = stands.get(stream.pk)
        r = None if scan is None else scanned.get((scan, stream.pk))
        mine = by_stream.get(stream.pk, [])
        unjudged = [f for f in mine if _is_open(f)]
        rows.append(
            {
                "id": stream.pk,
                "metric": stream.metric,
                "title": stream.title,
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
        )
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
    }


def _scanned(scans: Iterable[int], *, has_ribbons: bool, has_blocks: bool) -> dict[tuple[int, int], Row]:
    """The rows of these scans, by scan and stream."""
    fields = [
        "scan_id",
        "stream_id",
        "last_value",
        "last_ns",
        "ribbon",
        "ribbon_from_ns",
        "ribbon_to_ns",
        "blocks",
    ]
    # Without what nobody wants the rows are a tenth as long.
    left_out = [n for n, is_wanted in (("ribbon", has_ribbons), ("blocks", has_blocks)) if not is_wanted]
    wanted = [n for n in fields if n not in left_out]
    out = {}
    for values in ScanStream.objects.filter(scan_id__in=scans).values_list(*wanted):
        of = dict.fromkeys(left_out, b"") | dict(zip(wanted, values, strict=True))
        row = Row(*(of[n] for n in fields))
        out[row.scan, row.stream] = row
    return out


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


def _judged_until(stream: Stream, row: Row | None) -> np.datetime64 | None:
    """Until when a stream's samples are all there, by its usual lateness; None where it is not known to be late."""
    if row is None or row.to_ns is None or not stream.lateness_ns:
        return None
    return at(row.to_ns - stream.lateness_ns)


def _state(stream: Stream, row: Row | None, unjudged: Sequence[dict[str, Any]], newest: int | None) -> str:
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
