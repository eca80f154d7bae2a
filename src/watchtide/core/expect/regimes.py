"""Lasting steps: where a stream takes a new level, and when the new level becomes the normal."""

from collections.abc import Sequence
from itertools import pairwise

import numpy as np
from numba import njit

from watchtide.core import robust, shifts
from watchtide.core.expect.baselines.slot import centres
from watchtide.core.expect.frame import LONG_NS, Frame, Period, slot_count, slots
from watchtide.core.expect.seasons import smooth_season
from watchtide.core.series import Bools, Floats, Ints

# A step shows between this many samples on either side of it …
NEAR_SAMPLES = 48
# … as a jump of at least this many times the noise.
LEAST_JUMP = 2.5
# The level differs there, over one of these numbers of samples on either side and within two samples of where it was found, by
# so many robust scales of all such differences: the largest of some thousand Gaussian ones is 3.5 to 4.
SUDDEN_SAMPLES, SUDDEN_NEAR, SUDDEN = (3, 6, 12, 24, 48), 2, 5.0
# How far back a level is known before a change, in times that a new one needs to settle.
EARLIER = 4
# Samples of the running median that lone outliers are drawn in to.
CALM_SAMPLES = 25
# A season of months seen fewer times than this is taken smooth.
LEAST_CYCLES = 3


def season_free(frame: Frame, periods: Sequence[Period], train: Bools | None = None) -> Floats:
    """(n,) values without their seasons, by an estimate that a step does not bend.

    Each season is the median, slot by slot, of what lies around the moving mean over one of its cycles: a step
    touches the two cycles next to it and no more. Shorter seasons first, two rounds. Missing stays missing.
    train : samples the seasons are learnt from; None takes the usable ones.
    """
    y = frame.values
    use = frame.usable if train is None else train
    if not periods or not use.any():
        return y.copy()
    seen = y[use]
    centre = float(robust.median(seen))
    scale = robust.mad_sigma(seen, centre=centre)
    calm = np.where(use, np.clip(y, centre - 10 * scale, centre + 10 * scale) if scale > 0 else y, np.nan)
    found = np.zeros((len(periods), len(y)))
    order = sorted(range(len(periods)), key=lambda i: periods[i].ns)
    for _ in range(2 if len(periods) > 1 else 1):
        for i in order:
            rest = calm - found.sum(axis=0) + found[i]
            count = slot_count(frame, periods[i])
            if periods[i].ns > LONG_NS and len(y) < LEAST_CYCLES * count:
                # A slot seen once or twice would take the noise for season, and a step with it.
                found[i] = smooth_season(rest, periods[i].samples(frame.step_ns))
                continue
            around = rest - moving_mean(rest, count)
            at = slots(frame, periods[i], count)
            ok = ~np.isnan(around)
            season = centres(at[ok], around[ok], count, "median")
            season = np.nan_to_num(season)
            found[i] = (season - season.mean())[at]
    return np.asarray(y - found.sum(axis=0))


