"""Baseline by a rolling window: the middle and the spread of the samples just before, with a season if there is one."""

import numpy as np
from numba import njit

from watchtide.core.expect.baselines import Fitted, Parts
from watchtide.core.expect.baselines.slot import centres
from watchtide.core.expect.frame import DAY_NS, Frame, Period, frame_of, slot_count, slots
from watchtide.core.expect.regimes import moving_mean
from watchtide.core.robust import MAD_TO_SIGMA
from watchtide.core.series import Floats, Series

# Samples of a window that nobody stated.
LEAST = 24


def usual_window(frame: Frame) -> int:
    """Samples of a day, at least 24 and at most a quarter of the history."""
    return max(min(int(DAY_NS // frame.step_ns), len(frame) // 4), LEAST)


def fit(
    frame: Frame, periods: tuple[Period, ...], *, window_ns: int | None = None, centre: str = "median"
) -> Fitted:
    """The slot medians of the longest season, if any, around the moving middle of one season.

    window_ns : length of the window before each sample, None takes a day, at least 24 samples and at most a quarter of the history; centre : median with MAD, or mean with SD.
    Raises ValueError for a window under two samples or an unknown centre.
    """
    if centre not in ("median", "mean"):
        raise ValueError(f"centre must be median or mean, got {centre!r}")
    window = int(window_ns // frame.step_ns) if window_ns is not None else usual_window(frame)
    if window < 2:
        raise ValueError(f"the window holds {window} samples, it needs at least 2; take a longer one")
    arrays = {"tail": frame.trained[-window:].copy()}
    if periods:
        period = max(periods, key=lambda p: p.ns)
        count = slot_count(frame, period)
        use = frame.usable
        y = frame.trained
        level = moving_mean(y, count)
        season = centres(slots(frame, period, count)[use], (y - level)[use], count, "median")
        season = np.nan_to_num(season - np.nanmean(season) if not np.isnan(season).all() else season)
        arrays["season"] = season
    end = int(frame.times[-1]) if len(frame) else 0
    return Fitted("rolling", periods, arrays, {"window": window, "centre": centre, "end": end})


@njit(cache=True, nogil=True)
def trail(values, use, window, is_median, fewest):  # type: ignore[no-untyped-def]
    """(n,) middle and spread of the used samples among the `window` before each one; NaN under `fewest`.

    The window is kept sorted; a sample costs one search and one move of memory.
    """
    n = len(values)
    middle, spread = np.full(n, np.nan), np.full(n, np.nan)
    ranked = np.empty(window + 1)
    m = 0
    away = np.empty(window + 1)
    for i in range(n):
        out = i - window - 1
        if out >= 0 and use[out]:
            at = np.searchsorted(ranked[:m], values[out])
            for j in range(at, m - 1):
                ranked[j] = ranked[j + 1]
            m -= 1
        if i > 0 and use[i - 1]:
            v = values[i - 1]
            at = np.searchsorted(ranked[:m], v)
            for j in range(m, at, -1):
                ranked[j] = ranked[j - 1]
            ranked[at] = v
            m += 1
        if m < fewest:
            continue
        if is_median:
            c = (ranked[(m - 1) // 2] + ranked[m // 2]) / 2
            middle[i] = c
            # The MAD of sorted samples: the m / 2 nearest to the middle lie side by side.
            a, b = 0, m - 1
            for j in range(m):
                if c - ranked[a] > ranked[b] - c:
                    away[m - 1 - j] = c - ranked[a]
                    a += 1
                else:
                    away[m - 1 - j] = ranked[b] - c
                    b -= 1
            spread[i] = MAD_TO_SIGMA * (away[(m - 1) // 2] + away[m // 2]) / 2
        else:
            c = ranked[:m].mean()
            middle[i] = c
            total = 0.0
            for j in range(m):
                total += (ranked[j] - c) ** 2
            spread[i] = np.sqrt(total / max(m - 1, 1))
    return middle, spread


def expect(fitted: Fitted, frame: Frame) -> Parts:
    """The middle of the window strictly before each sample, plus its season; NaN before there is a window."""
    window = fitted.facts["window"]
    n = len(frame)
    season = np.zeros(n)
    rows = np.zeros((len(fitted.periods), n))
    if "season" in fitted.arrays:
        period = max(fitted.periods, key=lambda p: p.ns)
        season = fitted.arrays["season"][slots(frame, period, len(fitted.arrays["season"]))]
        rows[fitted.periods.index(period)] = season
    is_median = fitted.facts["centre"] == "median"
    before = _before(fitted, frame)
    free = np.r_[before, frame.values - season]
    use = np.r_[~np.isnan(before), frame.usable]
    middle, spread = trail(free, use, window, is_median, max(2, window // 8))
    middle, spread = middle[len(before) :], spread[len(before) :]
    return Parts(middle + season, middle, rows, {}, spread)


def _before(fitted: Fitted, frame: Frame) -> Floats:
    """(m,) end of the training part without its season, missing samples up to the frame included; empty where the frame
    begins within training, or so long after it that no window reaches back."""
    facts, step = fitted.facts, frame.step_ns
    tail = fitted.arrays.get("tail", np.empty(0))
    if not len(frame) or not len(tail):
        return np.empty(0)
    gap = (int(frame.times[0]) - int(facts["end"])) // step - 1
    if gap < 0 or gap >= facts["window"]:
        return np.empty(0)
    season = np.zeros(len(tail))
    if "season" in fitted.arrays:
        period = max(fitted.periods, key=lambda p: p.ns)
        times = facts["end"] - step * np.arange(len(tail) - 1, -1, -1, dtype=np.int64)
        part = frame_of(Series(times, tail, step, np.full(len(tail), frame.offsets_ns[0])))
        season = fitted.arrays["season"][slots(part, period, len(fitted.arrays["season"]))]
    return np.concatenate([tail - season, np.full(gap, np.nan)]).astype(np.float64)
