"""A lookout before it goes live: what it would have raised and sent over the past weeks, against the logbook."""

import bisect
from collections.abc import Collection, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from django.conf import settings

from watchtide.core import incidents
from watchtide.core.incidents import Piece
from watchtide.core.scoring.intervals import as_list, wilson
from watchtide.core.scoring.rows import Coverage, Finding, Label
from watchtide.engine import kept, run
from watchtide.plan import Plan, dump, durations, load
from watchtide.server.jobs import services as jobs
from watchtide.server.jobs.models import Job
from watchtide.server.logbook import services as logbook
from watchtide.server.lookouts import services
from watchtide.server.lookouts.counting import LEFT_OUT, NOT_REAL, OPEN, REAL, verdict_of
from watchtide.server.lookouts.judging import SILENT_BINS, as_data
from watchtide.server.lookouts.models import Lookout
from watchtide.server.lookouts.notices import Wishes
from watchtide.server.problems import Problem
from watchtide.server.scans import services as scans
from watchtide.server.streams.models import Stream
from watchtide.tables import clock

WEEK_NS = 7 * 86_400 * 10**9
MOST_WEEKS, MOST_STREAMS, MOST_SHOWN = 52, 500, 200
KEPT = 8
Row = dict[str, Any]


def request(lookout: Lookout, weeks: int, plan_text: str | None, user: Any) -> Job:
    """Put down a rehearsal. plan_text : another plan than the lookout's own. Raises Problem or PlanError."""
    if plan_text is not None:
        load(plan_text)
    count = services.matching(lookout.scope).count()
    if not count:
        raise Problem(
            "no stream matches the scope", place="scope", remedy="change the lookout's scope", code=409
        )
    if count > MOST_STREAMS:
        raise Problem(
            f"{count:,} streams match; a rehearsal takes {MOST_STREAMS} at most",
            place="scope",
            remedy="rehearse a part of them, by another lookout that is off",
            code=409,
        )
    arguments = {"lookout": lookout.pk, "weeks": weeks, "plan": plan_text}
    return jobs.enqueue(
        "rehearse", f"Rehearsal of {lookout.name}, {weeks} weeks", arguments, user=user, about=arguments
    )


def latest(lookout: Lookout) -> list[Job]:
    """The rehearsals of a lookout that are done, the newest first."""
    found = Job.objects.filter(kind="rehearse", state="done", arguments__lookout=lookout.pk)
    return list(found.order_by("-pk")[:KEPT])


@jobs.handles("rehearse", lane="bulk")
def rehearse(lease: jobs.Lease) -> Row:
    """Replay each stream of the lookout, and join what that raises as the lookout would have."""
    lookout = Lookout.objects.select_related("plan_version").get(pk=lease.arguments["lookout"])
    stated = lease.arguments["plan"]
    plan = scans.plan_of(lookout.plan_version.text if stated is None else dump(load(stated)))
    streams = list(services.matching(lookout.scope).order_by("pk")[:MOST_STREAMS])
    labels = logbook.labels()
    tasks = [scans.task(s, plan, labels, "replay") for s in streams]
    until = max((int(t.stream.times[-1]) for t in tasks if len(t.stream.times)), default=0)
    since = until - lease.arguments["weeks"] * WEEK_NS
    results = run.each(
        kept.scan_task,
        tasks,
        jobs=settings.SCAN_PROCESSES,
        progress=lease.progress,
        is_cancelled=lease.is_cancelled,
    )
    played = [Played.of(s, scanned, lookout, since) for s, (scanned, _) in zip(streams, results, strict=True)]
    fed_by = Stream.fed_by.through.objects.filter(from_stream__in=streams)
    links = set(fed_by.values_list("from_stream_id", "to_stream_id"))
    joined = joined_of(played, Wishes.of(lookout), links, logbook.quiet_spans())
    return summary(played, joined, labels, (since, until), plan) | {
        "weeks": lease.arguments["weeks"],
        "plan": dump(plan),
    }


