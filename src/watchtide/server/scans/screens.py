"""What the screens read from scans: rows put together with a fixed number of queries."""

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from typing import Any

import numpy as np
from django.db.models import Count

from watchtide.core import choosing, explaining, fleet, keys
from watchtide.core.cadence import YEAR_NS
from watchtide.core.frame import LONG_NS, MONDAY_NS, Period
from watchtide.core.scoring import compare, wilson
from watchtide.core.scoring.card import score as score_card
from watchtide.core.scoring.rows import inside_any, touches
from watchtide.engine import forms, reduce, stages, together
from watchtide.engine.based import Baselined
from watchtide.plan.model import Fleet
from watchtide.server.logbook import services as logbook
from watchtide.server.logbook.api import EntrySerializer
from watchtide.server.logbook.models import Entry
from watchtide.server.problems import Problem
from watchtide.server.scans import services, sheets, standing
from watchtide.server.scans.models import Card, Finding, Scan, ScanStream, Standing
from watchtide.server.streams.models import HIDDEN, Stream

MS = 1_000_000
DAY_MS = 86_400_000
# A stream is silent when it is this many of its own steps behind the newest of the table.
SILENT_STEPS = 24
# A season fold shows so many cycles, of so many slots each.
MOST_CYCLES, MOST_SLOTS = 26, 700
MOST_FOLD_NS = 2 * YEAR_NS


def finding_rows(findings: Sequence[Finding]) -> list[dict[str, Any]]:
    """Findings with their stream and verdict; a few queries however many there are."""
    if not findings:
        return []
    streams = Stream.objects.in_bulk({f.stream_id for f in findings})
    entries = standing.Entries((min(f.start_ns for f in findings), max(f.end_ns for f in findings)))
    quiet = sheets.Quieting()
    rows = []
    for f in findings:
        own = streams[f.stream_id]
        peak = f.start_ns if f.peak_ns is None else f.peak_ns
        entry, verdict = entries.taken(own.key, *(np.array([x]) for x in (f.start_ns, f.end_ns, peak)))
        shared = {"metric": own.metric, "title": own.title, "unit": own.unit, "zone": own.zone}
        values = tuple(getattr(f, name) for name in standing.FIELDS)
        is_quiet = touches(f.start_ns, f.end_ns, quiet.spans(own.key))
        rows.append(standing.row((*values, int(entry[0]), int(verdict[0]), is_quiet), shared, f.taken_by))
    return rows


def standing_findings(
    stream: int | None = None, between: tuple[int, int] | None = None
) -> list[dict[str, Any]]:
    """All findings of the standing scans, strongest first; between : only those that touch this span, in ns."""
    if between is None:
        return standing.rows(stream)
    by_scan: dict[int, list[int]] = {}
    for scan_id, stream_id in standing.pairs(stream):
        by_scan.setdefault(scan_id, []).append(stream_id)
    found: list[Finding] = []
    for scan_id, ids in by_scan.items():
        own = Finding.objects.filter(scan_id=scan_id, stream_id__in=ids)
        found += own.filter(start_ns__lte=between[1], end_ns__gte=between[0])
    rows = finding_rows(found)
    rows.sort(key=lambda r: (-(r["score"] or 0), r["start"], r["id"]))
    return rows


@dataclass(frozen=True)
class Strongest:
    """Which of the open findings stand on top: so many, at most so many a family and a stream, within a span in ms.

    fleet : the share of false ones to hold across all streams, day by day; None lets every finding through.
    """

    most: int = 8
    family: int = 3
    stream: int = 1
    begin: float | None = None
    end: float | None = None
    fleet: float | None = None


