"""The scorecard: every figure of a scan against the annotated history, with its counts.

The definitions are written out in docs/methods.md, "How precision is counted".
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from watchtide.core.scoring import clustered, samples, spans
from watchtide.core.scoring.intervals import as_list, wilson
from watchtide.core.scoring.observed import Observed, median_step
from watchtide.core.scoring.outcomes import (
    Outcome,
    Setting,
    default_span,
    incident_groups,
    incidents_counted,
    judge,
)
from watchtide.core.scoring.rows import Coverage, Finding, Label, Points
from watchtide.core.scoring.sampling import sampled_block
from watchtide.core.series import SECOND_NS, WEEK_S


@dataclass(frozen=True)
class Scorecard:
    """figures : the JSON form of contracts; outcomes : one a finding in the span; found, missed :
    label rows that count for recall; delays : seconds by found row, where there is a first sign."""

    figures: dict[str, Any]
    outcomes: tuple[Outcome, ...]
    found: tuple[int, ...]
    missed: tuple[int, ...]
    delays: Mapping[int, float]
    observed: Observed


def score(
    findings: Sequence[Finding],
    labels: Sequence[Label],
    points: Mapping[str, Points] | None = None,
    setting: Setting = Setting(),
) -> Scorecard:
    """Count findings against labels at the event and, with points, at the point level.

    points : judged samples by series; without them observed time is the scored span. Findings and
    labels that do not touch the scored span are left out; what touches it counts whole.
    """
    notes: dict[str, str] = {}
    if setting.kinds is not None:
        findings = [f for f in findings if f.kind in setting.kinds]
    span = setting.span or default_span(findings, labels, points)
    if span is None:
        span = (0, 0)
    findings = [f for f in findings if f.start <= span[1] and f.end >= span[0]]
    coverage = Coverage(labels)
    in_span = [label.start <= span[1] and label.end >= span[0] for label in labels]
    has_reviews = any(label.verdict == "reviewed" for label in labels)
    streams = (
        sorted(points)
        if points is not None
        else sorted({f.series for f in findings} | {label.series for label in labels if label.series}) or [""]
    )

    outcomes = [judge(f, coverage[f.series], setting, has_reviews) for f in findings]
    observed = Observed(points, coverage, span, has_reviews, streams)
    counted_rows, excluded, recall_of = incidents_counted(
        labels, in_span, coverage, streams, observed, has_reviews
    )
    met = {row for o in outcomes for row in o.incidents}
    found = tuple(row for row in counted_rows if row in met)
    missed = tuple(row for row in counted_rows if row not in met)

    true = [o for o in outcomes if o.state == "true"]
    false = [o for o in outcomes if o.state == "false"]
    unjudged = [o for o in outcomes if o.state == "unjudged"]
    c = spans.count(len(true), len(false), len(found), len(missed))
    groups, true_groups = incident_groups(true + false)
    judged = len(true) + len(false)
    figures: dict[str, Any] = {
        "span": {"from": span[0], "to": span[1]},
        "events": {
            "tp_findings": c.tp_findings,
            "fp_findings": c.fp_findings,
            "tp_labels": c.tp_labels,
            "fn_labels": c.fn_labels,
            "precision": c.precision,
            "precision_ci": as_list(c.precision_ci),
            "precision_bounds": [
                spans.ratio(len(true), judged + len(unjudged)),
                spans.ratio(len(true) + len(unjudged), judged + len(unjudged)),
            ]
            if judged + len(unjudged)
            else None,
            "recall": c.recall,
            "recall_ci": as_list(c.recall_ci),
            "recall_of": recall_of,
            "f1": c.f1,
            "incident_precision": spans.ratio(true_groups, groups),
            "incident_precision_counts": [true_groups, groups],
            "fragmentation": spans.ratio(len(true), len(found)) if found else None,
        },
        "excluded": {
            **excluded,
            "unsure": sum(o.state == "unsure" for o in outcomes),
            "unjudged": len(unjudged),
            "sampled": sum(o.state == "sampled" for o in outcomes),
        },
    }
    figures["points"], figures["flagged_share"] = samples.point_level(points, coverage, observed, notes)
    rewards = samples.range_rewards(points, coverage, observed) if points is not None else None
    figures["ranges"] = samples.range_level(rewards)
    delays = _delays(true, labels, found, points, coverage)
    figures["delay"] = {
        "median_s": float(np.median(list(delays.values()))) if delays else None,
        "p90_s": float(np.quantile(list(delays.values()), 0.9)) if delays else None,
        "n": len(delays),
    }
    weeks = observed.seconds(setting.step_ns) / WEEK_S
    false_seen = [o for o in false if observed.touches(o.finding)]
    per_stream = len(false_seen) / weeks if weeks > 0 else None
    figures["false_per_week"] = {
        "per_stream": per_stream,
        "total": per_stream * len(streams) if per_stream is not None else None,
        "false_findings": len(false_seen),
        "stream_weeks": weeks,
    }
    figures["sampled"] = _sampled(outcomes, labels, coverage, in_span)
    figures["by_kind"] = _by_kind(outcomes, labels, found, missed, delays)
    figures["by_series"] = _by_series(outcomes, labels, found, missed, coverage, streams)
    clustered.add_intervals(
        figures,
        setting,
        span,
        outcomes,
        labels,
        found,
        missed,
        delays,
        observed,
        streams,
        notes,
        points,
        coverage,
        rewards,
    )
    _note_nulls(figures, notes, points, setting)
    _note_unreached(labels, in_span, coverage, points, setting, notes)
    figures["notes"] = notes
    return Scorecard(figures, tuple(outcomes), found, missed, delays, observed)


def _sampled(
    outcomes: Sequence[Outcome], labels: Sequence[Label], coverage: Coverage, in_span: Sequence[bool]
) -> dict[str, Any] | None:
    """Estimates from findings and unflagged spans that were drawn by chance, weighted by that chance."""
    judged, used = [], set()
    for o in outcomes:
        if o.state != "sampled":
            continue
        f = o.finding
        rows = [
            (i, x)
            for i, x in coverage[f.series].rows
            if x.origin == "sampled" and x.verdict != "reviewed" and f.start <= x.end and f.end >= x.start
        ]
        used |= {i for i, _ in rows}
        told = [x for _, x in rows if x.verdict != "unsure"]
        if told:
            row = next((x for x in told if x.verdict == "incident"), told[0])
            judged.append((f, row.verdict == "incident", row))
    rest = [x for i, x in enumerate(labels) if x.origin == "sampled" and i not in used and in_span[i]]
    return sampled_block(judged, [x for x in rest if x.verdict != "unsure"])


def _delays(
    true: Sequence[Outcome],
    labels: Sequence[Label],
    found: Sequence[int],
    points: Mapping[str, Points] | None,
    coverage: Coverage,
) -> dict[int, float]:
    """Seconds from the start of each matched incident to the first sign of it, where there is one."""
    out = {}
    by_row: dict[int, list[Finding]] = {}
    for o in true:
        for row in o.incidents:
            by_row.setdefault(row, []).append(o.finding)
    covered_by = coverage.covered(list(points)) if points is not None else {}
    for row in found:
        label, matching = labels[row], by_row[row]
        raised = [f.raised for f in matching if f.raised is not None]
        if raised:
            out[row] = max(0, min(raised) - label.start) / SECOND_NS
        elif points is None:
            out[row] = max(0, min(f.start for f in matching) - label.start) / SECOND_NS
        else:
            first = []
            for p in (points[series] for series in covered_by.get(row, ())):
                a, b = (
                    np.searchsorted(p.times, label.start),
                    np.searchsorted(p.times, label.end, side="right"),
                )
                hits = np.flatnonzero(p.flagged[a:b] & ~np.isnan(p.score[a:b]))
                if len(hits):
                    first.append(int(p.times[a + hits[0]]))
            if first:
                out[row] = (min(first) - label.start) / SECOND_NS
    return out


def _by_kind(
    outcomes: Sequence[Outcome],
    labels: Sequence[Label],
    found: Sequence[int],
    missed: Sequence[int],
    delays: Mapping[int, float],
) -> dict[str, Any]:
    of_findings = {}
    for kind in sorted({o.finding.kind for o in outcomes}):
        tp = sum(o.state == "true" for o in outcomes if o.finding.kind == kind)
        fp = sum(o.state == "false" for o in outcomes if o.finding.kind == kind)
        of_findings[kind] = {
            "tp": tp,
            "fp": fp,
            "precision": spans.ratio(tp, tp + fp),
            "precision_ci": as_list(wilson(tp, tp + fp)),
        }
    of_labels = {}
    for kind in sorted({labels[i].kind for i in (*found, *missed)}):
        hit = [i for i in found if labels[i].kind == kind]
        fn = sum(labels[i].kind == kind for i in missed)
        late = [delays[i] for i in hit if i in delays]
        of_labels[kind or "unnamed"] = {
            "tp": len(hit),
            "fn": fn,
            "recall": spans.ratio(len(hit), len(hit) + fn),
            "recall_ci": as_list(wilson(len(hit), len(hit) + fn)),
            "delay": {"median_s": float(np.median(late)) if late else None, "n": len(late)},
        }
    return {"findings": of_findings, "labels": of_labels}


def _by_series(
    outcomes: Sequence[Outcome],
    labels: Sequence[Label],
    found: Sequence[int],
    missed: Sequence[int],
    coverage: Coverage,
    streams: Sequence[str],
) -> dict[str, Any]:
    """A label row counts once for every stream it covers."""
    by_stream: dict[str, list[Outcome]] = {}
    for o in outcomes:
        by_stream.setdefault(o.finding.series, []).append(o)
    counted = set(found) | set(missed)
    out = {}
    for series in sorted({*streams, *by_stream}):
        own = by_stream.get(series, [])
        rows = {i for i, _ in coverage[series].rows if i in counted}
        met = {row for o in own for row in o.incidents} & rows
        c = spans.count(
            sum(o.state == "true" for o in own),
            sum(o.state == "false" for o in own),
            len(met),
            len(rows - met),
        )
        out[series] = {
            "tp_findings": c.tp_findings,
            "fp_findings": c.fp_findings,
            "tp_labels": c.tp_labels,
            "fn_labels": c.fn_labels,
            "precision": c.precision,
            "recall": c.recall,
            "f1": c.f1,
        }
    return out


def _note_nulls(
    figures: dict[str, Any], notes: dict[str, str], points: Mapping[str, Points] | None, setting: Setting
) -> None:
    e = figures["events"]
    if e["precision"] is None:
        notes["precision"] = "nothing found that could be counted"
    if e["recall"] is None:
        notes["recall"] = "no incident in what was looked at"
    if figures["delay"]["median_s"] is None:
        notes["delay"] = "no matched incident has a first flagged sample"
    if figures["sampled"] is None:
        notes["sampled"] = "no verdict of a sampled finding or span with the chance of having been drawn"
    if points is None:
        notes["observed"] = "no points given: observed time is the scored span times the scored streams"
    if setting.step_ns is None:
        notes["cadence"] = "no cadence given: a shift matches no extra sample after a label's end"


def _note_unreached(
    labels: Sequence[Label],
    in_span: Sequence[bool],
    coverage: Coverage,
    points: Mapping[str, Points] | None,
    setting: Setting,
    notes: dict[str, str],
) -> None:
    if points is None:
        return
    covered_by = coverage.covered(list(points))
    for i, label in enumerate(labels):
        if label.verdict == "reviewed" or not in_span[i]:
            continue
        covered = [points[s] for s in covered_by.get(i, ())]
        if covered and not any(
            np.searchsorted(p.times, label.start) < np.searchsorted(p.times, label.end, side="right")
            for p in covered
        ):
            step = setting.step_ns or min(median_step(p.times) for p in covered)
            notes[f"label {i + 1}"] = f"holds no sample; --tolerance {step / SECOND_NS:g}s would reach one"
