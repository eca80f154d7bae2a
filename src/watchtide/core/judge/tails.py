"""The tail of a stream's own clean scores: how often a level is reached, beyond what was seen.

Peaks over a threshold: empirical up to it, generalised Pareto beyond, with a bounded shape and the largest peaks
censored. Of findings daily maxima are taken, so that an incident counts once however many peaks it has. Whole blocks
of time are resampled and the *mean* rate over the draws is what is promised, so that what a short history leaves open
makes a level higher, not a promise weaker.
"""

from dataclasses import dataclass, replace

import numpy as np

from watchtide.core.judge.pareto import (
    LADDER,
    LEAST_EXCESSES,
    MOST_EXCESSES,
    RATIOS,
    Excesses,
    believed,
    censored_fit,
    draws_of,
    mean_rates,
    of_sorted,
    scale_factors,
)
from watchtide.core.series import Bools, Floats, Ints

# What exceeds the threshold: this share of the scores, within these numbers.
TAIL_SHARE = 0.05
# A Gaussian tail reads as a little below 0 at such thresholds, a heavy one as 0.2 to 0.35.
USUAL_SHAPE, SHAPE_SPREAD = 0.02, 0.15
# A draw of blocks may be reached in nearly all of them: clusters are counted up to this share.
MOST_REACHED = 0.99
# Scores this near to one another are the same, and where so large a share of the excesses is the same it is one value that they
# pile up on, beyond which all that is larger would be implausible. Of 0.0001, 0.02 and 0.05 the larger two foretold what was seen
# of small ratios. At least eight of them: four of 20 lie so near by chance in 23 of 100 Gaussian tails, eight in none of 4,000.
TIE, PILE, LEAST_PILE = 0.02, 0.2, 8
# Where rates are tabled, in largest scales beyond the threshold.
REACHES = np.r_[0.0, np.geomspace(0.02, 2_000.0, 160)]


@dataclass(frozen=True)
class Settings:
    """How a tail is fitted.

    share : of the values that lies beyond the threshold, 20 to 400 of them; censored : share of the excesses of which
    only a lower bound enters, so that incidents among the largest raise no level. shape : what is expected of it, None
    where nothing suggests any; shape_spread : its standard deviation around that. blocks : of maxima of blocks, blocks a
    unit of exposure, 0 of single values; a_cluster : events a cluster of them. known : independent samples that the scores'
    scale is estimated from; is_local : whether a threshold low in the bulk lowers the expected shape, as it does a Gaussian's.
    """

    share: float = TAIL_SHARE
    censored: float = 0.2
    shape: float | None = None
    shape_spread: float = SHAPE_SPREAD
    blocks: float = 0.0
    a_cluster: float = 1.0
    known: float = np.inf
    is_local: bool = False


# Of maxima six tenths are fitted, and half of these only known to be so large: three tenths of all. Shares from 0.2 to
# 0.3 found most on `bench quality`, seeds 201 to 203.
MAXIMA = Settings(share=0.6, censored=0.5)


# At this many sigmas the usual shape holds; below it a Gaussian tail is shorter by the difference of both places.
USUAL_AT = 2.2


def gaussian_shape(at: float) -> float:
    """The shape of a Gaussian tail where it stands at so many sigmas: u (1 - Φ(u)) / φ(u) - 1, -1 at 0 and rising to 0.

    The generalised Pareto law's mean excess σ / (1 - ξ) falls by -ξ / (1 - ξ) a sigma; this is the derivative of the
    reciprocal hazard, by which von Mises' condition takes ξ (Embrechts, Klüppelberg and Mikosch 1997, 3.3).
    """
    from scipy.special import log_ndtr

    u = max(at, 0.0)
    return float(u * np.exp(log_ndtr(-u) + 0.5 * u * u + 0.5 * np.log(2 * np.pi)) - 1)


def clusters(share: Floats | float, most: float) -> Floats:
    """Mean number of clusters a block, of which this share (at most `most`) holds at least one: a Poisson process."""
    return np.asarray(-np.log1p(-np.minimum(share, most)))


