"""Seasons as matched filters: a cycle whose season is missing, larger than usual, or late, which no level betrays."""

from dataclasses import dataclass

import numpy as np
from numba import njit

from watchtide.core.expect.sliding import LEAST_OBSERVED, clipped_scores
from watchtide.core.judge.extents import SURE
from watchtide.core.series import Floats, Ints

# A cycle of fewer samples has no shape.
LEAST_CYCLE = 8
# Length of a season's filter over one cycle, in sigmas: that many a missing one measures. A weaker season is lost in the noise, and
# its filter only answers to what wanders.
LEAST_SIZE = 5.0
# Places within a cycle at which a level may begin and end.
CUTS = 12


@dataclass(frozen=True)
class Shapes:
    """filters : (k, n) of each season, in spreads; cycles : (k,) samples of a cycle."""

    filters: Floats
    cycles: tuple[int, ...]


def shapes_of(seasons: Floats, spread: Floats, cycles: tuple[int, ...]) -> Shapes | None:
    """The seasons of a stream as filters, None where none is strong enough. seasons : (k, n); spread : (n,); cycles : (k,) samples."""
    if len(seasons) != len(cycles) or not np.isfinite(spread).any():
        return None
    with np.errstate(invalid="ignore", divide="ignore"):
        own = np.where(np.isfinite(seasons) & (spread > 0), seasons / spread, np.nan)
    kept = [
        k
        for k, cycle in enumerate(cycles)
        if LEAST_CYCLE <= cycle <= len(spread) and cycle * np.nanvar(own[k]) >= LEAST_SIZE**2
    ]
    return Shapes(own[kept], tuple(cycles[k] for k in kept)) if kept else None


def strongest(z: Floats, shapes: Shapes, longest: int, *, is_sure: bool = True) -> tuple[Floats, Ints]:
    """(n,) how far the scores of the cycle that ends at each sample go along a season's shape and its derivative, in sigmas of white
    noise, of all seasons the most; and where that cycle begins. NaN where too few of its samples are seen.

    z : (n,) scores, clipped as those of windows are; longest : samples of a cycle that is looked at. Both filters are taken about
    their means over the cycle, so that another level adds nothing, and as orthogonal, which they are over a whole cycle: the squared length of the
    projection is twice the log-likelihood ratio of a shape whose size and small shift are unknown (Turin 1960). A level that begins within the cycle goes along
    a season too. is_sure : 0 where the shape is not 20 times likelier than the likeliest level between any two of twelve cuts of the cycle, which explains
    (Σ z)² / m over its m samples.
    """
    n = len(z)
    best, first = np.full(n, np.nan), np.arange(n)
    clipped, seen = clipped_scores(z)
    for own, cycle in zip(shapes.filters, shapes.cycles, strict=True):
        if cycle > min(longest, n):
            continue
        count = _sums(seen.astype(np.float64), cycle)
        mean = _sums(clipped, cycle) / np.maximum(count, 1.0)
        total = np.zeros(len(count))
        for f in (own, np.gradient(own)):
            f = np.where(seen & ~np.isnan(f), f, 0.0)
            whole = _sums(f, cycle)
            size = _sums(f * f, cycle) - whole * whole / np.maximum(count, 1.0)
            along = _sums(clipped * f, cycle) - mean * whole
            total += np.where(size > 1e-9, along * along / np.maximum(size, 1e-9), 0.0)
        if is_sure:
            total = np.where(total >= _levels(clipped, seen, cycle) + 2 * SURE, total, 0.0)
        strength = np.where(count >= LEAST_OBSERVED * cycle, np.sqrt(total), np.nan)
        at = np.arange(cycle - 1, n)
        is_more = ~np.isnan(strength) & ~(strength <= best[at])
        best[at[is_more]], first[at[is_more]] = strength[is_more], at[is_more] - cycle + 1
    return best, first


@njit(cache=True, nogil=True)
def _levels(clipped, seen, cycle):  # type: ignore[no-untyped-def]
    """(n - cycle + 1,) twice the log-likelihood ratio of the likeliest level in a part of each cycle, of unit variance."""
    n = len(clipped)
    total, count = np.zeros(n + 1), np.zeros(n + 1)
    for i in range(n):
        total[i + 1], count[i + 1] = total[i] + clipped[i], count[i] + seen[i]
    cuts = np.array([k * cycle // CUTS for k in range(CUTS + 1)])
    out = np.zeros(n - cycle + 1)
    for a in range(n - cycle + 1):
        for i in range(CUTS):
            for j in range(i + 1, CUTS + 1):
                m = count[a + cuts[j]] - count[a + cuts[i]]
                if m > 0:
                    own = total[a + cuts[j]] - total[a + cuts[i]]
                    out[a] = max(out[a], own * own / m)
    return out


def _sums(x: Floats, length: int) -> Floats:
    total = np.cumsum(np.r_[0.0, x])
    return np.asarray(total[length:] - total[:-length])
