"""How far a sample usually lies from its expectation: a spread that never collapses to zero.

A model fitted to held-out residuals: a law of how the spread grows with size (none, counts, ratios, in
proportion), times a factor of the slot, floored by the data's resolution. The reason is kept.
"""

from dataclasses import dataclass
from functools import lru_cache
from typing import Any

import numpy as np
from numba import njit

from watchtide.core.robust import MAD_TO_SIGMA, by_groups, mad_sigma, median, middle
from watchtide.core.series import Floats, Ints

# A slot speaks for itself from about this many samples on; below it leans on the stream's spread.
PRIOR_SAMPLES = 20
# Counts under this mean are judged by exact tail odds, above it the Gaussian says the same.
SMALL_MEAN = 60.0
# The exact odds are matched where a Gaussian reaches 4 sigmas.
MATCHED_SIGMAS = 4.0
LAWS = ("even", "size", "count", "ratio")


@dataclass(frozen=True)
class SpreadModel:
    """spread(n,) = base(expected, denominator) * factor[slot], at least `floor`.

    law : even (base 1), size (|expected|), count (variance a m + b m², exact tails at small m), ratio (variance
    a + b / d; where value times denominator over `unit` are whole numbers, that of such counts instead).
    factor : (groups,); stream : the middle spread over the history, in the unit of the values.
    """

    law: str
    a: float
    b: float
    factor: Floats
    floor: float
    stream: float
    reason: str
    unit: float = 0.0

    def at(self, expected: Floats, groups: Ints, denominator: Floats | None = None) -> Floats:
        """(n,) spread in the unit of the values; NaN where nothing is expected."""
        base = self.base(expected, denominator)
        return np.where(np.isnan(expected), np.nan, np.maximum(base * self.factor[groups], self.floor))

    def base(self, expected: Floats, denominator: Floats | None) -> Floats:
        if self.law == "size":
            return np.maximum(np.abs(expected), 1e-300) * self.a
        if self.law == "count":
            return count_spread(expected, self.a, self.b)
        if self.law == "ratio" and denominator is not None:
            if self.unit > 0:
                amount = np.maximum(np.nan_to_num(denominator, nan=1.0), 1e-9) / self.unit
                return count_spread(np.maximum(expected, 0.0) * amount, self.a, self.b) / amount
            return np.sqrt(self.a + self.b / np.maximum(np.nan_to_num(denominator, nan=1.0), 1e-9))
        return np.full(len(expected), self.a)

    def as_data(self) -> dict[str, Any]:
        return {**vars(self), "factor": self.factor.tolist()}


def count_spread(mean: Floats, a: float, b: float) -> Floats:
    """Spread of counts with variance a m + b m²; at small means such that 4 sigmas above have exact odds.

    mean : (n,) expected counts, those under 0.01 taken as that. Negative binomial where a m + b m² > m, else
    Poisson; above a mean of 60 the square root of the variance.
    """
    m = np.maximum(np.nan_to_num(mean, nan=1.0), 0.01)
    plain = np.sqrt(a * m + b * m * m)
    if a < 0.7:
        return plain
    logs, exact = _exact(round(a, 3), round(b, 6))
    small = np.interp(np.log(np.minimum(m, SMALL_MEAN)), logs, exact)
    return np.asarray(np.where(m < SMALL_MEAN, np.maximum(small, plain), plain))


@lru_cache(maxsize=64)
def _exact(a: float, b: float) -> tuple[Floats, Floats]:
    """Logs of means from 0.01 to 60, and the spread by exact odds at each; rounded figures, so that few are ever made."""
    from scipy.special import ndtr

    grid = np.geomspace(0.01, SMALL_MEAN, 80)
    variance = np.maximum(a * grid + b * grid * grid, grid * 1.0001)
    size = grid * grid / (variance - grid)
    far = float(ndtr(-MATCHED_SIGMAS))
    # Interpolated within the step that crosses the odds, so that the spread does not jump with the mean.
    top = _least_count(far, size, grid)
    above, under = (_count_tail(x, size, grid) for x in (top, top - 1))
    share = np.clip((under - far) / np.maximum(under - above, 1e-300), 0.0, 1.0)
    exact = (top - 1 + share + 1 - grid) / MATCHED_SIGMAS
    return np.log(grid), np.maximum.accumulate(exact)


