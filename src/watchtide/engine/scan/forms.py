"""One stream decomposed by loess in a stated form, on its wall-clock grid, with the evidence for either form."""

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from watchtide.core import decompose
from watchtide.core.expect import seasons
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


@dataclass(frozen=True)
class SideBySide:
    """Both forms of one series, or why one cannot be had. added : to every value before it was multiplied, None where
    nothing; leftover : season left in the size of each form's remainder, where both can be had."""

    forms: dict[str, Decomposed | str]
    added: float | None
    leftover: dict[str, float]


def side_by_side(series: Series, lengths: Sequence[float], *, is_count: bool) -> SideBySide:
    """Decompose in both forms, with what speaks for either.

    is_count : a count of 0 has no logarithm; half a unit more changes little where counts are large.
    """
    added = 0.5 if is_count and bool(np.any(series.values == 0)) else None
    lifted = series if added is None else replace(series, values=series.values + added)
    out: dict[str, Decomposed | str] = {}
    for form, given in (("additive", series), ("multiplicative", lifted)):
        try:
            out[form] = decomposed(given, lengths, form)
        except ValueError as error:
            out[form] = str(error)
    leftover: dict[str, float] = {}
    if not any(isinstance(f, str) for f in out.values()):
        local = wall_clock(lifted).spread_out(lifted.values)
        _, leftover = decompose.choose_form(local, round(max(lengths)), "auto")
    return SideBySide(out, added, leftover)
