"""When a forecast first reaches a limit: chances over drawn futures, not of one sample at a time."""

from dataclasses import dataclass

import numpy as np
from numba import njit

from watchtide.core.series import Floats, Ints

DRAWS = 2000


@dataclass(frozen=True)
class Passage:
    """First passage of a limit over drawn futures.

    first : (draws,) index of the first sample at or past the limit, the number of samples where none is; by : (h,) share of
    draws that have reached it by each sample.
    """

    first: Ints
    by: Floats

    def at(self, chance: float) -> int | None:
        """Index of the first sample by which the limit is reached with at least this chance; None if never so sure."""
        found = np.flatnonzero(self.by >= chance)
        return int(found[0]) if len(found) else None


def first_passage(
    expected: Floats, spread: Floats, growth: Floats, noise: Floats, limit: float, *, is_above: bool,
    block: int, draws: int = DRAWS, seed: int = 0,
) -> Passage:  # fmt: skip
    """Futures drawn around a forecast, and when each first reaches a limit.

    expected, spread : (h,) of the forecast, the spread without its growth; growth : (h,) how many times wider errors are at each
    step, at least 1. noise : (m,) the stream's own held-out scores in the order of time, NaN for missing; Gaussian where fewer than
    two blocks are seen. block : samples that are drawn together, which keeps their autocorrelation.
    A future is expected + spread (√(growth² - 1) g + u): one Gaussian g a draw, since what grows with the horizon is a drift
    that stays, and blocks of scores u, which come and go. Whole blocks as in Künsch (1989). O(draws · h) time at most.
    """
    rng = np.random.default_rng(seed)
    h = len(expected)
    seen = noise[~np.isnan(noise)]
    block = int(np.clip(block, 1, max(h, 1)))
    if len(seen) < 2 * block:
        seen, block = rng.standard_normal(max(20_000, 2 * block)), 1
    drift = np.sqrt(np.maximum(growth**2 - 1.0, 0.0))
    levels = rng.standard_normal(draws)
    starts = rng.integers(0, len(seen), size=(draws, -(-h // block)), dtype=np.int32)
    first = _walk(expected, spread, drift, seen, levels, starts, block, float(limit), is_above)
    by = np.cumsum(np.bincount(first, minlength=h + 1)[:h]) / draws
    return Passage(first, np.asarray(by))


@njit(cache=True, nogil=True)
def _walk(expected, spread, drift, noise, levels, starts, block, limit, is_above):  # type: ignore[no-untyped-def]
    """(draws,) first index past the limit; no future is kept."""
    h, m = len(expected), len(noise)
    first = np.full(len(levels), h, np.int64)
    for d in range(len(levels)):
        for t in range(h):
            # Blocks run on around the end, so that every score is drawn as often.
            u = noise[(starts[d, t // block] + t % block) % m]
            value = expected[t] + spread[t] * (drift[t] * levels[d] + u)
            if (value >= limit) if is_above else (value <= limit):
                first[d] = t
                break
    return first
