"""Findings and every figure at all 201 levels from 2 to 12 sigmas, in one pass over the scores.

One level is common to both sides and all streams. Per level and stream only the samples that reach
2 sigmas are walked; matching is the scorecard's, so that the curve and the card agree at every level.
"""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numba import njit

from watchtide.core.judge.grouping import Group, group_flags
from watchtide.core.scoring.intervals import Z95
from watchtide.core.scoring.observed import Observed
from watchtide.core.scoring.outcomes import Setting, default_span, incidents_counted, judge
from watchtide.core.scoring.rows import Coverage, Finding, Label, Points
from watchtide.core.scoring.samples import label_masks
from watchtide.core.series import WEEK_S, Floats, Ints

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
    streams: Sequence[Scored],
    labels: Sequence[Label],
    *,
    group: Group,
    side: str = "both",
    shifts: Sequence[Finding] = (),
    setting: Setting = Setting(),
    levels: Floats = LEVELS,
) -> Curve:
    """Every figure at every level, for one plan's streams.

    shifts : findings that do not depend on the level; they are counted at each.
    Raises ValueError without streams.
    """
    if not streams:
        raise ValueError("a curve needs at least one stream")
    points = {s.series: Points(s.times, s.z, np.zeros(len(s.z), np.bool_)) for s in streams}
    span = setting.span or default_span((), labels, points) or (0, 0)
    coverage = Coverage(labels)
    has_reviews = any(label.verdict == "reviewed" for label in labels)
    in_span = [label.start <= span[1] and label.end >= span[0] for label in labels]
    names = [s.series for s in streams]
    observed = Observed(points, coverage, span, has_reviews, names)
    counted, _, recall_of = incidents_counted(labels, in_span, coverage, names, observed, has_reviews)

    totals = np.zeros((len(levels), 10), np.int64)
    matched = np.zeros((len(levels), len(labels)), np.bool_)
    first_sign = np.full((len(levels), len(labels)), np.iinfo(np.int64).max)
    incident_samples = normal_samples = seen_samples = 0
    watched = np.array([side != "below", side != "above"])
    for s in streams:
        covering = coverage[s.series]
        mask = observed.masks[s.series]
        incident, unsure = label_masks(points[s.series], covering)
        kind = np.where(mask, np.where(unsure, 1, np.where(incident, 3, 2)), 0).astype(np.int8)
        incident_samples += int(np.sum(kind == 3))
        normal_samples += int(np.sum(kind == 2))
        seen_samples += int(np.sum(mask))
        _stream_curve(
            s.times,
            s.z,
            _codes(s),
            kind,
            _label_table(covering),
            levels,
            watched,
            np.array([group.need, group.of, group.merge_ns, group.shortest, setting.tolerance_ns], np.int64),
            np.array(span, np.int64),
            has_reviews,
            totals,
            matched,
            first_sign,
        )
    for f in shifts:
        if f.start > span[1] or f.end < span[0]:
            continue
        outcome = judge(f, coverage[f.series], setting, has_reviews)
        column = {"true": 0, "false": 1, "unjudged": 2, "unsure": 3, "sampled": 9}[outcome.state]
        totals[:, column] += 1
        totals[:, 4] += 1
        if outcome.state == "false" and observed.touches(f):
            totals[:, 8] += 1
        matched[:, list(outcome.incidents)] = True
    return _figures(
        levels,
        totals,
        matched,
        first_sign,
        labels,
        counted,
        recall_of,
        observed.seconds(setting.step_ns) / WEEK_S,
        (incident_samples, normal_samples, seen_samples),
    )