def tide_table(last_looked: datetime | None, caps: Strongest) -> dict[str, Any]:
    """One row a stream, strongest open first within families, families by their strongest."""
    stands = {s.stream_id: s for s in Standing.objects.select_related("scan")}
    scan_ids = {s.scan_id for s in stands.values() if s.scan_id}
    scanned = {
        (r.scan_id, r.stream_id): r
        for r in ScanStream.objects.filter(scan_id__in=scan_ids).defer("promised", "notes", "left_out")
    }
    findings, held_back = _held_to_fleet(standing_findings(), scanned, caps.fleet)
    by_stream: dict[int, list[dict[str, Any]]] = {}
    for f in findings:
        by_stream.setdefault(f["stream"], []).append(f)
    newest = max((r.last_ns for r in scanned.values() if r.last_ns is not None), default=None)
    rows = []
    # What counters hold, and what ratios divide by, is there for others to read.
    shown = Stream.objects.exclude(kind__in=HIDDEN).filter(numerators__isnull=True)
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
                "last": r.last_ns / MS if r and r.last_ns is not None else None,
                "state": _state(stream, r, unjudged, newest),
                "open": len(unjudged),
                "strongest": max((f["score"] or 0 for f in unjudged), default=0.0),
                "newest": max((f["start"] for f in unjudged), default=None),
                "owner": stream.owner,
                "attributes": " ".join(f"{name}={value}" for name, value in stream.attributes),
                "judged_until": _judged_until(stream, r),
                "ribbon": services.ribbon_text(r.ribbon) if r else "",
                "ribbon_from": r.ribbon_from_ns / MS if r and r.ribbon_from_ns is not None else None,
                "ribbon_to": r.ribbon_to_ns / MS if r and r.ribbon_to_ns is not None else None,
                "marks": [
                    [f["start"], 1.0 if f["direction"] == "up" else -1.0]
                    for f in mine
                    if f["kind"] == "shift"
                ],
            }
        )
    unjudged_all = [f for f in findings if _is_open(f)]
    scans = {s.scan_id: s.scan.finished_at for s in stands.values() if s.scan is not None}
    new = sum(
        last_looked is None or (scans.get(f["scan"]) or last_looked) > last_looked for f in unjudged_all
    )
    ends = [(r["ribbon_from"], r["ribbon_to"]) for r in rows if r["ribbon_from"] is not None]
    zones = [r["zone"] for r in rows]
    return {
        "rows": rows,
        "span_from": min((a for a, _ in ends), default=None),
        "span_to": max((b for _, b in ends), default=None),
        "zone": max(set(zones), key=zones.count) if zones else "UTC",
        "open": len(unjudged_all),
        "held_back": held_back,
        "quiet": sum(f["quiet"] and f["verdict"] is None for f in findings),
        "fleet_promise": fleet.PROMISE if caps.fleet is not None else "",
        "new": new,
        "last_looked": last_looked,
        "strongest": _strongest(unjudged_all, caps),
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
    # Scans of an earlier version kept no p-values: nothing of theirs is held back until they are scanned again.
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
        span = fleet.numbers(int(f["start"]), int(f["end"]), services.BLOCK_NS // MS)
        return f["kind"] != "outlier" or own is None or not own.isdisjoint(span)

    kept = [f for f in findings if stands_out(f)]
    return kept, sum(map(_is_open, findings)) - sum(map(_is_open, kept))


def _judged_until(stream: Stream, row: ScanStream | None) -> float | None:
    """Until when a stream's samples are all there, by its usual lateness; None where it is not known to be late."""
    if row is None or row.ribbon_to_ns is None or not stream.lateness_ns:
        return None
    return float((row.ribbon_to_ns - stream.lateness_ns) / MS)


def _state(
    stream: Stream, row: ScanStream | None, unjudged: Sequence[dict[str, Any]], newest: int | None
) -> str:
    if row is None or row.last_ns is None:
        return "learning"
    if (
        newest is not None
        and newest - row.last_ns > SILENT_STEPS * max(stream.step_ns, 1) + DAY_MS * MS // 24
    ):
        return "silent"
    last = row.last_ns / MS
    return (
        "adrift" if any(f["kind"] == "outlier" and f["end"] > last - DAY_MS for f in unjudged) else "steady"
    )


def _strongest(findings: Sequence[dict[str, Any]], caps: Strongest) -> list[dict[str, Any]]:
    chosen: list[dict[str, Any]] = []
    for f in findings:
        if (caps.begin is not None and f["end"] < caps.begin) or (
            caps.end is not None and f["start"] > caps.end
        ):
            continue
        family = sum(c["metric"] == f["metric"] for c in chosen)
        stream = sum(c["stream"] == f["stream"] for c in chosen)
        if family < caps.family and stream < caps.stream:
            chosen.append(f)
        if len(chosen) == caps.most:
            break
    return chosen


def scan_list(scans: Sequence[Scan]) -> list[dict[str, Any]]:
    ids = [s.pk for s in scans]
    findings = dict(Finding.objects.filter(scan_id__in=ids).values_list("scan_id").annotate(n=Count("pk")))
    streams: dict[int, int] = {}
    metrics: dict[int, set[str]] = {}
    for scan_id, metric in ScanStream.objects.filter(scan_id__in=ids).values_list(
        "scan_id", "stream__metric"
    ):
        streams[scan_id] = streams.get(scan_id, 0) + 1
        metrics.setdefault(scan_id, set()).add(metric)
    # The figures of the latest card of each, out of the database's own JSON: the curves stay there.
    events = "content__figures__events__"
    cards = Card.objects.filter(scan_id__in=ids, selection="").values_list(
        "scan_id", f"{events}precision", f"{events}recall"
    )
    figures = {scan_id: (precision, recall) for scan_id, precision, recall in cards}
    version = logbook.version()
    return [
        {
            "id": s.pk,
            "precision": figures.get(s.pk, (None, None))[0],
            "recall": figures.get(s.pk, (None, None))[1],
            "plan": s.plan_version.plan.name,
            "plan_id": s.plan_version.plan_id,
            "version": s.plan_version.number,
            "plan_data": services.plan_of(s.plan_version.text).as_data(),
            "plan_text": s.plan_version.text,
            "is_standing": s.is_standing,
            "mode": s.mode,
            "streams": streams.get(s.pk, len(s.job.arguments.get("streams", [])) if s.job else 0),
            "metrics": sorted(metrics.get(s.pk, ())),
            "findings": findings.get(s.pk, 0),
            "job": s.job_id,
            "state": "done" if s.finished_at else (s.job.state if s.job else "failed"),
            "span_from": s.span_from_ns / MS if s.span_from_ns is not None else None,
            "span_to": s.span_to_ns / MS if s.span_to_ns is not None else None,
            "created_by": s.created_by,
            "created_at": s.created_at,
            "finished_at": s.finished_at,
            "code_version": s.code_version,
            "logbook_version": s.logbook_version,
            "logbook_now": version,
        }
        for s in scans
    ]


def histogram(scanned: stages.Scanned, entries: Sequence[Entry]) -> dict[str, list[int]]:
    """Counts of scores in half-sigma bins from 0 to 12, unlabelled and inside incidents; the last is open."""
    size = np.abs(scanned.z)
    seen = ~np.isnan(size)
    spans = [(e.start_ns, e.end_ns) for e in entries if e.verdict == "incident"]
    incident = inside_any(scanned.base.series.times, spans)
    bins = np.minimum((size[seen] * 2).astype(np.int64), 24)
    return {
        "unlabelled": np.bincount(bins[~incident[seen]], minlength=25).tolist(),
        "incident": np.bincount(bins[incident[seen]], minlength=25).tolist(),
    }


def stream_curve(row: ScanStream) -> dict[str, Any]:
    """One stream's curve, and its figures at the level in force."""
    scanned = services.rescan(row)
    setting = services.setting_of(row.scan)
    labels = [x for x in logbook.labels() if keys.covers(x.series, scanned.base.key)]
    quiet = sheets.Quieting()
    sheet, findings = quiet.sheet(sheets.of(scanned)), quiet.findings(scanned.findings)
    step = scanned.base.series.step_ns
    lines = services.curve_of(row.scan, [sheet.scored], findings, labels, setting, step)
    points = {sheet.key: sheet.points}
    figures = score_card(findings, labels, points, setting).figures
    return {
        "curve": services.curve_data(lines),
        "in_force": {
            "above": row.level_above,
            "below": row.level_below,
            "findings": len(scanned.findings),
            "odds": scanned.level.odds,
            "per_week": scanned.level.per_week,
            "events": figures["events"],
            "delay": figures["delay"],
            "false_per_week": figures["false_per_week"],
            "excluded": figures["excluded"],
        },
        "promised": promised(row),
        "logbook_version": logbook.version(),
    }


def against(row: ScanStream, other: ScanStream) -> dict[str, Any]:
    """Two scans of one stream over what both of them judged: figures, agreement, paired intervals."""
    one, two = services.rescan(row), services.rescan(other)
    span = compare.judged_by_all([[sheets.of(s).scored] for s in (one, two)])
    if span is None:
        raise Problem("the two judged no common span", remedy="compare scans that reach as far", code=409)
    labels = [x for x in logbook.labels() if keys.covers(x.series, one.base.key)]
    quiet = sheets.Quieting()
    cards, found = [], []
    for s, r in ((one, row), (two, other)):
        setting = replace(services.setting_of(r.scan), span=span)
        mine = [f for f in quiet.findings(s.findings) if f.start <= span[1] and f.end >= span[0]]
        points = {s.base.key: quiet.sheet(sheets.of(s)).points}
        cards.append(score_card(mine, labels, points, setting))
        found.append(mine)
    told = compare.paired(cards[0], cards[1], labels, block_ns=7 * DAY_MS * MS)
    both, only_one, only_other = compare.shared(found[0], found[1])

    def figures(card: Any, findings: Any) -> dict[str, Any]:
        return {
            "findings": len(findings),
            "events": card.figures["events"],
            "delay": card.figures["delay"],
            "false_per_week": card.figures["false_per_week"],
        }

    return {
        "span_from": span[0] / MS,
        "span_to": span[1] / MS,
        "one": figures(cards[0], found[0]),
        "other": figures(cards[1], found[1]),
        "shared": both,
        "one_only": only_one,
        "other_only": only_other,
        "precision": told["precision"],
        "recall": told["recall"],
    }


def promised(row: ScanStream) -> dict[str, Any]:
    """One in how many clean samples, and how many false findings a week, at each of the 201 levels: by the stream's tails.

    None for a figure that this stream has too little history for.
    """
    samples, findings = services.promises_of(row)
    return {
        "odds": None if samples is None else [float(f"{1 / r:.3g}") if r > 0 else None for r in samples],
        "per_week": None if findings is None else [float(f"{r:.3g}") for r in findings],
    }


def season_folds(row: ScanStream, hours: float, at_ns: int | None = None) -> dict[str, Any]:
    """Cycles of one season over one another up to the one that holds `at_ns` (the newest without it), and what was
    expected of that one."""
    base = services.base_of(row)
    step = base.series.step_ns
    period = round(hours * 3_600e9)
    if not 2 * step <= period <= MOST_FOLD_NS:
        raise Problem(
            f"a season of {hours:g} h cannot be folded here",
            place="hours",
            remedy="give one between two samples and two years",
        )
    is_local = choosing.is_calendar(Period(period, False))
    # A fold of many slots is drawn as no more than the eye can tell.
    slot = max(step, period // MOST_SLOTS)
    series = base.series
    offsets = series.offsets_ns if series.axis_ns is None else np.zeros_like(series.times)
    arguments = series.axis, offsets
    # Weeks begin on Monday, months and years with January 1970.
    origin = MONDAY_NS if period <= LONG_NS else 0
    numbers, seen = explaining.season_fold(*arguments, series.values, period, origin, slot, is_local)
    _, due = explaining.season_fold(*arguments, base.expected, period, origin, slot, is_local)
    last = len(numbers) - 1
    if at_ns is not None and len(numbers):
        place = int(np.clip(np.searchsorted(series.times, at_ns, side="right") - 1, 0, len(series) - 1))
        moment = int(series.axis[place]) + (int(offsets[place]) if is_local else 0)
        last = int(np.clip((moment - origin) // period - numbers[0], 0, last))
    some = slice(max(0, last + 1 - MOST_CYCLES), last + 1)
    starts = numbers[some] * period + origin
    return {
        "hours": hours,
        "step_s": slot / 1e9,
        "clock": "local" if is_local else "utc",
        "starts": (starts / MS).tolist(),
        "cycles": [_rounded(c) for c in seen[some]],
        "expected": _rounded(due[last]) if len(due) else [],
    }


# Forms are laid side by side over so many samples at most, ending where the span ends.
MOST_FORM_SAMPLES = 40_000


def both_forms(row: ScanStream, begin_ns: int | None, end_ns: int | None, points: int) -> dict[str, Any]:
    """The stream decomposed with parts that add and with parts that multiply, over a span widened to hold its seasons."""
    base = services.base_of(row)
    series, step = base.series, base.series.step_ns
    lengths = sorted({round(p) for p, _ in base.found_seasons if abs(p - round(p)) < 1e-6 and p >= 2})
    if not lengths:
        raise Problem(
            "no season of whole samples was found",
            place="seasons",
            remedy="forms differ by how a season grows with the trend; without one both say the same",
            code=409,
        )
    last = len(series) if end_ns is None else int(np.searchsorted(series.times, end_ns, side="right"))
    first = 0 if begin_ns is None else int(np.searchsorted(series.times, begin_ns))
    shown = max(first, last - MOST_FORM_SAMPLES)
    # Six cycles or more, so that a season is told from its trend.
    low = max(0, min(shown, last - 6 * lengths[-1]))
    part = series.part(low, last)
    fitting = [float(x) for x in lengths if 2 * x <= len(part)]
    if not fitting:
        raise Problem("two cycles of the season are needed", remedy="choose a longer span", code=409)
    both = forms.side_by_side(part, fitting, is_count=base.resolved["prepare"]["as"] == "count")
    told: dict[str, Any] = {}
    for form, got in both.forms.items():
        if isinstance(got, str):
            told[form] = {"why_not": got, "added": None}
            continue
        at = reduce.indices(got.remainder, None, np.empty(0, np.int64), points)
        at = at[at >= shown - low]
        told[form] = {
            "time": (part.times[at] / MS).tolist(),
            "trend": _rounded(got.trend[at]),
            "seasons": [_rounded(s[at]) for s in got.seasons],
            "remainder": _rounded(got.remainder[at]),
            "why_not": "",
            "added": both.added if form == "multiplicative" else None,
        }
    return {
        **told,
        "seasons": [x * step / 3.6e12 for x in fitting],
        "leftover": both.leftover,
        "taken": base.resolved["baseline"].get("form", "additive"),
        "held_out": base.resolved["facts"].get("losses") or {},
    }


def _rounded(values: Any) -> list[float | None]:
    return [None if math.isnan(v) else float(f"{v:.6g}") for v in values.tolist()]


def review(stream: int | None) -> dict[str, Any]:
    """The queue of open findings, and precision over the verdicts given so far."""
    rows = standing_findings(stream)
    queue = [r for r in rows if r["verdict"] is None]
    true = sum(r["verdict"] == "incident" for r in rows)
    false = sum(r["verdict"] in ("foreseen", "false-alarm") for r in rows)
    interval = wilson(true, true + false)
    return {
        "queue": queue[:500],
        "judged": len(rows) - len(queue),
        "total": len(rows),
        "precision": true / (true + false) if true + false else None,
        "precision_ci": list(interval) if interval else None,
        "precision_counts": [true, true + false],
    }


def finding_context(finding: Finding) -> dict[str, Any]:
    """A finding with what else moved, the same slot in the seasons before, and the logbook around it."""
    [row] = finding_rows([finding])
    margin = max(finding.end_ns - finding.start_ns, 3_600 * 10**9)
    near = [
        r for r in standing_findings(between=(finding.start_ns - margin, finding.end_ns + margin))
        if r["stream"] != finding.stream_id
    ]  # fmt: skip
    entries = [
        e for e in logbook.live().filter(start_ns__lte=finding.end_ns + 3 * margin, end_ns__gte=finding.start_ns - 3 * margin)
        if keys.covers(e.scope, finding.stream.key) and e.verdict != "reviewed"
    ]  # fmt: skip
    causes = list(
        logbook.live().exclude(cause="").order_by("cause").values_list("cause", flat=True).distinct()[:50]
    )
    return {
        "finding": row,
        "beside": near[:12],
        "before": _same_slot_before(finding),
        "entries": EntrySerializer(entries, many=True).data,
        "causes": causes,
    }


# The band of the weeks before a finding.
BEFORE_SIGMAS = 3.0
# Levels whose values a chart of counts is given beside the one in force: those of the operating curve's ends, nearly.
EDGE_LEVELS = (2.0, 12.0)


def for_chart(values: np.ndarray) -> list[float | None]:
    """Numbers for JSON: null for what is missing or without end, seven digits for the rest (charts, not figures)."""
    return [float(f"{v:.7g}") if math.isfinite(v) else None for v in values.tolist()]


def edges(base: Baselined, at: np.ndarray, in_force: Sequence[float | None]) -> dict[str, Any] | None:
    """Values at which three levels are reached at these samples; None for a symmetrical law, whose spread says all.

    A counting law is skewed: a chart that drags the level interpolates between these.
    """
    if np.isnan(base.counted.event[at]).all():
        return None
    usual = next(
        (x for x in in_force if x is not None and EDGE_LEVELS[0] + 0.5 < x < EDGE_LEVELS[1] - 0.5), 5.0
    )
    levels = [EDGE_LEVELS[0], float(usual), EDGE_LEVELS[1]]

    def rows(sign: float) -> list[list[float | None]]:
        return [for_chart(base.values_at(sign * x, at)) for x in levels]

    return {"levels": levels, "upper": rows(1.0), "lower": rows(-1.0)}


def _same_slot_before(finding: Finding, count: int = 8) -> list[dict[str, Any]]:
    """The same stretch of the longest season (a week where there is none) in the seasons before."""
    row = ScanStream.objects.select_related("scan__plan_version", "stream").get(
        scan_id=finding.scan_id, stream_id=finding.stream_id
    )
    base = services.base_of(row)
    week = 7 * 86_400 * 10**9
    margin = max(finding.end_ns - finding.start_ns, 6 * 3_600 * 10**9)
    out = []
    for k in range(count, 0, -1):
        a, b = (
            np.searchsorted(base.series.times, t - k * week)
            for t in (finding.start_ns - margin, finding.end_ns + margin)
        )
        if b <= a or a == 0:
            continue
        step = max(1, (b - a) // 150)
        part = slice(int(a), int(b), step)
        columns = {
            "values": base.series.values[part],
            "expected": base.expected[part],
            "lower": base.values_at(-BEFORE_SIGMAS, part),
            "upper": base.values_at(BEFORE_SIGMAS, part),
        }
        out.append(
            {
                "start": float((finding.start_ns - k * week) / MS),
                **{name: for_chart(column) for name, column in columns.items()},
            }
        )
    return out
