"""Loess on an even grid: a local fit at every point, by convolution where the grid allows it.

On an even grid the interior local fits share one kernel, so each is a ratio of a few convolutions
of weights and weighted values. Towards the ends the window stands still and its kernel moves: the
kernel is a polynomial on either side of the point, so its moments are carried from point to point.
Only windows too empty for that are solved one by one. The numbers are those of the direct fits.
"""

from functools import lru_cache

import numpy as np
from numba import njit
from scipy import fft

from watchtide.core.series import Floats

# Below this window the direct fits are as fast as the transforms.
CONVOLVE_FROM = 48
# A convolved fit whose weights or determinant are this small against the kernel's is solved anew.
TOO_THIN = 1e-3
# Transformed kernels of longer series are not kept: each takes 24 bytes a sample.
KEPT_SIZE = 131_072


def loess(y: Floats, weights: Floats, window: int, degree: int) -> Floats:
    """Local regression evaluated at every grid point.

    y : (n,) values; only those with positive weight are read, the rest may be NaN.
    weights : (n,) nonnegative prior weights; 0 means missing.
    window : samples in a window; odd. Near the ends it is the `window` nearest, not cut.
    degree : 0 (local mean) or 1 (local line).
    A window with fewer than degree + 1 weighted samples widens until it has them. NaN only where
    no sample has weight at all. Cleveland et al. (1990), section 2.1; O(n log n).
    """
    n = len(y)
    clean = np.where(weights > 0, y, 0.0)
    half = window // 2
    if window < CONVOLVE_FROM or n <= 2 * window:
        return np.asarray(fit_points(clean, weights, window, degree, 0, n), dtype=np.float64)
    out = np.empty(n)
    out[:half] = _fit_first(clean, weights, window, degree)
    # A copy: kernels are compiled for arrays that lie in a row.
    out[n - half :] = _fit_first(clean[::-1].copy(), weights[::-1].copy(), window, degree)[::-1]
    out[half : n - half], thin = _fit_interior(clean, weights, half, degree)
    for i in np.flatnonzero(thin) + half:
        out[i] = fit_point(clean, weights, window, degree, i)
    return out


def _fit_interior(y: Floats, w: Floats, half: int, degree: int) -> tuple[Floats, np.ndarray]:
    """Fits at half … n - half - 1 by convolution, and a mask of those that need a direct fit."""
    n = len(y)
    size = fft.next_fast_len(n, real=True)
    full, kernels = _kernels(half, size) if size <= KEPT_SIZE else _kernels.__wrapped__(half, size)

    def moments(transformed: Floats, *powers: int) -> list[Floats]:
        return [fft.irfft(transformed * kernels[k], size)[2 * half : n] for k in powers]

    of_wy = fft.rfft(w * y, size)
    if np.all(w == 1.0):
        # A symmetric window of equal weights: the line's slope does not move its centre.
        return moments(of_wy, 0)[0] / full, np.zeros(n - 2 * half, np.bool_)
    of_w = fft.rfft(w, size)
    seen = np.cumsum(np.r_[0, w > 0])
    # The kernel is 0 at its very ends: they do not count as samples of the window.
    inside = seen[2 * half : len(y)] - seen[1 : len(y) - 2 * half + 1]
    (s0,), (t0,) = moments(of_w, 0), moments(of_wy, 0)
    thin = (s0 < TOO_THIN * full) | (inside < degree + 1)
    if degree == 0:
        return t0 / np.where(thin, 1.0, s0), thin
    (s1, s2), (t1,) = moments(of_w, 1, 2), moments(of_wy, 1)
    determinant = s0 * s2 - s1 * s1
    thin |= determinant < 1e-3 * s0 * s0
    return (s2 * t0 - s1 * t1) / np.where(thin, 1.0, determinant), thin


# Powers of a tricube kernel, |u|³ by |u|³, times up to the square that a local line needs.
POWERS = 12


