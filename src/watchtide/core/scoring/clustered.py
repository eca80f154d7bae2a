"""Intervals that allow for clustering, of every figure of a card: whole blocks of time drawn, all streams together."""

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from watchtide.core.scoring import intervals
from watchtide.core.scoring.intervals import ratio_draws
from watchtide.core.scoring.matched import Matched
from watchtide.core.scoring.outcomes import group_starts
from watchtide.core.scoring.rows import Points
from watchtide.core.scoring.samples import label_masks
from watchtide.core.series import SECOND_NS, WEEK_S, Bools, Floats, Ints

# Where a figure stands, its name there, and its draws.
Target = tuple[dict[str, Any], str, Floats]
# No draws, of which there is no interval: of a span that holds too few blocks.
NONE_DRAWN = np.empty((0, 1), np.int64)
# Grids of times that are kept apart before their moments are merged.
MOST_APART = 64


@dataclass(frozen=True)
class _Drawn:
    """Blocks of a span, drawn. starts : (draws, blocks) as `intervals.draw_blocks` gives them; length : of a block, ns."""

    starts: Ints
    span: tuple[int, int]
    length: int

    def total(self, at: Sequence[int] | Ints, weights: Sequence[float] | Floats | None = None) -> Floats:
        """(draws,) how many of these moments, or what weight of them, each draw holds."""
        inside: Ints = np.clip(np.asarray(at, dtype=np.int64), *self.span)
        amounts = np.ones(len(inside)) if weights is None else np.asarray(weights, dtype=np.float64)
        return intervals.drawn_sums(self.starts, self.span, self.length, inside, amounts)

    def quantile(self, at: Sequence[int], values: Sequence[float], share: float) -> Floats:
        """(draws,) quantile of the values at these moments."""
        moments, amounts = np.asarray(at, dtype=np.int64), np.asarray(values, dtype=np.float64)
        return intervals.drawn_medians(self.starts, self.span, self.length, moments, amounts, share)


def add_intervals(figures: dict[str, Any], m: Matched, notes: dict[str, str]) -> None:
    """Put the interval of each figure beside it, or null and the reason among the notes."""
    longest = max((m.labels[i].end - m.labels[i].start for i in (*m.found, *m.missed)), default=0)
    season = m.setting.longest_season_ns
    if season is None:
        season = WEEK_S * SECOND_NS
        notes["block"] = (
            "no season given: the bootstrap's block is the longer of 7 d and twice the longest incident"
        )
    length = max(season, 2 * longest, 1)
    starts = intervals.draw_blocks(m.span, length, m.setting.seed)
    if starts is None:
        notes["clustered"] = (
            f"the span holds under {intervals.LEAST_BLOCKS} blocks of {length / SECOND_NS / 86_400:.3g} d: "
            "no interval by resampling"
        )
    drawn = _Drawn(NONE_DRAWN if starts is None else starts, m.span, length)
    for where, name, draws in (*_of_events(figures, m, drawn), *_of_samples(figures, m, drawn)):
        where[name], dropped = intervals.percentile(draws)
        if dropped and where[name] is not None:
            notes[name] = f"{dropped} of {intervals.DRAWS} draws had nothing to divide by and were dropped"


def _of_events(figures: dict[str, Any], m: Matched, drawn: _Drawn) -> Iterator[Target]:
    e, delay, false = figures["events"], figures["delay"], figures["false_per_week"]
    tp, fp = (drawn.total([o.finding.start for o in m.of_state(state)]) for state in ("true", "false"))
    hit, miss = (drawn.total([m.labels[i].start for i in rows]) for rows in (m.found, m.missed))
    precision, recall = ratio_draws(tp, tp + fp), ratio_draws(hit, hit + miss)
    yield e, "precision_ci_clustered", precision
    yield e, "recall_ci_clustered", recall
    yield e, "f1_ci", _f_draws(precision, recall)
    late = [i for i in m.found if i in m.delays]
    moments, delays = [m.labels[i].start for i in late], [m.delays[i] for i in late]
    yield delay, "median_ci", drawn.quantile(moments, delays, 0.5)
    per_stream = drawn.total([o.finding.start for o in m.false_seen]) / (false["stream_weeks"] or np.nan)
    yield false, "per_stream_ci", per_stream
    yield false, "total_ci", per_stream * len(m.streams)
    yield delay, "p90_ci", drawn.quantile(moments, delays, 0.9)
    yield e, "fragmentation_ci", ratio_draws(tp, hit)
    groups, true_groups = group_starts([o for o in m.outcomes if o.state in ("true", "false")])
    yield e, "incident_precision_ci", ratio_draws(drawn.total(true_groups), drawn.total(groups))


