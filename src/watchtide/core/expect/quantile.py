"""Scores as quantile residuals: how rare a value is under the fitted law, in Gaussian sigmas.

A symmetrical law (Gaussian) gives |residual| / spread. Counts follow a negative binomial, or a Poisson where their
variance is no larger than the mean; ratios with a denominator a beta-binomial, or a binomial. Their score is the normal
quantile of the mid-probability P(Y > y) + P(Y = y) / 2 above the median, P(Y < y) + P(Y = y) / 2 below it.
Dunn and Smyth (1996), with the mid-probability instead of their random one, so that a score is the same every time.
The incomplete beta and gamma functions are computed here, as logarithms: SciPy's underflow beyond 37 sigmas, and cannot
be called from a compiled search.
"""

from dataclasses import dataclass
from math import lgamma

import numpy as np
from numba import njit

from watchtide.core.expect.special import log_beta_tail, log_gamma_tail
from watchtide.core.series import Floats, Ints

# A mean of fewer events than this is taken as this: a model's zero is never certain.
LEAST_MEAN = 0.01
# A variance within this share of the mean (of the binomial's) is a Poisson's (a binomial's).
NEARLY = 1e-4
# Where a beta-binomial is wider than this many events a beta law of the same mean and variance is as good.
WIDE_EVENTS = 300.0
# A value this close to a whole number of events is one: ratios are kept to a few decimals.
WHOLE = 0.02
POISSON, NEGATIVE, BINOMIAL, BETA, GAUSSIAN = 0, 1, 2, 3, 4


@dataclass(frozen=True)
class Counted:
    """What makes values counts.

    event : (n,) what one counted event adds to a value, NaN where a value is no count; trials : (n,) the most events there
    can be, inf where nothing limits them.
    """

    event: Floats
    trials: Floats

    @classmethod
    def none(cls, n: int) -> "Counted":
        """Of n values that are no counts."""
        return cls(np.full(n, np.nan), np.full(n, np.nan))

    @classmethod
    def plain(cls, n: int) -> "Counted":
        """Of n plain counts: an event adds 1, and nothing limits them."""
        return cls(np.ones(n), np.full(n, np.inf))

    def at(self, where: Ints | slice) -> "Counted":
        """That of the samples at these places."""
        return Counted(self.event[where], self.trials[where])


def score(values: Floats, expected: Floats, spread: Floats, counted: Counted | None = None) -> Floats:
    """(n,) signed quantile residuals of values with this expectation and standard deviation; NaN where one is missing.

    counted : None for values of a symmetrical law. A value between two whole numbers of events, as a mean of counts is,
    has the score between theirs.
    """
    with np.errstate(invalid="ignore", divide="ignore"):
        plain = (values - expected) / spread
    out = np.array(plain, dtype=np.float64)
    if counted is None:
        return out
    known = ~np.isnan(plain) & ~np.isnan(counted.event)
    if not known.any():
        return out
    event = counted.event[known]
    mean = np.maximum(expected[known] / event, LEAST_MEAN)
    deviation = spread[known] / event
    events = values[known] / event
    whole = np.round(events)
    is_whole = np.abs(events - whole) < WHOLE
    low = np.where(is_whole, whole, np.floor(events))
    z = _signed(low, mean, deviation, counted.trials[known])
    part = np.where(is_whole, 0.0, events - low)
    between = part > 0
    if between.any():
        upper = _signed(low[between] + 1, mean[between], deviation[between], counted.trials[known][between])
        z[between] += part[between] * (upper - z[between])
    out[known] = z
    return out


def log_chances(values: Floats, expected: Floats, spread: Floats, counted: Counted) -> Floats:
    """(n,) log of the chance of each value, rounded to whole events, under its law; NaN where something is missing."""
    out = np.full(len(values), np.nan)
    known = ~np.isnan(values) & ~np.isnan(expected) & ~np.isnan(spread) & ~np.isnan(counted.event)
    event = counted.event[known]
    events = np.clip(np.round(values[known] / event), 0, counted.trials[known])
    mean = np.maximum(expected[known] / event, LEAST_MEAN)
    out[known] = _log_chances(events, mean, spread[known] / event, counted.trials[known])
    return out


@njit(cache=True, nogil=True)
def _log_chances(events, mean, deviation, trials):  # type: ignore[no-untyped-def]
    out = np.empty(len(events))
    for i in range(len(events)):
        kind, a, b = _law_of(mean[i], deviation[i], trials[i])
        out[i] = _log_chance(events[i], kind, a, b, trials[i])
    return out