@njit(cache=True, nogil=True)
def _fit_first(y, w, window, degree):  # type: ignore[no-untyped-def]
    """Fits at 0 … window // 2 - 1, all over the samples 0 … window - 1.

    With u = (j - x) / h the kernel is 1 - 3|u|³ + 3|u|⁶ - |u|⁹. Sums of w |j - x|^m and w y |j - x|^m, m < 12, on
    either side of x follow from those at its neighbour by the binomial theorem, walking away from the samples: all
    terms are then of one sign and no digit is lost. O(window) instead of O(window²).
    """
    half = window // 2
    step = 1.0 / window
    raise_by = np.zeros((POWERS, POWERS))
    for m in range(POWERS):
        raise_by[m, 0] = step**m
        for k in range(1, m + 1):
            raise_by[m, k] = raise_by[m, k - 1] / step * (m - k + 1) / k
    # Index 0: weights, 1: weighted values. Right sums begin at the last point, left sums at the first.
    right = np.zeros((half, 2, POWERS))
    sums = np.zeros((2, POWERS))
    for j in range(half, window):
        distance = (j - (half - 1)) * step
        power = w[j]
        for m in range(POWERS):
            sums[0, m] += power
            sums[1, m] += power * y[j]
            power *= distance
    for x in range(half - 1, -1, -1):
        right[x] = sums
        sums[0, 0] += w[x]
        sums[1, 0] += w[x] * y[x]
        _move_on(sums, raise_by)
    sums[:] = 0.0
    out = np.empty(half)
    full = 0.5 * window
    for x in range(half):
        if x > 0:
            _move_on(sums, raise_by)
        sums[0, 0] += w[x]
        sums[1, 0] += w[x] * y[x]
        scale = 1.0 / ((window - 1 - x) * step)
        s0 = s1 = s2 = t0 = t1 = 0.0
        shrink = 1.0
        for k in range(4):
            factor = (1.0, -3.0, 3.0, -1.0)[k] * shrink
            m = 3 * k
            s0 += factor * (right[x, 0, m] + sums[0, m])
            t0 += factor * (right[x, 1, m] + sums[1, m])
            s1 += factor * scale * (right[x, 0, m + 1] - sums[0, m + 1])
            t1 += factor * scale * (right[x, 1, m + 1] - sums[1, m + 1])
            s2 += factor * scale * scale * (right[x, 0, m + 2] + sums[0, m + 2])
            shrink *= scale * scale * scale
        determinant = s0 * s2 - s1 * s1
        if s0 < TOO_THIN * full or determinant < 1e-3 * s0 * s0:
            out[x] = fit_point(y, w, window, degree, x)
        elif degree == 0:
            out[x] = t0 / s0
        else:
            out[x] = (s2 * t0 - s1 * t1) / determinant
    return out


@njit(cache=True, nogil=True)
def _move_on(sums, raise_by):  # type: ignore[no-untyped-def]
    """Sums of powers of distances once every distance has grown by one step; in place, the highest power first."""
    for m in range(POWERS - 1, 0, -1):
        for row in range(2):
            total = 0.0
            for k in range(m + 1):
                total += raise_by[m, k] * sums[row, k]
            sums[row, m] = total


@lru_cache(maxsize=8)
def _kernels(half: int, size: int) -> tuple[float, np.ndarray]:
    """Sum of a window's tricube weights, and the transforms of the weights times the place to the powers 0, 1, 2."""
    u = np.arange(-half, half + 1) / half
    kernel = (1 - np.abs(u) ** 3) ** 3
    # Reversed: a convolution turns the kernel round, a local fit does not.
    return float(kernel.sum()), fft.rfft([(kernel * u**k)[::-1] for k in range(3)], size)


