"""Baseline by robust loess decomposition: a slow trend and seasons that may change shape slowly."""

from collections.abc import Sequence

import numpy as np

from watchtide.core import decompose
from watchtide.core.decompose.smoothing import loess as smooth
from watchtide.core.expect.baselines import Fitted, Parts
from watchtide.core.expect.baselines.following import followed
from watchtide.core.expect.frame import DAY_NS, Frame, Period
from watchtide.core.robust import chance_of
from watchtide.core.series import Floats, Ints

# Candidate season windows in cycles; the one with the least leave-one-out error is taken.
SEASON_WINDOWS = (7, 15, 31)


def fit(
    frame: Frame,
    periods: tuple[Period, ...],
    *,
    season_window: int | Sequence[int] | None = None,
    trend_window: int | None = None,
    sweeps_robust: int = 6,
) -> Fitted:
    """Fit trend and seasons to the training part, on the wall-clock grid where all seasons follow it.

    season_window : cycles, for all periods or one each; None takes the one with the least leave-one-out error.
    trend_window : samples; None takes two weeks or two seasons and at most half of the history: longer than the
        paper's rule, because a trend that follows a week-long drift would hide it.
    Raises ValueError for seasons that are no whole number of samples: the harmonic kind takes those.
    """
    use = np.flatnonzero(frame.usable)
    if len(use) == 0:
        return Fitted("loess", periods, {"trend": np.full(1, np.nan)}, {"start": 0, "is_local": False})
    inside = frame.part(0, int(use[-1]) + 1)
    whole = [_whole(p, frame.step_ns) for p in periods]
    is_local = all(p.is_local for p in periods)
    position, start = grid_positions(inside, is_local)
    y = spread_out(inside.trained, position)
    m = len(y)
    # Ratios of few events scatter more: by one scale for all, those events would count as wild, and the ratio as less.
    prior = _spread_where_used(inside, inside.weights, position)
    event = None if inside.event is None else _spread_where_used(inside, inside.event, position)
    longest = max(whole, default=1)
    # Coarser than days, two weeks hold no trend: two dozen samples do.
    fortnight = int(14 * DAY_NS // frame.step_ns) if frame.step_ns <= DAY_NS else 24
    slow = trend_window or int(max(7, min(max(fortnight, 2 * longest), m // 2)))
    slow += 1 - slow % 2
    if not whole:
        weights, trend, root = prior, y, np.sqrt(prior)
        for _ in range(sweeps_robust + 1):
            trend = smooth(y, weights, min(slow, 2 * m + 1), 1)
            chance = 0.0 if event is None else chance_of(trend, event) * root
            weights = prior * decompose.bisquare((y - trend) * root, chance)
        arrays = {"trend": trend, "seasons": np.zeros((0, m))}
        return Fitted("loess", periods, arrays, {"start": start, "is_local": is_local, "trend_window": slow})
    if season_window is None:
        season_window = choose_windows(y, whole, slow, prior)
    windows = [season_window] * len(whole) if isinstance(season_window, int) else list(season_window)
    parts = decompose.loess_seasons(
        y,
        whole,
        season_windows=windows,
        trend_window=max(slow, _rule(longest, windows[int(np.argmax(whole))])),
        robust=sweeps_robust > 0,
        sweeps_robust=sweeps_robust or None,
        weights=prior,
        event=event,
    )
    facts = {"start": start, "is_local": is_local, "trend_window": slow, "season_windows": windows}
    arrays = {"trend": parts.trend, "seasons": parts.seasons, **_next_cycles(parts, whole)}
    return Fitted("loess", periods, arrays, facts)


def _next_cycles(parts: decompose.SeasonsDecomposition, periods: Sequence[int]) -> dict[str, Floats]:
    """The cycle of each season that comes after training: of what was seen of it, as far as the robust fit believes that."""
    left = parts.remainder * parts.weights
    m = len(left)
    return {
        f"next_{i}": followed((season + left)[m - m // p * p :].reshape(-1, p), season[m - p :])
        for i, (season, p) in enumerate(zip(parts.seasons, periods, strict=True))
    }


def _spread_where_used(frame: Frame, values: Floats, position: Ints) -> Floats:
    """Figures of the samples that train on their grid, 0 elsewhere."""
    return np.nan_to_num(spread_out(np.where(frame.usable, values, np.nan), position))


def _whole(period: Period, step_ns: int) -> int:
    length = period.samples(step_ns)
    if abs(length - round(length)) > 1e-6:
        hours = period.ns / 3.6e12
        raise ValueError(
            f"a season of {hours:g} h is {length:g} samples, not a whole number; take kind: harmonic, which fits any length"
        )
    return round(length)


def grid_positions(frame: Frame, is_local: bool, start: int | None = None) -> tuple[Ints, int]:
    """(n,) place of each sample on the grid of wall-clock (or UTC) time that begins at `start`."""
    moment = frame.times + frame.offsets_ns if is_local else frame.times
    if start is None:
        start = int(moment.min()) if len(moment) else 0
    return (moment - start) // frame.step_ns, start


def spread_out(values: Floats, position: Ints) -> Floats:
    """Values on their grid: the mean where two share a place (the repeated hour), NaN where none is."""
    length = int(position[-1]) + 1 if len(position) else 0
    length = max(length, int(position.max()) + 1) if len(position) else 0
    if length == len(values) and np.all(np.diff(position) == 1):
        return values.copy()
    seen = ~np.isnan(values)
    sums = np.bincount(position[seen], values[seen], length)
    counts = np.bincount(position[seen], minlength=length)
    with np.errstate(invalid="ignore", divide="ignore"):
        return np.asarray(np.where(counts > 0, sums / counts, np.nan), dtype=np.float64)


def expect(fitted: Fitted, frame: Frame) -> Parts:
    """Parts at the grid places of a frame; beyond training a level is held and a cycle repeated, before it the first."""
    n, k = len(frame), len(fitted.periods)
    trend = fitted.arrays["trend"]
    m = len(trend)
    if np.isnan(trend).all():
        blank = np.full(n, np.nan)
        return Parts(blank, blank, np.zeros((k, n)))
    position, _ = grid_positions(frame, fitted.facts["is_local"], fitted.facts["start"])
    # Models kept before carry on what came last.
    level = np.where(
        position >= m, fitted.arrays.get("level", trend[-1:])[0], trend[np.clip(position, 0, m - 1)]
    )
    rows = np.zeros((k, n))
    for i, period in enumerate(fitted.periods):
        p = round(period.samples(frame.step_ns))
        season = fitted.arrays["seasons"][i]
        inside = season[np.clip(np.where(position < 0, position % p, position), 0, m - 1)]
        ahead = fitted.arrays.get(f"next_{i}", season[m - p :])
        rows[i] = np.where(position >= m, ahead[(position - m) % p], inside)
    return Parts(level + rows.sum(axis=0), level, rows)


def _rule(period: int, season_window: int) -> int:
    whole = int(np.ceil(1.5 * period / (1 - 1.5 / season_window)))
    return whole if whole % 2 else whole + 1


def _leverage(window: int) -> float:
    """Weight of a sample in its own season fit."""
    half = window // 2
    kernel = (1 - np.abs(np.arange(-half, half + 1) / half) ** 3) ** 3
    return float(kernel[half] / kernel.sum())


def choose_windows(y: Floats, periods: Sequence[int], trend_window: int, weights: Floats) -> list[int]:
    """The season windows with the least median leave-one-out error of a joint plain fit.

    Joint, because two lengths that lie close (a tide's and a day's) only come apart with windows
    long enough to see them drift past one another. weights : (n,) prior ones.
    """
    least, best = np.inf, [SEASON_WINDOWS[0]] * len(periods)
    for window in SEASON_WINDOWS:
        own = [max(SEASON_WINDOWS[0], min(window, _least_odd(len(y) / p))) for p in periods]
        plain = decompose.loess_seasons(
            y,
            list(periods),
            season_windows=own,
            trend_window=max(trend_window, _rule(max(periods), own[int(np.argmax(periods))])),
            sweeps_inner=1,
            weights=weights,
        )
        left = 1 - sum(_leverage(w) for w in own)
        error = float(np.nanmedian(np.abs(plain.remainder) * np.sqrt(weights))) / max(left, 0.1)
        if error < least:
            least, best = error, own
    return best


def _least_odd(cycles: float) -> int:
    whole = int(cycles)
    return whole if whole % 2 else whole + 1
