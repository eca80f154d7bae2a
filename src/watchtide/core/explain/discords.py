"""Discords: the window least like any other, by exact nearest-neighbour distances of z-normalised windows."""

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
from numba import njit, prange

from watchtide.core.series import Floats, Ints

# A window whose spread is this small against the series' is flat: it has no shape to compare.
FLAT = 1e-9
# A covariance carried past windows this many times its own size has lost digits, and is summed anew.
FORGOTTEN = 1e3
# As if live, a window is told from this many robust sigmas over the distances before it.
LEAST_SIGMAS = 4.0


@dataclass(frozen=True)
class Discord:
    """First sample of the window, distance to its nearest neighbour, and where that one begins."""

    index: int
    distance: float
    neighbour: int


@dataclass(frozen=True)
class Raised(Discord):
    """A discord told as its last sample came: its distance in robust sigmas of those before it."""

    score: float


def nearest(y: Floats, window: int, *, known: int | None = None) -> tuple[Floats, Ints]:
    """(n - window + 1,) distance of each window to its nearest neighbour, and where that neighbour begins.

    y : (n,); a window with a missing sample has no distance (NaN) and is nobody's neighbour. Windows are shifted to mean
    0 and scaled to spread 1; neighbours overlap by less than half. A flat window is at distance 0 of another flat
    one and at √window of any other. known : neighbours are looked for in the past only, and the size of the series is that of its
    first `known` samples, so that no distance changes as samples come; None looks both ways.
    Raises ValueError for a window under 4 samples or over n / 2.
    Distances by recurrence along the diagonals, O(n²) time, O(n) memory, on all cores; Zhu et al. (2016), section III, in
    the centred form of Zimmerman et al. (2019), section 4, so that no level is squared. Summed anew behind a jump.
    """
    n = len(y)
    if not 4 <= window <= n // 2:
        raise ValueError(f"a discord's window must hold 4 samples to half of the {n}, got {window}")
    missing = np.isnan(y)
    seen = y[:known][~missing[:known]]
    if len(seen) == 0:
        return np.full(n - window + 1, np.nan), np.full(n - window + 1, -1)
    scale = float(np.std(seen)) or 1.0
    clean = np.where(missing, 0.0, (y - float(np.median(seen))) / scale)
    holes = np.cumsum(np.r_[0, missing])
    whole = holes[window:] == holes[:-window]
    mean, spread = _moments(clean, window)
    flat = spread < FLAT
    best, where = _diagonals(clean, mean, spread, flat, whole, window, known is not None)
    distance = np.sqrt(np.maximum(2.0 * window * (1.0 - best), 0.0))
    return np.where(whole & (where >= 0), distance, np.nan), where


@njit(cache=True, nogil=True)
def _moments(y, window):  # type: ignore[no-untyped-def]
    """Mean and standard deviation of each window, each from its own samples alone."""
    m = len(y) - window + 1
    mean, spread = np.empty(m), np.empty(m)
    for i in range(m):
        total = square = 0.0
        for j in range(i, i + window):
            total += y[j]
        mean[i] = total / window
        for j in range(i, i + window):
            square += (y[j] - mean[i]) ** 2
        spread[i] = np.sqrt(square / window)
    return mean, spread


