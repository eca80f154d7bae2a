"""Logarithms of the incomplete beta and gamma functions, compiled."""

from math import lgamma

import numpy as np
from numba import njit


@njit(cache=True, nogil=True)
def log_beta_tail(x, a, b):  # type: ignore[no-untyped-def]
    """log I_x(a, b), the regularised incomplete beta function (DLMF 8.17.22, by Lentz's method)."""
    if x < (a + 1) / (a + b + 2):
        return _beta_fraction(x, a, b)
    other = _beta_fraction(1 - x, b, a)
    return np.log1p(-np.exp(other)) if other < -1e-12 else -np.inf


@njit(cache=True, nogil=True)
def _beta_fraction(x, a, b):  # type: ignore[no-untyped-def]
    if x <= 0.0:
        return -np.inf
    front = lgamma(a + b) - lgamma(a) - lgamma(b) + a * np.log(x) + b * np.log1p(-x) - np.log(a)
    tiny = 1e-300
    c, d = 1.0, 1.0 - (a + b) * x / (a + 1.0)
    d = 1.0 / (d if abs(d) > tiny else tiny)
    h = d
    for m in range(1, 20_000):
        even = m * (b - m) * x / ((a + 2 * m - 1) * (a + 2 * m))
        d = 1.0 + even * d
        c = 1.0 + even / c
        d = 1.0 / (d if abs(d) > tiny else tiny)
        c = c if abs(c) > tiny else tiny
        h *= d * c
        odd = -(a + m) * (a + b + m) * x / ((a + 2 * m) * (a + 2 * m + 1))
        d = 1.0 + odd * d
        c = 1.0 + odd / c
        d = 1.0 / (d if abs(d) > tiny else tiny)
        c = c if abs(c) > tiny else tiny
        h *= d * c
        if abs(d * c - 1.0) < 1e-13:
            break
    return front + np.log(h)


@njit(cache=True, nogil=True)
def log_gamma_tail(a, x, is_upper):  # type: ignore[no-untyped-def]
    """log of the regularised incomplete gamma functions P(a, x), or Q(a, x) where `is_upper` (DLMF 8.11.4 and 8.9.2)."""
    front = a * np.log(x) - x - lgamma(a)
    if x < a + 1:
        term = total = 1.0 / a
        n = a
        for _ in range(100_000):
            n += 1
            term *= x / n
            total += term
            if term < total * 1e-15:
                break
        low = front + np.log(total)
        if not is_upper:
            return low
        return np.log1p(-np.exp(low)) if low < -1e-12 else -np.inf
    tiny = 1e-300
    b = x + 1.0 - a
    c, d = 1.0 / tiny, 1.0 / b
    h = d
    for i in range(1, 100_000):
        step = -i * (i - a)
        b += 2.0
        d = step * d + b
        d = 1.0 / (d if abs(d) > tiny else tiny)
        c = b + step / c
        c = c if abs(c) > tiny else tiny
        h *= d * c
        if abs(d * c - 1.0) < 1e-13:
            break
    high = front + np.log(h)
    if is_upper:
        return high
    return np.log1p(-np.exp(high)) if high < -1e-12 else -np.inf
