"""Sums over sliding windows of scores: their clipped mean and roughness, and what is usual of both."""

import numpy as np
from numba import njit

from watchtide.core import robust
from watchtide.core.series import SECOND_NS, Floats, Ints

CLIP = 3.0
# A mean square under this is as good as none: its logarithm must not run away.
LEAST_SQUARE = 0.02
# Lengths go up by doubling to two days, or a twelfth of the history where that is shorter.
SHORTEST, LENGTHS_NS = 6, 2 * 86_400 * SECOND_NS
LEAST_OBSERVED = 0.7
# A window this many of its own robust scales out is trouble, not noise: it may not teach the noise.
TROUBLE = 5.0


def lengths_for(n: int, step_ns: int) -> Ints:
    """Window lengths in samples: 6, 12, 24 … up to two days (at least 24 samples) and a twelfth of n."""
    most = min(max(LENGTHS_NS // step_ns, 24), n // 12)
    out = []
    length = SHORTEST
    while length <= most:
        out.append(length)
        length *= 2
    return np.asarray(out, dtype=np.int64)


def statistics(
    z: Floats, lengths: Ints, since: int = 0, *, new: Floats | None = None
) -> tuple[Floats, Floats]:
    """(k, n - since) clipped mean and log of the clipped mean square of the window ending at each sample from `since` on; NaN where
    too few are seen. new : (n,) what squares are taken of in place of z, missing where it is."""
    z = np.ascontiguousarray(z)
    mean, square = _statistics(z, z if new is None else new, lengths, since)
    # All logarithms at once are half the price of as many single ones.
    return mean, np.log(np.maximum(square, LEAST_SQUARE, out=square), out=square)


@njit(cache=True, nogil=True)
def clipped_scores(z):  # type: ignore[no-untyped-def]
    """(n,) clipped scores, 0 where missing; and which are seen."""
    out, seen = np.zeros(len(z)), np.zeros(len(z), np.bool_)
    for i in range(len(z)):
        if not np.isnan(z[i]):
            out[i], seen[i] = min(max(z[i], -CLIP), CLIP), True
    return out, seen


@njit(cache=True, nogil=True)
def _statistics(z, new, lengths, since):  # type: ignore[no-untyped-def]
    n, k = len(z), len(lengths)
    mean, squares = np.full((k, n - since), np.nan), np.full((k, n - since), np.nan)
    clipped, is_seen = clipped_scores(z)
    sizes, _ = clipped_scores(new)
    seen = is_seen.astype(np.int64)
    # What was there before anything was judged is no gap: a window begins at the first score at the earliest.
    begin = 0
    while begin < n and not is_seen[begin]:
        begin += 1
    for li in range(k):
        length = lengths[li]
        # Sums of a sliding window begin anew at every sample that is a multiple of 4096, so that rounding
        # never depends on more of the past than that.
        start = max(begin + length - 1, since)
        for t in range(start, n):
            if (t - length + 1) % 4096 == 0 or t == start:
                total = square = 0.0
                count = 0
                for i in range(t - length + 1, t + 1):
                    total += clipped[i]
                    square += sizes[i] * sizes[i]
                    count += seen[i]
            else:
                total = total + clipped[t] - clipped[t - length]
                square = square + sizes[t] * sizes[t] - sizes[t - length] * sizes[t - length]
                count += seen[t] - seen[t - length]
            if count >= LEAST_OBSERVED * length:
                mean[li, t - since] = total / count
                squares[li, t - since] = square / count
    return mean, squares


@njit(cache=True, nogil=True)
def middles(rows, least, lengths):  # type: ignore[no-untyped-def]
    """(k, 2) median and robust scale of each row, by every eighth of its window: windows in between add nothing.

    least : (k,) scales below which chance alone lies: most windows of a stream of hardly anything are alike.
    """
    out = np.zeros((len(rows), 2))
    for i in range(len(rows)):
        some = rows[i][:: max(1, lengths[i] // 8)]
        some = some[~np.isnan(some)]
        if len(some):
            out[i, 0] = robust.middle(some)
            out[i, 1] = 1.4826 * robust.middle(np.abs(some - out[i, 0]))
        out[i, 1] = max(out[i, 1], least[i])
    return out


def least_scales(z: Floats, lengths: Ints) -> tuple[Floats, Floats]:
    """Scales of the mean and of the log mean square over windows of independent samples of this size, a little under.

    Where hardly anything ever happens (clipped root mean square under a half), two events in a window are chance too.
    """
    clipped, seen = clipped_scores(z)
    size = float(np.sqrt(clipped @ clipped / seen.sum())) if seen.any() else 1.0
    mean, rough = 0.6 * max(size, 1e-3) / np.sqrt(lengths), 1 / np.sqrt(lengths)
    if size < 0.5:
        mean = np.maximum(mean, 2 * CLIP / lengths / TROUBLE)
        two = np.log(2 * CLIP**2 / lengths + LEAST_SQUARE) - np.log(LEAST_SQUARE)
        rough = np.maximum(rough, two / TROUBLE)
    return mean, rough


def standardised(rows: Floats, at: Floats, drift: Floats | None = None) -> Floats:
    scale = at[:, 1:] if drift is None else np.sqrt(at[:, 1:] ** 2 + drift**2)
    return np.asarray((rows - at[:, :1]) / scale)


@njit(cache=True, nogil=True)
def trimmed(family, a, b, clipped, seen):  # type: ignore[no-untyped-def]
    """The part of a window that carries it: the greatest sum of what exceeds half of the window's own mean."""
    total = 0.0
    count = 0
    for i in range(a, b + 1):
        if seen[i]:
            total += clipped[i] if family == 0 else (-clipped[i] if family == 1 else clipped[i] * clipped[i])
            count += 1
    usual = 1.0 if family == 2 else 0.0
    cut = usual + 0.5 * (total / max(count, 1) - usual)
    best = run = 0.0
    left, best_left, best_right = a, a, a
    for i in range(a, b + 1):
        v = 0.0
        if seen[i]:
            v = clipped[i] if family == 0 else (-clipped[i] if family == 1 else clipped[i] * clipped[i])
            v -= cut
        if run <= 0.0:
            run, left = 0.0, i
        run += v
        if run > best:
            best, best_left, best_right = run, left, i
    return best_left, best_right
