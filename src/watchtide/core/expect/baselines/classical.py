"""Baseline by the classical decomposition: a centred moving average for the trend, slot means for the season."""

from dataclasses import replace

import numpy as np

from watchtide.core import decompose
from watchtide.core.expect.baselines import Fitted, Parts, loess
from watchtide.core.expect.frame import Frame, Period
from watchtide.core.series import Floats

# By which share of its error a carried level follows each season's mean; the one that would have foretold the next best is taken.
FOLLOWS = (1.0, 0.5, 0.25, 0.125, 0.06)
LEAST_SEASONS = 6


def fit(frame: Frame, periods: tuple[Period, ...]) -> Fitted:
    """Trend and the longest season of the training part. The trend's ends hold its nearest level; `expect` carries another on."""
    period = max(periods, key=lambda p: p.ns)
    whole = loess._whole(period, frame.step_ns)
    use = np.flatnonzero(frame.usable)
    if len(use) == 0:
        return Fitted("classical", periods, {"trend": np.full(1, np.nan)}, {"start": 0, "is_local": False})
    inside = frame.part(0, int(use[-1]) + 1)
    position, start = loess.grid_positions(inside, period.is_local)
    parts = decompose.classical(loess.spread_out(inside.trained, position), whole)
    seen = np.flatnonzero(~np.isnan(parts.trend))
    if len(seen) == 0:
        raise ValueError(
            f"a classical decomposition needs one season of {whole} samples without long gaps; take kind: harmonic"
        )
    trend = np.interp(np.arange(len(parts.trend)), seen, parts.trend[seen])
    seasons = np.zeros((len(periods), len(trend)))
    seasons[periods.index(period)] = parts.season
    return Fitted(
        "classical",
        periods,
        {"trend": trend, "seasons": seasons, "level": np.array([carried(trend[seen[-1] :: -whole][::-1])])},
        {"start": start, "is_local": period.is_local},
    )


def carried(levels: Floats) -> float:
    """The level expected next: means of seasons, oldest first, smoothed exponentially.

    The last mean alone is that of one season and errs as much as it does, for as long as it is carried. The share followed is the
    one of `FOLLOWS` whose mean absolute error one season ahead was least; the last mean under six of them. Brown (1959), and
    Muth (1960) for its being the best forecast of a level that walks, at any distance.
    """
    if len(levels) < LEAST_SEASONS:
        return float(levels[-1])
    least, best = np.inf, float(levels[-1])
    for share in FOLLOWS:
        level, error = float(levels[0]), 0.0
        for i, seen in enumerate(levels[1:].tolist(), start=1):
            if i > 1:
                error += abs(seen - level)
            # At first the mean of all so far: the oldest counts no more than the others.
            level += max(share, 1 / (i + 1)) * (seen - level)
        if error < least:
            least, best = error, level
    return best


def expect(fitted: Fitted, frame: Frame) -> Parts:
    """Parts at the grid places of a frame; beyond training level and season are carried on."""
    parts = loess.expect(fitted, frame)
    # Models kept before have no level of their own to carry.
    if "level" not in fitted.arrays:
        return parts
    position, _ = loess.grid_positions(frame, fitted.facts["is_local"], fitted.facts["start"])
    trend = np.where(position < len(fitted.arrays["trend"]), parts.trend, fitted.arrays["level"][0])
    return replace(parts, trend=trend, expected=parts.expected + (trend - parts.trend))
