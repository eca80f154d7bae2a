"""Leaps: one-step prediction errors of autocorrelated scores.

A spike of two sigmas is small beside noise that drifts by as much over days, and large beside the samples just before it. A
first-order autoregressive state observed with white noise is tracked by a robust filter of constant gain; a leap is an
innovation of that filter. A leap away and one back enclose an episode at another level, however far the level wanders within it.
"""

from dataclasses import dataclass

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
# Smaller leaps than this bound no episode: at 2 scales, a twentieth of all samples do.
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


@dataclass(frozen=True)
class Leaps:
    """up, down : (n,) in scales of the innovations, as they are after so many samples left out; NaN where the filter begins, and
    where a sample is missing. state, left_out : of the filter after the last sample: its state, NaN before the first, and the
    samples since the last one that it took up: what goes on from there."""

    up: Floats
    down: Floats
    state: float
    left_out: int


def leaps(z: Floats, follower: Follower, state: float = np.nan, left_out: int = 0) -> Leaps:
    """Leaps among scores. state, left_out : of the filter before the first of them; NaN begins anew.

    A sample further than 2.5 scales out is left out, as a missing one is: the state decays towards 0, and the scale of the next
    innovation grows as the filter's own variance does (Kalman 1960), so that what lasts is a leap for as long as the noise could not
    have wandered so far. After 96 samples left out the filter begins anew. A leap up counts only as far as the value then lies
    above the expectation: the return from a dip is no leap.
    """
    u, scale, state, left_out = _track(z, follower.decay, follower.gain, follower.scale, state, left_out)
    return Leaps(np.minimum(u, z) / scale, np.minimum(-u, -z) / scale, state, left_out)


@njit(cache=True, nogil=True)
def _track(z, decay, gain, scale, state, left_out):  # type: ignore[no-untyped-def]
    """(n,) innovations and their scales, the last state, and the samples left out before the next one.

    In squares of the scale the predicted state has the variance p, gain where none is left out, and the observation 1 - gain; both
    follow from the gain being the steady one.
    """
    n = len(z)
    out, scales = np.full(n, np.nan), np.full(n, scale)
    wander = gain * (1 - decay * decay * (1 - gain))
    p = gain
    for _ in range(left_out):
        p = decay * decay * p + wander
    for t in range(n):
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
        else:
            left_out += 1
            p = decay * decay * p + wander
    return out, scales, state, left_out


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
