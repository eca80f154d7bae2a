"""The scorecard: every figure of a scan against the annotated history, with its counts.

The definitions are written out in docs/methods.md, "How precision is counted".
"""

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass
from functools import cache
from typing import Any

import numpy as np

from watchtide.core import keys
from watchtide.core.scoring import intervals, spans
from watchtide.core.scoring.intervals import wilson
from watchtide.core.scoring.rows import Coverage, Finding, Label, Points, inside_any, touches
from watchtide.core.scoring.sampling import sampled_block
from watchtide.core.series import SECOND_NS, Bools, Floats, Ints

WEEK_S = 7 * 86_400


@dataclass(frozen=True)
class Outcome:
    """What became of one finding: true | false | unsure | unjudged | sampled, and the rows it met."""

    finding: Finding
    state: str
    incidents: tuple[int, ...]


@dataclass(frozen=True)
class Scorecard:
    """figures : the JSON form of contracts; outcomes : one a finding in the span; found, missed :
    label rows that count for recall; delays : seconds by found row, where there is a first sign."""

    figures: dict[str, Any]
    outcomes: tuple[Outcome, ...]
    found: tuple[int, ...]
    missed: tuple[int, ...]
    delays: Mapping[int, float]
    observed: "Observed"


@dataclass(frozen=True)
class Setting:
    """How to count. step_ns None: no cadence is known, and a shift gets no extra sample."""

    tolerance_ns: int = 0
    step_ns: int | None = None
    longest_season_ns: int | None = None
    span: tuple[int, int] | None = None
    kinds: tuple[str, ...] | None = None
    seed: int = 1


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
    groups, true_groups = _incident_groups(true + false)
    judged = len(true) + len(false)
    figures: dict[str, Any] = {
        "span": {"from": span[0], "to": span[1]},
        "events": {
            "tp_findings": c.tp_findings,
            "fp_findings": c.fp_findings,
            "tp_labels": c.tp_labels,
            "fn_labels": c.fn_labels,
            "precision": c.precision,
            "precision_ci": _pair(c.precision_ci),
            "precision_bounds": [
                spans.ratio(len(true), judged + len(unjudged)),
                spans.ratio(len(true) + len(unjudged), judged + len(unjudged)),
            ]
            if judged + len(unjudged)
            else None,
            "recall": c.recall,
            "recall_ci": _pair(c.recall_ci),
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
    figures["points"], figures["flagged_share"] = _point_level(points, coverage, observed, notes)
    rewards = _range_rewards(points, coverage, observed) if points is not None else None
    figures["ranges"] = _range_level(rewards)
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
    _bootstrap(
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


class Observed:
    """Which samples, or which time, were judged and looked through."""

    def __init__(
        self,
        points: Mapping[str, Points] | None,
        coverage: Coverage,
        span: tuple[int, int],
        has_reviews: bool,
        streams: Sequence[str],
    ) -> None:
        self.points = points
        self.span = span
        self.spans: dict[str, list[tuple[int, int]]] = {}
        self.masks: dict[str, Bools] = {}
        self._touched: dict[int, bool] = {}
        for series in streams:
            looked = [span]
            if has_reviews:
                looked = [
                    (max(r.start, span[0]), min(r.end, span[1]))
                    for _, r in coverage[series].of("reviewed")
                    if r.start <= span[1] and r.end >= span[0]
                ]
            self.spans[series] = _union(looked)
            if points is not None:
                p = points[series]
                self.masks[series] = p.observed & inside_any(p.times, self.spans[series])

    def seconds(self, step_ns: int | None) -> float:
        """Stream-seconds of observed time."""
        return sum(self.seconds_of(series, step_ns) for series in self.spans)

    def seconds_of(self, series: str, step_ns: int | None) -> float:
        """Seconds of observed time of one stream, by its own cadence; 0 for one that is not scored.

        step_ns : of streams too short to have a cadence of their own.
        """
        if self.points is None:
            return sum(b - a for a, b in self.spans.get(series, [])) / SECOND_NS
        if series not in self.masks:
            return 0.0
        step = median_step(self.points[series].times) or step_ns or 0
        return int(self.masks[series].sum()) * step / SECOND_NS

    def judged_seconds(self, step_ns: int | None) -> float:
        """Stream-seconds with a score, looked through or not."""
        if self.points is None:
            return self.seconds(step_ns)
        steps = ((p, median_step(p.times) or step_ns or 0) for p in self.points.values())
        return sum(int(p.observed.sum()) * step for p, step in steps) / SECOND_NS

    def touches(self, f: Finding) -> bool:
        """Whether a finding overlaps observed time; told once for each, as several figures ask."""
        known = self._touched.get(id(f))
        if known is None:
            known = self._touched[id(f)] = self._touches(f)
        return known

    def _touches(self, f: Finding) -> bool:
        if self.points is None:
            return touches(f.start, f.end, self.spans.get(f.series, []))
        if f.series not in self.masks:
            return False
        times = self.points[f.series].times
        a, b = np.searchsorted(times, f.start), np.searchsorted(times, f.end, side="right")
        return bool(self.masks[f.series][a:b].any())

    def any_sample(self, label: Label, series: Iterable[str]) -> bool:
        assert self.points is not None
        for key in series:
            times = self.points[key].times
            a, b = np.searchsorted(times, label.start), np.searchsorted(times, label.end, side="right")
            if self.masks[key][a:b].any():
                return True
        return False


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
        if observed.points is not None and not observed.any_sample(label, covered):
            unscored += 1
            continue
        rows.append(i)
    independent = [i for i in rows if labels[i].origin != "finding"]
    excluded = {"unscored": unscored, "incidents_not_reviewed": outside}
    if independent or not rows:
        excluded["incidents_from_findings"] = len(rows) - len(independent)
        return independent, excluded, "incidents"
    return rows, excluded, "known incidents"


def _incident_groups(outcomes: Sequence[Outcome]) -> tuple[int, int]:
    """Groups of findings that tell of one thing, and how many of them are true."""
    groups, true = _group_starts(outcomes)
    return len(groups), len(true)


def _group_starts(outcomes: Sequence[Outcome]) -> tuple[list[int], list[int]]:
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
    pairs = cache(keys.decode)
    for i, o in enumerate(order):
        series = o.finding.series
        mine: list[tuple[object, ...]] = [(x,) for x in o.incidents] or [(series,), *pairs(series)]
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


def label_masks(p: Points, covering: Any) -> tuple[Bools, Bools]:
    """(n,) samples inside an incident, and inside an unsure span; incident wins where both overlap."""
    incident = inside_any(p.times, [(x.start, x.end) for _, x in covering.of("incident")])
    unsure = inside_any(p.times, [(x.start, x.end) for _, x in covering.of("unsure")])
    return incident, unsure & ~incident


def _point_level(
    points: Mapping[str, Points] | None, coverage: Coverage, observed: Observed, notes: dict[str, str]
) -> tuple[dict[str, Any] | None, Any]:
    if points is None:
        notes["points"] = "no points given: the point level and the flagged share need --points"
        notes["ranges"] = "no points given: the range level needs --points"
        return None, None
    tp = fp = fn = tn = flagged = seen = 0
    for series, p in points.items():
        mask = observed.masks[series]
        flagged += int(np.sum(p.flagged & mask))
        seen += int(np.sum(mask))
        incident, unsure = label_masks(p, coverage[series])
        mask = mask & ~unsure
        tp += int(np.sum(mask & p.flagged & incident))
        fp += int(np.sum(mask & p.flagged & ~incident))
        fn += int(np.sum(mask & ~p.flagged & incident))
        tn += int(np.sum(mask & ~p.flagged & ~incident))
    precision, recall = spans.ratio(tp, tp + fp), spans.ratio(tp, tp + fn)
    level = {
        "tp": tp,
        "fp": fp,
        "fn": fn,
        "tn": tn,
        "precision": precision,
        "precision_ci": _pair(wilson(tp, tp + fp)),
        "recall": recall,
        "recall_ci": _pair(wilson(tp, tp + fn)),
        "specificity": spans.ratio(tn, tn + fp),
        "specificity_ci": _pair(wilson(tn, tn + fp)),
        "accuracy": spans.ratio(tp + tn, tp + tn + fp + fn),
        "f1": spans.f_one(precision, recall),
    }
    return level, spans.ratio(flagged, seen)


@dataclass(frozen=True)
class Rewards:
    """Range-based reward of each flagged and each incident range, with the time it begins."""

    found: tuple[tuple[int, float], ...]
    real: tuple[tuple[int, float], ...]


def _range_rewards(points: Mapping[str, Points], coverage: Coverage, observed: Observed) -> Rewards:
    """Range-based precision and recall: Tatbul et al. (2018), flat bias, no existence reward."""
    of_found: list[tuple[int, float]] = []
    of_real: list[tuple[int, float]] = []
    for series, p in points.items():
        incident, unsure = label_masks(p, coverage[series])
        keep = observed.masks[series] & ~unsure
        times = p.times[keep]
        found, real = _runs(p.flagged[keep]), _runs(incident[keep])
        of_found += [(int(times[r[0]]), _overlap_reward(r, real)) for r in found]
        of_real += [(int(times[r[0]]), _overlap_reward(r, found)) for r in real]
    return Rewards(tuple(of_found), tuple(of_real))


def _range_level(rewards: Rewards | None) -> dict[str, Any] | None:
    if rewards is None:
        return None
    precision = float(np.mean([x for _, x in rewards.found])) if rewards.found else None
    recall = float(np.mean([x for _, x in rewards.real])) if rewards.real else None
    return {
        "precision": precision,
        "recall": recall,
        "f1": spans.f_one(precision, recall),
        "flagged_ranges": len(rewards.found),
        "incident_ranges": len(rewards.real),
    }


def _runs(mask: Bools) -> list[tuple[int, int]]:
    edges = np.flatnonzero(np.diff(np.r_[0, mask.astype(np.int8), 0]))
    return list(zip(edges[::2].tolist(), edges[1::2].tolist(), strict=True))


def _overlap_reward(one: tuple[int, int], others: Sequence[tuple[int, int]]) -> float:
    shares = [max(0, min(one[1], b) - max(one[0], a)) for a, b in others]
    touching = sum(s > 0 for s in shares)
    return sum(shares) / (one[1] - one[0]) / touching if touching else 0.0


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
            "precision_ci": _pair(wilson(tp, tp + fp)),
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
            "recall_ci": _pair(wilson(len(hit), len(hit) + fn)),
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


def _bootstrap(
    figures: dict[str, Any],
    setting: Setting,
    span: tuple[int, int],
    outcomes: Sequence[Outcome],
    labels: Sequence[Label],
    found: Sequence[int],
    missed: Sequence[int],
    delays: Mapping[int, float],
    observed: Observed,
    streams: Sequence[str],
    notes: dict[str, str],
    points: Mapping[str, Points] | None,
    coverage: Coverage,
    rewards: Rewards | None,
) -> None:
    """Intervals that allow for clustering: whole blocks of time drawn, all streams together."""
    rows = [*found, *missed]
    longest = max((labels[i].end - labels[i].start for i in rows), default=0)
    season = setting.longest_season_ns
    if season is None:
        season = WEEK_S * SECOND_NS
        notes["block"] = (
            "no season given: the bootstrap's block is the longer of 7 d and twice the longest incident"
        )
    block = max(season, 2 * longest, 1)
    starts = intervals.draw_blocks(span, block, setting.seed)
    e = figures["events"]
    targets: list[tuple[dict[str, Any], str]] = [
        (e, "precision_ci_clustered"),
        (e, "recall_ci_clustered"),
        (e, "f1_ci"),
        (figures["delay"], "median_ci"),
        (figures["false_per_week"], "per_stream_ci"),
        (figures["false_per_week"], "total_ci"),
        (figures["delay"], "p90_ci"),
        (e, "fragmentation_ci"),
        (e, "incident_precision_ci"),
    ]
    point_names = ("precision", "recall", "specificity", "accuracy", "f1")
    if points is not None:
        targets += [(figures["points"], f"{k}_ci_clustered" if k != "f1" else "f1_ci") for k in point_names]
        targets += [(figures["points"], "accuracy_ci"), (figures, "flagged_share_ci")]
        targets += [(figures["ranges"], f"{k}_ci") for k in ("precision", "recall", "f1")]
    if starts is None:
        for where, name in targets:
            where[name] = None
        notes["clustered"] = (
            f"the span holds under {intervals.LEAST_BLOCKS} blocks of {block / SECOND_NS / 86_400:.3g} d: "
            "no interval by resampling"
        )
        return

    def total(chosen: Sequence[int], weights: Sequence[float] | None = None) -> Any:
        at: Ints = np.clip(np.asarray(chosen, dtype=np.int64), span[0], span[1])
        amounts = np.ones(len(at)) if weights is None else np.asarray(weights, dtype=np.float64)
        return intervals.drawn_sums(starts, span, block, at, amounts)

    tp = total([o.finding.start for o in outcomes if o.state == "true"])
    fp = total([o.finding.start for o in outcomes if o.state == "false"])
    hit, miss = total([labels[i].start for i in found]), total([labels[i].start for i in missed])
    precision, recall = intervals.ratio_draws(tp, tp + fp), intervals.ratio_draws(hit, hit + miss)
    seen_false = [o.finding.start for o in outcomes if o.state == "false" and observed.touches(o.finding)]
    weeks = figures["false_per_week"]["stream_weeks"]
    late = [i for i in found if i in delays]
    moments = np.asarray([labels[i].start for i in late], dtype=np.int64)
    medians, tails = (
        intervals.drawn_medians(starts, span, block, moments, np.asarray([delays[i] for i in late]), share)
        for share in (0.5, 0.9)
    )
    per_stream = total(seen_false) / weeks if weeks else np.full(intervals.DRAWS, np.nan)
    groups, true_groups = _group_starts([o for o in outcomes if o.state in ("true", "false")])
    draws = [
        precision,
        recall,
        _f_draws(precision, recall),
        medians,
        per_stream,
        per_stream * len(streams),
        tails,
        intervals.ratio_draws(tp, hit),
        intervals.ratio_draws(total(true_groups), total(groups)),
    ]
    if points is not None and rewards is not None:
        draws += _point_draws(points, coverage, observed, total)
        of_found = intervals.ratio_draws(
            total([t for t, _ in rewards.found], [x for _, x in rewards.found]),
            total([t for t, _ in rewards.found]),
        )
        of_real = intervals.ratio_draws(
            total([t for t, _ in rewards.real], [x for _, x in rewards.real]),
            total([t for t, _ in rewards.real]),
        )
        draws += [of_found, of_real, _f_draws(of_found, of_real)]
    for (where, name), values in zip(targets, draws, strict=True):
        where[name], dropped = intervals.percentile(values)
        if dropped and where[name] is not None:
            notes[name] = f"{dropped} of {intervals.DRAWS} draws had nothing to divide by and were dropped"


def _f_draws(precision: Floats, recall: Floats) -> Floats:
    return intervals.ratio_draws(2 * precision * recall, precision + recall)


def _point_draws(
    points: Mapping[str, Points], coverage: Coverage, observed: Observed, total: Callable[..., Any]
) -> list[Floats]:
    """Draws of the point level's ratios, in the order of its targets; every sample belongs to its own block."""
    at: dict[str, list[Ints]] = {}
    for series, p in points.items():
        seen = observed.masks[series]
        incident, unsure = label_masks(p, coverage[series])
        known = seen & ~unsure
        for name, mask in (
            ("tp", known & p.flagged & incident), ("fp", known & p.flagged & ~incident),
            ("fn", known & ~p.flagged & incident), ("tn", known & ~p.flagged & ~incident),
            ("flagged", seen & p.flagged), ("seen", seen),
        ):  # fmt: skip
            at.setdefault(name, []).append(p.times[mask])
    # All streams at once: one sort of their times, and one look-up of each draw's blocks.
    none = [np.empty(0, np.int64)]
    names = ("tp", "fp", "fn", "tn", "flagged", "seen")
    sums = {name: total(np.concatenate(at.get(name, none))) for name in names}
    tp, fp, fn, tn = (sums[k] for k in ("tp", "fp", "fn", "tn"))
    precision, recall = intervals.ratio_draws(tp, tp + fp), intervals.ratio_draws(tp, tp + fn)
    accuracy = intervals.ratio_draws(tp + tn, tp + fp + fn + tn)
    return [
        precision, recall, intervals.ratio_draws(tn, tn + fp), accuracy, _f_draws(precision, recall), accuracy,
        intervals.ratio_draws(sums["flagged"], sums["seen"]),
    ]  # fmt: skip


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


def median_step(times: Ints) -> int:
    return int(np.median(np.diff(times))) if len(times) > 1 else 0


def _union(spans: Iterable[tuple[int, int]]) -> list[tuple[int, int]]:
    out: list[tuple[int, int]] = []
    for a, b in sorted(spans):
        if out and a <= out[-1][1]:
            out[-1] = (out[-1][0], max(b, out[-1][1]))
        else:
            out.append((a, b))
    return out


def _pair(interval: tuple[float, float] | None) -> list[float] | None:
    return list(interval) if interval is not None else None
