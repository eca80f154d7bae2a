"""The best level under a stated constraint: apparent, cross-validated over blocks of time, and on a locked span."""

import itertools
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from watchtide.core.judge.grouping import Group
from watchtide.core.scoring.curve import LEVELS, Curve, Scored, by_name, curve, unflagged
from watchtide.core.scoring.intervals import wilson
from watchtide.core.scoring.outcomes import Setting, default_span
from watchtide.core.scoring.rows import Label, Viewed
from watchtide.core.scoring.spans import f_one, ratio
from watchtide.core.series import Bools, Floats, Ints

# Blocks of time that take turns at judging a level the others chose.
BLOCKS = 5


@dataclass(frozen=True)
class Constraint:
    """One of: least recall, most false findings a stream-week, most gap between sensitivity and specificity, costs."""

    min_recall: float | None = None
    max_false_per_week: float | None = None
    max_gap: float | None = None
    cost_miss: float | None = None
    cost_false: float | None = None

    def __post_init__(self) -> None:
        stated = [self.min_recall, self.max_false_per_week, self.max_gap, self.cost_miss]
        if sum(x is not None for x in stated) != 1 or (self.cost_miss is None) != (self.cost_false is None):
            raise ValueError(
                "state one constraint: a least recall, a most false a week, a most gap, or both costs"
            )


@dataclass(frozen=True)
class Tally:
    """Counts at every level over some span; arrays of (levels,). weeks : stream-weeks observed."""

    tp: Ints
    fp: Ints
    hits: Ints
    misses: Ints
    false_seen: Floats
    weeks: float
    point_tp: Ints
    point_fp: Ints
    point_fn: Ints
    point_tn: Ints

    @classmethod
    def of_points(cls, tp: Ints, fp: Ints, fn: Ints, tn: Ints) -> "Tally":
        """Counts of samples or units alone: no findings, no weeks."""
        none = np.zeros(len(tp), np.int64)
        return cls(none, none, none, none, none.astype(np.float64), 0.0, tp, fp, fn, tn)

    def __add__(self, other: "Tally") -> "Tally":
        return Tally(*(getattr(self, k) + getattr(other, k) for k in self.__dataclass_fields__))

    def figures(self, i: int, by: str) -> dict[str, Any]:
        """Figures at one level, with their counts and Wilson's intervals."""
        if by == "points":
            tp, fp, fn, tn = (int(x[i]) for x in (self.point_tp, self.point_fp, self.point_fn, self.point_tn))
            hits, misses = tp, fn
        else:
            tp, fp, hits, misses = (int(x[i]) for x in (self.tp, self.fp, self.hits, self.misses))
        precision, recall = ratio(tp, tp + fp), ratio(hits, hits + misses)
        out: dict[str, Any] = {
            "tp": tp, "fp": fp, "hits": hits, "misses": misses, "precision": precision, "precision_ci": wilson(tp, tp + fp),
            "recall": recall, "recall_ci": wilson(hits, hits + misses), "f1": f_one(precision, recall),
            "false_per_week": float(self.false_seen[i]) / self.weeks if self.weeks else None, "stream_weeks": self.weeks,
        }  # fmt: skip
        if by == "points":
            out |= {"specificity": ratio(tn, tn + fp), "tn": tn}
        return out


def tally(
    streams: Sequence[Scored] | Mapping[str, Scored],
    labels: Sequence[Label],
    group: Group,
    side: str,
    setting: Setting,
    span: tuple[int, int],
) -> Tally:
    """Counts at all levels over one closed span; streams are cut to it, so that no finding reaches across."""
    cut = Viewed(by_name(streams), lambda s: _within(s, span))
    c: Curve = curve(cut, labels, group=group, side=side, setting=replace(setting, span=span))
    false_seen = np.nan_to_num(c.false_per_week) * c.stream_weeks
    return Tally(
        c.tp_findings, c.fp_findings, c.tp_labels, c.fn_labels, false_seen, c.stream_weeks, c.point_tp, c.point_fp,
        c.point_fn, c.point_tn,
    )  # fmt: skip


def _within(s: Scored, span: tuple[int, int]) -> Scored:
    part = slice(*np.searchsorted(s.times, [span[0], span[1] + 1]))
    return Scored(s.series, s.times[part], s.z[part], None if s.odd is None else s.odd[part])


def weigh(t: Tally, constraint: Constraint, by: str) -> tuple[Bools, Floats, Floats]:
    """(levels,) each: which levels meet a constraint, how far each is from meeting it, and what each is worth."""
    points = by == "points"
    tp, fp = (t.point_tp, t.point_fp) if points else (t.tp, t.fp)
    hits, misses = (t.point_tp, t.point_fn) if points else (t.hits, t.misses)
    with np.errstate(invalid="ignore", divide="ignore"):
        precision, recall = tp / (tp + fp), hits / (hits + misses)
        specificity = t.point_tn / (t.point_tn + t.point_fp)
        rate = t.false_seen / t.weeks if t.weeks else np.full(len(tp), np.nan)
    if constraint.min_recall is not None:
        meets, distance = recall >= constraint.min_recall, constraint.min_recall - recall
        worth = np.nan_to_num(precision, nan=-1.0)
    elif constraint.max_false_per_week is not None:
        meets, distance = rate <= constraint.max_false_per_week, rate - constraint.max_false_per_week
        worth = np.nan_to_num(recall, nan=-1.0) + 1e-3 * np.nan_to_num(precision)
    elif constraint.max_gap is not None:
        gap = np.abs(recall - specificity)
        meets, distance = gap <= constraint.max_gap, gap - constraint.max_gap
        worth = np.nan_to_num(recall + specificity, nan=-1.0)
    else:
        assert constraint.cost_miss is not None and constraint.cost_false is not None
        cost = constraint.cost_miss * misses + constraint.cost_false * fp
        meets, distance, worth = np.ones(len(tp), np.bool_), cost, -cost.astype(np.float64)
    return np.asarray(meets), np.asarray(distance, np.float64), worth


