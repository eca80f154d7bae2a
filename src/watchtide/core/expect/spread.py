"""How far a sample usually lies from its expectation: the standard deviation of the law that scores are read by.

Fitted to held-out residuals: a law of how the spread grows with size (none, counts, ratios, in proportion), times a
factor of the slot of the day and one of the day within a longer season, floored by the data's resolution.
"""

from dataclasses import dataclass, replace
from math import lgamma
from typing import Any

import numpy as np
from numba import njit

from watchtide.core.expect import quantile
from watchtide.core.robust import (
    FLOAT_SPACINGS,
    MAD_TO_SIGMA,
    by_groups,
    independent_samples,
    mad_sigma,
    median,
    middle,
)
from watchtide.core.series import Floats, Ints

# With this many samples a group's own spread and the stream's weigh the same.
PRIOR_SAMPLES = 20
# The law of counts is fitted to at most so many samples, from which a standard deviation is known to 2.5 %, in so many
# turns: with 1,500 and three a replay took 1.3 times as long.
LAW_SAMPLES, LAW_TURNS = 800, 2
# Samples beyond so many sigmas are left out of fitting it, as one in 2,000 of a Gaussian's are: they may be incidents.
LAW_SIGMAS = 3.5
# Squared residuals of counts are clipped at so many sigmas.
CLIP_SIGMAS = 4.0
LAWS = ("even", "size", "count", "ratio")


@dataclass(frozen=True)
class SpreadModel:
    """spread(n,) = base(expected, denominator) * factor[group], at least `floor`.

    law : even (base 1), size (|expected|), count (variance a m + b m² of a mean of m events), ratio (variance a + b / d;
    of a ratio of whole counts per `unit` that of the count instead, times 1 - m / d where no count exceeds its d, as
    `has_trials` says). factor : (groups,); stream : the median spread over the history, in the unit of the values.
    """

    law: str
    a: float
    b: float
    factor: Floats
    floor: float
    stream: float
    reason: str
    unit: float = 0.0
    has_trials: bool = False

    @property
    def is_counted(self) -> bool:
        """Whether values are whole numbers of events, and scores those of a counting law."""
        return self.law == "count" or self.unit > 0

    def of_slots(self, days: int) -> "SpreadModel":
        """The same without what distinguishes the days of a longer season."""
        if days == 1:
            return self
        by_slot = np.sqrt(np.mean(self.factor.reshape(-1, days) ** 2, axis=1))
        return replace(self, factor=np.repeat(by_slot, days))

    def at(self, expected: Floats, groups: Ints, denominator: Floats | None = None) -> Floats:
        """(n,) spread in the unit of the values; NaN where nothing is expected."""
        base, least = self.base(expected, denominator)
        wide = np.maximum(np.maximum(base * self.factor[groups], least), self.floor)
        return np.where(np.isnan(expected), np.nan, wide)

    def counted(self, n: int, denominator: Floats | None) -> quantile.Counted:
        """What makes n values counts under this law."""
        if self.law == "count" or denominator is None:
            return quantile.Counted(np.ones(n), np.full(n, np.inf))
        trials = np.maximum(np.nan_to_num(denominator, nan=1.0), 1e-9)
        return quantile.Counted(self.unit / trials, trials if self.has_trials else np.full(n, np.inf))

    def base(self, expected: Floats, denominator: Floats | None) -> tuple[Floats, Floats | float]:
        """(n,) spread before its factor, and the least that chance alone makes."""
        if self.law == "size":
            return np.maximum(np.abs(expected), 1e-300) * self.a, 0.0
        if self.law == "count" or (self.unit > 0 and denominator is not None):
            counted = self.counted(len(expected), denominator)
            m = np.maximum(np.nan_to_num(expected, nan=1.0) / counted.event, quantile.LEAST_MEAN)
            wide, least = counts_variance(m, self.a, self.b, counted.trials)
            return np.sqrt(wide) * counted.event, np.sqrt(least) * counted.event
        if self.law == "ratio" and denominator is not None:
            return np.sqrt(self.a + self.b / np.maximum(np.nan_to_num(denominator, nan=1.0), 1e-9)), 0.0
        return np.full(len(expected), self.a), 0.0

    def as_data(self) -> dict[str, Any]:
        return {**vars(self), "factor": self.factor.tolist()}


def counts_variance(mean: Floats, a: float, b: float, trials: Floats) -> tuple[Floats, Floats]:
    """(n,) variance a m + b m² of counts of these means, times 1 - m / trials, and the least that chance alone makes."""
    rest = 1 - np.minimum(mean / trials, 1 - 1e-6)
    return (a * mean + b * mean * mean) * rest, mean * rest


