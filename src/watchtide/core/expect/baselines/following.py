"""The cycle expected next, where each was seen with its own chance: exponential smoothing over cycles."""

import numpy as np

from watchtide.core.series import Floats

# By which share of its error what is carried follows each cycle; the one that would have foretold the next cycles best is taken.
SHARES = (1.0, 0.5, 0.25, 0.125, 0.06)
LEAST_CYCLES = 6


def followed(cycles: Floats, last: Floats) -> Floats:
    """(p,) the cycle expected next.

    cycles : (k, p) what was seen in each, oldest first, NaN where missing; last : (p,) what to expect where too little was seen.
    The last cycle alone errs by its own chance, for as long as it is carried. In a place seen in six cycles the share followed is the one of `SHARES` with the least
    sum of absolute errors one cycle ahead. At first the mean of all so far is taken, so that the oldest counts no more than the others.
    Brown (1959); Muth (1960) for its being the best forecast of what walks, at any distance.
    """
    seen = ~np.isnan(cycles)
    filled = np.where(seen, cycles, 0.0)
    # How many were seen in each place up to each cycle: 1 over it is the least share of the next.
    known = np.cumsum(seen, axis=0)
    least, best = np.inf, last
    for share in SHARES:
        gains = np.where(seen, np.maximum(share, 1 / np.maximum(known, 1)), 0.0)
        level, error = np.zeros(cycles.shape[1]), 0.0
        for i in range(len(cycles)):
            miss = filled[i] - level
            if i > 1:
                error += float(np.abs(miss[seen[i] & (known[i] > 1)]).sum())
            level = level + gains[i] * miss
        if error < least:
            least, best = error, level
    return np.where(known[-1] >= LEAST_CYCLES, best, last)
