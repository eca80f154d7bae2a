"""From a series and a baseline to what each sample was expected to be, and how far it may stray."""

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import Any

import numpy as np
from scipy.ndimage import median_filter

from watchtide.core import robust, seasons, shifts, spread
from watchtide.core.baselines import Fitted, kinds, loess
from watchtide.core.series import Bools, Floats, Ints, Series, season_slots, wall_clock

# Groups of neighbouring slots that share a spread: half an hour in a day.
SPREAD_GROUPS = 48
# A step shows between this many samples on either side of it …
NEAR_SAMPLES = 48
# … as a jump of at least this many times the noise.
LEAST_JUMP = 2.5


@dataclass(frozen=True)
class Expectation:
    """What the baseline says for each sample of a series; arrays of (n,) unless said.

    expected, spread : in the unit of the values; NaN where nothing can be said.
    trend, seasons (k, n) : the parts; trend holds the accepted steps.
    level_series : values without their seasons, for shifts and for display.
    shift_candidates : indices of samples that open a new regime; settling : samples after a lasting
        step that are still judged by the level before it.
    notes : reasons in words; facts : what was resolved.
    """

    expected: Floats
    spread: Floats
    trend: Floats
    seasons: Floats
    level_series: Floats
    shift_candidates: Ints
    settling: Bools
    stream_spread: float
    notes: tuple[str, ...]
    facts: dict[str, Any]


def expect(
    series: Series,
    usable: Bools,
    *,
    train_stop: int | None = None,
    kind: str = "loess",
    periods: Sequence[int] = (),
    options: dict[str, Any] | None = None,
    settle_samples: int = 0,
    is_count: bool = False,
    is_robust: bool = True,
    shift_penalty: float | None = None,
) -> Expectation:
    """Fit the baseline on the usable samples before `train_stop` and judge every sample by it.

    usable : (n,) samples that may train (observed and not left out). train_stop : index of the first
    sample after training; None trains on all. A step that lasts `settle_samples` becomes the new
    normal: the seasons are fitted with it taken out, and the expectation follows it that much later.
    Raises ValueError for an unknown kind, or seasons the baseline cannot use.
    """
    n = len(series)
    stop = n if train_stop is None else train_stop
    if kind not in kinds():
        raise ValueError(f"baseline kind must be one of auto, {', '.join(kinds())}, got {kind!r}")
    clock = wall_clock(series)
    training = usable & ~np.isnan(series.values)
    training[stop:] = False
    if not training.any():
        blank = np.full(n, np.nan)
        note = "no observed sample to train on: nothing is judged"
        return Expectation(
            blank,
            blank,
            blank,
            np.zeros((0, n)),
            blank,
            np.empty(0, np.int64),
            np.zeros(n, np.bool_),
            0.0,
            (note,),
            {},
        )
    local = clock.spread_out(np.where(training, series.values, np.nan))
    m = int(clock.position[:stop].max()) + 1
    local = local[:m]
    longest = max(periods, default=1)
    slots = season_slots(clock, series.step_ns, longest)[:m]

    options = dict(options or {})
    trend_samples = _trend_samples(series.step_ns, longest, m)
    plain = np.zeros(m)
    if periods:
        windows, plain = loess.choose_windows(local, periods, trend_samples)
        if kind == "loess":
            options = {"season_window": windows, **options}
    level = local - plain
    changes = find_steps(level, longest, shift_penalty)
    steps, delayed = regimes(level, changes, settle_samples)
    fitted: Fitted = kinds()[kind](
        local - steps,
        slots,
        periods,
        **({"trend_samples": trend_samples} if kind == "loess" else {}),
        **options,
    )
    trend, rows = fitted.carry(clock.length)
    beyond = clock.length - m
    steps, delayed = (np.r_[s, np.full(beyond, s[-1] if m else 0.0)] for s in (steps, delayed))
    season = rows.sum(axis=0)
    calm = (trend + steps + season)[clock.position]
    expected = (trend + delayed + season)[clock.position]
    shortest_period = min(periods, default=1)
    groups = min(shortest_period, SPREAD_GROUPS)
    slot = season_slots(clock, series.step_ns, shortest_period)[clock.position] * groups // shortest_period
    scatter = spread.slot_spread(series.values, calm, slot, training, robust=is_robust, is_count=is_count)
    wide = scatter.spread.copy()
    wide[stop:] *= fitted.inflation
    notes = [scatter.reason]
    if np.any(steps != steps[0]):
        notes.append("a lasting step became the new normal after it had settled")
    at_time = np.searchsorted(clock.position[:stop], changes)
    return Expectation(
        expected,
        wide,
        (trend + delayed)[clock.position],
        rows[:, clock.position],
        series.values - season[clock.position],
        at_time[at_time < stop].astype(np.int64),
        (steps != delayed)[clock.position],
        scatter.stream,
        tuple(notes),
        {**fitted.facts, "inflation": fitted.inflation},
    )