@dataclass(frozen=True)
class Scatter:
    """What a spread is fitted to, one entry a sample.

    residual, expected : (n,) held-out, NaN skipped. slots : (n,) slot of the shortest season, 0 … slot_count - 1; days :
    (n,) which of its cycles within the next longer season, 0 … day_count - 1. denominator : (n,) of ratios, or None.
    """

    residual: Floats
    expected: Floats
    slots: Ints
    slot_count: int
    days: Ints
    day_count: int = 1
    denominator: Floats | None = None


def fit_spread(
    scatter: Scatter,
    *,
    law: str = "even",
    is_robust: bool = True,
    unit: float = 0.0,
    quantum: float = 0.0,
    size: float = 0.0,
) -> SpreadModel:
    """The spread of held-out residuals.

    quantum : resolution of the data; the floor is quantum / √12, the spread that rounding alone causes. unit : of a
    ratio of whole counts, as `counting_unit` says; 0 of any other. size : largest |value|: no spread is under 16 spacings
    of floating-point numbers there. is_robust : 1.4826 MAD, else standard deviation.
    The squared factor of a group is (m s² + 20 S²) / (m + 20), with m the independent ones of the residuals in it and its two
    neighbours, s their scale and S that of all, both relative to the law's base. That of a day, without neighbours, stands on top.
    """
    ok = ~np.isnan(scatter.residual) & ~np.isnan(scatter.expected)
    r, mu = scatter.residual[ok], scatter.expected[ok]
    d = scatter.denominator[ok] if scatter.denominator is not None else None
    slots, days = scatter.slots[ok].astype(np.int64), scatter.days[ok].astype(np.int64)
    groups = scatter.slot_count * scatter.day_count
    floor = max(quantum / np.sqrt(12), FLOAT_SPACINGS * float(np.spacing(size)), 1e-300)
    if len(r) == 0:
        return SpreadModel("even", 0.0, 0.0, np.ones(groups), floor, 0.0, "no residual to take a spread from")
    model = _law(r, mu, d, law, is_robust, unit)
    base, _ = model.base(mu, d)
    counted = model.is_counted
    u = r / np.maximum(base, 1e-300)
    weight, stream = np.ones(len(r)), 1.0
    if counted:
        # Rounding is what a counting law describes by itself.
        floor = 0.0
        # The information on a variance: two a sample of a Gaussian, less of few events, whose squares vary more.
        weight = 2 / (2 + 1 / np.maximum(mu / model.counted(len(mu), d).event, 1e-3))
        u = np.clip(u, -CLIP_SIGMAS, CLIP_SIGMAS)
    else:
        stream = _scale(u, is_robust)
    if groups > 1 and stream > 0:
        # What goes together with its neighbours says less of a scale than so many samples would.
        own = np.full(len(ok), np.nan)
        own[ok] = u / stream
        weight = weight * (min(independent_samples(own), len(u)) / len(u))
    by_slot = np.full(scatter.slot_count, stream)
    if scatter.slot_count > 1:
        by_slot = _group_factors(u, weight, slots, scatter.slot_count, stream, is_robust, counted, True)
    by_day = np.ones(scatter.day_count)
    if scatter.day_count > 1 and stream > 0:
        own = u / np.maximum(by_slot[slots], 1e-300)
        by_day = _group_factors(own, weight, days, scatter.day_count, 1.0, is_robust, counted, False)
    usual = float(median(base)) * stream
    reason = "spread of the slot, shrunk to the stream's" if groups > 1 else "one spread for the stream"
    if usual <= floor:
        reason = "nearly all residuals are 0: the data's resolution sets the spread"
    return replace(
        model,
        factor=np.outer(by_slot, by_day).ravel(),
        floor=float(floor),
        stream=max(usual, float(floor)),
        reason=reason + model.reason,
    )