def _of_samples(figures: dict[str, Any], m: Matched, drawn: _Drawn) -> Iterator[Target]:
    if m.points is None or m.rewards is None:
        return
    points, ranges = figures["points"], figures["ranges"]
    sums = _sample_sums(m.points, m, drawn)
    tp, fp, fn, tn = (sums[name] for name in ("tp", "fp", "fn", "tn"))
    precision, recall = ratio_draws(tp, tp + fp), ratio_draws(tp, tp + fn)
    accuracy = ratio_draws(tp + tn, tp + fp + fn + tn)
    yield points, "precision_ci_clustered", precision
    yield points, "recall_ci_clustered", recall
    yield points, "specificity_ci_clustered", ratio_draws(tn, tn + fp)
    yield points, "accuracy_ci_clustered", accuracy
    yield points, "f1_ci", _f_draws(precision, recall)
    yield points, "accuracy_ci", accuracy
    yield figures, "flagged_share_ci", ratio_draws(sums["flagged"], sums["seen"])
    of_found, of_real = (_mean_draws(rewards, drawn) for rewards in (m.rewards.found, m.rewards.real))
    yield ranges, "precision_ci", of_found
    yield ranges, "recall_ci", of_real
    yield ranges, "f1_ci", _f_draws(of_found, of_real)


def _f_draws(precision: Floats, recall: Floats) -> Floats:
    return ratio_draws(2 * precision * recall, precision + recall)


def _mean_draws(rewards: Sequence[tuple[int, float]], drawn: _Drawn) -> Floats:
    """(draws,) mean reward of the ranges that each draw holds."""
    at = [t for t, _ in rewards]
    return ratio_draws(drawn.total(at, [x for _, x in rewards]), drawn.total(at))


def _sample_sums(points: Mapping[str, Points], m: Matched, drawn: _Drawn) -> dict[str, Floats]:
    """(draws,) samples of each sort that each draw holds; every sample belongs to its own block."""
    at = {name: _Moments() for name in ("tp", "fp", "fn", "tn", "flagged", "seen")}
    for series, p in points.items():
        seen = m.observed.mask(series, p)
        incident, unsure = label_masks(p, m.coverage[series])
        known = seen & ~unsure
        for name, mask in (
            ("tp", known & p.flagged & incident), ("fp", known & p.flagged & ~incident),
            ("fn", known & ~p.flagged & incident), ("tn", known & ~p.flagged & ~incident),
            ("flagged", seen & p.flagged), ("seen", seen),
        ):  # fmt: skip
            at[name].add(p.times, mask)
    return {name: drawn.total(*moments.counted()) for name, moments in at.items()}


class _Moments:
    """How many samples there are at each moment: of streams with the same times no more is kept than of one."""

    def __init__(self) -> None:
        self._times: Ints = np.empty(0, np.int64)
        self._counts: Floats = np.empty(0)
        self._others: list[tuple[Ints, Floats]] = []

    def add(self, times: Ints, mask: Bools) -> None:
        """times : (n,); mask : (n,) those of a sample."""
        if not np.array_equal(times, self._times):
            self._set_aside()
            self._times, self._counts = times, np.zeros(len(times))
        self._counts += mask

    def counted(self) -> tuple[Ints, Floats]:
        """(k,) moments, and how many samples there are at each."""
        self._set_aside()
        self._times, self._counts = self._times[:0], self._counts[:0]
        if not self._others:
            return self._times, self._counts
        times, counts = zip(*self._others, strict=True)
        return np.concatenate(times), np.concatenate(counts)

    def _set_aside(self) -> None:
        some = self._counts > 0
        if some.any():
            self._others.append((self._times[some], self._counts[some]))
        if len(self._others) > MOST_APART:
            moments, which = np.unique(np.concatenate([t for t, _ in self._others]), return_inverse=True)
            counts = np.bincount(which, np.concatenate([c for _, c in self._others]))
            self._others = [(np.asarray(moments), counts.astype(np.float64))]
