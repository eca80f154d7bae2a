"""Leaps: one-step prediction errors of autocorrelated scores.

A spike of two sigmas is small beside noise that drifts by as much over days, and large beside the samples just before it. A
first-order autoregressive state observed with white noise is tracked by a robust filter of constant gain; a leap is an
innovation of that filter. A leap away and one back enclose an episode at another level, however far the level wanders within it.
"""

from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from numba import njit

from watchtide.core import robust
from watchtide.core.series import Floats, Ints

# Decay of the state from one sample to the next, and the share of an innovation that it takes up.
DECAYS = (0.6, 0.8, 0.9, 0.95, 0.98, 0.995)
GAINS = (0.2, 0.4, 0.7, 1.0)
# Leaps are used where the innovations' scale is at most this share of the scores' own scale: otherwise they add nothing.
MOST_LEFT = 0.7
# Below this correlation of neighbours no filter reaches that share.
LEAST_CORRELATION = 0.4
LEAST_SAMPLES = 200
# Innovations move the state by at most this many of their scales, and a state begins within so many sigmas.
CLIP, BEGIN_CLIP = 2.5, 3.0
# After so many samples left out a filter begins anew: what lasts longer is the level.
MOST_LEFT_OUT = 96
# Samples on either side of a leap whose medians have to differ too: spikes of up to three samples change no median of seven.
# Smaller leaps than this bound no episode. From 2 scales on most days of slow noise have none, and a tail that is fitted to a pile of 0
# and a few beyond 2 takes an episode of 15 for chance.
BESIDE_SAMPLES, LEAST_LEAP = 7, 1.0
# Sigmas at which scores between two leaps are clipped, so that no lone one makes a level.
LEVEL_CLIP = 10.0


@dataclass(frozen=True)
class Follower:
    """x(t) = decay x(t-1) + gain u(t), u(t) = z(t) - decay x(t-1) clipped at 2.5 scales. scale : robust, of u, in sigmas."""

    decay: float
    gain: float
    scale: float


def fit(z: Floats) -> Follower | None:
    """The decay and gain with the least robust scale of innovations; None where that is over 0.7 of the scores' scale.

    z : (n,) scores, NaN where missing or not clean. Masreliez (1975); Martin and Thomson (1982) for filters that clip.
    """
    seen = z[~np.isnan(z)]
    if len(seen) < LEAST_SAMPLES:
        return None
    whole = float(robust.mad_sigma(seen))
    if whole <= 0 or correlation_of_neighbours(z) < LEAST_CORRELATION:
        return None
    best: Follower | None = None
    for decay in DECAYS:
        for gain in GAINS:
            scale = whole
            # The clip goes by the scale, and the scale by the clip.
            for _ in range(3):
                u, _ = _follow(z, decay, gain, scale, np.nan)
                u = u[~np.isnan(u)]
                if len(u) < LEAST_SAMPLES:
                    return None
                scale = float(robust.mad_sigma(u, centre=0.0))
            if 0 < scale < (MOST_LEFT * whole if best is None else best.scale):
                best = Follower(decay, gain, scale)
    return best


def correlation_of_neighbours(z: Floats) -> float:
    """Correlation of neighbouring scores, clipped at three sigmas; 0 where there are none."""
    both = ~np.isnan(z[1:]) & ~np.isnan(z[:-1])
    y = np.clip(z, -BEGIN_CLIP, BEGIN_CLIP)
    y = y - float(np.nanmean(y)) if both.any() else y
    a, b = y[1:][both], y[:-1][both]
    size = float(np.sqrt((a @ a) * (b @ b)))
    return float(a @ b) / size if size > 0 else 0.0


def novelty(z: Floats, correlation: float) -> Floats:
    """(n,) what is new in each score beside both of its neighbours: no edge of a level is.

    Prediction errors (z(t) - r z(t ∓ 1)) / √(1 - r²) of a first-order autoregression, forwards and backwards, whichever is nearer to 0.
    z : (n,) scores, NaN where missing; beside a missing one the score itself. correlation : r of neighbours; where it
    is not positive, all of a score is new. Bursts of noise are rough in these, however far the level wanders. Box and Jenkins (1970), chapters 3 and 5.
    """
    if correlation <= 0:
        return z
    before, after = _error(z, correlation), _error(z[::-1], correlation)[::-1]
    return np.asarray(np.where(np.abs(before) <= np.abs(after), before, after))