@njit(cache=True, nogil=True, parallel=True)
def _diagonals(y, mean, spread, flat, whole, window, is_causal):  # type: ignore[no-untyped-def]
    """Largest correlation of each window with another, and with which: diagonals dealt out over threads.

    is_causal : of each pair only the later one learns of the other.
    """
    m = len(mean)
    apart = max(window // 2, 1)
    parts = 16
    best = np.full((parts, m), -2.0)
    where = np.full((parts, m), -1, np.int64)
    # What the sample that comes and the one that goes add to the covariance with any other window.
    change, apart_from_means = np.zeros(m), np.zeros(m)
    for i in range(1, m):
        change[i] = (y[i + window - 1] - y[i - 1]) / 2
        apart_from_means[i] = y[i + window - 1] - mean[i] + y[i - 1] - mean[i - 1]
    for part in prange(parts):
        own, at = best[part], where[part]
        for lag in range(apart + part, m, parts):
            covariance = 0.0
            # The largest covariance that the running one may have held since it was summed: its rounding is of that size.
            largest = np.inf
            for i in range(m - lag):
                j = i + lag
                size = spread[i] * spread[j]
                covariance += change[i] * apart_from_means[j] + change[j] * apart_from_means[i]
                largest = max(largest, size)
                if not (whole[i] and whole[j]):
                    continue
                if flat[i] or flat[j]:
                    r = 1.0 if flat[i] and flat[j] else 0.5
                else:
                    if i % 2048 == 0 or size * FORGOTTEN < largest:
                        covariance = 0.0
                        for k in range(window):
                            covariance += (y[i + k] - mean[i]) * (y[j + k] - mean[j])
                        largest = size
                    r = covariance / (window * size)
                if r > own[i] and not is_causal:
                    own[i], at[i] = r, j
                if r > own[j]:
                    own[j], at[j] = r, i
    for part in range(1, parts):
        for i in range(m):
            if best[part, i] > best[0, i] or (best[part, i] == best[0, i] and where[part, i] < where[0, i]):
                best[0, i], where[0, i] = best[part, i], where[part, i]
    return np.minimum(best[0], 1.0), where[0]


def strongest(y: Floats, window: int, most: int = 3) -> list[Discord]:
    """The windows least like any other, strongest first, none overlapping."""
    return pick(*nearest(y, window), window, most)


def pick(distance: Floats, where: Ints, window: int, most: int) -> list[Discord]:
    """The strongest of `nearest`'s distances, none overlapping."""
    left = distance.copy()
    found: list[Discord] = []
    while len(found) < most and not np.isnan(left).all():
        at = int(np.nanargmax(left))
        found.append(Discord(at, float(distance[at]), int(where[at])))
        left[max(0, at - window + 1) : at + window] = np.nan
    return found


def sigmas(distance: Floats) -> Floats:
    """(m,) how far each distance lies above the usual one, in robust sigmas; NaN stays."""
    middle, scale = _usual(distance)
    return (distance - middle) / max(scale, 1e-12)


def online(y: Floats, window: int, *, first: int, refit: int, reach: int, most: int = 3) -> Iterator[Raised]:
    """Windows told as if live, each when its last sample comes: far from all of their past, as windows before them were not.

    y : (n,), NaN for missing. first : samples before which nothing is told; refit : how often, in samples, the usual distance is read
    anew, off windows that ended in the `reach` samples before. A window is told at 4 robust sigmas over the usual distance,
    unless it overlaps one that was told, or `most` within `reach` lay further. Nothing depends on later samples.
    """
    n = len(y)
    if n < first + window or first < 2 * window:
        return
    distance, where = nearest(y, window, known=first)
    told: list[Raised] = []
    middle = scale = np.nan
    for end in range(first, n):
        if (end - first) % refit == 0:
            # Windows near the beginning had hardly any past to resemble.
            middle, scale = _usual(distance[max(first // 2, end - reach) : end - window + 1])
        i = end - window + 1
        if i < first or np.isnan(distance[i]) or np.isnan(middle):
            continue
        score = (distance[i] - middle) / max(scale, 1e-12)
        if score < LEAST_SIGMAS or (told and i < told[-1].index + window):
            continue
        if sum(d.index > end - reach and d.distance > distance[i] for d in told) >= most:
            continue
        told.append(Raised(i, float(distance[i]), int(where[i]), float(score)))
        yield told[-1]


def _usual(distance: Floats) -> tuple[float, float]:
    """Median and robust scale of distances; NaN where there is none."""
    seen = distance[~np.isnan(distance)]
    if len(seen) == 0:
        return np.nan, np.nan
    middle = float(np.median(seen))
    return middle, 1.4826 * float(np.median(np.abs(seen - middle)))