@dataclass(frozen=True)
class Played:
    """A stream replayed: what was raised within the span, how many samples were judged, when it fell silent, and why nothing was
    judged, where nothing was."""

    stream: Stream
    findings: tuple[Finding, ...]
    judged: int
    silent: tuple[int, ...]
    why: str
    step_ns: int

    @classmethod
    def of(cls, stream: Stream, scanned: Any, lookout: Lookout, since_ns: int) -> "Played":
        series = scanned.base.series
        inside = ~np.isnan(scanned.z) & (series.times >= since_ns)
        found = tuple(f for f in scanned.findings if (f.raised or f.end) >= since_ns)
        stamps = series.times[~np.isnan(series.values)]
        stamps = stamps[stamps >= since_ns]
        wait = int(durations.parse_ns(lookout.wait)) if lookout.wait != "auto" else stream.lateness_ns or 0
        gaps = np.flatnonzero(np.diff(stamps) > wait + (SILENT_BINS + 1) * series.step_ns)
        why = "" if inside.any() else "; ".join(scanned.base.notes)
        return cls(stream, found, int(inside.sum()), tuple(stamps[gaps].tolist()), why, int(series.step_ns))


@dataclass
class Joined:
    """One notice that something began, and all that would have joined it. raised_ns : when the first was known."""

    raised_ns: int
    is_quiet: bool
    parts: list[tuple[Played, Finding]] = field(default_factory=list)

    @property
    def streams(self) -> int:
        return len({p.stream.pk for p, _ in self.parts})

    @property
    def spans(self) -> list[tuple[str, int, int]]:
        return [(p.stream.key, f.start, f.end) for p, f in self.parts]


def joined_of(
    played: Sequence[Played],
    wishes: Wishes,
    links: Collection[tuple[int, int]],
    quiet: Sequence[tuple[str, int, int]],
) -> list[Joined]:
    """Findings joined as they would have been while they came."""
    every = sorted(
        ((p, f) for p in played for f in p.findings), key=lambda x: (x[1].raised or x[1].end, x[0].stream.pk)
    )
    out: list[Joined] = []
    starts: list[int] = []
    by_start: list[Joined] = []
    for one, finding in every:
        group = None
        if wishes.together:
            low = bisect.bisect_left(starts, finding.start - incidents.LAG_NS)
            high = bisect.bisect_right(starts, finding.start + incidents.LAG_NS)
            group = next((g for g in by_start[low:high] if _joins(one, finding, g, links)), None)
        if group is None:
            spans = logbook.quiet_for(one.stream.key, quiet)
            is_quiet = any(a <= finding.end and b >= finding.start for a, b in spans)
            group = Joined(finding.raised or finding.end, is_quiet)
            out.append(group)
            at = bisect.bisect(starts, finding.start)
            starts.insert(at, finding.start)
            by_start.insert(at, group)
        group.parts.append((one, finding))
    return out


def _joins(one: Played, finding: Finding, group: Joined, links: Collection[tuple[int, int]]) -> bool:
    return incidents.joins(_piece(one, finding), [_piece(p, f) for p, f in group.parts], links)


def _piece(one: Played, finding: Finding) -> Piece:
    return Piece(finding.start, finding.end, one.stream.pk, one.stream.key, one.step_ns)