@dataclass(frozen=True)
class Tail:
    """How often a level is reached, per unit of exposure (a sample, or a week).

    body : sorted values, above : weight of each and all over it, for the empirical part. scale, shape : of the
    fitted tail. levels, log_rates : the mean rate over the draws from the threshold on; count : excesses.
    blocks, a_cluster : as `Settings` has them: the rate of events is blocks * clusters(P) * a_cluster, P the share of
    blocks reached.
    """

    start: float
    body: Floats
    above: Floats
    exposure: float
    scale: float
    shape: float
    levels: Floats
    log_rates: Floats
    count: int
    blocks: float = 0.0
    a_cluster: float = 1.0

    def rate_at(self, level: float) -> float:
        """Expected number a unit of exposure that reach `level`."""
        return float(self.rates_at(np.array([level]))[0])

    def rates_at(self, levels: Floats) -> Floats:
        """(k,) expected numbers a unit of exposure that reach each of these levels."""
        at = np.searchsorted(self.body, levels)
        seen = np.where(at < len(self.body), self.above[np.minimum(at, len(self.body) - 1)], 0.0)
        beyond = np.exp(np.interp(levels, self.levels, self.log_rates))
        inside = self._events(seen / self.exposure)
        return np.asarray(np.where(levels <= self.start, inside, self.a_cluster * beyond))

    def _events(self, rates: Floats) -> Floats:
        """Events a unit of exposure from blocks reached."""
        if self.blocks <= 0:
            return rates
        return np.asarray(self.blocks * clusters(rates / self.blocks, 1 - 1e-12) * self.a_cluster)

    def _reached(self, rates: Floats) -> Floats:
        """Blocks reached a unit of exposure from events."""
        if self.blocks <= 0:
            return rates
        return np.asarray(-self.blocks * np.expm1(-rates / (self.blocks * self.a_cluster)))

    def level_for(self, rate: float) -> float:
        """The least level reached at most `rate` times a unit of exposure."""
        return float(self.levels_for(np.array([rate]))[0])

    def levels_for(self, rates: Floats) -> Floats:
        """(k,) the least levels reached at most so often a unit of exposure."""
        logs = np.log(np.maximum(rates / self.a_cluster, 1e-300))
        at = np.searchsorted(-self.above, -self._reached(np.asarray(rates, np.float64)) * self.exposure)
        inside = self.body[np.minimum(at, len(self.body) - 1)]
        beyond = np.interp(-logs, -self.log_rates, self.levels)
        return np.asarray(np.where(logs >= self.log_rates[0], inside, beyond))


def _table(start: float, rates: Floats, scales: Floats, shapes: Floats) -> tuple[Floats, Floats]:
    """Levels from the threshold on, and the log of the mean rate over the draws at each."""
    levels = start + float(np.max(scales)) * REACHES
    return levels, np.asarray(np.log(np.maximum(mean_rates(levels - start, rates, scales, shapes), 1e-30)))


def fit_tail(
    values: Floats,
    blocks: Ints,
    exposure: float,
    *,
    settings: Settings = Settings(),
    weights: Floats | None = None,
    grain: float = 0.0,
    seed: int = 1,
) -> Tail | None:
    """The tail of values (scores of samples, or maxima of blocks), or None under 40 of them.

    values : (k,) clean values of one side; blocks : (k,) which block of time each lies in; exposure : samples or
    weeks they come from. weights : (k,) of each, None for 1. grain : the step between possible values, where the data are
    rounded: a tail is no shorter. Events of maxima come as a Poisson process whose mean number in a block beyond x is that
    beyond the threshold times the Pareto's survival.

    Unlabelled incidents must not set the level: the largest excesses that the rest makes implausible are left out, at
    most 45 in a hundred, and the share `censored` of the others is right-censored: only that they are beyond the cut
    enters the likelihood. Pickands (1975); Davison and Smith (1990); Coles (2001), chapters 3 and 4; Lawless (2003),
    chapter 2, for censoring; Politis and Romano (1994) for the resampling of blocks.
    """
    values, blocks, weights = _ranked(values, blocks, weights)
    if len(values) < 2 * LEAST_EXCESSES or exposure <= 0:
        return None
    m = int(np.clip(settings.share * len(values), LEAST_EXCESSES, MOST_EXCESSES))
    start = _start(values, m)
    beyond = values > start
    excesses = Excesses(values[beyond] - start, beyond[beyond], weights[beyond], blocks[beyond])
    if len(excesses.size) < LEAST_EXCESSES // 2:
        rates, scales = _of_ties(excesses, start, exposure, grain)
        shape, shapes, count = 0.0, np.zeros(1), len(excesses.size)
    else:
        usual, plausible = _plausible(excesses.size, start, grain, settings)
        if not plausible.all():
            # What is no noise does not count in the empirical part either, which goes on into the fitted one.
            weights = weights.copy()
            weights[len(weights) - len(plausible) :][~plausible] = 0.0
        shape, (rates, scales, shapes) = _fitted(
            excesses.only(plausible), blocks, exposure, usual, settings, seed
        )
        scales, count = np.maximum(scales, max(0.5 * grain, 1e-9)), int(plausible.sum())
    if np.isfinite(settings.known) and len(scales) > 1:
        scales = scales * scale_factors(settings.known, start, float(np.mean(scales)))
    levels, log_rates = _table(start, rates, scales, shapes)
    return Tail(
        start=start,
        body=values,
        above=np.cumsum(weights[::-1])[::-1],
        exposure=exposure,
        scale=float(np.mean(scales)),
        shape=shape,
        levels=levels,
        log_rates=log_rates,
        count=count,
        blocks=settings.blocks,
        a_cluster=settings.a_cluster,
    )