def values_at(
    level: Floats | float, expected: Floats, spread: Floats, counted: Counted | None = None
) -> Floats:
    """(n,) values at which the signed score reaches a level: the inverse of `score`.

    level : one for all or (n,), negative below the expectation; infinite and missing ones stay so. Below zero events,
    and above all trials, the score goes on in a straight line of one spread a sigma: such values do not occur.
    """
    levels = np.broadcast_to(np.asarray(level, np.float64), expected.shape)
    plain = np.asarray(expected + levels * spread, dtype=np.float64)
    if counted is None:
        return plain
    out = plain.copy()
    known = np.isfinite(plain) & ~np.isnan(counted.event)
    if not known.any():
        return out
    event = counted.event[known]
    mean = np.maximum(expected[known] / event, LEAST_MEAN)
    deviation = spread[known] / event
    sigmas, trials = levels[known], counted.trials[known]
    from scipy.special import log_ndtr

    # The last whole number whose score is under the level, and the next one: between them lies what is sought.
    low = _below(np.asarray(log_ndtr(-np.abs(sigmas))), sigmas, mean, deviation, trials)
    z_low = _signed(low, mean, deviation, trials)
    z_high = _signed(low + 1, mean, deviation, trials)
    share = (sigmas - z_low) / np.maximum(z_high - z_low, 1e-12)
    out[known] = (low + share) * event
    return out


def _signed(events: Floats, mean: Floats, deviation: Floats, trials: Floats) -> Floats:
    """(n,) signed scores of whole numbers of events."""
    from scipy.special import ndtri_exp

    logs, is_above = _mid_logs(events, mean, deviation, trials)
    size = -np.asarray(ndtri_exp(logs))
    z = np.where(is_above, size, -size)
    # Beyond what can occur the score goes on in a straight line.
    beyond = np.where(events < 0, events, np.maximum(events - trials, 0.0))
    odd = beyond != 0
    if odd.any():
        inside = np.clip(events[odd], 0, trials[odd])
        z[odd] = _signed(inside, mean[odd], deviation[odd], trials[odd]) + beyond[odd] / deviation[odd]
    return z


@njit(cache=True, nogil=True)
def _mid_logs(events, mean, deviation, trials):  # type: ignore[no-untyped-def]
    """(n,) log of the smaller mid-probability of each number of events, and whether it is the upper one."""
    logs, is_above = np.full(len(events), np.log(0.5)), np.zeros(len(events), np.bool_)
    for i in range(len(events)):
        if 0 <= events[i] <= trials[i]:
            kind, a, b = _law_of(mean[i], deviation[i], trials[i])
            logs[i], is_above[i] = _mid_log(events[i], kind, a, b, trials[i])
    return logs, is_above


@njit(cache=True, nogil=True)
def _law_of(mean, deviation, trials):  # type: ignore[no-untyped-def]
    """Which law has this mean and standard deviation, and its two figures.

    Poisson: mean. Negative binomial: size and chance of success p of P(Y > k) = I_p(k + 1, size). Binomial: chance.
    Beta-binomial: the two of its beta law.
    """
    variance = deviation * deviation
    if np.isinf(trials):
        if variance <= mean * (1 + NEARLY):
            return POISSON, mean, 0.0
        return NEGATIVE, mean * mean / (variance - mean), (variance - mean) / variance
    chance = min(mean / trials, 1 - 1e-9) if trials > 0 else 0.5
    usual = trials * chance * (1 - chance)
    if trials <= 1 or variance <= usual * (1 + NEARLY):
        return BINOMIAL, chance, 0.0
    # variance = usual (1 + (trials - 1) rho), rho below 1.
    rho = min((variance / usual - 1) / (trials - 1), 0.95)
    total = 1 / rho - 1
    return BETA, chance * total, (1 - chance) * total


@njit(cache=True, nogil=True)
def _mid_log(k, kind, a, b, trials):  # type: ignore[no-untyped-def]
    """Log of the smaller of P(Y > k) + P(Y = k) / 2 and P(Y < k) + P(Y = k) / 2, and whether it is the first."""
    if kind == BETA:
        return _beta_binomial_mid(k, a, b, trials)
    here, above = _log_chance(k, kind, a, b, trials), _upper_log(k, kind, a, b, trials)
    upper = np.exp(above) + 0.5 * np.exp(here)
    if upper <= 0.5:
        # In logarithms: far out both underflow.
        return above + np.log1p(0.5 * np.exp(here - above)) if above > here else here + np.log(
            0.5 + np.exp(above - here)
        ), True
    if k <= 0:
        return here + np.log(0.5), False
    below = _lower_log(k - 1, kind, a, b, trials)
    return below + np.log1p(0.5 * np.exp(here - below)) if below > here else here + np.log(
        0.5 + np.exp(below - here)
    ), False


@njit(cache=True, nogil=True)
def _log_chance(k, kind, a, b, trials):  # type: ignore[no-untyped-def]
    """log P(Y = k)."""
    if kind == POISSON:
        return k * np.log(a) - a - lgamma(k + 1.0)
    if kind == NEGATIVE:
        return lgamma(k + a) - lgamma(a) - lgamma(k + 1.0) + a * np.log1p(-b) + k * np.log(b)
    ways = lgamma(trials + 1.0) - lgamma(k + 1.0) - lgamma(trials - k + 1.0)
    if kind == BINOMIAL:
        return ways + k * np.log(a) + (trials - k) * np.log1p(-a)
    ways += lgamma(k + a) + lgamma(trials - k + b) - lgamma(a + b + trials)
    return ways + lgamma(a + b) - lgamma(a) - lgamma(b)