@njit(cache=True, nogil=True, fastmath={"reassoc", "contract", "nsz", "nnan"})
def _moments(y, w, x, h, left, right):  # type: ignore[no-untyped-def]
    """Weighted moments of a window around x. No branch, so that the loop runs on vector registers."""
    s0 = s1 = s2 = t0 = t1 = 0.0
    scale = 1.0 / h
    offset = (left - x) * scale
    for i in range(right - left + 1):
        u = offset + i * scale
        k = 1.0 - abs(u * u * u)
        k = k if k > 0.0 else 0.0
        k = k * k * k * w[left + i]
        ku = k * u
        ky = k * y[left + i]
        s0 += k
        s1 += ku
        s2 += ku * u
        t0 += ky
        t1 += ky * u
    return s0, s1, s2, t0, t1


@njit(cache=True, nogil=True)
def fit_points(y, w, window, degree, first, stop):  # type: ignore[no-untyped-def]
    """Local fits at first … stop - 1, each solved by itself."""
    out = np.empty(stop - first)
    for x in range(first, stop):
        out[x - first] = fit_point(y, w, window, degree, x)
    return out


@njit(cache=True, nogil=True)
def fit_point(y, w, window, degree, x):  # type: ignore[no-untyped-def]
    """One local fit at grid position x, which may lie one step outside the samples."""
    n = len(y)
    # Distance of the last sample that a fit needs: the window must reach beyond it.
    need = _distance_of_needed(w, x, degree + 1)
    reach = window
    while True:
        left = max(0, min(x - reach // 2, n - reach))
        right = min(n - 1, left + reach - 1)
        h = float(max(x - left, right - x))
        if reach > n:
            h += (reach - n) // 2
        if h == 0.0:
            h = 1.0
        if need < h or reach > 3 * n + 2:
            break
        reach += 2
    if right - left > 40:
        s0, s1, s2, t0, t1 = _moments(y, w, x, h, left, right)
    else:
        # The few samples of a season's window: a call would cost more than the loop.
        s0 = s1 = s2 = t0 = t1 = 0.0
        for j in range(left, right + 1):
            u = (j - x) / h
            k = 1.0 - abs(u * u * u)
            if k <= 0.0 or w[j] <= 0.0:
                continue
            k = k * k * k * w[j]
            s0 += k
            s1 += k * u
            s2 += k * u * u
            t0 += k * y[j]
            t1 += k * u * y[j]
    if s0 <= 0.0:
        return np.nan
    if degree == 1:
        determinant = s0 * s2 - s1 * s1
        if determinant > 1e-6 * s0 * s0:
            return (s2 * t0 - s1 * t1) / determinant
    return t0 / s0


@njit(cache=True, nogil=True)
def _distance_of_needed(w, x, count):  # type: ignore[no-untyped-def]
    """Distance from x to the count-th nearest sample with weight; beyond all of them if there are fewer."""
    n = len(w)
    found = 0
    for d in range(n + 2):
        if 0 <= x - d < n and w[x - d] > 0.0:
            found += 1
        if d > 0 and 0 <= x + d < n and w[x + d] > 0.0:
            found += 1
        if found >= count:
            return d
    return 4 * n + 4


@njit(cache=True, nogil=True)
def smooth_cycles(y, w, period, window, degree):  # type: ignore[no-untyped-def]
    """Loess of every cycle-subseries, each carried one cycle past both ends.

    y, w : (n,). Returns (n + 2 * period,): entry i belongs to sample i - period. A slot that was
    never observed is NaN.
    """
    n = len(y)
    out = np.empty(n + 2 * period)
    for slot in range(period):
        m = (n - slot + period - 1) // period
        sub = np.empty(m)
        sub_w = np.empty(m)
        for i in range(m):
            sub[i] = y[slot + i * period]
            sub_w[i] = w[slot + i * period]
        for i in range(-1, m + 1):
            at = slot + (i + 1) * period
            if at < n + 2 * period:
                out[at] = fit_point(sub, sub_w, window, degree, i)
    return out
