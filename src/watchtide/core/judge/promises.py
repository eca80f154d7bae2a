"""How often each level is reached: tails of samples and of findings, per side, from held-out scores."""

from collections.abc import Mapping
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np

from watchtide.core import robust
from watchtide.core.judge import grouping
from watchtide.core.judge.tails import (
    MAXIMA,
    Settings,
    Tail,
    clusters,
    fit_tail,
    shape_hint,
)
from watchtide.core.judge.watches import ODD, Evidence
from watchtide.core.series import Bools, Floats, Ints
from watchtide.core.series.steps import DAY_NS, WEEK_NS

SIDES = ("both", "above", "below")
# Below this many clean held-out scores a stream has no tail of its own to read.
LEAST_SCORES = 400
LEAST_FINDINGS = 40


@dataclass(frozen=True)
class Scores:
    """Clean held-out scores of one side, as a tail takes them: values, blocks of a day, exposure, weights.

    Of maxima also samples_a_finding : mean samples of a finding, or of a window where those hold more; a_cluster : findings
    a cluster. known : independent samples that the scores' scale is estimated from.
    """

    values: Floats
    blocks: Ints
    exposure: float
    weights: Floats
    grain: float = 0.0
    samples_a_finding: float | None = None
    a_cluster: float | None = None
    known: float = np.inf


@dataclass(frozen=True)
class Held:
    """What a level is read from: held-out evidence (n,), which samples are clean, and the grid.

    grain : the data's resolution in sigmas; added : samples that windows add to each by itself, as `watches.Watch.added` says.
    """

    evidence: Evidence
    clean: Bools
    times: Ints
    step_ns: int
    grain: float = 0.0
    added: float = 0.0

    @cached_property
    def known(self) -> float:
        """Independent samples that the scale of the scores is estimated from, by samples that are flagged alone."""
        lone = self.clean & (self.evidence.window == 1)
        return robust.independent_samples(np.where(lone, self.evidence.signed, np.nan))

    @property
    def count(self) -> int:
        return int(np.sum(self.clean & ~np.isnan(self.evidence.score)))