def choose(t: Tally, constraint: Constraint, by: str) -> tuple[int | None, int]:
    """(index of the best level that meets the constraint or None, index of the one nearest to meeting it).

    Least recall: the most precise; most false: the most recall, then the most precise; gap: the largest sum of
    sensitivity and specificity; costs: the cheapest. Ties go to the higher level, which flags less.
    """
    meets, distance, worth = weigh(t, constraint, by)
    nearest = _last_best(-np.nan_to_num(distance, nan=np.inf))
    if not np.any(meets):
        return None, nearest
    return _last_best(np.where(meets, worth, -np.inf)), nearest


def _last_best(worth: Floats) -> int:
    """Index of the largest, the last of equal ones."""
    return int(len(worth) - 1 - np.argmax(worth[::-1]))


def best_level(
    streams: Sequence[Scored] | Mapping[str, Scored],
    labels: Sequence[Label],
    constraint: Constraint,
    *,
    by: str = "events",
    group: Group = Group(),
    side: str = "both",
    setting: Setting = Setting(),
    locked: tuple[int, int] | None = None,
) -> dict[str, Any]:
    """The best level under a constraint, as plain data.

    `apparent` counts the data it was chosen on; `cross_validated` adds up five blocks of time, each judged at the level
    the other four chose. locked : a closed span that takes no part in either, judged at the end by itself.
    Raises ValueError for an unknown `by`, a gap without points, or no streams. Stone (1974).
    """
    if by not in ("events", "points"):
        raise ValueError(f"by must be events or points, got {by!r}")
    if constraint.max_gap is not None and by != "points":
        raise ValueError(
            "a gap between sensitivity and specificity needs --by points: events have no true negatives"
        )
    if not streams:
        raise ValueError("no points to choose a level on")
    span = setting.span or default_span((), (), Viewed(by_name(streams), unflagged)) or (0, 0)
    open_spans = _left_of(span, locked)
    whole_length = _length(open_spans)

    def tally_of(part: tuple[int, int]) -> Tally:
        return tally(streams, labels, group, side, setting, part)

    blocks = [b for s in open_spans for b in _blocks(s, max(1, round(BLOCKS * _length([s]) / whole_length)))]
    whole = _total([tally_of(s) for s in open_spans])
    best, nearest = choose(whole, constraint, by)
    at = nearest if best is None else best
    validated, levels = _cross_validated([tally_of(b) for b in blocks], constraint, by)
    out: dict[str, Any] = {
        "by": by, "constraint": {k: v for k, v in vars(constraint).items() if v is not None}, "is_met": best is not None,
        "level": float(LEVELS[at]), "apparent": whole.figures(at, by),
        "cross_validated": _total(validated).figures(0, by) if len(validated) > 1 else None, "block_levels": levels,
        "locked": tally_of(locked).figures(at, by) if locked is not None else None,
        "feasible": LEVELS[weigh(whole, constraint, by)[0]].tolist(),
        "curve": [{"level": float(LEVELS[i]), **whole.figures(i, by)} for i in range(len(LEVELS))],
    }  # fmt: skip
    if len(validated) <= 1:
        out["notes"] = {
            "cross_validated": "one block of time only: nothing to choose on and another to judge by"
        }
    return out


def _left_of(span: tuple[int, int], locked: tuple[int, int] | None) -> list[tuple[int, int]]:
    """What is left of a closed span without the locked one."""
    if locked is None:
        return [span]
    parts = (span[0], min(span[1], locked[0] - 1)), (max(span[0], locked[1] + 1), span[1])
    left = [(a, b) for a, b in parts if a <= b]
    if not left:
        raise ValueError("the locked span covers all of the data; nothing is left to choose on")
    return left


def _cross_validated(
    tallies: Sequence[Tally], constraint: Constraint, by: str
) -> tuple[list[Tally], list[float]]:
    """Of each block its tally at the level that the others choose, and that level."""
    judged, levels = [], []
    for k, own in enumerate(tallies):
        rest = [t for j, t in enumerate(tallies) if j != k]
        if rest:
            best, nearest = choose(_total(rest), constraint, by)
            at = nearest if best is None else best
            levels.append(float(LEVELS[at]))
            judged.append(_single(own, at))
    return judged, levels


def _length(spans: Sequence[tuple[int, int]]) -> int:
    return sum(b - a + 1 for a, b in spans)


def _blocks(span: tuple[int, int], count: int) -> list[tuple[int, int]]:
    edges = np.linspace(span[0], span[1] + 1, count + 1).astype(np.int64)
    return [(int(a), int(b) - 1) for a, b in itertools.pairwise(edges)]


def _total(parts: Sequence[Tally]) -> Tally:
    out = parts[0]
    for part in parts[1:]:
        out = out + part
    return out


def _single(t: Tally, i: int) -> Tally:
    """The counts at one level, as a tally of one."""
    parts = {k: getattr(t, k) for k in t.__dataclass_fields__}
    return Tally(**{k: (v if k == "weeks" else v[i : i + 1]) for k, v in parts.items()})
