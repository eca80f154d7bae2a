"""Findings as rows, with stream, verdict and what stands around them; a fixed number of queries however many there are."""

from collections.abc import Sequence
from typing import Any

import numpy as np
from django.db.models import Count

from watchtide.core.scoring import wilson
from watchtide.core.scoring.rows import touches
from watchtide.core.series import keys
from watchtide.server import moments
from watchtide.server.logbook import services as logbook
from watchtide.server.scans import services, sheets, standing
from watchtide.server.scans.charts import for_chart
from watchtide.server.scans.models import Card, Finding, Scan, ScanStream
from watchtide.server.streams.models import Stream

# The band of the weeks before a finding.
BEFORE_SIGMAS = 3.0


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
        "entries": entries,
        "causes": causes,
    }


def _same_slot_before(finding: Finding, count: int = 8) -> list[dict[str, Any]]:
    """The same stretch of the longest season (a week where there is none) in the seasons before."""
    row = services.scan_stream(finding.scan_id, finding.stream_id)
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
                "start": moments.at(finding.start_ns - k * week),
                **{name: for_chart(column) for name, column in columns.items()},
            }
        )
    return out


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
            "span_from": moments.at(s.span_from_ns),
            "span_to": moments.at(s.span_to_ns),
            "created_by": s.created_by,
            "created_at": s.created_at,
            "finished_at": s.finished_at,
            "code_version": s.code_version,
            "logbook_version": s.logbook_version,
            "logbook_now": version,
        }
        for s in scans
    ]
