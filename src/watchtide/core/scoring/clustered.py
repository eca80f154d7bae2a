"""Intervals that allow for clustering, of every figure of a card: whole blocks of time drawn, all streams together."""

from collections.abc import Callable, Mapping, Sequence
from typing import Any

import numpy as np

from watchtide.core.scoring import intervals
from watchtide.core.scoring.observed import Observed
from watchtide.core.scoring.outcomes import Outcome, Setting, group_starts
from watchtide.core.scoring.rows import Coverage, Label, Points
from watchtide.core.scoring.samples import Rewards, label_masks
from watchtide.core.series import SECOND_NS, WEEK_S, Floats, Ints


def add_intervals(
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
    """Put the interval of each figure beside it, or null and the reason among the notes."""
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
    groups, true_groups = group_starts([o for o in outcomes if o.state in ("true", "false")])
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
