"""What stands behind a finding: contributors, what else moved, earlier ones of its shape."""

import re
from collections.abc import Sequence
from dataclasses import asdict
from typing import Any

import numpy as np

from watchtide.core.explain import explaining
from watchtide.core.series import at_stamps
from watchtide.engine.scan.stages import Baselined
from watchtide.server import moments
from watchtide.server.scans import reading, services
from watchtide.server.scans.models import Finding, ScanStream, Standing
from watchtide.server.streams import calendars
from watchtide.server.streams.models import HIDDEN, Calendar, Derived, Stream

HOUR_NS = 3_600 * 10**9
# Other streams are looked at this far around a finding, and their scores compared this far apart.
AROUND_NS = 6 * HOUR_NS
MOST_BESIDE, MOST_ALIKE = 12, 6
# A start within this of the finding's own is neither before nor after.
WITH_STEPS = 1.5
TOTAL = re.compile(r"\s*total of \[([^\[\]]+)\]\s*")


def explain(finding: Finding, attribute: str | None = None) -> dict[str, Any]:
    """Everything about one finding, from the kept stages of the standing scans. attribute : what parts are told by."""
    own = services.scan_stream(finding.scan_id, finding.stream_id)
    base = services.base_of(own)
    return {
        "finding": reading.finding_rows([finding])[0],
        "contributors": _contributors(finding, base, attribute),
        "beside": _beside(finding, base),
        "alike": _alike(finding, base),
        "days": _days(finding),
    }


def _days(finding: Finding) -> list[dict[str, Any]]:
    """Known days of the kept calendars that touch the finding."""
    out = []
    for calendar in Calendar.objects.order_by("name"):
        for d in calendars.days_of(calendar, finding.start_ns, finding.end_ns + 1):
            out.append(
                {
                    "calendar": calendar.name,
                    "name": d.name,
                    "start": moments.at(d.start_ns),
                    "end": moments.at(d.stop_ns),
                    "is_all_day": d.is_all_day,
                }
            )
    return out


def _span(finding: Finding, base: Baselined) -> slice:
    times = base.series.times
    return slice(
        int(np.searchsorted(times, finding.start_ns)),
        int(np.searchsorted(times, finding.end_ns, side="right")),
    )


def _standing_rows(streams: Sequence[Stream]) -> dict[int, ScanStream]:
    """The standing scan's row of each stream that has one."""
    held = dict(
        Standing.objects.filter(stream__in=streams, scan__isnull=False).values_list("stream_id", "scan_id")
    )
    rows = ScanStream.objects.filter(scan_id__in=set(held.values()), stream_id__in=held).select_related(
        "scan__plan_version", "stream"
    )
    return {r.stream_id: r for r in rows if held[r.stream_id] == r.scan_id}


def parts_of(stream: Stream) -> tuple[list[Stream], bool]:
    """The streams that make up a total, and True; or the family a stream belongs to, and False."""
    mine = dict(stream.attributes)
    formula = Derived.objects.filter(metric=stream.metric).first() if stream.kind == "derived" else None
    total = TOTAL.fullmatch(formula.formula) if formula is not None else None
    if total is not None:
        members = Stream.objects.filter(metric=total.group(1)).order_by("pk")
        return [m for m in members if mine.items() <= dict(m.attributes).items()], True
    return list(Stream.objects.filter(metric=stream.metric).exclude(kind__in=HIDDEN).order_by("pk")), False


def _contributors(finding: Finding, base: Baselined, attribute: str | None) -> dict[str, Any]:
    parts, is_total = parts_of(finding.stream)
    varied = explaining.varied([dict(p.attributes) for p in parts])
    empty: dict[str, Any] = {"attributes": varied, "attribute": None, "of": "", "rows": [], "why": ""}
    if len(parts) < 2 or not varied:
        return empty | {"why": "This stream is no total, and no other has its metric."}
    kind = base.resolved["prepare"]["as"]
    if not is_total and kind != "count":
        return empty | {
            "why": f"{finding.stream.unit or 'Values'} do not add up over streams: only counts have parts."
        }
    rows = _standing_rows(parts)
    times = base.series.times[_span(finding, base)]
    members, seen, due, skipped = [], [], [], []
    for part in parts:
        row = rows.get(part.pk)
        if part.pk == finding.stream_id:
            other = base
        elif row is None:
            skipped.append(part.title)
            continue
        else:
            other = services.base_of(row)
        if other.series.step_ns != base.series.step_ns or len(other.series) == 0:
            skipped.append(part.title)
            continue
        members.append(dict(part.attributes))
        seen.append(at_stamps(other.series.times, other.series.values, times))
        due.append(at_stamps(other.series.times, other.expected, times))
    if not members:
        return empty | {"why": "None of its parts has been scanned; scan them first."}
    part_of = _span(finding, base)
    whole = (base.series.values[part_of], base.expected[part_of]) if is_total else None
    by = explaining.by_attribute(members, varied, np.stack(seen), np.stack(due), whole)
    # By what sets one part most apart, unless another is stated.
    chosen = attribute if attribute in varied else explaining.most_apart(by)
    got = by[chosen]
    return {
        "attributes": varied,
        "attribute": chosen,
        "of": finding.stream.title if is_total else f"all of {finding.stream.metric}",
        "observed": got.observed,
        "expected": got.expected,
        "rows": [asdict(p) for p in got.parts],
        "unaccounted": got.unaccounted,
        "missing": got.missing,
        "unit": finding.stream.unit,
        "why": f"not scanned, or in another cadence: {', '.join(skipped)}" if skipped else "",
    }