def find_steps(level: Floats, longest: int, penalty: float | None) -> Ints:
    """Indices where a de-seasonalised series takes a lasting new level.

    Lone outliers are drawn in to three spreads around a running median first, so that only what
    lasts counts; a regime lasts at least one season and 24 samples. A slow trend is cut into steps
    by any step search; a cut is kept only where the level really jumps between the samples next to it.
    """
    shortest = max(24, longest if longest <= len(level) // 4 else 24)
    if np.sum(~np.isnan(level)) < 2 * shortest:
        return np.empty(0, np.int64)
    calm = calm_outliers(level)
    changes = shifts.search(calm, penalty=penalty, shortest=shortest)
    near = min(shortest, NEAR_SAMPLES)
    # A jump must stand out from the samples' own scatter and from the wander of their medians.
    wander = np.sqrt(2 * robust.long_run_variance(calm) / near)
    least = LEAST_JUMP * max(np.sqrt(robust.noise_variance(calm)), wander)
    edges = [0, *changes.tolist(), len(level)]
    kept = []
    for i, at in enumerate(changes.tolist()):
        jump = _median(calm[at : at + near]) - _median(calm[max(0, at - near) : at])
        between = _median(calm[at : edges[i + 2]]) - _median(calm[edges[i] : at])
        if abs(jump) >= least and jump * between > 0 and abs(jump) >= 0.5 * abs(between):
            kept.append(at)
    return np.asarray(kept, dtype=np.int64)


def calm_outliers(level: Floats) -> Floats:
    """Values drawn in to within three spreads of the running median of 25 samples; NaN stays."""
    seen = ~np.isnan(level)
    filled = np.interp(np.arange(len(level)), np.flatnonzero(seen), level[seen])
    middle = median_filter(filled, size=25, mode="nearest")
    width = 3 * max(robust.mad_sigma(level - middle, centre=0.0), 1e-300)
    return np.where(seen, np.clip(level, middle - width, middle + width), np.nan)


def regimes(level: Floats, changes: Ints, settle: int) -> tuple[Floats, Floats]:
    """Step functions of the accepted regimes: as they are, and as they become the normal.

    A regime shorter than `settle` samples is an episode, not a new normal: it keeps the level before
    it. A step's size is taken between the `settle` samples next to it, so that a trend does not add
    to it. Zero in the first regime.
    """
    n = len(level)
    steps, delayed = np.zeros(n), np.zeros(n)
    if settle <= 0 or len(changes) == 0:
        return steps, delayed
    edges = [0, *changes.tolist(), n]
    noise = float(np.sqrt(max(robust.noise_variance(level), 0.0)))
    before = (0, edges[1])
    for a, b in pairwise(edges[1:]):
        if b - a < settle:
            continue
        jump = _median(level[a : min(b, a + settle)]) - _median(
            level[max(before[0], before[1] - settle) : before[1]]
        )
        if not np.isnan(jump) and abs(jump) > noise:
            steps[a:] += jump
            known = np.any(np.abs(steps[:a] - steps[a]) <= max(noise, 0.15 * abs(jump)))
            # A return to a level held before needs no time to settle.
            delayed[a if known else a + settle :] = steps[a]
        before = (a, b)
    return steps, delayed


def _median(values: Floats) -> float:
    return float(np.nanmedian(values)) if np.any(~np.isnan(values)) else float("nan")


def _trend_samples(step_ns: int, longest: int, m: int) -> int:
    """Two weeks or two seasons, whichever is longer, and no more than half of the history."""
    fortnight = int(14 * seasons.DAY_NS // step_ns)
    return int(max(7, min(max(fortnight, 2 * longest), m // 2)))
