"""What the logbook does to a plan: the standing plan once more with the entries as they are now, and what that changes."""

import hashlib
from collections.abc import Sequence
from typing import Any

import numpy as np

from watchtide.core.scoring import compare
from watchtide.core.scoring.rows import Finding
from watchtide.core.series import keys
from watchtide.plan import Plan as PlanText
from watchtide.plan import dump
from watchtide.server.cards import counting
from watchtide.server.jobs import services as jobs
from watchtide.server.jobs.models import Job
from watchtide.server.logbook import services as logbook
from watchtide.server.logbook.models import Entry
from watchtide.server.problems import Problem
from watchtide.server.scans import services as scans
from watchtide.server.scans.models import Scan, ScanStream, Standing
from watchtide.server.streams import calendars
from watchtide.tables import clock, label_calendar, labels

MOST_STREAMS = 200
DAYS = "Days of the logbook"


def start(entries: Sequence[Entry], *, as_known_days: bool, user: Any) -> tuple[Scan, Scan]:
    """(standing scan, trial of its plan over the streams that these entries cover, with the logbook as it is now).

    as_known_days : the entries are kept as a calendar, and the plan knows its days; what they label is then not left out.
    """
    standing = list(
        Standing.objects.filter(scan__isnull=False).select_related("stream", "scan__plan_version__plan")
    )
    scopes = {e.scope for e in entries}
    mine = [s for s in standing if any(keys.covers(scope, s.stream.key) for scope in scopes)]
    if not mine:
        raise Problem(
            "no scanned stream is covered by these entries", place="entries", remedy="tick others", code=409
        )
    # One plan at a time: that of the most streams.
    by_scan: dict[int, list[Standing]] = {}
    for s in mine:
        by_scan.setdefault(s.scan_id, []).append(s)
    own = max(by_scan.values(), key=len)
    before = own[0].scan
    plan = scans.plan_of(before.plan_version.text)
    if as_known_days:
        plan = with_days(plan, entries, user)
    name = before.plan_version.plan.name
    text = dump(plan)
    version = (
        before.plan_version
        if text == before.plan_version.text
        else scans.plan_version(name, plan, user.get_username())
    )
    after = scans.start(version, [s.stream_id for s in own[:MOST_STREAMS]], user=user)
    return before, after


def with_days(plan: PlanText, entries: Sequence[Entry], user: Any) -> PlanText:
    """The plan knowing the days of these entries, under the calendar baseline that can learn from them."""
    rows = [logbook.as_label(e) for e in sorted(entries, key=lambda e: (e.start_ns, e.pk))]
    text = label_calendar.to_calendar(labels.as_rows(rows), rows)
    # Named by what is in it: what a version of a plan knows never changes.
    name = f"{DAYS} {hashlib.sha256(text.encode()).hexdigest()[:8]}"
    kept, _ = calendars.keep(name, text.encode(), "UTC", user)
    data = plan.as_data()
    known = [c for c in data["baseline"]["calendars"] if not c["file"].startswith(DAYS)]
    data["baseline"]["calendars"] = [*known, {"file": kept.name}]
    if data["baseline"]["kind"] not in ("auto", "harmonic"):
        data["baseline"]["kind"] = "harmonic"
        data["baseline"]["options"] = {}
    return PlanText.model_validate(data)


def _key(after: Scan) -> str:
    return counting.digest_of("effect", {"after": after.pk})


def pending(before: Scan, after: Scan, user: Any = None) -> Job | None:
    """The job that compares them, as `counting.job_for`."""
    arguments = {"before": before.pk, "after": after.pk}
    return counting.job_for("effect", [before, after], counting.Selection(), _key(after), arguments, user)


@jobs.handles("effect", lane="interactive")
def compute(lease: jobs.Lease) -> dict[str, Any]:
    """Compare two scans; the result is kept for the next request."""
    found = Scan.objects.select_related("plan_version__plan").in_bulk(lease.arguments.values())
    effect(found[lease.arguments["before"]], found[lease.arguments["after"]])
    return dict(lease.arguments)


def effect(before: Scan, after: Scan) -> dict[str, Any]:
    """What changed from one scan to another, stream by stream, the most first.

    moved : median of how far the expectation moved, in sigmas of before; band : the width of the band, after over before;
    left_out : samples that taught nothing. Problem where they share no stream.
    """
    known = counting.kept(before, _key(after))
    if known is not None:
        return known
    version = logbook.version()
    rows = {r.stream_id: r for r in counting.rows_of(before, counting.Selection())}
    pairs = [
        (rows[r.stream_id], r) for r in counting.rows_of(after, counting.Selection()) if r.stream_id in rows
    ]
    if not pairs:
        raise Problem("these scans share no stream", place="before", remedy="choose others", code=409)
    rows_of_streams = [_stream(one, other) for one, other in pairs[:MOST_STREAMS]]
    rows_of_streams.sort(key=lambda t: -(len(t["gone"]) + len(t["new"]) + (t["moved"] or 0.0)))
    found = {"before": before.pk, "after": after.pk, "streams": rows_of_streams}
    return counting.keep(before, _key(after), version, found)


def _stream(one: ScanStream, other: ScanStream) -> dict[str, Any]:
    a, b = scans.base_of(one), scans.base_of(other)
    found = [scans.findings_of(r.scan, {r.stream_id: r.stream.key}) for r in (one, other)]
    moved = band = None
    if np.array_equal(a.series.times, b.series.times):
        moved, band = compare.moved(a.expected, a.spread, b.expected, b.spread)
    gone, new = compare.apart(found[0], found[1]), compare.apart(found[1], found[0])

    def spans(findings: Sequence[Finding]) -> list[dict[str, str]]:
        return [{end: clock.format_time(getattr(f, end)) for end in ("start", "end")} for f in findings]

    return {
        "stream": one.stream_id,
        "name": one.stream.name,
        "moved": moved,
        "band": band,
        "left_out_before": len(one.left_out),
        "left_out_after": len(other.left_out),
        "kept": len(found[0]) - len(gone),
        "gone": spans(gone),
        "new": spans(new),
    }