def summary(
    played: Sequence[Played],
    joined: Sequence[Joined],
    labels: Sequence[Label],
    span: tuple[int, int],
    plan: Plan,
) -> Row:
    """Everything about a rehearsal, as the page shows it."""
    coverage = Coverage(labels)
    sent = [t for t in joined if not t.is_quiet]
    verdicts = {id(t): verdict_of(t.spans, coverage) for t in sent}
    real = sum(v == REAL for v in verdicts.values())
    wrong = sum(v == NOT_REAL for v in verdicts.values())
    hit, missed = _incidents_of(played, sent, labels, coverage, span)
    silent = sorted(at for p in played for at in p.silent)
    stream_weeks = sum(p.judged * p.step_ns for p in played) / WEEK_NS
    promised = plan.flag.level.get("per-week")
    false_findings = sum(len(t.parts) for t in sent if verdicts[id(t)] == NOT_REAL)
    rows = [_stream_row(p, sent, verdicts) for p in played]
    rows.sort(key=lambda r: (-r["findings"], r["title"]))
    return {
        "from": clock.format_time(span[0]),
        "to": clock.format_time(span[1]),
        "streams": len(played),
        "samples": sum(p.judged for p in played),
        "findings": sum(len(p.findings) for p in played),
        "notices": len(sent),
        "held": len(joined) - len(sent),
        "silent": len(silent),
        "verdicts": {
            name: sum(v == name for v in verdicts.values()) for name in (REAL, NOT_REAL, LEFT_OUT, OPEN)
        },
        "precision": real / (real + wrong) if real + wrong else None,
        "precision_ci": as_list(wilson(real, real + wrong)),
        "recall": hit / (hit + missed) if hit + missed else None,
        "recall_ci": as_list(wilson(hit, hit + missed)),
        "incidents": hit + missed,
        "stream_weeks": stream_weeks,
        "promised_a_week": promised,
        "seen_a_week": false_findings / stream_weeks if stream_weeks else None,
        "per_week": _per_week(played, sent, silent, span),
        "per_stream": rows[:MOST_SHOWN],
        "latest": [_notice_row(t, verdicts[id(t)]) for t in sent[::-1][:MOST_SHOWN]],
    }


def _incidents_of(
    played: Sequence[Played],
    sent: Sequence[Joined],
    labels: Sequence[Label],
    coverage: Coverage,
    span: tuple[int, int],
) -> tuple[int, int]:
    """Incidents of the logbook within the span that a notice met, and that none did."""
    spans: dict[str, list[tuple[int, int]]] = {}
    for t in sent:
        for one, f in t.parts:
            spans.setdefault(one.stream.key, []).append((f.start, f.end))
    hit = missed = 0
    for i, keys in coverage.covered([p.stream.key for p in played if p.judged]).items():
        label = labels[i]
        if label.verdict != "incident" or label.end < span[0] or label.start > span[1]:
            continue
        is_met = any(a <= label.end and b >= label.start for key in keys for a, b in spans.get(key, ()))
        hit, missed = hit + is_met, missed + (not is_met)
    return hit, missed


def _per_week(
    played: Sequence[Played], sent: Sequence[Joined], silent: Sequence[int], span: tuple[int, int]
) -> list[Row]:
    begins = range(span[0], span[1], WEEK_NS)
    findings = [f.raised or f.end for p in played for f in p.findings]

    def within(times: Sequence[int], begin: int) -> int:
        return sum(begin <= t < begin + WEEK_NS for t in times)

    return [
        {
            "begin": clock.format_time(begin),
            "findings": within(findings, begin),
            "notices": within([t.raised_ns for t in sent], begin),
            "silent": within(silent, begin),
        }
        for begin in begins
    ]


def _stream_row(one: Played, sent: Sequence[Joined], verdicts: dict[int, str]) -> Row:
    mine = [t for t in sent if any(p is one for p, _ in t.parts)]
    return {
        "stream": one.stream.pk,
        "title": one.stream.title,
        "metric": one.stream.metric,
        "findings": len(one.findings),
        "notices": len(mine),
        "not_real": sum(verdicts[id(t)] == NOT_REAL for t in mine),
        "silent": len(one.silent),
        "why": one.why,
        "at": [clock.format_time(f.start) for f in one.findings[-MOST_SHOWN:]],
    }


def _notice_row(joined: Joined, verdict: str) -> Row:
    one, finding = max(joined.parts, key=lambda x: np.nan_to_num(x[1].score))
    data = as_data(finding)
    return {
        "raised": clock.format_time(joined.raised_ns),
        "stream": one.stream.pk,
        "title": one.stream.title,
        "streams": joined.streams,
        "start": clock.format_time(finding.start),
        "end": clock.format_time(finding.end),
        "kind": finding.kind,
        "direction": finding.direction,
        "score": data["score"],
        "verdict": verdict,
    }
