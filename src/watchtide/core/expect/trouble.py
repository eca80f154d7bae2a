"""Samples that look like trouble over several samples, and so may not teach what is usual."""

import numpy as np
from numba import njit

from watchtide.core.expect.sliding import (
    TROUBLE,
    clipped_scores,
    least_scales,
    lengths_for,
    middles,
    statistics,
    trimmed,
)
from watchtide.core.series import Bools, Floats

# A run of equal values this surprising, in nats, is a stuck one: chance makes one in a million samples.
STUCK = 14.0


def trouble(z: Floats, step_ns: int, surprise: Floats | None = None) -> Bools:
    """(n,) samples that look like trouble over several samples, and so may not teach what is usual.

    z : (n,) signed scores, NaN where none. Windows of 6 samples and more whose clipped mean or roughness lies over 5 robust
    scales from the middle, trimmed to what carries them; twice over, because what is found hides more of its kind.
    Lone samples are for the tail to believe or not. surprise : (n,) of the run of equal values ending at each sample.
    """
    out = np.zeros(len(z), np.bool_)
    if surprise is not None and surprise.max(initial=0.0) >= STUCK:
        for end in np.flatnonzero((surprise >= STUCK) & (np.r_[surprise[1:], 0.0] <= 0)):
            begin = end
            while begin > 0 and surprise[begin] > 0:
                begin -= 1
            out[begin : end + 1] = True
    lengths = lengths_for(int(np.sum(~np.isnan(z))), step_ns)
    for _ in range(2 if len(lengths) else 0):
        calm = np.where(out, np.nan, z)
        mean, rough = statistics(calm, lengths)
        of_mean, of_rough = least_scales(calm, lengths)
        at = middles(mean, of_mean, lengths), middles(rough, of_rough, lengths)
        found = _loud(mean, rough, *at, lengths, *clipped_scores(calm))
        if not found.any():
            break
        out |= found
    return out


@njit(cache=True, nogil=True)
def _loud(mean, rough, mean_at, rough_at, lengths, clipped, seen):  # type: ignore[no-untyped-def]
    """Samples that carry a window far above, far below, or far rougher than the rest."""
    n = len(clipped)
    out = np.zeros(n, np.bool_)
    for family in range(3):
        rows, at = (rough, rough_at) if family == 2 else (mean, mean_at)
        sign = -1.0 if family == 1 else 1.0
        for li in range(len(lengths)):
            row, middle, scale = rows[li], at[li, 0], at[li, 1]
            # Nearly none is loud: the rest need one comparison alone.
            least = 0.999 * TROUBLE * scale
            for t in range(n):
                if not sign * (row[t] - middle) >= least:
                    continue
                now = sign * (row[t] - middle) / scale
                before = sign * (row[t - 1] - middle) / scale if t > 0 else -np.inf
                if now >= TROUBLE and not before > now:
                    after = sign * (row[t + 1] - middle) / scale if t < n - 1 else 0.0
                    # The head of each run of loud windows stands for it.
                    if not after >= now:
                        a, b = trimmed(family, t - lengths[li] + 1, t, clipped, seen)
                        out[a : b + 1] = True
    return out
