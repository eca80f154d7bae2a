"""Baseline by robust loess decomposition: a slow trend and seasons that may change shape slowly."""

from collections.abc import Sequence

import numpy as np

from watchtide.core import decompose
from watchtide.core.baselines import Fitted
from watchtide.core.series import Floats, Ints
from watchtide.core.smoothing import loess as smooth

# Candidate season windows in cycles; the one with the least leave-one-out error is taken.
SEASON_WINDOWS = (7, 15, 31)


def fit(
    y: Floats,
    slots: Ints,
    periods: Sequence[int],
    *,
    trend_samples: int,
    season_window: int | Sequence[int] | None = None,
    sweeps_robust: int = 6,
) -> Fitted:
    """Fit trend and seasons to the training part.

    y : (m,) on the local grid, NaN where missing or left out. slots is not used: position tells.
    trend_samples : window of the trend; longer than the paper's rule, because a trend that follows
        a week-long drift would hide it.
    season_window : cycles, for all periods or one each; None asks `choose_windows`.
    """
    m = len(y)
    trend_window = trend_samples if trend_samples % 2 else trend_samples + 1
    if not len(periods):
        weights = np.where(np.isnan(y), 0.0, 1.0)
        for _ in range(sweeps_robust + 1):
            trend = smooth(y, weights, min(trend_window, 2 * m + 1), 1)
            weights = np.where(np.isnan(y), 0.0, decompose.bisquare(y - trend))
        return Fitted("loess", trend, np.zeros((0, m)), (), 1.0, {"trend_window": trend_window})
    if season_window is None:
        season_window, _ = choose_windows(y, periods, trend_window)
    windows = [season_window] * len(periods) if isinstance(season_window, int) else list(season_window)
    parts = decompose.loess_seasons(
        y,
        list(periods),
        season_windows=windows,
        trend_window=max(trend_window, _rule(max(periods), windows[int(np.argmax(periods))])),
        robust=True,
        sweeps_robust=sweeps_robust,
    )
    own = sum(_leverage(w)[0] for w in windows)
    squares = sum(_leverage(w)[1] for w in windows)
    inflation = float(np.sqrt((1 + squares) / max(1 - 2 * own + squares, 0.1)))
    facts = {"trend_window": trend_window, "season_windows": windows}
    return Fitted("loess", parts.trend, parts.seasons, tuple(periods), inflation, facts)


def _rule(period: int, season_window: int) -> int:
    whole = int(np.ceil(1.5 * period / (1 - 1.5 / season_window)))
    return whole if whole % 2 else whole + 1


def _leverage(window: int) -> tuple[float, float]:
    """Weight of a sample in its own season fit, and the sum of squared weights."""
    half = window // 2
    kernel = (1 - np.abs(np.arange(-half, half + 1) / half) ** 3) ** 3
    kernel = kernel / kernel.sum()
    return float(kernel[half]), float(np.sum(kernel**2))


def choose_windows(y: Floats, periods: Sequence[int], trend_window: int) -> tuple[list[int], Floats]:
    """The season windows with the least median leave-one-out error of a joint plain fit, and the
    seasons (m,) of that fit.

    Joint, because two lengths that lie close (a tide's and a day's) only come apart with windows
    long enough to see them drift past one another.
    """
    least, best, seasons = np.inf, [SEASON_WINDOWS[0]] * len(periods), np.zeros(len(y))
    trend_window += 1 - trend_window % 2
    for window in SEASON_WINDOWS:
        own = [max(SEASON_WINDOWS[0], min(window, _least_odd(len(y) / p))) for p in periods]
        plain = decompose.loess_seasons(
            y,
            list(periods),
            season_windows=own,
            trend_window=max(trend_window, _rule(max(periods), own[int(np.argmax(periods))])),
            sweeps_inner=1,
        )
        left = 1 - sum(_leverage(w)[0] for w in own)
        error = float(np.nanmedian(np.abs(plain.remainder))) / max(left, 0.1)
        if error < least:
            least, best, seasons = error, own, plain.seasons.sum(axis=0)
    return best, seasons


def _least_odd(cycles: float) -> int:
    whole = int(cycles)
    return whole if whole % 2 else whole + 1
