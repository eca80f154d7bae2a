"""Findings and every figure at all 201 levels from 2 to 12 sigmas, in one pass over the scores.

One level is common to both sides and all streams. Per level and stream only the samples that reach
2 sigmas are walked; matching is the scorecard's, so that the curve and the card agree at every level.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numba import njit

from watchtide.core.judge.grouping import Group, group_flags
from watchtide.core.scoring.intervals import Z95
from watchtide.core.scoring.matched import NEVER
from watchtide.core.scoring.observed import Observed
from watchtide.core.scoring.outcomes import Outcome, Setting, default_span, incidents_counted, judge
from watchtide.core.scoring.rows import Coverage, Finding, Label, Points, Viewed
from watchtide.core.scoring.samples import label_masks
from watchtide.core.series import SECOND_NS, WEEK_S, Floats, Ints

LEVELS = np.round(np.linspace(2.0, 12.0, 201), 2)


@dataclass(frozen=True)
class Scored:
    """One stream's signed scores: times (n,), z (n,) NaN where not judged; odd (n,) scores without a side, or None."""

    series: str
    times: Ints
    z: Floats
    odd: np.ndarray | None = None


@dataclass(frozen=True)
class Curve:
    """Counts and ratios a level; arrays of (levels,). NaN where a ratio has no denominator.

    `findings` counts all of them, shifts included; delay in seconds, median over matched incidents.
    """

    levels: Floats
    findings: Ints
    tp_findings: Ints
    fp_findings: Ints
    unjudged: Ints
    unsure: Ints
    tp_labels: Ints
    fn_labels: Ints
    precision: Floats
    precision_low: Floats
    precision_high: Floats
    recall: Floats
    recall_low: Floats
    recall_high: Floats
    f1: Floats
    delay_s: Floats
    false_per_week: Floats
    flagged_share: Floats
    point_tp: Ints
    point_fp: Ints
    point_fn: Ints
    point_tn: Ints
    recall_of: str
    stream_weeks: float


def curve(
    streams: Sequence[Scored] | Mapping[str, Scored],
    labels: Sequence[Label],
    *,
    group: Group,
    side: str = "both",
    shifts: Sequence[Finding] = (),
    setting: Setting = Setting(),
    levels: Floats = LEVELS,
) -> Curve:
    """Every figure at every level, for one plan's streams.

    streams : a mapping may read each stream on access; shifts : findings that do not depend on the level; they are counted at each.
    Raises ValueError without streams.
    """
    if not streams:
        raise ValueError("a curve needs at least one stream")
    scored = by_name(streams)
    points = Viewed(scored, unflagged)
    span = setting.span or default_span((), labels, points) or (0, 0)
    coverage = Coverage(labels)
    has_reviews = any(label.verdict == "reviewed" for label in labels)
    in_span = [label.start <= span[1] and label.end >= span[0] for label in labels]
    names = list(scored)
    observed = Observed(points, coverage, span, has_reviews, names)
    counted, _, recall_of = incidents_counted(labels, in_span, coverage, names, observed, has_reviews)

    sums = _Sums.of(len(levels), len(labels))
    watched = np.array([side != "below", side != "above"])
    rules = np.array([group.need, group.of, group.merge_ns, group.shortest, setting.tolerance_ns], np.int64)
    for series, s in scored.items():
        covering, own = coverage[series], unflagged(s)
        incident, unsure = label_masks(own, covering)
        seen = observed.mask(series, own)
        kind = np.where(seen, np.where(unsure, UNSURE, np.where(incident, INCIDENT, NORMAL)), 0).astype(
            np.int8
        )
        sums.samples[:] += [np.sum(kind == INCIDENT), np.sum(kind == NORMAL), np.sum(seen)]
        flags = _flags_of(s, watched, float(levels[0]))
        _stream_curve(
            s.times, s.z, flags, kind, _label_table(covering), levels, rules, np.array(span, np.int64), has_reviews,
            sums.totals, sums.matched, sums.first_sign,
        )  # fmt: skip
    for f in shifts:
        if f.start <= span[1] and f.end >= span[0]:
            outcome = judge(f, coverage[f.series], setting, has_reviews)
            sums.add(outcome, is_seen=observed.touches(f))
    weeks = observed.seconds(setting.step_ns) / WEEK_S
    return _figures(levels, sums, labels, counted, recall_of, weeks)


def by_name(streams: Sequence[Scored] | Mapping[str, Scored]) -> Mapping[str, Scored]:
    """The same streams by their names."""
    return streams if isinstance(streams, Mapping) else {s.series: s for s in streams}


def unflagged(s: Scored) -> Points:
    """What may be flagged of a stream, before anything is."""
    return Points(s.times, s.z, np.zeros(len(s.z), np.bool_))