@njit(cache=True, nogil=True)
def _group_factors(u, weight, g, count, stream, is_robust, is_counted, has_neighbours):  # type: ignore[no-untyped-def]
    """(count,) scale of each group, with its two neighbours or by itself, shrunk to the stream's."""
    size, edges = by_groups(g, np.abs(u), count)
    weights, _ = by_groups(g, weight, count)
    out = np.full(count, stream)
    wide = has_neighbours and count > 2
    for i in range(count):
        m = 0
        for shift in range(-1, 2) if wide else range(1):
            k = (i + shift) % count
            m += edges[k + 1] - edges[k]
        if m == 0:
            continue
        near, own = np.empty(m), np.empty(m)
        at = 0
        for shift in range(-1, 2) if wide else range(1):
            k = (i + shift) % count
            for j in range(edges[k], edges[k + 1]):
                near[at], own[at] = size[j], weights[j]
                at += 1
        total = own.sum()
        if is_counted:
            s = np.sqrt(np.sum(own * near**2) / total)
        elif is_robust:
            s = MAD_TO_SIGMA * middle(near)
            if s == 0.0:
                s = 1.2533141373155003 * near.mean()
        else:
            s = np.sqrt(np.mean(near**2))
        out[i] = np.sqrt((total * s**2 + PRIOR_SAMPLES * stream**2) / (total + PRIOR_SAMPLES))
    return out


def _scale(r: Floats, is_robust: bool) -> float:
    if not is_robust:
        return float(np.sqrt(np.mean(r**2)))
    scale = MAD_TO_SIGMA * float(median(np.abs(r)))
    return scale if scale > 0 else mad_sigma(r, centre=0.0)


def _law(r: Floats, mu: Floats, d: Floats | None, law: str, is_robust: bool, unit: float) -> SpreadModel:
    """The law without its factors; its reason describes it."""

    def made(name: str, reason: str, a: float = 1.0, b: float = 0.0) -> SpreadModel:
        return SpreadModel(name, a, b, np.ones(1), 0.0, 0.0, reason)

    if law == "size":
        return made("size", ", in proportion to the expected value")
    if law == "count":
        a, b = fit_counts(r + mu, mu, np.full(len(mu), np.inf), is_robust=is_robust)
        return made("count", f"; counts: negative binomial with variance {a:.2f} m + {b:.2g} m²", a, b)
    if law == "ratio" and d is not None and np.any(d > 0):
        if unit > 0:
            blank = replace(made("ratio", ""), unit=unit, has_trials=True)
            counted = blank.counted(len(mu), d)
            k = (r + mu) / counted.event
            has_trials = bool(np.all(k <= d + quantile.WHOLE))
            counted = replace(blank, has_trials=has_trials).counted(len(mu), d)
            mean = np.maximum(mu, 0.0) / counted.event
            a, b = fit_counts(k, mean, counted.trials, is_robust=is_robust)
            name = "beta-binomial" if has_trials else "negative binomial"
            reason = f"; a ratio of counts per {unit:g}: {name} with variance {a:.2f} m + {b:.2g} m²"
            return replace(blank, a=a, b=b, reason=reason, has_trials=has_trials)
        a, b = _two_terms(r, np.stack([np.ones(len(r)), 1 / np.maximum(d, 1e-9)], axis=1), is_robust)
        if a + b > 0:
            return made("ratio", "; a ratio: it narrows as the denominator grows", a, b)
    return made("even", "")


def fit_counts(
    counts: Floats, mean: Floats, trials: Floats, *, is_robust: bool = True
) -> tuple[float, float]:
    """a >= 1 and b >= 0 of the variance a m + b m² of counts with these means, by maximum likelihood.

    counts, mean : (n,) events; trials : (n,) the most there can be, which multiplies the variance by 1 - m / trials, inf
    where nothing limits them. The likelihood is that of a negative binomial without that factor, which leaves the one of small
    shares as it is. is_robust : counts beyond 3.5 sigmas of the law so far are left out, in
    two turns. Searched by Nelder and Mead (1965) over log(a - 1) and log b. Lawless (1987) for the likelihood.
    """
    from scipy.optimize import minimize

    some = np.linspace(0, len(counts) - 1, min(len(counts), LAW_SAMPLES)).astype(np.int64)
    k, m = np.maximum(counts[some], 0.0), np.maximum(mean[some], quantile.LEAST_MEAN)
    counted = quantile.Counted(np.ones(len(k)), np.maximum(trials[some], 1.0))
    chance = counts_variance(m, 1.0, 0.0, counted.trials)[1]
    squares = np.minimum((k - m) ** 2, 9 * np.maximum(chance, np.median((k - m) ** 2) * 2))
    # Half of what goes beyond chance at first to either term.
    extra = max(float(np.mean(squares / chance)) - 1, 0.05) / 2
    at = np.log([extra, extra / max(float(np.mean(m)), 1e-3)])
    kept = np.ones(len(k), np.bool_)
    for turn in range(LAW_TURNS if is_robust else 1):
        if is_robust:
            wide, _ = counts_variance(m, 1 + np.exp(at[0]), float(np.exp(at[1])), counted.trials)
            # The first law is rough: it may be too narrow.
            near = np.abs(quantile.score(k, m, np.sqrt(wide), counted)) < LAW_SIGMAS + (turn == 0)
            kept = near if near.sum() >= 20 else np.ones(len(k), np.bool_)
        found = minimize(
            _minus_likelihood,
            at,
            args=(k[kept], m[kept]),
            method="Nelder-Mead",
            options={"xatol": 0.02, "fatol": 0.05, "maxfev": 120, "initial_simplex": at + SIMPLEX},
        )
        moved = float(np.max(np.abs(found.x - at)))
        at = found.x
        if moved < 0.05:
            break
    return float(1 + np.exp(np.clip(at[0], -12, 12))), float(np.exp(np.clip(at[1], -20, 5)))


