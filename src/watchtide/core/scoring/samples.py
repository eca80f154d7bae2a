"""The point level, sample by sample, and the range level, run by run."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from watchtide.core.scoring import spans
from watchtide.core.scoring.intervals import as_list, wilson
from watchtide.core.scoring.observed import Observed
from watchtide.core.scoring.rows import Coverage, Points, inside_any
from watchtide.core.series import Bools


def label_masks(p: Points, covering: Any) -> tuple[Bools, Bools]:
    """(n,) samples inside an incident, and inside an unsure span; incident wins where both overlap."""
    incident = inside_any(p.times, [(x.start, x.end) for _, x in covering.of("incident")])
    unsure = inside_any(p.times, [(x.start, x.end) for _, x in covering.of("unsure")])
    return incident, unsure & ~incident


def point_level(
    points: Mapping[str, Points] | None, coverage: Coverage, observed: Observed, notes: dict[str, str]
) -> tuple[dict[str, Any] | None, Any]:
    if points is None:
        notes["points"] = "no points given: the point level and the flagged share need --points"
        notes["ranges"] = "no points given: the range level needs --points"
        return None, None
    tp = fp = fn = tn = flagged = seen = 0
    for series, p in points.items():
        mask = observed.mask(series, p)
        flagged += int(np.sum(p.flagged & mask))
        seen += int(np.sum(mask))
        incident, unsure = label_masks(p, coverage[series])
        mask = mask & ~unsure
        tp += int(np.sum(mask & p.flagged & incident))
        fp += int(np.sum(mask & p.flagged & ~incident))
        fn += int(np.sum(mask & ~p.flagged & incident))
        tn += int(np.sum(mask & ~p.flagged & ~incident))
    return figures(tp, fp, fn, tn), spans.ratio(flagged, seen)


def figures(tp: int, fp: int, fn: int, tn: int) -> dict[str, Any]:
    """The counts of a confusion matrix with its ratios, null where a count they divide by is 0."""
    precision, recall = spans.ratio(tp, tp + fp), spans.ratio(tp, tp + fn)
    return {
        "tp": tp,
        "fp": fp,
        "fn": fn,
        "tn": tn,
        "precision": precision,
        "precision_ci": as_list(wilson(tp, tp + fp)),
        "recall": recall,
        "recall_ci": as_list(wilson(tp, tp + fn)),
        "specificity": spans.ratio(tn, tn + fp),
        "specificity_ci": as_list(wilson(tn, tn + fp)),
        "accuracy": spans.ratio(tp + tn, tp + tn + fp + fn),
        "f1": spans.f_one(precision, recall),
    }


@dataclass(frozen=True)
class Rewards:
    """Range-based reward of each flagged and each incident range, with the time it begins."""

    found: tuple[tuple[int, float], ...]
    real: tuple[tuple[int, float], ...]


def range_rewards(points: Mapping[str, Points], coverage: Coverage, observed: Observed) -> Rewards:
    """Range-based precision and recall: Tatbul et al. (2018), flat bias, no existence reward."""
    of_found: list[tuple[int, float]] = []
    of_real: list[tuple[int, float]] = []
    for series, p in points.items():
        incident, unsure = label_masks(p, coverage[series])
        keep = observed.mask(series, p) & ~unsure
        times = p.times[keep]
        found, real = _runs(p.flagged[keep]), _runs(incident[keep])
        of_found += [(int(times[r[0]]), _overlap_reward(r, real)) for r in found]
        of_real += [(int(times[r[0]]), _overlap_reward(r, found)) for r in real]
    return Rewards(tuple(of_found), tuple(of_real))


def range_level(rewards: Rewards | None) -> dict[str, Any] | None:
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