def _codes(s: Scored) -> Ints:
    """(n,) 1 above, -1 below, 2 odd: as find_runs has them."""
    codes = np.where(s.z >= 0, 1, -1)
    return codes if s.odd is None else np.where(s.odd, 2, codes)


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
    times, z, codes, kind, table, levels, watched, rules, span, has_reviews, totals, matched, first_sign
):
    """Add one stream's counts at every level.

    totals columns: 0 true, 1 false, 2 unjudged, 3 unsure, 4 findings, 5 flagged incident samples,
    6 flagged normal samples, 7 flagged samples, 8 false findings that touch observed time, 9 sampled.
    """
    n = len(z)
    next_seen = np.full(n + 1, n, np.int64)
    for i in range(n - 1, -1, -1):
        next_seen[i] = next_seen[i + 1] if np.isnan(z[i]) else i
    marked = np.zeros(n, np.int64)
    flagged = np.empty(n, np.int64)
    rows = np.empty((n, 6), np.int64)
    score = np.abs(z)
    near = np.flatnonzero(score >= levels[0])
    flags = np.zeros(n, np.int64)
    for at in near:
        if (codes[at] == 1 and not watched[0]) or (codes[at] == -1 and not watched[1]):
            continue
        flags[at] = codes[at]
    for li in range(len(levels)):
        k = 0
        for at in near:
            if flags[at] != 0 and score[at] >= levels[li]:
                flagged[k] = at
                k += 1
        found = group_flags(flagged[:k], flags, score, times, rules[0], rules[1], rules[2], rules[3], rows)
        for f in range(found):
            a, b = rows[f, 0], rows[f, 1]
            start, end = times[a], times[b]
            seen = False
            for i in range(a, b + 1):
                if kind[i] > 0 and not np.isnan(z[i]):
                    seen = True
                    # Spans of the two sides may overlap: a sample counts once a level.
                    if marked[i] != li + 1:
                        totals[li, 7] += 1
                        if kind[i] == 3:
                            totals[li, 5] += 1
                        elif kind[i] == 2:
                            totals[li, 6] += 1
                    marked[i] = li + 1
            if start > span[1] or end < span[0]:
                continue
            totals[li, 4] += 1
            met = False
            looked = False
            all_sampled = True
            verdict = 3
            for r in range(len(table)):
                wide = 0 if table[r, 2] == 3 else rules[4]
                if start <= table[r, 1] + wide and end >= table[r, 0] - wide:
                    if table[r, 2] == 3:
                        looked = True
                        continue
                    met = True
                    if table[r, 4] == 0:
                        all_sampled = False
                    verdict = min(verdict, table[r, 2])
            if met and not looked and all_sampled:
                totals[li, 9] += 1
                continue
            if met and verdict == 0:
                totals[li, 0] += 1
                for r in range(len(table)):
                    if table[r, 2] == 0 and start <= table[r, 1] + rules[4] and end >= table[r, 0] - rules[4]:
                        row = table[r, 3]
                        matched[li, row] = True
                        at = np.searchsorted(times, max(start, table[r, 0]))
                        at = next_seen[at]
                        if at < n and times[at] <= min(end, table[r, 1]):
                            first_sign[li, row] = min(first_sign[li, row], times[at])
            elif met and verdict == 1:
                totals[li, 3] += 1
            elif met or looked or not has_reviews:
                totals[li, 1] += 1
                if seen:
                    totals[li, 8] += 1
            else:
                totals[li, 2] += 1


def _figures(
    levels: Floats,
    totals: Ints,
    matched: np.ndarray,
    first_sign: Ints,
    labels: Sequence[Label],
    counted: Sequence[int],
    recall_of: str,
    weeks: float,
    samples: tuple[int, int, int],
) -> Curve:
    rows = np.asarray(counted, dtype=np.int64)
    hits = matched[:, rows]
    tp_l = hits.sum(axis=1).astype(np.int64)
    fn_l = len(rows) - tp_l
    tp, fp = totals[:, 0], totals[:, 1]
    delay = np.full(len(levels), np.nan)
    starts = np.asarray([labels[i].start for i in rows], dtype=np.int64)
    for li in range(len(levels)):
        known = hits[li] & (first_sign[li, rows] < np.iinfo(np.int64).max)
        if known.any():
            delay[li] = float(np.median(first_sign[li, rows][known] - starts[known])) / 1e9
    precision, p_low, p_high = _wilson(tp, tp + fp)
    recall, r_low, r_high = _wilson(tp_l, tp_l + fn_l)
    with np.errstate(invalid="ignore", divide="ignore"):
        f1 = np.where(precision + recall > 0, 2 * precision * recall / (precision + recall), 0.0)
        f1 = np.where(np.isnan(precision) | np.isnan(recall), np.nan, f1)
        rate = totals[:, 8] / weeks if weeks > 0 else np.full(len(levels), np.nan)
        share = totals[:, 7] / samples[2] if samples[2] else np.full(len(levels), np.nan)
    return Curve(
        levels,
        totals[:, 4],
        tp,
        fp,
        totals[:, 2],
        totals[:, 3],
        tp_l,
        fn_l,
        precision,
        p_low,
        p_high,
        recall,
        r_low,
        r_high,
        f1,
        delay,
        rate,
        share,
        totals[:, 5],
        totals[:, 6],
        samples[0] - totals[:, 5],
        samples[1] - totals[:, 6],
        recall_of,
        weeks,
    )


def _wilson(hits: Ints, n: Ints) -> tuple[Floats, Floats, Floats]:
    """Ratio and Wilson interval a level; NaN for n = 0. The formula of intervals.wilson, on arrays."""
    with np.errstate(invalid="ignore", divide="ignore"):
        p = hits / n
        spread = Z95 * np.sqrt(p * (1 - p) / n + Z95**2 / (4.0 * n * n))
        scale = 1 + Z95**2 / n
        low = np.where(hits == 0, 0.0, (p + Z95**2 / (2 * n) - spread) / scale)
        high = np.where(hits == n, 1.0, (p + Z95**2 / (2 * n) + spread) / scale)
    return p, np.where(n == 0, np.nan, low), np.where(n == 0, np.nan, high)