@njit(cache=True, nogil=True)
def _upper_log(k, kind, a, b, trials):  # type: ignore[no-untyped-def]
    """log P(Y > k)."""
    if kind == POISSON:
        return log_gamma_tail(k + 1.0, a, False)
    if kind == NEGATIVE:
        return log_beta_tail(b, k + 1.0, a)
    return log_beta_tail(a, k + 1.0, trials - k) if k < trials else -np.inf


@njit(cache=True, nogil=True)
def _lower_log(k, kind, a, b, trials):  # type: ignore[no-untyped-def]
    """log P(Y <= k)."""
    if kind == POISSON:
        return log_gamma_tail(k + 1.0, a, True)
    if kind == NEGATIVE:
        return log_beta_tail(1.0 - b, a, k + 1.0)
    return log_beta_tail(1.0 - a, trials - k, k + 1.0)


@njit(cache=True, nogil=True)
def _beta_binomial_mid(k, a, b, trials):  # type: ignore[no-untyped-def]
    """As `_mid_log` for a beta-binomial: a sum outwards, away from the mean."""
    total = a + b
    mean = trials * a / total
    rho = 1 / (total + 1)
    wide = np.sqrt(mean * (1 - mean / trials) * (1 + (trials - 1) * rho))
    if wide > WIDE_EVENTS:
        # The beta law of the same mean and variance; a number of events is the middle of its share.
        share = wide * wide / (trials * trials)
        own = (mean / trials) * (1 - mean / trials) / share - 1
        x = (k + 0.5) / (trials + 1)
        p = mean / trials * own
        q = own - p
        upper = log_beta_tail(1 - x, q, p)
        if upper <= np.log(0.5):
            return upper, True
        return log_beta_tail(x, p, q), False
    here = _log_chance(k, BETA, a, b, trials)
    is_above = k >= mean
    for _ in range(2):
        mid, term, j = 0.5, 1.0, k
        while True:
            if is_above:
                if j >= trials:
                    break
                term *= (trials - j) / (j + 1) * (j + a) / (trials - j - 1 + b)
                j += 1
            else:
                if j <= 0:
                    break
                term *= j / (trials - j + 1) * (trials - j + b) / (j - 1 + a)
                j -= 1
            mid += term
            if term < mid * 1e-15:
                break
        log = here + np.log(mid)
        if log <= np.log(0.5) + 1e-12:
            return min(log, np.log(0.5)), is_above
        # Between mean and median the other side is the smaller one.
        is_above = not is_above
    return np.log(0.5), is_above


@njit(cache=True, nogil=True)
def _below(targets, sigmas, mean, deviation, trials):  # type: ignore[no-untyped-def]
    """(n,) the largest whole number of events whose score is under the level, at least -1.

    targets : (n,) log of the chance that a Gaussian lies beyond the level; sigmas : (n,) the signed level.
    """
    out = np.empty(len(mean))
    for i in range(len(mean)):
        kind, a, b = _law_of(mean[i], deviation[i], trials[i])
        is_above = sigmas[i] >= 0
        # Cornish and Fisher's first term: it is a few events off at most, and the search goes on from there.
        skew = (
            2 * deviation[i] ** 2 / mean[i] - 1
            if np.isinf(trials[i])
            else 1 - 2 * mean[i] / max(trials[i], 1.0)
        )
        guess = np.floor(mean[i] + sigmas[i] * deviation[i] + (sigmas[i] ** 2 - 1) * skew / 6)
        low, step = min(max(guess, -1.0), trials[i]), 1.0
        high = low + 1
        while low >= 0 and not _is_under(low, targets[i], is_above, kind, a, b, trials[i]):
            low, high, step = max(low - step, -1.0), low, 2 * step
        step = 1.0
        while high <= trials[i] and _is_under(high, targets[i], is_above, kind, a, b, trials[i]):
            low, high, step = high, high + step, 2 * step
        high = min(high, trials[i] + 1)
        while high - low > 1:
            middle = np.floor((low + high) / 2)
            if _is_under(middle, targets[i], is_above, kind, a, b, trials[i]):
                low = middle
            else:
                high = middle
        out[i] = low
    return out


@njit(cache=True, nogil=True)
def _is_under(k, target, is_above_level, kind, a, b, trials):  # type: ignore[no-untyped-def]
    """Whether the score of k events is under a level."""
    if k > trials:
        return False
    log, is_above = _mid_log(k, kind, a, b, trials)
    if is_above_level:
        return not is_above or log > target
    return not is_above and log < target
