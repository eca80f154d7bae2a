"""Baseline by the classical decomposition: a centred moving average for the trend, slot means for the season."""

import numpy as np

from watchtide.core import decompose
from watchtide.core.expect.baselines import Fitted, Parts, loess
from watchtide.core.expect.baselines.following import followed
from watchtide.core.expect.frame import Frame, Period


def fit(frame: Frame, periods: tuple[Period, ...]) -> Fitted:
    """Trend and the longest season of the training part. The trend's ends hold its nearest level; what is carried on is `level`."""
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
    # Means of whole seasons, none of which has a sample of another.
    means = trend[seen[-1] :: -whole][::-1]
    return Fitted(
        "classical",
        periods,
        {"trend": trend, "seasons": seasons, "level": followed(means[:, None], means[-1:])},
        {"start": start, "is_local": period.is_local},
    )


def expect(fitted: Fitted, frame: Frame) -> Parts:
    """Parts at the grid places of a frame; beyond training level and season are carried on."""
    return loess.expect(fitted, frame)
