"""The scorecard: every figure of a scan against the annotated history, with its counts.

The definitions are written out in docs/methods.md, "How precision is counted".
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from watchtide.core.scoring import clustered, samples, spans
from watchtide.core.scoring.intervals import as_list, wilson
from watchtide.core.scoring.matched import Matched, match
from watchtide.core.scoring.observed import Observed
from watchtide.core.scoring.outcomes import Outcome, Setting, incident_groups
from watchtide.core.scoring.rows import Finding, Label, Points
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
    m = match(findings, labels, points, setting)
    notes: dict[str, str] = {}
    figures: dict[str, Any] = {
        "span": {"from": m.span[0], "to": m.span[1]},
        "events": _events(m),
        "excluded": {
            **m.excluded,
            **{state: len(m.of_state(state)) for state in ("unsure", "unjudged", "sampled")},
        },
    }
    figures["points"], figures["flagged_share"] = samples.point_level(points, m.coverage, m.observed, notes)
    figures["ranges"] = samples.range_level(m.rewards)
    figures["delay"] = _delay(m)
    figures["false_per_week"] = _false_per_week(m)
    figures["sampled"] = _sampled(m)
    figures["by_kind"] = _by_kind(m)
    figures["by_series"] = _by_series(m)
    clustered.add_intervals(figures, m, notes)
    _note_nulls(figures, m, notes)
    _note_unreached(m, notes)
    figures["notes"] = notes
    return Scorecard(figures, m.outcomes, m.found, m.missed, m.delays, m.observed)


def _events(m: Matched) -> dict[str, Any]:
    true, false, unjudged = (m.of_state(state) for state in ("true", "false", "unjudged"))
    c = spans.count(len(true), len(false), len(m.found), len(m.missed))
    groups, true_groups = incident_groups(true + false)
    most = len(true) + len(false) + len(unjudged)
    bounds = [spans.ratio(len(true), most), spans.ratio(len(true) + len(unjudged), most)]
    return {
        "tp_findings": c.tp_findings,
        "fp_findings": c.fp_findings,
        "tp_labels": c.tp_labels,
        "fn_labels": c.fn_labels,
        "precision": c.precision,
        "precision_ci": as_list(c.precision_ci),
        "precision_bounds": bounds if most else None,
        "recall": c.recall,
        "recall_ci": as_list(c.recall_ci),
        "recall_of": m.recall_of,
        "f1": c.f1,
        "incident_precision": spans.ratio(true_groups, groups),
        "incident_precision_counts": [true_groups, groups],
        "fragmentation": spans.ratio(len(true), len(m.found)) if m.found else None,
    }


def _delay(m: Matched) -> dict[str, Any]:
    known = list(m.delays.values())
    return {
        "median_s": float(np.median(known)) if known else None,
        "p90_s": float(np.quantile(known, 0.9)) if known else None,
        "n": len(known),
    }


def _false_per_week(m: Matched) -> dict[str, Any]:
    weeks = m.observed.seconds(m.setting.step_ns) / WEEK_S
    count = len(m.false_seen)
    per_stream = count / weeks if weeks > 0 else None
    return {
        "per_stream": per_stream,
        "total": per_stream * len(m.streams) if per_stream is not None else None,
        "false_findings": count,
        "stream_weeks": weeks,
    }


def _sampled(m: Matched) -> dict[str, Any] | None:
    """Estimates from findings and unflagged spans that were drawn by chance, weighted by that chance."""
    judged, used = [], set()
    for o in m.of_state("sampled"):
        f = o.finding
        rows = [
            (i, x)
            for i, x in m.coverage[f.series].rows
            if x.origin == "sampled" and x.verdict != "reviewed" and f.start <= x.end and f.end >= x.start
        ]
        used |= {i for i, _ in rows}
        told = [x for _, x in rows if x.verdict != "unsure"]
        if told:
            row = next((x for x in told if x.verdict == "incident"), told[0])
            judged.append((f, row.verdict == "incident", row))
    rest = [x for i, x in enumerate(m.labels) if x.origin == "sampled" and i not in used and m.in_span[i]]
    return sampled_block(judged, [x for x in rest if x.verdict != "unsure"])


def _by_kind(m: Matched) -> dict[str, Any]:
    of_findings = {}
    for kind in sorted({o.finding.kind for o in m.outcomes}):
        tp = sum(o.finding.kind == kind for o in m.of_state("true"))
        fp = sum(o.finding.kind == kind for o in m.of_state("false"))
        of_findings[kind] = {
            "tp": tp,
            "fp": fp,
            "precision": spans.ratio(tp, tp + fp),
            "precision_ci": as_list(wilson(tp, tp + fp)),
        }
    of_labels = {}
    for kind in sorted({m.labels[i].kind for i in (*m.found, *m.missed)}):
        hit = [i for i in m.found if m.labels[i].kind == kind]
        fn = sum(m.labels[i].kind == kind for i in m.missed)
        late = [m.delays[i] for i in hit if i in m.delays]
        of_labels[kind or "unnamed"] = {
            "tp": len(hit),
            "fn": fn,
            "recall": spans.ratio(len(hit), len(hit) + fn),
            "recall_ci": as_list(wilson(len(hit), len(hit) + fn)),
            "delay": {"median_s": float(np.median(late)) if late else None, "n": len(late)},
        }
    return {"findings": of_findings, "labels": of_labels}


def _by_series(m: Matched) -> dict[str, Any]:
    """A label row counts once for every stream it covers."""
    by_stream: dict[str, list[Outcome]] = {}
    for o in m.outcomes:
        by_stream.setdefault(o.finding.series, []).append(o)
    counted = {*m.found, *m.missed}
    out = {}
    for series in sorted({*m.streams, *by_stream}):
        own = by_stream.get(series, [])
        rows = {i for i, _ in m.coverage[series].rows if i in counted}
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


def _note_nulls(figures: dict[str, Any], m: Matched, notes: dict[str, str]) -> None:
    e = figures["events"]
    if e["precision"] is None:
        notes["precision"] = "nothing found that could be counted"
    if e["recall"] is None:
        notes["recall"] = "no incident in what was looked at"
    if figures["delay"]["median_s"] is None:
        notes["delay"] = "no matched incident has a first flagged sample"
    if figures["sampled"] is None:
        notes["sampled"] = "no verdict of a sampled finding or span with the chance of having been drawn"
    if m.points is None:
        notes["observed"] = "no points given: observed time is the scored span times the scored streams"
    if m.setting.step_ns is None:
        notes["cadence"] = "no cadence given: a shift matches no extra sample after a label's end"


def _note_unreached(m: Matched, notes: dict[str, str]) -> None:
    if m.points is None:
        return
    for i, covered in sorted(m.coverage.covered(list(m.points)).items()):
        if m.labels[i].verdict == "reviewed" or not m.in_span[i] or i in m.observed.reached:
            continue
        step = m.setting.step_ns or min(m.observed.step_of(s) for s in covered)
        notes[f"label {i + 1}"] = f"holds no sample; --tolerance {step / SECOND_NS:g}s would reach one"