# What a judged sample is, where it is observed; 0 elsewhere.
UNSURE, NORMAL, INCIDENT = 1, 2, 3
# Columns of the sums by level: findings by what became of them, all of them, flagged incident, normal and all samples, and
# false findings that touch observed time.
TRUE, FALSE, UNJUDGED, OF_UNSURE, FOUND, ON_INCIDENT, ON_NORMAL, FLAGGED, FALSE_SEEN, SAMPLED = range(10)
STATES = {"true": TRUE, "false": FALSE, "unjudged": UNJUDGED, "unsure": OF_UNSURE, "sampled": SAMPLED}


@dataclass(frozen=True)
class _Sums:
    """Added up over streams: totals (levels, 10); matched (levels, labels) and first_sign, when each was first flagged; samples
    (3,) of incidents, normal ones and all that are observed."""

    totals: Ints
    matched: np.ndarray
    first_sign: Ints
    samples: Ints

    @classmethod
    def of(cls, levels: int, labels: int) -> "_Sums":
        matched, never = np.zeros((levels, labels), np.bool_), np.full((levels, labels), NEVER)
        return cls(np.zeros((levels, 10), np.int64), matched, never, np.zeros(3, np.int64))

    def add(self, outcome: Outcome, *, is_seen: bool) -> None:
        """A finding that is one at every level. is_seen : whether it touches observed time."""
        self.totals[:, [STATES[outcome.state], FOUND]] += 1
        if outcome.state == "false" and is_seen:
            self.totals[:, FALSE_SEEN] += 1
        self.matched[:, list(outcome.incidents)] = True


def _flags_of(s: Scored, watched: np.ndarray, least: float) -> Ints:
    """(n,) 1 above, -1 below, 2 odd, as `find_runs` has them; 0 under the least level or on a side that is not watched."""
    codes = np.where(s.z >= 0, 1, -1)
    if s.odd is not None:
        codes = np.where(s.odd, 2, codes)
    is_left = ((codes == 1) & ~watched[0]) | ((codes == -1) & ~watched[1])
    with np.errstate(invalid="ignore"):
        return np.where((np.abs(s.z) >= least) & ~is_left, codes, 0).astype(np.int64)


def _label_table(covering: object) -> Ints:
    """(k, 5) start, end, class, row, is sampled; class 0 incident, 1 unsure, 2 not wrong, 3 reviewed."""
    classes = {"incident": 0, "unsure": 1, "foreseen": 2, "false-alarm": 2, "reviewed": 3}
    rows = [
        (x.start, x.end, classes[x.verdict], i, int(x.origin == "sampled"))
        for i, x in covering.rows  # type: ignore[attr-defined]
    ]
    return np.asarray(rows, dtype=np.int64).reshape(-1, 5)


@njit(cache=True, nogil=True)
def _stream_curve(  # type: ignore[no-untyped-def]
    times, z, flags, kind, table, levels, rules, span, has_reviews, totals, matched, first_sign
):
    """Add one stream's counts at every level. rules : need, of, merge, shortest and tolerance; the rest as `_Sums` has them."""
    n = len(z)
    next_seen = np.full(n + 1, n, np.int64)
    for i in range(n - 1, -1, -1):
        next_seen[i] = next_seen[i + 1] if np.isnan(z[i]) else i
    marked, flagged, rows = np.zeros(n, np.int64), np.empty(n, np.int64), np.empty((n, 6), np.int64)
    score, near = np.abs(z), np.flatnonzero(flags)
    for li in range(len(levels)):
        k = 0
        for at in near:
            if score[at] >= levels[li]:
                flagged[k] = at
                k += 1
        found = group_flags(flagged[:k], flags, score, times, rules[0], rules[1], rules[2], rules[3], rows)
        for f in range(found):
            a, b = rows[f, 0], rows[f, 1]
            start, end = times[a], times[b]
            seen = _count_samples(a, b, z, kind, marked, li + 1, totals[li])
            if start > span[1] or end < span[0]:
                continue
            column = _outcome_of(start, end, table, rules[4], has_reviews)
            totals[li, FOUND] += 1
            totals[li, column] += 1
            if column == FALSE and seen:
                totals[li, FALSE_SEEN] += 1
            if column == TRUE:
                _match(start, end, table, rules[4], times, next_seen, matched[li], first_sign[li])


@njit(cache=True, nogil=True)
def _count_samples(a, b, z, kind, marked, mark, counts):  # type: ignore[no-untyped-def]
    """Add the samples of a finding, each once a level: spans of the two sides may overlap. Whether any is observed."""
    seen = False
    for i in range(a, b + 1):
        if kind[i] > 0 and not np.isnan(z[i]):
            seen = True
            if marked[i] != mark:
                counts[FLAGGED] += 1
                if kind[i] == INCIDENT:
                    counts[ON_INCIDENT] += 1
                elif kind[i] == NORMAL:
                    counts[ON_NORMAL] += 1
            marked[i] = mark
    return seen


