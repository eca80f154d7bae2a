"""What became of each finding and each incident: matched, false, left out, and which of them tell of one thing."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from watchtide.core.scoring.observed import Observed
from watchtide.core.scoring.rows import Coverage, Finding, Label, Points, touches
from watchtide.core.series import keys


@dataclass(frozen=True)
class Setting:
    """How to count. step_ns None: no cadence is known, and a shift gets no extra sample."""

    tolerance_ns: int = 0
    step_ns: int | None = None
    longest_season_ns: int | None = None
    span: tuple[int, int] | None = None
    kinds: tuple[str, ...] | None = None
    seed: int = 1


@dataclass(frozen=True)
class Outcome:
    """What became of one finding: true | false | unsure | unjudged | sampled, and the rows it met."""

    finding: Finding
    state: str
    incidents: tuple[int, ...]


def default_span(
    findings: Sequence[Finding], labels: Sequence[Label], points: Mapping[str, Points] | None
) -> tuple[int, int] | None:
    if points:
        ends = [(int(p.times[0]), int(p.times[-1])) for p in points.values() if len(p.times)]
    else:
        ends = [(f.start, f.end) for f in findings] + [(label.start, label.end) for label in labels]
    return (min(a for a, _ in ends), max(b for _, b in ends)) if ends else None


def judge(f: Finding, covering: Any, setting: Setting, has_reviews: bool) -> Outcome:
    extra = setting.step_ns or 0 if f.kind == "shift" else 0
    t = setting.tolerance_ns

    def meets(label: Label) -> bool:
        # A shift back to normal sits one sample after the label's end.
        return f.start <= label.end + t + extra and f.end >= label.start - t

    met = [(i, label) for i, label in covering.rows if label.verdict != "reviewed" and meets(label)]
    looked = touches(f.start, f.end, [(label.start, label.end) for _, label in covering.of("reviewed")])
    if met and not looked and all(label.origin == "sampled" for _, label in met):
        return Outcome(f, "sampled", ())
    incidents = tuple(i for i, label in met if label.verdict == "incident")
    if incidents:
        return Outcome(f, "true", incidents)
    verdicts = {label.verdict for _, label in met}
    if "unsure" in verdicts:
        return Outcome(f, "unsure", ())
    if verdicts or looked or not has_reviews:
        return Outcome(f, "false", ())
    return Outcome(f, "unjudged", ())


def incidents_counted(
    labels: Sequence[Label],
    in_span: Sequence[bool],
    coverage: Coverage,
    streams: Sequence[str],
    observed: Observed,
    has_reviews: bool,
) -> tuple[list[int], dict[str, Any], str]:
    """Rows of incidents that count for recall, what was left out, and what recall is of."""
    rows, unscored, outside = [], 0, 0
    covered_by = coverage.covered(streams)
    for i, label in enumerate(labels):
        if label.verdict != "incident" or not in_span[i]:
            continue
        covered = covered_by.get(i)
        if not covered:
            unscored += 1
            continue
        if has_reviews and not any(touches(label.start, label.end, observed.spans[s]) for s in covered):
            outside += 1
            continue
        if observed.points is not None and i not in observed.holding:
            unscored += 1
            continue
        rows.append(i)
    independent = [i for i in rows if labels[i].origin != "finding"]
    excluded = {"unscored": unscored, "incidents_not_reviewed": outside}
    if independent or not rows:
        excluded["incidents_from_findings"] = len(rows) - len(independent)
        return independent, excluded, "incidents"
    return rows, excluded, "known incidents"


def incident_groups(outcomes: Sequence[Outcome]) -> tuple[int, int]:
    """Groups of findings that tell of one thing, and how many of them are true."""
    groups, true = group_starts(outcomes)
    return len(groups), len(true)


def group_starts(outcomes: Sequence[Outcome]) -> tuple[list[int], list[int]]:
    """When each group of findings that tell of one thing begins: of all groups, and of the true ones."""
    order = sorted(outcomes, key=lambda o: o.finding.start)
    parent = list(range(len(order)))

    def root(i: int) -> int:
        while parent[i] != i:
            parent[i] = parent[parent[i]]
            i = parent[i]
        return i

    # What two findings may have in common: an incident, or without one a name=value of their streams. All that still last
    # at a start overlap one another there, so that joining the longest of them joins all.
    longest: dict[tuple[object, ...], int] = {}
    for i, o in enumerate(order):
        series = o.finding.series
        mine: list[tuple[object, ...]] = [(x,) for x in o.incidents] or [(series,), *keys.decode(series)]
        for common in mine:
            j = longest.get(common)
            if j is not None and order[j].finding.end >= o.finding.start:
                parent[root(i)] = root(j)
            if j is None or o.finding.end > order[j].finding.end:
                longest[common] = i
    begins: dict[int, int] = {}
    for i, o in enumerate(order):
        begins.setdefault(root(i), o.finding.start)
    true = {root(i) for i, o in enumerate(order) if o.state == "true"}
    return list(begins.values()), [t for r, t in begins.items() if r in true]