def moving_mean(y: Floats, window: int) -> Floats:
    """Mean of the window around each sample, over what is observed; the ends take what there is.

    Sums run over what is left of the median: of values near 1e9 running sums would lose what differs between them.
    """
    seen = ~np.isnan(y)
    centre = float(robust.median(y)) if seen.any() else 0.0
    total, count = np.zeros(len(y) + 1), np.zeros(len(y) + 1, np.int64)
    np.cumsum(np.where(seen, y - centre, 0.0), out=total[1:])
    np.cumsum(seen, out=count[1:])
    i = np.arange(len(y))
    a, b = np.maximum(i - window // 2, 0), np.minimum(i + window - window // 2, len(y))
    with np.errstate(invalid="ignore", divide="ignore"):
        return np.asarray(centre + (total[b] - total[a]) / (count[b] - count[a]))


def find_steps(level: Floats, longest: int, penalty: float | None = None, *, has_trend: bool = False) -> Ints:
    """Indices where a de-seasonalised series takes a lasting new level.

    Lone outliers are drawn in to three spreads around a running median first, so that only what
    lasts counts; a regime lasts at least 24 samples, however long the season: an episode of two days is found as one, and
    is not drawn out to a week. A slow trend, and a level that wanders, is cut into steps by any step search; a cut is kept only
    where the level really jumps between the observed samples next to it, by more than it does elsewhere. longest : samples of the longest season.
    has_trend : from sample to sample the trend may move by as much as the noise, as it does over months and years: a
    jump then is what the slopes on either side do not explain.
    """
    shortest = shifts.LEAST_REGIME
    if np.sum(~np.isnan(level)) < 2 * shortest:
        return np.empty(0, np.int64)
    calm = calm_outliers(level - _line(level) if has_trend else level)
    own, variance = robust.variances(calm)
    changes = shifts.search(
        calm,
        penalty=shifts.default_penalty(calm, variance=variance) if penalty is None else penalty,
        shortest=shortest,
    )
    near = int(np.clip(longest, shortest, NEAR_SAMPLES))
    # A jump must stand out from the samples' own scatter and from the wander of their medians.
    wander = np.sqrt(2 * variance / near)
    # By observed samples: those next to an outage lie far apart, and say as much.
    seen = np.flatnonzero(~np.isnan(calm))
    at = np.searchsorted(seen, changes)
    least = LEAST_JUMP * max(np.sqrt(own), wander)
    jumps = _jumps(calm[seen], at, near, least, has_trend)
    # To look at all other samples for how sudden a jump is takes longer, and most histories have none.
    return np.asarray(changes[jumps][_sudden(calm[seen], at[jumps])] if jumps.any() else changes[:0])


@njit(cache=True, nogil=True)
def _jumps(calm, changes, near, least, has_trend):  # type: ignore[no-untyped-def]
    """(m,) whether the level jumps at a cut, and not a trend through it."""
    m, out = len(changes), np.zeros(len(changes), np.bool_)
    for i in range(m):
        at = changes[i]
        before, after = changes[i - 1] if i > 0 else 0, changes[i + 1] if i < m - 1 else len(calm)
        jump = robust.median(calm[at : at + near]) - robust.median(calm[max(0, at - near) : at])
        between = robust.median(calm[at:after]) - robust.median(calm[before:at])
        if has_trend:
            a, b = max(before, at - near), min(after, at + near)
            # Between the middles of both sides lies half of either.
            jump -= (_rise(calm[a:at]) + _rise(calm[at:b])) / 2
        out[i] = abs(jump) >= least and jump * between > 0 and abs(jump) >= 0.5 * abs(between)
    return out


def _line(level: Floats) -> Floats:
    """A straight line as steep as the level usually is: the median slope over a quarter of the series, which few steps bend."""
    n = len(level)
    lag = max(n // 4, 8)
    rises = level[lag:] - level[:-lag] if lag < n else np.empty(0)
    seen = rises[~np.isnan(rises)]
    return np.asarray(np.arange(n) * (float(np.median(seen)) / lag if len(seen) else 0.0), dtype=np.float64)


@njit(cache=True, nogil=True)
def _rise(y):  # type: ignore[no-untyped-def]
    """How far a stretch rises from its begin to its end: twice what its second half lies above its first."""
    half = len(y) // 2
    if half < 2:
        return 0.0
    rise = 2 * (robust.median(y[half:]) - robust.median(y[:half]))
    return 0.0 if np.isnan(rise) else rise


def calm_outliers(level: Floats) -> Floats:
    """Values drawn in to within three spreads of their running median; NaN stays."""
    seen = ~np.isnan(level)
    filled = np.interp(np.arange(len(level)), np.flatnonzero(seen), level[seen])
    middle = _running_median(filled, CALM_SAMPLES // 2)
    width = 3 * max(robust.mad_sigma(level - middle, centre=0.0), 1e-300)
    return np.where(seen, np.clip(level, middle - width, middle + width), np.nan)


@njit(cache=True, nogil=True)
def _running_median(y, half):  # type: ignore[no-untyped-def]
    """(n,) median of the 2 half + 1 samples around each, the ends repeated beyond themselves; y without NaN.

    The window is kept in order: a sample comes and one goes, by insertion.
    """
    n, width = len(y), 2 * half + 1
    held, out = np.empty(width), np.empty(n)
    for k in range(width):
        held[k] = y[min(max(k - half, 0), n - 1)]
    held.sort()
    for i in range(n):
        if i > 0:
            gone, come = y[max(i - half - 1, 0)], y[min(i + half, n - 1)]
            k = np.searchsorted(held, gone)
            while k > 0 and held[k - 1] > come:
                held[k] = held[k - 1]
                k -= 1
            while k < width - 1 and held[k + 1] < come:
                held[k] = held[k + 1]
                k += 1
            held[k] = come
        out[i] = held[half]
    return out


def regimes(level: Floats, changes: Ints, settle: int) -> tuple[Floats, Floats]:
    """Step functions of the accepted regimes: as they are, and as they become the normal.

    A regime shorter than `settle` samples is an episode, not a new normal: it keeps the level before
    it. So does one whose later half does not keep at least half of the jump, as an episode that ends within it, and one that lies
    by less than half of the jump off the level a while before, as the way back from a ramp does. A step's
    size is taken between the `settle` samples next to it, so that a trend does not add to it. Zero in the first regime.
    """
    n = len(level)
    steps, delayed = np.zeros(n), np.zeros(n)
    if settle <= 0 or len(changes) == 0:
        return steps, delayed
    edges = [0, *changes.tolist(), n]
    noise = float(np.sqrt(max(robust.noise_variance(level), 0.0)))
    before = (0, edges[1])
    for a, b in pairwise(edges[1:]):
        if b - a < settle:
            continue
        usual = _median(level[max(before[0], before[1] - settle) : before[1]])
        jump = _median(level[a : min(b, a + settle)]) - usual
        later = _median(level[(a + b) // 2 : b]) - usual
        whole = _median(level[a:b]) - usual
        least = min(
            later * jump, whole * jump, jump * (jump + usual - _earlier(level, *before, settle, usual))
        )
        if not np.isnan(jump) and abs(jump) > noise and least >= 0.5 * jump**2:
            steps[a:] += jump
            known = np.any(np.abs(steps[:a] - steps[a]) <= max(noise, 0.15 * abs(jump)))
            # A return to a level held before needs no time to settle.
            delayed[a if known else a + settle :] = steps[a]
        before = (a, b)
    return steps, delayed


def _earlier(level: Floats, begin: int, end: int, settle: int, usual: float) -> float:
    """The level of a regime before its last `settle` samples, over three times as many; `usual` where so little came before."""
    part = level[max(begin, end - EARLIER * settle) : max(begin, end - settle)]
    return _median(part) if np.sum(~np.isnan(part)) >= settle else usual


def lasting(steps: Floats, changes: Ints, settle: int) -> Ints:
    """Those changes after which a level lasts: the begin of each accepted regime, and of one that the end of the data cuts
    short. Begin and end of an episode shorter than `settle` are no lasting shift; 0 keeps all. steps : (n,) of `regimes`."""
    if settle <= 0 or len(changes) == 0:
        return changes
    begins = np.flatnonzero(np.diff(steps, prepend=steps[:1]) != 0)
    is_open = changes[-1:] if len(steps) - changes[-1] < settle else changes[:0]
    return np.unique(np.r_[begins, is_open]).astype(np.int64)


def _sudden(calm: Floats, at: Ints) -> Bools:
    """(m,) which changes stand out from what the level does elsewhere within as many samples: a level that wanders is cut into
    steps by any search. calm : (n,) observed values with outliers drawn in; at : (m,) first samples of the new levels."""
    total = np.r_[0.0, np.cumsum(calm - robust.median(calm))]
    found = np.zeros(len(at), np.bool_)
    for near in SUDDEN_SAMPLES:
        middle = np.arange(near, len(calm) - near + 1)
        if len(middle) == 0:
            break
        jumps = (total[middle + near] - 2 * total[middle] + total[middle - near]) / near
        size = np.zeros(len(total))
        size[middle] = np.abs(jumps - robust.median(jumps))
        usual = SUDDEN * float(robust.mad_sigma(jumps))
        for by in range(-SUDDEN_NEAR, SUDDEN_NEAR + 1):
            found |= size[np.clip(at + by, 0, len(calm))] > usual
    return found


def _median(values: Floats) -> float:
    return float(robust.median(values))


def unsettled(changes: Ints, n: int, settle: int) -> Bools:
    """(n,) samples of regimes shorter than `settle`: episodes, and a new level that has not lasted yet.

    The first regime is the history's own and never one of them.
    """
    out = np.zeros(n, np.bool_)
    edges = [0, *changes.tolist(), n]
    for a, b in pairwise(edges[1:]):
        if b - a < settle:
            out[a:b] = True
    return out