def _ranked(values: Floats, blocks: Ints, weights: Floats | None) -> tuple[Floats, Ints, Floats]:
    """What is not missing, by rising values; weights of 1 where none are given."""
    order = np.argsort(values, kind="stable")
    order = order[~np.isnan(values[order])]
    weights = np.ones(len(values)) if weights is None else weights
    return values[order], blocks[order], weights[order]


def _start(values: Floats, m: int) -> float:
    """The threshold that m of these sorted values exceed; where some of these pile up on one value, the last of the pile. Of
    several piles the highest that enough of them exceed."""
    beyond = values[-m:]
    alike = np.searchsorted(beyond, beyond + TIE, side="right") - np.arange(m)
    piles = np.flatnonzero(alike >= max(PILE * m, LEAST_PILE))
    stops = piles + alike[piles]
    stops = stops[m - stops >= LEAST_EXCESSES // 2]
    return float(beyond[stops.max() - 1]) if len(stops) else float(values[-m - 1])


def _of_ties(excesses: Excesses, start: float, exposure: float, grain: float) -> tuple[Floats, Floats]:
    """(1,) rate and scale where ties fill the tail: a step of the scale stands for the excess."""
    least = max(0.05 * abs(start), 0.5 * grain, 1e-6)
    return np.array([max(float(excesses.weight.sum()), 1.0) / exposure]), np.array([least])


def _plausible(excess: Floats, start: float, grain: float, settings: Settings) -> tuple[float, Bools]:
    """The shape that is expected at this threshold, and (m,) which of these sorted excesses the bulk of them makes plausible."""
    usual = USUAL_SHAPE if settings.shape is None else settings.shape
    if settings.is_local:
        usual += min(gaussian_shape(start) - gaussian_shape(USUAL_AT), 0.0)
    return usual, believed(excess, grain, usual if settings.is_local else settings.shape)


def _fitted(
    excesses: Excesses, blocks: Ints, exposure: float, usual: float, settings: Settings, seed: int
) -> tuple[float, tuple[Floats, Floats, Floats]]:
    """The shape fitted to excesses, the largest right-censored, and (DRAWS,) rates, scales and shapes of whole blocks drawn."""
    cut = float(np.quantile(excesses.size, 1 - settings.censored))
    count = settings.blocks * exposure
    per_block = float(clusters(float(excesses.weight.sum()) / count, MOST_REACHED)) if count > 0 else 0.0
    spread = settings.shape_spread
    fitted = censored_fit(excesses.size, excesses.weight, cut, LADDER[::2], usual, spread, per_block)
    tail = replace(excesses, size=np.minimum(excesses.size, cut), is_seen=excesses.size <= cut)
    rates, scales, shapes = draws_of(tail, blocks, fitted, spread, seed)
    rates = rates / exposure
    if settings.blocks > 0:
        rates = settings.blocks * clusters(rates / settings.blocks, MOST_REACHED)
    return fitted[0], (rates, scales, shapes)


def shape_hint(values: Floats) -> float:
    """How heavy the tail of many scores is: the shape of what exceeds their 90 % quantile, by its quantiles.

    Values as `fit_tail` takes them. By the 50 % and 85 % quantiles, which trouble in one of seven excesses does not move.
    """
    seen = values[~np.isnan(values)]
    if len(seen) < 10 * LEAST_EXCESSES:
        return USUAL_SHAPE
    ranked = np.sort(seen)
    start = of_sorted(ranked, 0.9)
    excess = ranked[ranked > start] - start
    middle, upper = (of_sorted(excess, q) for q in (0.5, 0.85)) if len(excess) else (0.0, 0.0)
    if middle <= 0:
        return USUAL_SHAPE
    return 0.6 * float(np.interp(upper / middle, RATIOS, LADDER)) + 0.4 * USUAL_SHAPE
