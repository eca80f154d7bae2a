"""Discords: the window least like any other, by exact nearest-neighbour distances of z-normalised windows."""

from dataclasses import dataclass

import numpy as np
from numba import njit, prange

from watchtide.core.series import Floats, Ints

# A window whose spread is this small against the series' is flat: it has no shape to compare.
FLAT = 1e-9


@dataclass(frozen=True)
class Discord:
    """First sample of the window, distance to its nearest neighbour, and where that one begins."""

    index: int
    distance: float
    neighbour: int


def nearest(y: Floats, window: int) -> tuple[Floats, Ints]:
    """(n - window + 1,) distance of each window to its nearest neighbour, and where that neighbour begins.

    y : (n,); a window with a missing sample has no distance (NaN) and is nobody's neighbour. Windows are shifted to mean
    0 and scaled to spread 1; neighbours overlap by less than half. A flat window is at distance 0 of another flat
    one and at √window of any other. Raises ValueError for a window under 4 samples or over n / 2.
    Distances by recurrence along the diagonals, O(n²) time, O(n) memory, on all cores; Zhu et al. (2016), section III.
    """
    n = len(y)
    if not 4 <= window <= n // 2:
        raise ValueError(f"a discord's window must hold 4 samples to half of the {n}, got {window}")
    missing = np.isnan(y)
    seen = y[~missing]
    if len(seen) == 0:
        return np.full(n - window + 1, np.nan), np.full(n - window + 1, -1)
    scale = float(np.std(seen)) or 1.0
    clean = np.where(missing, 0.0, (y - float(np.median(seen))) / scale)
    holes = np.cumsum(np.r_[0, missing])
    whole = holes[window:] == holes[:-window]
    rows = np.lib.stride_tricks.sliding_window_view(clean, window)
    mean, spread = rows.mean(axis=1), rows.std(axis=1)
    flat = spread < FLAT
    best, where = _diagonals(clean, mean, spread, flat, whole, window)
    distance = np.sqrt(np.maximum(2.0 * window * (1.0 - best), 0.0))
    return np.where(whole & (where >= 0), distance, np.nan), where


@njit(cache=True, nogil=True, parallel=True)
def _diagonals(y, mean, spread, flat, whole, window):  # type: ignore[no-untyped-def]
    """Largest correlation of each window with another, and with which: diagonals dealt out over threads."""
    m = len(mean)
    apart = max(window // 2, 1)
    parts = 16
    best = np.full((parts, m), -2.0)
    where = np.full((parts, m), -1, np.int64)
    for part in prange(parts):
        own, at = best[part], where[part]
        for lag in range(apart + part, m, parts):
            product = 0.0
            for i in range(m - lag):
                j = i + lag
                if i % 2048 == 0:
                    # Anew from time to time, so that the recurrence carries no rounding far.
                    product = 0.0
                    for k in range(window):
                        product += y[i + k] * y[j + k]
                else:
                    product += y[i + window - 1] * y[j + window - 1] - y[i - 1] * y[j - 1]
                if not (whole[i] and whole[j]):
                    continue
                if flat[i] or flat[j]:
                    r = 1.0 if flat[i] and flat[j] else 0.5
                else:
                    r = (product / window - mean[i] * mean[j]) / (spread[i] * spread[j])
                if r > own[i]:
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
    seen = distance[~np.isnan(distance)]
    if len(seen) == 0:
        return distance
    middle = float(np.median(seen))
    scale = 1.4826 * float(np.median(np.abs(seen - middle)))
    return (distance - middle) / max(scale, 1e-12)
