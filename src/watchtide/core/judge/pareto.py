"""The generalised Pareto distribution behind a tail: which excesses are believed, its fit, and draws of what that leaves open."""

from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numba import njit

from watchtide.core.series import Floats, Ints, distinct

LEAST_EXCESSES, MOST_EXCESSES = 20, 400
SHAPES = (-0.25, 0.4)
DRAWS = 60
# An excess that a clean history of this length shows in one of so many cases is left out as an incident.
IMPLAUSIBLE = 0.01
MOST_LEFT_OUT = 0.45
# Standard errors of the scale that a draw's scale varies by: the median is estimated no better, and autocorrelated noise is
# rarely stationary. Chosen on `bench quality`, seeds 931 to 936; at most MOST_UNKNOWN in logarithms.
UNKNOWN, MOST_UNKNOWN = 2.5, 0.6
MOST_BEYOND = 3.0


@njit(cache=True, nogil=True)
def mean_rates(excess, rates, scales, shapes):  # type: ignore[no-untyped-def]
    """Mean over the draws of rate times the generalised Pareto's P(excess beyond this)."""
    out = np.zeros(len(excess))
    for i in range(len(excess)):
        total = 0.0
        for d in range(len(rates)):
            shape = shapes[d]
            u = excess[i] / scales[d]
            if abs(shape) < 1e-6:
                total += rates[d] * np.exp(-u)
            else:
                inner = 1.0 + shape * u
                if inner > 0.0:
                    total += rates[d] * np.exp(-np.log(inner) / shape)
        out[i] = total / len(rates)
    return out


def scale_factors(known: float, start: float, scale: float) -> Floats:
    """(DRAWS,) factors of the draws' scales, for the uncertainty of the scores' scale with few independent samples.

    The relative standard error of a standard deviation is 1 / sqrt(2 known). A level is the threshold plus an excess and only
    the excess is drawn, so its factor varies by more: by level / excess at a level four scales beyond the threshold.
    """
    deviation = min(UNKNOWN / np.sqrt(2 * max(known, 1.0)), MOST_UNKNOWN)
    # Ties leave a scale of next to nothing.
    beyond = min(1 + max(start, 0.0) / (4 * max(scale, 1e-9)), MOST_BEYOND)
    # Deviates in another order than the shapes', from which they are independent.
    return np.asarray(np.exp(deviation * beyond * picks_of(LEAST_EXCESSES, 7)[1]))


def believed(excess: Floats, grain: float, usual: float | None) -> np.ndarray:
    """(m,) which excesses the bulk of them makes plausible; sorted excesses in, the largest may go."""
    m = len(excess)
    kept = m
    least = int(np.ceil((1 - MOST_LEFT_OUT) * m))
    for turn in range(8):
        inner = excess[:kept]
        middle, upper = of_sorted(inner, 0.5), of_sorted(inner, 0.85)
        middle = max(middle, 0.7 * grain)
        if middle <= 0:
            break
        shape = shape_of_quantiles(upper / middle)
        if turn == 0:
            # The upper quantile may be all trouble; the middle one is not.
            shape = 0.05 if usual is None else max(usual, 0.05)
        elif usual is not None:
            shape = 0.3 * shape + 0.7 * usual
        scale = middle / quantile_of(0.5, shape)
        bound = scale * quantile_of(1 - IMPLAUSIBLE / m, shape)
        now = max(int(np.searchsorted(excess, bound, side="right")), least)
        if now == kept and turn > 0:
            break
        kept = now
    return np.arange(m) < kept


@njit(cache=True, nogil=True)
def censored_fit(excess, w, cut, ladder, usual, spread, per_block):  # type: ignore[no-untyped-def]
    """Shape and scale by penalised likelihood, what lies beyond `cut` known only to do so.

    usual, spread : prior of the shape; per_block : mean number of clusters a block beyond the threshold, 0 of single values.
    """
    total = inside = 0.0
    for i in range(len(excess)):
        total += w[i] * min(excess[i], cut)
        if excess[i] <= cut:
            inside += w[i]
    mean = total / max(inside, 1e-300)
    if mean <= 0.0:
        return 0.0, 0.0
    best, best_scale, most = 0.0, mean, -np.inf
    for shape in ladder:
        for step in range(22):
            scale = mean * (0.3 + 0.05 * step)
            like = -0.5 * ((shape - usual) / spread) ** 2
            for i in range(len(excess)):
                u = min(excess[i], cut) / scale
                if abs(shape) < 1e-6:
                    log = u
                else:
                    inner = 1.0 + shape * u
                    if inner <= 0.0:
                        like = -np.inf
                        break
                    log = np.log(inner) / shape
                if per_block > 0.0:
                    # Maxima of a Poisson process: what is expected above x in a block is per_block S(x).
                    beyond = per_block * np.exp(-log)
                    if excess[i] <= cut:
                        like -= w[i] * (beyond + log + np.log(scale) + shape * log)
                    else:
                        like += w[i] * np.log(-np.expm1(-beyond))
                    continue
                like -= w[i] * log
                if excess[i] <= cut:
                    like -= w[i] * (np.log(scale) + shape * log)
            if like > most:
                best, best_scale, most = shape, scale, like
    return best, best_scale