def _error(z: Floats, r: float) -> Floats:
    last = np.concatenate(([np.nan], z[:-1]))[: len(z)]
    return np.where(np.isnan(last), z, (z - r * last) / np.sqrt(1 - r * r))


class State(NamedTuple):
    """Where a filter stands after a sample. level : its state, NaN before the first; left_out : samples since the last one that
    it took up. size : of the leap since which scores are away, in scales of the innovations, with its side, 0 where they are not;
    shown : as much of it as led away from what is expected; since : the level that scores have there, before : the one they left,
    age : samples since the leap."""

    level: float = np.nan
    left_out: int = 0
    size: float = 0.0
    shown: float = 0.0
    since: float = 0.0
    before: float = 0.0
    age: int = 0


@dataclass(frozen=True)
class Leaps:
    """up, down : (n,) in scales of the innovations, as they are after so many samples left out; NaN where the filter begins, and
    where a sample is missing. away : (n,) as much of the leap since which scores are away as led from what is expected, with its side,
    0 where none did; ages : (n,) samples since. state : of the filter after the last sample: what goes on from there."""

    up: Floats
    down: Floats
    away: Floats
    ages: Ints
    state: State


def leaps(z: Floats, follower: Follower, state: State = State()) -> Leaps:
    """Leaps among scores. state : of the filter before the first of them; by default it begins anew.

    A sample further than 2.5 scales out is left out, as a missing one is: the state decays towards 0, and the scale of the next
    innovation grows as the filter's own variance does (Kalman 1960), so that what lasts is a leap for as long as the noise could not
    have wandered so far. After 96 samples left out the filter begins anew. A leap up counts only as far as the value then lies
    above the expectation: the return from a dip is no leap.

    After a leap scores are away, until one leaps back from where they were by half as much, or lies within a quarter of it of the
    level that they left, or 96 samples have passed. However far noise wanders, it does not undo what the leap showed.
    The way back is no leap: the filter goes on from the level that was left.
    """
    u, scale, away, ages, last = _track(z, follower.decay, follower.gain, follower.scale, *state)
    return Leaps(np.minimum(u, z) / scale, np.minimum(-u, -z) / scale, away, ages, State(*last))


# Scores are back once one moves back by half a leap, or lies within a quarter of it of the level that was left: noise wanders back
# that far in 96 samples more often than a leap ends by and by. Of 0, a quarter and a half all found as much on `bench quality`.
BACK, NEAR = 0.5, 0.25


@njit(cache=True, nogil=True)
def _track(z, decay, gain, scale, state, left_out, size, shown, since, before, age):  # type: ignore[no-untyped-def]
    """(n,) innovations, their scales, leaps since which scores are away and samples since; and the last state.

    In squares of the scale the predicted state has the variance p, gain where none is left out, and the observation 1 - gain; both
    follow from the gain being the steady one.
    """
    n = len(z)
    out, scales = np.full(n, np.nan), np.full(n, scale)
    away, ages = np.zeros(n), np.zeros(n, np.int64)
    p = _variance_after(left_out, decay, gain)
    for t in range(n):
        if size != 0:
            age, before = age + 1, before * decay
            leap, sign = abs(size) * scale, np.sign(size)
            if sign * (z[t] - since) < -BACK * leap or sign * (z[t] - before) < NEAR * leap:
                size, left_out, state = 0.0, age, before / decay
                p = _variance_after(left_out, decay, gain)
            elif age > MOST_LEFT_OUT:
                size = 0.0
            elif not np.isnan(z[t]):
                since += gain * min(max(z[t] - since, -CLIP * scale), CLIP * scale)
                away[t], ages[t] = shown, age
        if np.isnan(state) or left_out >= MOST_LEFT_OUT:
            left_out, p = 0, gain
            state = np.nan if np.isnan(z[t]) else min(max(z[t], -BEGIN_CLIP), BEGIN_CLIP)
            continue
        state *= decay
        scales[t] = scale * np.sqrt(p + 1 - gain)
        out[t] = z[t] - state
        if abs(out[t]) <= CLIP * scales[t]:
            state += p / (p + 1 - gain) * out[t]
            left_out, p = 0, gain
            continue
        if size == 0 and not np.isnan(z[t]):
            size, since, before, age = out[t] / scales[t], z[t], state, 0
            shown = np.sign(z[t]) * min(abs(size), abs(z[t]) / scales[t]) if out[t] * z[t] > 0 else 0.0
        left_out += 1
        p = _next_variance(p, decay, gain)
    return out, scales, away, ages, (state, left_out, size, shown, since, before, age)


