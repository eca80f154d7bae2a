"""The event level in its plainest form: spans against spans of one stream."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike

from watchtide.core.scoring.intervals import wilson
from watchtide.core.series import Ints


@dataclass(frozen=True)
class EventCounts:
    """Counts and ratios; a ratio without a denominator is None, never 1."""

    tp_findings: int
    fp_findings: int
    tp_labels: int
    fn_labels: int
    precision: float | None
    precision_ci: tuple[float, float] | None
    recall: float | None
    recall_ci: tuple[float, float] | None
    f1: float | None


def events(findings: ArrayLike, labels: ArrayLike, *, tolerance: int = 0) -> EventCounts:
    """Match findings with incidents: closed spans, the label's widened by the tolerance, that overlap.

    findings, labels : (k, 2) and (m, 2) start and end in one unit, of one stream. Precision counts
    findings, recall counts incidents. Raises ValueError for an end before its start or a negative
    tolerance. O((k + m) log) for sorted spans, here O(k m).
    """
    f, g = _spans(findings, "finding"), _spans(labels, "label")
    if tolerance < 0:
        raise ValueError(f"tolerance must be 0 or more, got {tolerance}")
    meets = (f[:, None, 0] <= g[None, :, 1] + tolerance) & (f[:, None, 1] >= g[None, :, 0] - tolerance)
    tp_findings = int(meets.any(axis=1).sum()) if len(g) else 0
    tp_labels = int(meets.any(axis=0).sum()) if len(f) else 0
    return count(tp_findings, len(f) - tp_findings, tp_labels, len(g) - tp_labels)


def count(tp_findings: int, fp_findings: int, tp_labels: int, fn_labels: int) -> EventCounts:
    """Ratios and Wilson intervals of these counts."""
    precision = ratio(tp_findings, tp_findings + fp_findings)
    recall = ratio(tp_labels, tp_labels + fn_labels)
    return EventCounts(
        tp_findings,
        fp_findings,
        tp_labels,
        fn_labels,
        precision,
        wilson(tp_findings, tp_findings + fp_findings),
        recall,
        wilson(tp_labels, tp_labels + fn_labels),
        f_one(precision, recall),
    )


def ratio(top: float, bottom: float) -> float | None:
    return top / bottom if bottom else None


def f_one(precision: float | None, recall: float | None) -> float | None:
    """Harmonic mean; None when either is None, 0 when both are 0."""
    if precision is None or recall is None:
        return None
    return 2 * precision * recall / (precision + recall) if precision + recall else 0.0


def _spans(spans: ArrayLike, name: str) -> Ints:
    rows = np.asarray(spans).reshape(-1, 2)
    wrong = np.flatnonzero(rows[:, 1] < rows[:, 0])
    if len(wrong):
        raise ValueError(f"{name} {wrong[0]} ends before it starts: {rows[wrong[0]].tolist()}")
    return rows