def _count_tail(count: Floats, size: Floats, mean: Floats) -> Floats:
    """Chance of more than `count` events of a negative binomial of this size and mean (Abramowitz & Stegun 26.5.26)."""
    from scipy.special import betainc

    return np.where(count < 0, 1.0, betainc(np.maximum(count, 0.0) + 1, size, mean / (size + mean)))


def _least_count(odds: float, size: Floats, mean: Floats) -> Floats:
    """Smallest whole count with at most these odds of more, by halving."""
    low, high = np.full(len(mean), -1.0), np.ones(len(mean))
    while np.any(open_ := _count_tail(high, size, mean) > odds):
        high = np.where(open_, 2 * high, high)
    while np.any(high - low > 1):
        middle = np.floor((low + high) / 2)
        is_rare = _count_tail(middle, size, mean) <= odds
        low, high = np.where(is_rare, low, middle), np.where(is_rare, middle, high)
    return high


def fit_spread(
    residual: Floats,
    expected: Floats,
    groups: Ints,
    count: int,
    *,
    law: str = "even",
    is_robust: bool = True,
    denominator: Floats | None = None,
    unit: float = 0.0,
    quantum: float = 0.0,
    size: float = 0.0,
) -> SpreadModel:
    """The spread of held-out residuals.

    residual, expected : (n,) of the samples that may speak; residual NaN is skipped. groups : (n,) slot group, 0 … count - 1.
    quantum : resolution of the data; the floor is quantum / √12, the spread that rounding alone causes.
    unit : of a ratio of whole counts, as `counting_unit` tells; 0 of any other.
    size : largest |value|, for a floor of 1e-9 of it. is_robust : 1.4826 MAD, else standard deviation.
    The squared factor of a group is (m s² + 20 S²) / (m + 20), with m residuals in it and its two neighbours,
    s their scale and S that of all, both relative to the law's base.
    """
    ok = ~np.isnan(residual) & ~np.isnan(expected)
    r, mu, g = residual[ok], expected[ok], groups[ok]
    d = denominator[ok] if denominator is not None else None
    floor = max(quantum / np.sqrt(12), 1e-9 * size, 1e-12)
    if len(r) == 0:
        return SpreadModel("even", 0.0, 0.0, np.ones(count), floor, 0.0, "no residual to take a spread from")
    law, a, b, unit, words = _law(r, mu, d, law, is_robust, unit)
    model = SpreadModel(law, a, b, np.ones(count), 0.0, 0.0, "", unit)
    u = r / np.maximum(model.base(mu, d), 1e-300)
    stream = _scale(u, is_robust)
    factor = np.full(count, stream)
    if count > 1:
        factor = _group_factors(u, g.astype(np.int64), count, stream, is_robust)
    if law == "count" or unit > 0:
        # Chance alone makes counts scatter this much; less would be a promise the next count breaks.
        factor = np.maximum(factor, 1.0 if a >= 0.7 else 0.7)
    middle = float(median(model.base(mu, d))) * stream
    reason = "spread of the slot, shrunk to the stream's" if count > 1 else "one spread for the stream"
    if middle <= floor:
        reason = "nearly all residuals are 0: the data's resolution sets the spread"
    return SpreadModel(law, a, b, factor, float(floor), max(middle, float(floor)), reason + words, unit)


@njit(cache=True, nogil=True)
def _group_factors(u, g, count, stream, is_robust):  # type: ignore[no-untyped-def]
    """(count,) scale of each group with its two neighbours, shrunk to the stream's."""
    size, edges = by_groups(g, np.abs(u), count)
    out = np.full(count, stream)
    for i in range(count):
        left, right = ((i - 1) % count, (i + 1) % count) if count > 2 else (i, i)
        m = edges[i + 1] - edges[i]
        if count > 2:
            m += edges[left + 1] - edges[left] + edges[right + 1] - edges[right]
        if m == 0:
            continue
        near = np.empty(m)
        k = 0
        for group in (left, i, right) if count > 2 else (i, i, i):
            if count <= 2 and k > 0:
                break
            for j in range(edges[group], edges[group + 1]):
                near[k] = size[j]
                k += 1
        if is_robust:
            s = MAD_TO_SIGMA * middle(near)
            if s == 0.0:
                s = 1.2533141373155003 * near.mean()
        else:
            s = np.sqrt(np.mean(near**2))
        out[i] = np.sqrt((m * s**2 + PRIOR_SAMPLES * stream**2) / (m + PRIOR_SAMPLES))
    return out


