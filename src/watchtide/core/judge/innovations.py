"""Leaps: one-step prediction errors of autocorrelated scores.

A spike of two sigmas is small beside noise that drifts by as much over days, and large beside the samples just before it. A
first-order autoregressive state observed with white noise is tracked by a robust filter of constant gain; a leap is an
innovation of that filter.
"""

from dataclasses import dataclass

import numpy as np
from numba import njit

from watchtide.core import robust
from watchtide.core.series import Floats

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
    if whole <= 0 or _neighbours(z) < LEAST_CORRELATION:
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


def _neighbours(z: Floats) -> float:
    """Correlation of neighbouring scores, clipped at three sigmas."""
    both = ~np.isnan(z[1:]) & ~np.isnan(z[:-1])
    y = np.clip(z, -BEGIN_CLIP, BEGIN_CLIP)
    y = y - float(np.nanmean(y))
    a, b = y[1:][both], y[:-1][both]
    size = float(np.sqrt((a @ a) * (b @ b)))
    return float(a @ b) / size if size > 0 else 0.0


@dataclass(frozen=True)
class Leaps:
    """up, down : (n,) in scales of the innovations; NaN at the first sample and after a gap. state : of the filter after the last
    sample, NaN where that is missing: what goes on from there."""

    up: Floats
    down: Floats
    state: float


def leaps(z: Floats, follower: Follower, state: float = np.nan) -> Leaps:
    """Leaps among scores. state : of the filter before the first of them; NaN begins anew.

    A leap up counts only as far as the value then lies above the expectation: the return from a dip is no leap.
    """
    u, state = _follow(z, follower.decay, follower.gain, follower.scale, state)
    return Leaps(np.minimum(u, z) / follower.scale, np.minimum(-u, -z) / follower.scale, state)


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