def of_sorted(values: Floats, q: float) -> float:
    """A quantile of values in order, by a straight line between neighbours."""
    place = q * (len(values) - 1)
    low = int(place)
    high = min(low + 1, len(values) - 1)
    return float(values[low] + (place - low) * (values[high] - values[low]))


def quantile_of(p: float, shape: float) -> float:
    return float(-np.log1p(-p)) if abs(shape) < 1e-6 else float(((1 - p) ** -shape - 1) / shape)


LADDER = np.linspace(SHAPES[0], SHAPES[1], 27)
RATIOS = np.array([quantile_of(0.85, s) / quantile_of(0.5, s) for s in LADDER])


def shape_of_quantiles(ratio: float) -> float:
    """The shape whose 85 % and 50 % quantiles stand in this ratio, drawn halfway to exponential."""
    return 0.5 * float(np.interp(ratio, RATIOS, LADDER)) + 0.5 * 0.1


@lru_cache(maxsize=16)
def picks_of(k: int, seed: int) -> tuple[Floats, Floats]:
    """(DRAWS, k) how often each of k blocks is drawn, each once where they are too few; and (DRAWS,) standard normal
    deviates in any order. The same for every stream of as many blocks."""
    rng = np.random.default_rng(seed)
    picks = rng.multinomial(k, np.full(k, 1 / k), size=DRAWS) if k >= 5 else np.ones((DRAWS, k))
    # Imported here, as wherever few calls need it: it takes longer than many a command.
    from scipy.special import ndtri

    jitter = ndtri((np.arange(DRAWS) + 0.5) / DRAWS)[rng.permutation(DRAWS)]
    return picks.astype(np.float64), jitter


@dataclass(frozen=True)
class Excesses:
    """Excesses over a threshold, one entry each: size at most the cut, whether it was seen whole, weight, block."""

    size: Floats
    is_seen: np.ndarray
    weight: Floats
    block: Ints

    def only(self, some: np.ndarray) -> "Excesses":
        """Those of a mask."""
        return Excesses(self.size[some], self.is_seen[some], self.weight[some], self.block[some])


def draws_of(
    excesses: Excesses, blocks: Ints, fitted: tuple[float, float], shape_spread: float, seed: int
) -> tuple[Floats, Floats, Floats]:
    """Number of excesses, scale and shape of each draw of whole blocks; the shape varies by what the excesses leave open.

    The scale of a draw moves as the censored mean does: total size over the number seen whole (Lawless 2003, 4.1).
    """
    shape, scale = fitted
    names = distinct(blocks)
    own = np.searchsorted(names, excesses.block)
    weight = excesses.weight
    count = np.bincount(own, weight, len(names))
    whole = np.bincount(own, weight * excesses.is_seen, len(names))
    total = np.bincount(own, weight * excesses.size, len(names))
    picks, jitter = picks_of(len(names), seed)
    draws_count, draws_whole, draws_total = picks @ count, picks @ whole, picks @ total
    # Sixty draws miss the mean by chance: at the threshold the fitted part goes on where the empirical one ends.
    draws_count = draws_count * (count.sum() / max(float(draws_count.mean()), 1e-300))
    spread = min(shape_spread, (1 + shape) / np.sqrt(max(len(weight), 1))) * 0.7
    shapes = np.clip(shape + spread * jitter, *SHAPES)
    mean = max(float(total.sum() / max(whole.sum(), 1e-300)), 1e-300)
    means = np.where(draws_whole > 0, draws_total / np.maximum(draws_whole, 1e-300), mean)
    # Of two tails with the same bulk the heavier one has the smaller scale.
    return draws_count, scale * means / mean * (1 - shapes) / (1 - shape), shapes