def side_scores(held: Held, side: str, watched: int) -> Scores:
    """Scores of samples on one side. What has no side counts for both, half each where both are watched."""
    e = held.evidence
    seen = held.clean & ~np.isnan(e.score)
    code = 1 if side == "above" else -1
    odd = e.side[seen] == ODD
    own = e.side[seen] == code
    values = np.where(own | odd, e.score[seen], -e.score[seen])
    weights = np.where(odd & (watched == 2), 0.5, 1.0)
    return Scores(values, held.times[seen] // DAY_NS, float(len(values)), weights, held.grain)


# Maxima are taken over a day, or less where that gives too few of them.
LEAST_BLOCKS, LEAST_BLOCK_SAMPLES = 60, 6
# Clusters are counted above this quantile of the maxima, findings of one block up to so many: a burst is no measure of
# how noise clusters.
CLUSTER_QUANTILE, MOST_A_BLOCK = 0.5, 4


def side_findings(
    held: Held, side: str, watched: int, group: grouping.Group, *, least: int = LEAST_FINDINGS
) -> Scores | None:
    """Daily maxima of one side's scores as findings see them; None where there are too few days.

    A block is a day, at least 6 samples, less than a day where that leaves under 60 of them. Where a finding needs
    several of some samples in a row, the score is that of the weakest one needed. Findings a cluster: those above the
    median of the maxima over what a Poisson process has there (`tails.clusters`).
    """
    e = held.evidence
    code = 1 if side == "above" else -1
    mine = held.clean & ((e.side == code) | (e.side == ODD))
    score = np.where(held.clean, np.where(mine, e.score, -1.0), np.nan)
    seen = int(np.sum(~np.isnan(score)))
    size = int(np.clip(min(DAY_NS // held.step_ns, seen // LEAST_BLOCKS), LEAST_BLOCK_SAMPLES, None))
    needed = _needed(score, group)
    count = len(score) // size
    rows = needed[: count * size].reshape(count, size)
    known = np.sum(~np.isnan(score[: count * size].reshape(count, size)), axis=1) >= size / 2
    if known.sum() < least:
        return None
    at = np.arange(count)[known] * size + np.argmax(
        np.where(np.isnan(rows[known]), -np.inf, rows[known]), axis=1
    )
    maxima = np.maximum(needed[at], -1.0)
    start = float(np.quantile(maxima, CLUSTER_QUANTILE))
    found = grouping.find_side(score, max(start, 1e-9), held.times, group)
    share = float(np.mean(maxima >= start))
    a_cluster = 1.0
    if len(found) and 0 < share < 1:
        per = np.minimum(np.bincount(found[:, 0] // size, minlength=count), MOST_A_BLOCK)
        a_cluster = float(np.clip(per.sum() / count / clusters(share, 1.0), 1.0, MOST_A_BLOCK))
    samples = float(np.sum(score >= start)) / max(len(found), 1)
    windowed = mine & (e.window > 1) & (score >= 2.0)
    if windowed.any():
        # Windows hold more, and are what is left at higher levels.
        samples = max(samples, float(np.mean(e.window[windowed])))
    odd = e.side[at] == ODD
    return Scores(
        maxima,
        held.times[at] // DAY_NS,
        seen * held.step_ns / WEEK_NS,
        np.where(odd & (watched == 2), 0.5, 1.0),
        held.grain,
        samples,
        a_cluster,
    )


def _needed(score: Floats, group: grouping.Group) -> Floats:
    """(n,) the level at which a finding comes about with the samples up to each one: of the last ones the weakest needed."""
    need, of = (group.need, group.of) if group.need > 1 else (group.shortest, group.shortest)
    if need <= 1 or len(score) < of:
        return score
    rows = np.lib.stride_tricks.sliding_window_view(np.nan_to_num(score, nan=-np.inf), of)
    out = np.full(len(score), np.nan)
    out[of - 1 :] = np.partition(rows, of - need, axis=1)[:, of - need]
    return np.where(np.isneginf(out), np.nan, out)


@dataclass(frozen=True)
class SideTails:
    """Tails of one side: of samples by themselves, and of findings a week; None where there is too little of its own.

    added : samples that windows add to each that is reached by itself (`watches.Watch.added`): windows hold many samples, each of
    which counts where the level is one in so many samples. a_finding : samples of a finding at the low level its tail begins
    at (`Scores.samples_a_finding`), times findings a week over samples a week: no more samples are reached than findings hold.
    """

    samples: Tail | None
    findings: Tail | None
    added: float = 0.0
    a_finding: float | None = None

    def sample_rates(self, levels: Floats) -> Floats:
        """(k,) share of clean samples that reach each level, by themselves or in a window."""
        assert self.samples is not None
        rates = (1 + self.added) * self.samples.rates_at(levels)
        if self.findings is None or self.a_finding is None:
            return rates
        return np.minimum(rates, self.a_finding * self.findings.rates_at(levels))

    def level_for(self, kind: str, rate: float) -> float:
        """The least level reached at most so often: samples a sample where `kind` is odds, else findings a week."""
        if kind == "odds":
            return self.sample_level(rate)
        assert self.findings is not None
        return self.findings.level_for(rate)

    def rate_at(self, kind: str, level: float) -> float:
        """How often a level is reached, as `level_for` counts it."""
        if kind == "odds":
            return float(self.sample_rates(np.array([level]))[0])
        assert self.findings is not None
        return self.findings.rate_at(level)

    def sample_level(self, rate: float) -> float:
        """The least level that at most this share of clean samples reaches."""
        assert self.samples is not None
        level = self.samples.level_for(rate / (1 + self.added))
        if self.findings is None or self.a_finding is None:
            return level
        return min(level, self.findings.level_for(rate / self.a_finding))


def own_tails(held: Held, side: str, watched: int, group: grouping.Group) -> SideTails:
    """Tails of one side from this stream's own clean held-out scores."""
    if held.count < LEAST_SCORES:
        return SideTails(None, None)
    shape = shape_hint(side_scores(held, side, watched).values)
    findings = side_findings(held, side, watched, group)
    samples = replace(side_scores(alone(held), side, watched), known=held.known)
    findings = None if findings is None else replace(findings, known=held.known)
    return side_tails(samples, findings, held.added, held.step_ns, shape)


def side_tails(
    samples: Scores | None, findings: Scores | None, added: float, step_ns: int, shape: float | None = None
) -> SideTails:
    """The tails of these samples and findings, of one stream or of a family; None where there are none."""
    a_finding = None
    if findings is not None and findings.samples_a_finding is not None:
        a_finding = findings.samples_a_finding * step_ns / WEEK_NS
    return SideTails(
        tail_of(samples, shape) if samples else None,
        tail_of(findings, shape) if findings else None,
        added,
        a_finding,
    )


def alone(held: Held) -> Held:
    """The samples that spoke by themselves."""
    return replace(held, clean=held.clean & (held.evidence.window == 1))


def tail_of(scores: Scores, shape: float | None = None) -> Tail | None:
    """The tail of scores: of samples, or of maxima of blocks. shape : what more data of the same noise suggest."""
    settings = Settings()
    if scores.a_cluster is not None:
        blocks = len(scores.values) / scores.exposure
        settings = replace(MAXIMA, blocks=blocks, a_cluster=scores.a_cluster, is_local=True)
    return fit_tail(
        scores.values,
        scores.blocks,
        scores.exposure,
        settings=replace(settings, shape=shape, known=scores.known),
        weights=scores.weights,
        grain=scores.grain,
    )


def watched_sides(side: str) -> tuple[str, ...]:
    if side not in SIDES:
        raise ValueError(f"side must be one of {', '.join(SIDES)}, got {side!r}")
    return ("above", "below") if side == "both" else (side,)


def tails_by_side(held: Held, side: str, group: grouping.Group) -> dict[str, SideTails]:
    """The stream's own tails on each side that is watched."""
    watched = watched_sides(side)
    return {s: own_tails(held, s, len(watched), group) for s in watched}


def promise(own: Mapping[str, SideTails], levels: Floats) -> tuple[Floats | None, Floats | None]:
    """(share of clean samples, findings a week) that reach each level over all sides; None where a side has no tail."""
    tails = list(own.values())
    samples = findings = None
    if tails and all(t.samples is not None for t in tails):
        samples = np.sum([t.sample_rates(levels) for t in tails], axis=0)
    if tails and all(t.findings is not None for t in tails):
        findings = np.sum([t.findings.rates_at(levels) for t in tails if t.findings is not None], axis=0)
    return samples, findings
