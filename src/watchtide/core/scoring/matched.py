"""Findings judged against the annotated history: what every figure of a card is counted from."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from watchtide.core.scoring import samples
from watchtide.core.scoring.observed import Observed
from watchtide.core.scoring.outcomes import Outcome, Setting, default_span, incidents_counted, judge
from watchtide.core.scoring.rows import Coverage, Finding, Label, Points
from watchtide.core.series import SECOND_NS

# Later than any sample.
NEVER = int(np.iinfo(np.int64).max)


@dataclass(frozen=True)
class Matched:
    """span : first and last counted, ns; streams : scored series; in_span : (labels,) which touch it; outcomes : one a finding in
    it; found, missed : rows of labels that count for recall; excluded : rows that do not, by reason; recall_of : what recall is
    of; delays : seconds to the first sign by found row, where there is one; rewards : of ranges, None without points."""

    setting: Setting
    span: tuple[int, int]
    labels: Sequence[Label]
    points: Mapping[str, Points] | None
    streams: Sequence[str]
    coverage: Coverage
    in_span: Sequence[bool]
    observed: Observed
    outcomes: tuple[Outcome, ...]
    found: tuple[int, ...]
    missed: tuple[int, ...]
    excluded: dict[str, int]
    recall_of: str
    delays: Mapping[int, float]
    rewards: samples.Rewards | None

    def of_state(self, state: str) -> list[Outcome]:
        """The outcomes that are true, false, unjudged, unsure or sampled."""
        return [o for o in self.outcomes if o.state == state]

    @property
    def false_seen(self) -> list[Outcome]:
        """False findings that touch observed time."""
        return [o for o in self.of_state("false") if self.observed.touches(o.finding)]


def match(
    findings: Sequence[Finding],
    labels: Sequence[Label],
    points: Mapping[str, Points] | None,
    setting: Setting,
) -> Matched:
    """Match findings with labels, as `card.score` takes them."""
    if setting.kinds is not None:
        findings = [f for f in findings if f.kind in setting.kinds]
    span = setting.span or default_span(findings, labels, points) or (0, 0)
    findings = [f for f in findings if f.start <= span[1] and f.end >= span[0]]
    coverage = Coverage(labels)
    in_span = [label.start <= span[1] and label.end >= span[0] for label in labels]
    has_reviews = any(label.verdict == "reviewed" for label in labels)
    named = {f.series for f in findings} | {label.series for label in labels if label.series}
    streams = sorted(points) if points is not None else sorted(named) or [""]
    outcomes = tuple(judge(f, coverage[f.series], setting, has_reviews) for f in findings)
    observed = Observed(points, coverage, span, has_reviews, streams)
    counted, excluded, recall_of = incidents_counted(
        labels, in_span, coverage, streams, observed, has_reviews
    )
    met = {row for o in outcomes for row in o.incidents}
    found = tuple(row for row in counted if row in met)
    true = [o for o in outcomes if o.state == "true"]
    return Matched(
        setting=setting,
        span=span,
        labels=labels,
        points=points,
        streams=streams,
        coverage=coverage,
        in_span=in_span,
        observed=observed,
        outcomes=outcomes,
        found=found,
        missed=tuple(row for row in counted if row not in met),
        excluded=excluded,
        recall_of=recall_of,
        delays=_delays(true, labels, found, points, coverage),
        rewards=samples.range_rewards(points, coverage, observed) if points is not None else None,
    )


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
    signs: dict[int, int] = {}
    for row in found:
        raised = [f.raised for f in by_row[row] if f.raised is not None]
        if raised:
            out[row] = max(0, min(raised) - labels[row].start) / SECOND_NS
        elif points is None:
            out[row] = max(0, min(f.start for f in by_row[row]) - labels[row].start) / SECOND_NS
        else:
            signs[row] = NEVER
    if points is not None and signs:
        for series in points:
            rows = [row for row, _ in coverage[series].rows if row in signs]
            p = points[series] if rows else None
            for row in rows:
                assert p is not None
                signs[row] = min(signs[row], _first_sign(p, labels[row]))
    out |= {row: (at - labels[row].start) / SECOND_NS for row, at in signs.items() if at < NEVER}
    return {row: out[row] for row in found if row in out}


def _first_sign(p: Points, label: Label) -> int:
    """When the first sample within a label was flagged; NEVER where none was."""
    a, b = np.searchsorted(p.times, label.start), np.searchsorted(p.times, label.end, side="right")
    hits = np.flatnonzero(p.flagged[a:b] & ~np.isnan(p.score[a:b]))
    return int(p.times[a + hits[0]]) if len(hits) else NEVER