def _beside(finding: Finding, base: Baselined) -> list[dict[str, Any]]:
    """Other streams' findings around this one: before, with or after, those that feed it first."""
    feeds = set(finding.stream.fed_by.values_list("pk", flat=True))
    fed = set(finding.stream.feeds_into.values_list("pk", flat=True))
    near: dict[int, dict[str, Any]] = {}
    for r in reading.standing_findings(between=(finding.start_ns - AROUND_NS, finding.end_ns + AROUND_NS)):
        # A long one that was there all along explains nothing, unless the two are known to hang together.
        is_old = r["start"] < moments.at(finding.start_ns - AROUND_NS) and r["stream"] not in feeds | fed
        if r["stream"] != finding.stream_id and r["kind"] == "outlier" and not is_old:
            near.setdefault(r["stream"], r)
    # The strongest, and all that are known to hang together with it: each costs reading a kept stage.
    some = sorted(near, key=lambda s: s not in feeds | fed)[: 2 * MOST_BESIDE]
    rows = _standing_rows(list(Stream.objects.filter(pk__in=some)))
    out = []
    for stream_id in some:
        r = near[stream_id]
        lag_s = (moments.ns(r["start"]) - finding.start_ns) / 1e9
        close = WITH_STEPS * base.series.step_ns / 1e9
        when = "with" if abs(lag_s) <= close else "before" if lag_s < 0 else "after"
        relation = "feeds this" if stream_id in feeds else "fed by this" if stream_id in fed else ""
        best_lag, r_best = _going_with(finding, base, rows.get(stream_id))
        out.append(
            {
                "finding": r,
                "when": when,
                "lag_s": lag_s,
                "relation": relation,
                "goes_with": r_best,
                "goes_lag_s": None if best_lag is None else best_lag * base.series.step_ns / 1e9,
            }
        )
    out.sort(key=lambda x: (x["relation"] == "", -abs(x["goes_with"] or 0), -(x["finding"]["score"] or 0)))
    return out[:MOST_BESIDE]


def _going_with(finding: Finding, base: Baselined, row: ScanStream | None) -> tuple[int | None, float | None]:
    """Lag and correlation of two streams' scores around a finding; None in different cadences."""
    if row is None:
        return None, None
    other = services.base_of(row)
    if other.series.step_ns != base.series.step_ns or len(other.series) == 0:
        return None, None
    margin = max(AROUND_NS, finding.end_ns - finding.start_ns)
    times = base.series.times
    a, b = np.searchsorted(times, [finding.start_ns - margin, finding.end_ns + margin])
    theirs = at_stamps(other.series.times, other.z, times[a:b])
    most = min((b - a) // 4, AROUND_NS // base.series.step_ns)
    lag, r = explaining.together(base.z[a:b], theirs, max(1, int(most)))
    return lag, r


def _alike(finding: Finding, base: Baselined) -> list[dict[str, Any]]:
    """Earlier findings of the stream of like shape, the most alike first."""
    earlier = list(
        Finding.objects.filter(
            scan_id=finding.scan_id, stream_id=finding.stream_id, kind=finding.kind, start_ns__lt=finding.start_ns
        )
    )  # fmt: skip
    if not earlier or finding.kind != "outlier":
        return []

    def place(f: Finding) -> tuple[int, int]:
        part = _span(f, base)
        return part.start, max(part.stop - 1, part.start)

    like = explaining.likeness(base.z, place(finding), [place(f) for f in earlier])
    best = [i for i in np.argsort(-like, kind="stable") if like[i] >= explaining.LEAST_LIKENESS][:MOST_ALIKE]
    rows = {r["id"]: r for r in reading.finding_rows([earlier[i] for i in best])}
    return [{"finding": rows[earlier[i].pk], "likeness": float(like[i])} for i in best]
