"""The tide table: one row a stream, with its state and the strongest of its open findings."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

import numpy as np

from watchtide.core.judge import fleet
from watchtide.core.series import SECOND_NS
from watchtide.engine.many import together
from watchtide.plan.model import Fleet
from watchtide.server.moments import at, ns
from watchtide.server.scans import reading, services
from watchtide.server.scans.models import Scan, ScanStream, Standing
from watchtide.server.streams import catalogue
from watchtide.server.streams.models import HIDDEN, Stream

HOUR_NS = 3_600 * SECOND_NS
# A stream is silent when it is this many of its steps behind the newest of the table.
SILENT_STEPS = 24
# Samples closer than a second come in bursts, of which there may be none for a night or a Sunday.
BURST_SILENT_NS = 48 * HOUR_NS
# What of a scanned stream the table shows; the rest of its row is far longer.
SHOWN = ("scan_id", "stream_id", "last_value", "last_ns", "ribbon", "ribbon_from_ns", "ribbon_to_ns")


@dataclass(frozen=True)
class Strongest:
    """Which of the open findings stand on top: so many, at most so many a family and a stream, within a span in ns.

    fleet : the share of false ones to hold across all streams, day by day; None lets every finding through.
    """

    most: int = 8
    family: int = 3
    stream: int = 1
    begin: int | None = None
    end: int | None = None
    fleet: float | None = None


def open_findings() -> list[dict[str, Any]]:
    """What somebody should look at, of all standing scans, strongest first."""
    return [f for f in reading.standing_findings() if _is_open(f)]


def tide_table(last_looked: datetime | None, caps: Strongest, metric: str | None = None) -> dict[str, Any]:
    """One row a stream, strongest open first within families, families by their strongest. metric : of these streams only."""
    stands = {s.stream_id: s for s in Standing.objects.all()}
    finished = dict(
        Scan.objects.filter(pk__in={s.scan_id for s in stands.values()}).values_list("pk", "finished_at")
    )
    fields = SHOWN if caps.fleet is None else (*SHOWN, "blocks")
    scanned = {
        (r.scan_id, r.stream_id): r for r in ScanStream.objects.filter(scan_id__in=finished).only(*fields)
    }
    findings, held_back = _held_to_fleet(reading.standing_findings(), scanned, caps.fleet)
    by_stream: dict[int, list[dict[str, Any]]] = {}
    for f in findings:
        by_stream.setdefault(f["stream"], []).append(f)
    newest = max((r.last_ns for r in scanned.values() if r.last_ns is not None), default=None)
    rows = []
    # What counters hold, and what ratios divide by, is there for others to read.
    shown = Stream.objects.exclude(kind__in=HIDDEN).filter(numerators__isnull=True)
    if metric is not None:
        shown = shown.filter(metric=metric)
    for stream in shown.order_by("metric", "pk"):
        own = stands.get(stream.pk)
        r = scanned.get((own.scan_id, stream.pk)) if own is not None and own.scan_id else None
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
                "scan": own.scan_id if own else None,
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
                "ribbon_from": at(r.ribbon_from_ns) if r else None,
                "ribbon_to": at(r.ribbon_to_ns) if r else None,
                "marks": [
                    {"time": f["start"], "side": 1 if f["direction"] == "up" else -1}
                    for f in mine
                    if f["kind"] == "shift"
                ],
            }
        )
    unjudged_all = [f for f in findings if _is_open(f)]
    new = sum(
        last_looked is None or (finished.get(f["scan"]) or last_looked) > last_looked for f in unjudged_all
    )
    ends = [(r["ribbon_from"], r["ribbon_to"]) for r in rows if r["ribbon_from"] is not None]
    return {
        "rows": rows,
        "span_from": min((a for a, _ in ends), default=None),
        "span_to": max((b for _, b in ends), default=None),
        "zone": catalogue.usual_zone() or "UTC",
        "open": len(unjudged_all),
        "held_back": held_back,
        "quiet": sum(f["quiet"] and f["verdict"] is None for f in findings),
        "fleet_promise": fleet.PROMISE if caps.fleet is not None else "",
        "new": new,
        "last_looked": last_looked,
        "strongest": strongest(unjudged_all, caps),
    }


def _is_open(f: dict[str, Any]) -> bool:
    """Whether somebody should look: no verdict yet, and not in planned work."""
    return f["verdict"] is None and not f["quiet"]


def _held_to_fleet(
    findings: list[dict[str, Any]], scanned: dict[tuple[int, int], ScanStream], rate: float | None
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


def _judged_until(stream: Stream, row: ScanStream | None) -> np.datetime64 | None:
    """Until when a stream's samples are all there, by its usual lateness; None where it is not known to be late."""
    if row is None or row.ribbon_to_ns is None or not stream.lateness_ns:
        return None
    return at(row.ribbon_to_ns - stream.lateness_ns)


def _state(
    stream: Stream, row: ScanStream | None, unjudged: Sequence[dict[str, Any]], newest: int | None
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
