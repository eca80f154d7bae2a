"""Baseline by the same slot: what this weekday and time did in the other seasons."""

from collections.abc import Sequence
from itertools import pairwise

import numpy as np

from watchtide.core.baselines import Fitted
from watchtide.core.series import Floats, Ints


def fit(y: Floats, slots: Ints, periods: Sequence[int], *, centre: str = "median") -> Fitted:
    """Median (or mean) of each slot of the longest season over the training part.

    y : (m,) on the local grid, NaN where missing or left out; slots : (m,) slot of each position in
    the longest period. A slot without samples takes a straight line between its neighbours.
    Raises ValueError without a season: there is no slot to look at.
    """
    if not len(periods):
        raise ValueError("a same-slot baseline needs a season; state one, for example seasons: [24h]")
    if centre not in ("median", "mean"):
        raise ValueError(f"centre must be median or mean, got {centre!r}")
    period = max(periods)
    seen = ~np.isnan(y)
    order = np.argsort(slots[seen], kind="stable")
    sorted_slots, sorted_values = slots[seen][order], y[seen][order]
    edges = np.searchsorted(sorted_slots, np.arange(period + 1))
    middle = np.median if centre == "median" else np.mean
    level = np.array([middle(sorted_values[a:b]) if b > a else np.nan for a, b in pairwise(edges)])
    gaps = np.isnan(level)
    if gaps.all():
        level[:] = np.nan
    elif gaps.any():
        at = np.arange(period)
        level[gaps] = np.interp(at[gaps], at[~gaps], level[~gaps], period=period)
    base = float(np.nanmean(level)) if not gaps.all() else np.nan
    per_slot = len(sorted_values) / max(period, 1)
    season = (level - base)[slots]
    inflation = float(np.sqrt((1 + 1 / max(per_slot, 1)) / max(1 - 1 / max(per_slot, 1), 0.25)))
    return Fitted("slot", np.full(len(y), base), season[None, :], (period,), inflation, {"centre": centre})
