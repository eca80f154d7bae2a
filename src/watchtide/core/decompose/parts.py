"""Trend, seasons and remainder of an evenly spaced series, by robust loess."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from watchtide.core.decompose.smoothing import loess as smooth
from watchtide.core.decompose.smoothing import smooth_cycles
from watchtide.core.robust import MAD_TO_SIGMA, chance_of
from watchtide.core.series import Floats


@dataclass(frozen=True)
class Decomposition:
    """observed = trend + season + remainder; arrays of (n,). remainder is NaN where observed is."""

    trend: Floats
    season: Floats
    remainder: Floats
    weights: Floats


@dataclass(frozen=True)
class SeasonsDecomposition:
    """observed = trend + seasons.sum(0) + remainder; seasons is (periods, n) in the order given."""

    trend: Floats
    seasons: Floats
    remainder: Floats
    weights: Floats


def _whole(period: float, n: int) -> int:
    if period != int(period) or not 2 <= period <= n / 2:
        raise ValueError(
            f"period must be a whole number of samples between 2 and n/2, got {period} of {n}; "
            "take a coarser cadence or more history"
        )
    return int(period)


@dataclass(frozen=True)
class _Smoothers:
    """Window and degree of the three local fits. Raises ValueError for one that no smoother has."""

    season: tuple[int, int]
    trend: tuple[int, int]
    lowpass: tuple[int, int]

    def __post_init__(self) -> None:
        for name, (window, _) in vars(self).items():
            if window < 3 or window % 2 == 0:
                raise ValueError(f"{name}_window must be odd and at least 3, got {window}")
        for name, (_, degree) in vars(self).items():
            if degree not in (0, 1):
                raise ValueError(f"{name}_degree must be 0 or 1, got {degree}")

    def parts_of(self, x: Floats, weights: Floats, trend: Floats, period: int) -> tuple[Floats, Floats]:
        """(n,) season and trend of values, the trend known so far taken from them first."""
        cycles = _fill_unseen_slots(smooth_cycles(x - trend, weights, period, *self.season))
        low = smooth(_low_pass(cycles, period), np.ones(len(x)), *self.lowpass)
        season = cycles[period : period + len(x)] - low
        return season, smooth(x - season, weights, *self.trend)


def loess(
    y: Floats,
    period: int,
    *,
    season_window: int = 7,
    trend_window: int | None = None,
    lowpass_window: int | None = None,
    season_degree: int = 1,
    trend_degree: int = 1,
    lowpass_degree: int = 1,
    robust: bool = False,
    sweeps_inner: int | None = None,
    sweeps_robust: int | None = None,
    weights: Floats | None = None,
    event: Floats | None = None,
) -> Decomposition:
    """Seasonal-trend decomposition by loess, every local fit evaluated at every point.

    y : (n,) float64; NaN has weight 0 in a window of fixed width, and the trend and the season are
        given there too. All NaN gives NaN with weights 0.
    period : whole samples, 2 … n / 2.
    season_window, trend_window, lowpass_window : odd, at least 3. None takes the least odd
        >= 1.5 period / (1 - 1.5 / season_window) for the trend, the least odd >= period for the
        low pass.
    robust : 1 inner and 15 robust sweeps; plain: 2 inner, none robust. Bisquare weights with
        h = 6 median |remainder √weight|; h = 0 gives weight 1 where the remainder is 0, else 0.
    weights : (n,) prior weights, by which the variance of each is less; None for 1.
    event : (n,) what one counted event adds to a value: no sample is wild for what chance alone makes of events.
    Raises ValueError for a period, window or degree out of range.
    Cleveland, Cleveland, McRae and Terpenning (1990); unlike the paper's program the slope is kept
    in long series, and a window with too few observed samples widens.
    """
    y, n = np.asarray(y, dtype=np.float64), len(y)
    period = _whole(period, n)
    smoothers = _Smoothers(
        season=(season_window, season_degree),
        trend=(trend_window or _least_odd(1.5 * period / (1 - 1.5 / season_window)), trend_degree),
        lowpass=(lowpass_window or _least_odd(period), lowpass_degree),
    )
    inner, outer = _sweeps(sweeps_inner, sweeps_robust, robust)
    seen = ~np.isnan(y)
    if not seen.any():
        blank = np.full(n, np.nan)
        return Decomposition(blank, blank, blank, np.zeros(n))
    # Centred, so that a large constant does not eat the digits of the convolutions.
    centre = float(np.median(y[seen]))
    x = np.where(seen, y - centre, 0.0)
    prior = seen.astype(np.float64) if weights is None else np.where(seen, weights, 0.0)
    root, believed = np.sqrt(prior), np.ones(n)
    chance: Floats | float = 0.0
    trend, season = np.zeros(n), np.zeros(n)
    for sweep in range(outer + 1):
        for _ in range(inner):
            season, trend = smoothers.parts_of(x, prior * believed, trend, period)
        if sweep < outer:
            if event is not None:
                chance = root * chance_of(trend + season + centre, event)
            believed = bisquare(np.where(prior > 0, (x - trend - season) * root, np.nan), chance)
    remainder = np.where(seen, x - trend - season, np.nan)
    return Decomposition(trend + centre, season, remainder, np.where(seen, believed, 0.0))


def _sweeps(inner: int | None, outer: int | None, robust: bool) -> tuple[int, int]:
    """Inner and robust sweeps: as stated, else as is usual."""
    usual = (1, 15) if robust else (2, 0)
    return usual[0] if inner is None else inner, usual[1] if outer is None else outer


def loess_seasons(
    y: Floats,
    periods: Sequence[int],
    *,
    season_windows: Sequence[int] | None = None,
    sweeps: int = 2,
    trend_window: int | None = None,
    robust: bool = False,
    sweeps_inner: int | None = None,
    sweeps_robust: int | None = None,
    weights: Floats | None = None,
    event: Floats | None = None,
) -> SeasonsDecomposition:
    """Decomposition with several seasons, by fitting each to what the others leave, in turn.

    periods : whole samples, each 2 … n / 2; fitted shortest first, returned in the order given.
    season_windows : one odd window a period, 7 where left out; sweeps : rounds over all periods.
    weights, event : (n,) as `loess` takes them.
    The trend is that of the longest season's fit. Bandara, Hyndman and Bergmeir (2021), section 3.
    """
    y = np.asarray(y, dtype=np.float64)
    windows = list(season_windows) if season_windows is not None else [7] * len(periods)
    if len(periods) == 0:
        raise ValueError("give at least one period")
    if len(windows) != len(periods):
        raise ValueError(f"{len(periods)} periods need as many season_windows, got {len(windows)}")
    seasons = np.zeros((len(periods), len(y)))
    order = np.argsort(np.asarray(periods), kind="stable")
    for _ in range(sweeps if len(periods) > 1 else 1):
        for i in order:
            rest = y - seasons.sum(axis=0) + seasons[i]
            fit = loess(
                rest,
                periods[i],
                season_window=windows[i],
                trend_window=trend_window,
                robust=robust,
                sweeps_inner=sweeps_inner,
                sweeps_robust=sweeps_robust,
                weights=weights,
                event=event,
            )
            seasons[i] = fit.season
    remainder = y - fit.trend - seasons.sum(axis=0)
    return SeasonsDecomposition(fit.trend, seasons, remainder, fit.weights)


def bisquare(remainder: Floats, chance: Floats | float = 0.0) -> Floats:
    """Robustness weights of Cleveland et al. (1990), section 2.4; NaN gets weight 1. chance : (n,) standard deviations that no
    median speaks for, as of rare counts."""
    size = np.abs(remainder)
    h = np.maximum(6 * float(np.nanmedian(size)), 6 / MAD_TO_SIGMA * np.asarray(chance))
    with np.errstate(invalid="ignore", divide="ignore"):
        u = np.where(np.isnan(size) | (size == 0), 0.0, np.minimum(size / h, 1.0))
    return np.asarray((1 - u**2) ** 2)


def _least_odd(length: float) -> int:
    whole = max(3, int(np.ceil(length)))
    return whole if whole % 2 else whole + 1


def _low_pass(cycles: Floats, period: int) -> Floats:
    """Moving means of period, period and 3 over (n + 2 period,): what is left of the level."""
    out = cycles
    for window in (period, period, 3):
        total = np.cumsum(np.r_[0.0, out])
        out = (total[window:] - total[:-window]) / window
    return out


def _fill_unseen_slots(cycles: Floats) -> Floats:
    """A slot no season ever showed takes a straight line between its neighbours."""
    gaps = np.isnan(cycles)
    if not gaps.any():
        return cycles
    at = np.arange(len(cycles))
    return np.where(gaps, np.interp(at, at[~gaps], cycles[~gaps]), cycles)


def choose_form(y: Floats, period: int, form: str) -> tuple[str, dict[str, float]]:
    """additive or multiplicative, and for "auto" the leftover season of each form.

    A wrong form leaves season in the remainder: the evidence is the absolute autocorrelation of the
    remainder's size at the period, smaller being better. Values at or below 0 have no multiplicative
    form: "auto" takes additive, a stated "multiplicative" raises ValueError.
    """
    positive = bool(np.all(y[~np.isnan(y)] > 0))
    if form == "multiplicative" and not positive:
        raise ValueError("a multiplicative form needs values above 0; take additive, or add a constant")
    if form != "auto" or not positive:
        return ("additive" if form == "auto" else form), {}
    leak = {}
    for name, x in (("additive", y), ("multiplicative", np.log(y))):
        size = np.abs(loess(x, period).remainder)
        a, b = size[:-period], size[period:]
        ok = ~np.isnan(a) & ~np.isnan(b)
        flat = np.std(a[ok]) == 0 or np.std(b[ok]) == 0
        leak[name] = 0.0 if flat else round(abs(float(np.corrcoef(a[ok], b[ok])[0, 1])), 4)
    return min(leak, key=lambda name: leak[name]), leak


def classical(y: Floats, period: int, form: str = "additive") -> Decomposition:
    """Decomposition by a centred moving average and slot means.

    y : (n,) float64, NaN where missing; period : whole samples, 2 … n / 2; form : additive or multiplicative.
    The trend is the mean of `period` samples (for an even period with half weight at both ends), NaN at the
    ends and where one is missing. Slot means (ratios) are centred to sum to 0 (to a mean of 1).
    weights are 1 where observed. Raises ValueError for a period or form out of range, or values that are
    not positive under a multiplicative form. Kendall and Stuart (1966), chapter 46.
    """
    y = np.asarray(y, dtype=np.float64)
    n = len(y)
    if form not in ("additive", "multiplicative"):
        raise ValueError(f"form must be additive or multiplicative, got {form!r}")
    if period != int(period) or not 2 <= period <= n / 2:
        raise ValueError(f"period must be between 2 and n/2 samples, got {period} of {n}; take a shorter one")
    if form == "multiplicative" and np.any(y[~np.isnan(y)] <= 0):
        raise ValueError("a multiplicative form needs values above 0; take additive, or add a constant")
    period = int(period)
    kernel = np.ones(period) / period if period % 2 else np.r_[0.5, np.ones(period - 1), 0.5] / period
    half = len(kernel) // 2
    trend = np.full(n, np.nan)
    trend[half : n - half] = np.convolve(y, kernel, mode="valid")
    rest = y / trend if form == "multiplicative" else y - trend
    slots = np.arange(n) % period
    seen = ~np.isnan(rest)
    with np.errstate(invalid="ignore", divide="ignore"):
        means = np.bincount(slots[seen], rest[seen], period) / np.bincount(slots[seen], minlength=period)
    means = _fill_unseen_slots(means) if not np.isnan(means).all() else means
    season = (means / np.mean(means) if form == "multiplicative" else means - np.mean(means))[slots]
    left = y / (trend * season) if form == "multiplicative" else y - trend - season
    return Decomposition(trend, season, left, np.where(np.isnan(y), 0.0, 1.0))
