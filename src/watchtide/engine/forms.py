"""One stream decomposed by loess in a stated form, on its wall-clock grid, with the evidence for either form."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from watchtide.core import decompose, seasons
from watchtide.core.series import Floats, Series, wall_clock


@dataclass(frozen=True)
class Decomposed:
    """observed = trend + seasons + remainder, or the product of them; trend, remainder, weights (n,), seasons (k, n).

    evidence : leftover season of each form, where both were tried.
    """

    form: str
    trend: Floats
    seasons: Floats
    remainder: Floats
    weights: Floats
    evidence: dict[str, float]


def decomposed(series: Series, lengths: Sequence[float], form: str, *, robust: bool = False) -> Decomposed:
    """Decompose by robust or plain loess. lengths : seasons in samples, whole ones; form : additive | multiplicative | auto.

    Seasons follow the clocks on the wall. Raises ValueError for seasons or values that have no such decomposition.
    """
    wall = wall_clock(series)
    local = wall.spread_out(series.values)
    periods = seasons.check_periods(lengths, len(local), series.step_ns)
    taken, evidence = decompose.choose_form(local, periods[-1], form)
    is_product = taken == "multiplicative"
    fit = decompose.loess_seasons(np.log(local) if is_product else local, periods, robust=robust)
    trend, rows = fit.trend[wall.position], fit.seasons[:, wall.position]
    if is_product:
        trend, rows = np.exp(trend), np.exp(rows)
        left = series.values / (trend * rows.prod(axis=0))
    else:
        left = series.values - trend - rows.sum(axis=0)
    return Decomposed(taken, trend, rows, left, fit.weights[wall.position], evidence)