@njit(cache=True, nogil=True)
def _outcome_of(start, end, table, tolerance, has_reviews):  # type: ignore[no-untyped-def]
    """The column of what becomes of a finding: `outcomes.judge`, compiled."""
    met = looked = False
    all_sampled, verdict = True, 3
    for r in range(len(table)):
        wide = 0 if table[r, 2] == 3 else tolerance
        if start <= table[r, 1] + wide and end >= table[r, 0] - wide:
            if table[r, 2] == 3:
                looked = True
                continue
            met = True
            if table[r, 4] == 0:
                all_sampled = False
            verdict = min(verdict, table[r, 2])
    if met and not looked and all_sampled:
        return SAMPLED
    if met and verdict == 0:
        return TRUE
    if met and verdict == 1:
        return OF_UNSURE
    return FALSE if met or looked or not has_reviews else UNJUDGED


@njit(cache=True, nogil=True)
def _match(start, end, table, tolerance, times, next_seen, matched, first_sign):  # type: ignore[no-untyped-def]
    """Note the incidents that a finding meets, and the first sign of each."""
    for r in range(len(table)):
        if table[r, 2] == 0 and start <= table[r, 1] + tolerance and end >= table[r, 0] - tolerance:
            row = table[r, 3]
            matched[row] = True
            at = next_seen[np.searchsorted(times, max(start, table[r, 0]))]
            if at < len(times) and times[at] <= min(end, table[r, 1]):
                first_sign[row] = min(first_sign[row], times[at])


def _figures(
    levels: Floats, sums: _Sums, labels: Sequence[Label], counted: Sequence[int], recall_of: str, weeks: float
) -> Curve:
    rows, totals = np.asarray(counted, dtype=np.int64), sums.totals
    hits = sums.matched[:, rows].sum(axis=1).astype(np.int64)
    misses = len(rows) - hits
    tp, fp = totals[:, TRUE], totals[:, FALSE]
    precision, precision_low, precision_high = _wilson(tp, tp + fp)
    recall, recall_low, recall_high = _wilson(hits, hits + misses)
    with np.errstate(invalid="ignore", divide="ignore"):
        f1 = np.where(precision + recall > 0, 2 * precision * recall / (precision + recall), 0.0)
        f1 = np.where(np.isnan(precision) | np.isnan(recall), np.nan, f1)
    none = np.full(len(levels), np.nan)
    return Curve(
        levels=levels,
        findings=totals[:, FOUND],
        tp_findings=tp,
        fp_findings=fp,
        unjudged=totals[:, UNJUDGED],
        unsure=totals[:, OF_UNSURE],
        tp_labels=hits,
        fn_labels=misses,
        precision=precision,
        precision_low=precision_low,
        precision_high=precision_high,
        recall=recall,
        recall_low=recall_low,
        recall_high=recall_high,
        f1=f1,
        delay_s=_median_delays(sums, rows, np.asarray([labels[i].start for i in rows], dtype=np.int64)),
        false_per_week=totals[:, FALSE_SEEN] / weeks if weeks > 0 else none,
        flagged_share=totals[:, FLAGGED] / sums.samples[2] if sums.samples[2] else none,
        point_tp=totals[:, ON_INCIDENT],
        point_fp=totals[:, ON_NORMAL],
        point_fn=sums.samples[0] - totals[:, ON_INCIDENT],
        point_tn=sums.samples[1] - totals[:, ON_NORMAL],
        recall_of=recall_of,
        stream_weeks=weeks,
    )


def _median_delays(sums: _Sums, rows: Ints, starts: Ints) -> Floats:
    """(levels,) median seconds from the starts of these label rows to their first signs; NaN where none has one."""
    out = np.full(len(sums.matched), np.nan)
    for li, (matched, sign) in enumerate(zip(sums.matched[:, rows], sums.first_sign[:, rows], strict=True)):
        known = matched & (sign < NEVER)
        if known.any():
            out[li] = float(np.median(sign[known] - starts[known])) / SECOND_NS
    return out


def _wilson(hits: Ints, n: Ints) -> tuple[Floats, Floats, Floats]:
    """Ratio and Wilson interval a level; NaN for n = 0. The formula of intervals.wilson, on arrays."""
    with np.errstate(invalid="ignore", divide="ignore"):
        p = hits / n
        spread = Z95 * np.sqrt(p * (1 - p) / n + Z95**2 / (4.0 * n * n))
        scale = 1 + Z95**2 / n
        low = np.where(hits == 0, 0.0, (p + Z95**2 / (2 * n) - spread) / scale)
        high = np.where(hits == n, 1.0, (p + Z95**2 / (2 * n) + spread) / scale)
    return p, np.where(n == 0, np.nan, low), np.where(n == 0, np.nan, high)