@njit(cache=True, nogil=True)
def _next_variance(p, decay, gain):  # type: ignore[no-untyped-def]
    """Variance of the predicted state, in squares of the innovations' scale, a sample later that is left out."""
    return decay * decay * p + gain * (1 - decay * decay * (1 - gain))


@njit(cache=True, nogil=True)
def _variance_after(left_out, decay, gain):  # type: ignore[no-untyped-def]
    """The same after so many samples left out."""
    p = gain
    for _ in range(left_out):
        p = _next_variance(p, decay, gain)
    return p


def episodes(z: Floats, follower: Follower, longest: int) -> tuple[Floats, Ints]:
    """(n,) strength of the strongest episode whose way back is at each sample, in scales of the innovations, and where it began.

    An episode lies between two opposite leaps, 7 to `longest` samples apart. A leap counts as far as the medians of seven samples
    before and after differ as well. The strength is the smallest of both leaps, either alone being a leap, and of how far the mean
    between them, of scores clipped at ten sigmas, lies from the medians before the first and after the second: noise that
    soon forgets a leap is back before the second one. Knows what comes after each sample. z : (n,) scores, NaN where missing; 0 where
    there is none. O(n longest).
    """
    u, _ = _follow(z, follower.decay, follower.gain, follower.scale, np.nan)
    return _episodes(z / follower.scale, u / follower.scale, longest, LEVEL_CLIP / follower.scale)  # type: ignore[no-any-return]


@njit(cache=True, nogil=True)
def _median_of(z, a, b):  # type: ignore[no-untyped-def]
    """Median of what is seen of z[a:b]; NaN where under half of it is."""
    some = z[max(a, 0) : b]
    some = some[~np.isnan(some)]
    return np.median(some) if 2 * len(some) > b - a else np.nan


@njit(cache=True, nogil=True)
def _bounds(z, u):  # type: ignore[no-untyped-def]
    """(n,) leaps that may bound an episode, 0 elsewhere, and the medians before and after each."""
    n = len(z)
    leap, before, after = np.zeros(n), np.zeros(n), np.zeros(n)
    for t in range(n):
        if abs(u[t]) >= LEAST_LEAP:
            before[t] = _median_of(z, t - BESIDE_SAMPLES, t)
            after[t] = _median_of(z, t, t + BESIDE_SAMPLES)
            change = after[t] - before[t]
            if change * u[t] > 0:
                leap[t] = min(abs(u[t]), abs(change)) * np.sign(u[t])
    return leap, before, after


@njit(cache=True, nogil=True)
def _episodes(z, u, longest, most):  # type: ignore[no-untyped-def]
    """most : scales at which scores between leaps are clipped."""
    n = len(z)
    leap, before, after = _bounds(z, u)
    out, first = np.zeros(n), np.arange(n)
    seen = ~np.isnan(z)
    sums = np.concatenate(
        (np.zeros(1), np.cumsum(np.where(seen, np.minimum(np.maximum(z, -most), most), 0.0)))
    )
    counts = np.concatenate((np.zeros(1), np.cumsum(seen.astype(np.float64))))
    for b in range(BESIDE_SAMPLES, n):
        if leap[b] == 0:
            continue
        for a in range(b - BESIDE_SAMPLES, max(b - longest, 0) - 1, -1):
            size = min(abs(leap[a]), abs(leap[b]))
            if leap[a] * leap[b] >= 0 or size <= out[b]:
                continue
            inside = (sums[b] - sums[a]) / max(counts[b] - counts[a], 1.0)
            size = min(size, np.sign(leap[a]) * (inside - (before[a] + after[b]) / 2))
            if size > out[b]:
                out[b], first[b] = size, a
    return out, first


@njit(cache=True, nogil=True)
def _follow(z, decay, gain, scale, state):  # type: ignore[no-untyped-def]
    """(n,) innovations, NaN where missing, and the last state. It restarts after a gap, and its first sample has no innovation."""
    n = len(z)
    out = np.full(n, np.nan)
    for t in range(n):
        if np.isnan(z[t]):
            state = np.nan
        elif np.isnan(state):
            state = min(max(z[t], -BEGIN_CLIP), BEGIN_CLIP)
        else:
            state *= decay
            out[t] = z[t] - state
            state += gain * min(max(out[t], -CLIP * scale), CLIP * scale)
    return out, state
