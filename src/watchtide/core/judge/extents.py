"""Where what lies in a window began, and whether it goes on."""

import numpy as np
from numba import njit

from watchtide.core.expect.sliding import CLIP

# A likelihood ratio of 20 to 1: a ramp explains the scores so much better than a level does, or an end is so much likelier.
SURE = 3.0
# How far before a window a ramp may begin, in lengths of what the window is trimmed to: a window holds the upper half of a ramp, and
# four times its length is as much as the next longer one and its half.
REACH = 4


@njit(cache=True, nogil=True)
def onset(a, b, sign, z):  # type: ignore[no-untyped-def]
    """Where what lies in z[a : b + 1] on one side began: before a where a ramp that ends at b explains the scores better.

    sign : 1 above, -1 below; z : (n,) scores, clipped here at half as much again as the window's middle. Of all ramps
    g(t) = t - s + 1 over [s, b] the one whose matched filter (Σ z g)² / Σ g² is largest, if it exceeds that of a level over [a, b] by
    twice SURE: a generalised likelihood ratio of unit variance. Else a.
    """
    some = np.abs(z[a : b + 1])
    some = some[~np.isnan(some)]
    most = max(CLIP, 1.5 * np.median(some))
    total = moment = count = ago = square = 0.0
    best, found = np.inf, a
    for s in range(b, max(a - REACH * (b - a + 1), 0) - 1, -1):
        if not np.isnan(z[s]):
            v = min(max(sign * z[s], -most), most)
            total += v
            moment += v * (b - s)
            count += 1
            ago += b - s
            square += (b - s) ** 2
        if s == a:
            best = total * total / max(count, 1.0) + 2 * SURE
        if s < a:
            # With w = b - s + 1 the ramp is w - (b - t).
            w = b - s + 1.0
            size = w * w * count - 2 * w * ago + square
            along = w * total - moment
            if along > 0 and size > 0 and along * along / size > best:
                best, found = along * along / size, s
    return found


@njit(cache=True, nogil=True)
def goes_on(a, b, t, sign, clipped):  # type: ignore[no-untyped-def]
    """Whether a level that lies in [a, b] may still be there at t: no likelihood ratio of 20 to 1, of unit variance, says that it is over.

    sign : 1 above, -1 below; clipped : (n,) scores within three sigmas, 0 where missing: after a while without any it is over too.
    """
    total = 0.0
    for i in range(a, b + 1):
        total += sign * clipped[i]
    mean = total / (b - a + 1)
    over = 0.0
    for i in range(b + 1, t + 1):
        over += mean * (mean / 2 - sign * clipped[i])
    return over < SURE