def _scale(r: Floats, is_robust: bool) -> float:
    if not is_robust:
        return float(np.sqrt(np.mean(r**2)))
    scale = MAD_TO_SIGMA * float(median(np.abs(r)))
    return scale if scale > 0 else mad_sigma(r, centre=0.0)


def _law(
    r: Floats, mu: Floats, d: Floats | None, law: str, is_robust: bool, unit: float
) -> tuple[str, float, float, float, str]:
    """The law, its two figures and unit: a robust regression of squared residuals on what the law grows with."""
    if law == "size":
        return "size", 1.0, 0.0, 0.0, ", in proportion to the expected value"
    if law == "count" and float(np.mean(mu)) > 0:
        a, b = _count_terms(r, mu, is_robust)
        return "count", a, b, 0.0, f"; counts: variance {a:.2f} m + {b:.2g} m², exact odds at small means"
    if law == "ratio" and d is not None and np.any(d > 0):
        if unit > 0:
            amount = d / unit
            a, b = _count_terms(r * amount, np.maximum(mu, 0.0) * amount, is_robust)
            return "ratio", a, b, unit, f"; a ratio of counts per {unit:g}: exact odds where they are few"
        a, b = _two_terms(r, np.stack([np.ones(len(r)), 1 / np.maximum(d, 1e-9)], axis=1), is_robust)
        if a + b > 0:
            return "ratio", a, b, 0.0, "; a ratio: it narrows as the denominator grows"
    return "even", 1.0, 0.0, 0.0, ""


def _count_terms(r: Floats, mu: Floats, is_robust: bool) -> tuple[float, float]:
    m = np.maximum(mu, 0.01)
    # One event more or less is never wild, however seldom there is one.
    a, b = _two_terms(r, np.stack([m, m * m], axis=1), is_robust, least=1.5)
    return max(a, 0.05), b


def counting_unit(values: Floats, d: Floats) -> float:
    """What a ratio is told per (1, 100, 1000, a million), where it is one of whole counts; 0 where it is not."""
    ok = (d > 0) & ~np.isnan(values)
    if not ok.any() or np.any(values[ok] < 0):
        return 0.0
    for unit in (1e6, 1000.0, 100.0, 1.0):
        counts = values[ok] * d[ok] / unit
        # To the hundredth: a ratio kept to a few decimals still gives its count away.
        if np.mean(np.abs(counts - np.round(counts)) < 0.02) > 0.98 and np.mean(counts >= 0.5) > 0.001:
            return unit
    return 0.0


def _two_terms(r: Floats, terms: Floats, is_robust: bool, least: float = 0.0) -> tuple[float, float]:
    """Non-negative a, b with scale(r)² about a x₁ + b x₂, fitted to bins of equal numbers."""
    order = np.argsort(terms[:, 1], kind="stable")
    bins = np.array_split(order, int(np.clip(len(r) // 40, 1, 24)))
    x = np.array([terms[part].mean(axis=0) for part in bins])
    v = np.empty(len(bins))
    for i, part in enumerate(bins):
        own = r[part]
        # Medians of small counts jump; squares drawn in at four scales do not, and let no outlier in.
        rough = max(mad_sigma(own, centre=0.0), 1e-300)
        v[i] = (
            float(np.mean(np.minimum(own**2, max(4 * rough, least) ** 2)))
            if is_robust
            else float(np.mean(own**2))
        )
    from scipy.optimize import nnls

    w = 1 / np.maximum(v, 1e-300)
    scale = np.maximum(x.max(axis=0), 1e-300)
    found, _ = nnls((x / scale) * w[:, None], v * w)
    a, b = found / scale
    return float(a), float(b)