# Where the search of the two terms begins, relative to their first guess.
SIMPLEX = np.array([[0.0, 0.0], [1.0, 0.0], [0.0, 1.0]])


@njit(cache=True, nogil=True)
def _minus_likelihood(at, k, m):  # type: ignore[no-untyped-def]
    """Minus the log likelihood of counts under negative binomials of mean m and variance a m + b m², less a constant.

    at : log(a - 1) and log b.
    """
    if abs(at[0]) > 12 or at[1] > 5 or at[1] < -20:
        return 1e300
    extra, b = np.exp(at[0]), np.exp(at[1])
    total = 0.0
    for i in range(len(k)):
        size = m[i] / max(extra + b * m[i], 1e-9)
        total -= lgamma(k[i] + size) - lgamma(size)
        total -= size * np.log(size / (size + m[i])) + k[i] * np.log(m[i] / (size + m[i]))
    return total


# Blocks over which dispersion is taken, and the least share of a Poisson's that counts have.
DISPERSION_BLOCKS, LEAST_DISPERSION = 16, 0.7


def is_underdispersed(values: Floats) -> bool:
    """Whether neighbouring whole numbers differ by less than counts of their size ever do.

    values : (n,) in order, none missing. Half the mean squared difference of neighbours over their mean is at least 1 for
    independent counts, whatever season they have; its median over up to 16 blocks lets few outliers in. Its standard error
    is √(3 / n) for a Poisson (Fisher 1950, the index of dispersion): what lies under 0.7 and three errors under 1 is no count.
    """
    n = len(values)
    if n < 16:
        return False
    pairs = (values[1:] - values[:-1]) ** 2 / 2, (values[1:] + values[:-1]) / 2
    blocks = [np.array_split(x, min(DISPERSION_BLOCKS, n // 8)) for x in pairs]
    index = [float(s.sum() / m.sum()) for s, m in zip(*blocks, strict=True) if m.sum() > 0]
    return bool(index) and float(np.median(index)) < min(LEAST_DISPERSION, 1 - 3 * np.sqrt(3 / n))


def counting_unit(values: Floats, d: Floats) -> float:
    """What a ratio is told per (1, 100, 1000, a million), where it is one of whole counts; 0 where it is not."""
    ok = (d > 0) & ~np.isnan(values)
    if not ok.any() or np.any(values[ok] < 0):
        return 0.0
    for unit in (1e6, 1000.0, 100.0, 1.0):
        counts = values[ok] * d[ok] / unit
        # To the hundredth: a ratio kept to a few decimals still gives its count away.
        if (
            np.mean(np.abs(counts - np.round(counts)) < quantile.WHOLE) > 0.98
            and np.mean(counts >= 0.5) > 0.001
        ):
            return unit
    return 0.0


def _two_terms(r: Floats, terms: Floats, is_robust: bool) -> tuple[float, float]:
    """Non-negative a, b with scale(r)² about a x₁ + b x₂, fitted to bins of equal numbers."""
    order = np.argsort(terms[:, 1], kind="stable")
    bins = np.array_split(order, int(np.clip(len(r) // 40, 1, 24)))
    x = np.array([terms[part].mean(axis=0) for part in bins])
    v = np.empty(len(bins))
    for i, part in enumerate(bins):
        own = r[part]
        # Medians of small counts jump; squares drawn in at four scales do not, and let no outlier in.
        rough = max(mad_sigma(own, centre=0.0), 1e-300)
        v[i] = float(np.mean(np.minimum(own**2, (4 * rough) ** 2))) if is_robust else float(np.mean(own**2))
    from scipy.optimize import nnls

    w = 1 / np.maximum(v, 1e-300)
    scale = np.maximum(x.max(axis=0), 1e-300)
    found, _ = nnls((x / scale) * w[:, None], v * w)
    a, b = found / scale
    return float(a), float(b)
