"""Which season lengths a series has, and how strong each is."""

import itertools
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numba import njit

from watchtide.core.robust import mad_sigma
from watchtide.core.series import SECOND_NS, Floats
from watchtide.core.series.steps import DAY_NS, WEEK_NS, YEAR_NS

LEAST_STRENGTH = 0.3
# Of cycles left out a season explains less than it is strong, since its means are noisy; chance explains nothing.
LEAST_UNSEEN = 0.15
# A peak of the periodogram is this many times its median: by chance alone one in 4,000 is.
PEAK = 12.0
# A season this faint out of sample cannot become one by a hair more or less of length.
FAINT = 0.05
OVERTONE_GAIN, OVERTONE_SHARE = 0.05, 0.3
# Three cycles: two to learn a shape from and one to check it on.
LEAST_CYCLES = 3
# A year is looked for in data at this cadence and coarser.
LEAST_YEAR_STEP_NS = 5 * DAY_NS // 6


@dataclass(frozen=True)
class Season:
    """A season of `samples` (may be no whole number), with strength 0 … 1."""

    samples: float
    period_s: float
    strength: float


def detect(y: Floats, step_ns: int, *, most: int = 3) -> list[Season]:
    """Seasons of an even grid, strongest first; empty where there is none.

    y : (n,) values on the local-time grid, NaN for missing.
    A candidate (day, week, peaks of the periodogram) is kept where its strength in one joint fit with those kept
    before it, `joint_strengths`, is at least 0.3, and slot means learnt from every other cycle explain some of the
    cycles left out. O(n log n) a candidate.
    """
    seen = ~np.isnan(y)
    n = len(y)
    if n < 12 or seen.sum() < 8:
        return []
    x = _flatten(y)
    if mad_sigma(x) == 0 and np.nanstd(x) == 0:
        return []
    years = n * step_ns / YEAR_NS
    if step_ns >= LEAST_YEAR_STEP_NS and 1 <= years < LEAST_CYCLES and 8 * step_ns <= YEAR_NS:
        # Too few to be found, but enough to drown a week.
        x = _flatten(y - smooth_season(y, YEAR_NS / step_ns))
    alone = {p: strength_of(x, p) for p in _candidates(x, step_ns)}
    left = [p for p in sorted(alone) if not _is_overtone(p, alone)]
    kept: list[float] = []
    # A longer season may drown a shorter one until it is taken out itself: those left behind are asked once more.
    for is_again in (False, True):
        for period in [p for p in left if p not in kept]:
            is_part = is_again and period * step_ns != DAY_NS and _is_harmonic(period, kept, n)
            is_named = round(period * step_ns) in (DAY_NS, WEEK_NS, YEAR_NS)
            if not is_part and not _is_near(period, kept) and _adds(x, kept, period, is_named=is_named):
                kept = sorted([*kept, period])
    strengths = joint_strengths(x, kept)
    while kept and min(strengths) < LEAST_STRENGTH:
        del kept[int(np.argmin(strengths))]
        strengths = joint_strengths(x, kept)
    step_s = step_ns / SECOND_NS
    seasons = [Season(p, p * step_s, float(s)) for p, s in zip(kept, strengths, strict=True)]
    return sorted(seasons, key=lambda s: -s.strength)[:most]


def _is_near(period: float, others: Sequence[float]) -> bool:
    return any(abs(period - other) < 0.02 * other for other in others)


def _is_harmonic(period: float, others: Sequence[float], n: int) -> bool:
    """Whether n samples cannot tell a season from a whole part of a longer one: less than a cycle apart over all of them."""
    cycles = n / period
    return any(o > period and abs(cycles - round(o / period) * n / o) < 1 for o in others)


def _adds(x: Floats, kept: Sequence[float], period: float, *, is_named: bool) -> bool:
    """Whether a season explains enough of what the others kept leave, and says so of cycles it has not seen.

    is_named : a day or a week, which need not be looked for among many.
    """
    periods = sorted([*kept, period])
    own = periods.index(period)
    rows = joint_seasons(x, periods)
    others = np.delete(rows, own, axis=0).sum(axis=0)
    # Of what nobody named, noise that wanders makes seasons too: those must foretell as much as they explain.
    least = LEAST_UNSEEN if is_named else LEAST_STRENGTH
    if strength_of(x - others, period) < least:
        return False
    return _strengths(x, rows, periods)[own] >= LEAST_STRENGTH


def strengths(y: Floats, periods: Sequence[float]) -> list[float]:
    """Strength of each of these seasons (in samples, any order) in y (n,), NaN for missing; 0 where nothing is observed."""
    if np.sum(~np.isnan(y)) < 3:
        return [0.0] * len(periods)
    order = sorted(range(len(periods)), key=lambda i: periods[i])
    found = dict(zip(order, joint_strengths(_flatten(y), [periods[i] for i in order]), strict=True))
    return [found[i] for i in range(len(periods))]


def joint_seasons(x: Floats, periods: Sequence[float]) -> Floats:
    """(k, n) slot means of seasons fitted together, shorter ones first: a longer one is what it adds to them.

    x : (n,), NaN for missing; periods : in samples, ascending.
    """
    rows = np.zeros((len(periods), len(x)))
    for _ in range(2 if len(periods) > 1 else 1):
        for i, period in enumerate(periods):
            rest = x - rows.sum(axis=0) + rows[i]
            rows[i] = np.nan_to_num(_slot_means(rest, period))
    return rows


def joint_strengths(x: Floats, periods: Sequence[float]) -> list[float]:
    """Strength of each of several seasons beside one common remainder: 1 - var(remainder) / var(season + remainder).

    x : (n,), NaN for missing; periods : in samples, ascending. Each variance is over the samples less the means fitted for it, so that a
    season of pure chance has 0 and not one over its number of cycles. Between 0 and 1.
    """
    return _strengths(x, joint_seasons(x, periods), periods) if len(periods) else []


def _strengths(x: Floats, rows: Floats, periods: Sequence[float]) -> list[float]:
    remainder = x - rows.sum(axis=0)
    seen = int(np.sum(~np.isnan(x)))
    fitted = _means_fitted(periods)
    noise = float(np.nansum((remainder - np.nanmean(remainder)) ** 2)) / max(seen - sum(fitted), 1)
    out = []
    for row, own in zip(rows, fitted, strict=True):
        both = row + remainder
        spread = float(np.nansum((both - np.nanmean(both)) ** 2)) / max(seen - (sum(fitted) - own), 1)
        out.append(float(np.clip(1 - noise / spread, 0.0, 1.0)) if spread > 0 else 0.0)
    return out


def _means_fitted(periods: Sequence[float]) -> list[int]:
    """How many means of its own each season has; those of shorter ones that divide it are theirs."""
    out: list[int] = []
    for i, period in enumerate(periods):
        within = sum(
            own for own, p in zip(out, periods[:i], strict=True) if abs(period / p - round(period / p)) < 1e-6
        )
        out.append(max(max(2, round(period)) - within, 1))
    return out


def strength_of(y: Floats, period: float) -> float:
    """Out-of-sample strength of one season: slot means of half the cycles judged on the other half."""
    n = len(y)
    if period < 2 or n < LEAST_CYCLES * period - 0.5:
        return 0.0
    return float(_strength(np.ascontiguousarray(y), float(period), max(2, round(period))))


@njit(cache=True, nogil=True)
def _strength(y, period, count):  # type: ignore[no-untyped-def]
    """Neighbouring cycles teach and judge in turn, so that neighbours of a left-out one stay on both sides of it."""
    n = len(y)
    sums = np.zeros((2, count))
    seen = np.zeros((2, count))
    slots = np.empty(n, np.int64)
    for i in range(n):
        # A hair more, so that rounding never puts a whole period's sample into the slot before.
        cycles = (i + 1e-7) / period
        slots[i] = int((cycles - int(cycles)) * count) % count
        if not np.isnan(y[i]):
            half = int(cycles) % 2
            sums[half, slots[i]] += y[i]
            seen[half, slots[i]] += 1
    m = 0
    total = square = error = 0.0
    for i in range(n):
        other = 1 - int((i + 1e-7) / period) % 2
        if np.isnan(y[i]) or seen[other, slots[i]] == 0:
            continue
        m += 1
        total += y[i]
        error += (y[i] - sums[other, slots[i]] / seen[other, slots[i]]) ** 2
    if m < 8:
        return 0.0
    mean = total / m
    for i in range(n):
        other = 1 - int((i + 1e-7) / period) % 2
        if not np.isnan(y[i]) and seen[other, slots[i]] > 0:
            square += (y[i] - mean) ** 2
    return min(max(1.0 - error / square, 0.0), 1.0) if square > 0 else 0.0


def whole_period(samples: float, n: int) -> int | None:
    """The least multiple (up to 6) of a season that is nearly a whole number of samples.

    A loess season needs whole samples; 12.42 h at 10 min are 74.5 of them, but two make 149.04.
    None where no multiple within n / 2 comes within 0.1 sample.
    """
    for k in range(1, 7):
        length = k * samples
        if length > n / 2:
            return None
        if abs(length - round(length)) <= 0.1 and round(length) >= 2:
            return round(length)
    return None


def _flatten(y: Floats) -> Floats:
    """Winsorised and freed of slow movement, so that neither outliers nor trend pass for a season."""
    seen = ~np.isnan(y)
    at = np.arange(len(y))
    line = np.polynomial.Polynomial.fit(at[seen], y[seen], 1)(at)
    x = y - line
    centre, scale = float(np.nanmedian(x)), mad_sigma(x)
    return np.clip(x, centre - 6 * scale, centre + 6 * scale) if scale > 0 else x


def smooth_season(x: Floats, period: float, orders: int = 3) -> Floats:
    """(n,) the first harmonics of a season in samples, fitted by least squares together with a line; their mean is about 0.

    x : (n,), NaN for missing. For a season seen too few times for a mean of each of its slots.
    """
    seen = ~np.isnan(x)
    at = np.arange(len(x))
    turns = 2 * np.pi * np.outer(at / period, np.arange(1, orders + 1))
    season = np.column_stack([np.cos(turns), np.sin(turns)])
    design = np.column_stack([np.ones(len(x)), at / len(x), season])
    if seen.sum() <= design.shape[1]:
        return np.zeros(len(x))
    found = np.linalg.lstsq(design[seen], x[seen], rcond=None)[0]
    return np.asarray(season @ found[2:])


def _candidates(x: Floats, step_ns: int) -> list[float]:
    n = len(x)
    found = [
        float(s / step_ns)
        for s in (DAY_NS, WEEK_NS)
        if s % step_ns == 0 and 2 <= s / step_ns <= n / LEAST_CYCLES
    ]
    # Of days, weeks and months a year is no whole number of samples; of finer ones it would be a slow movement.
    if step_ns >= LEAST_YEAR_STEP_NS and 2 <= YEAR_NS / step_ns <= n / LEAST_CYCLES:
        found.append(YEAR_NS / step_ns)
    seen = ~np.isnan(x)
    filled = np.interp(np.arange(n), np.flatnonzero(seen), x[seen])
    power = np.abs(np.fft.rfft((filled - filled.mean()) * np.hanning(n))) ** 2
    low = max(LEAST_CYCLES, 1)
    inner = np.arange(max(low, 1), len(power) - 1)
    peaks = inner[(power[inner] > power[inner - 1]) & (power[inner] >= power[inner + 1])]
    noise = float(np.median(power[1:])) if len(power) > 1 else 0.0
    peaks = peaks[power[peaks] > PEAK * noise]
    peaks = peaks[np.argsort(power[peaks])[::-1]]
    # Noise that wanders is strong where frequencies are low: a peak must stand out from its own octaves too.
    strong = (k for k in peaks if power[k] > PEAK * np.median(power[max(k // 2, 1) : 2 * k + 1]))
    for k in itertools.islice(strong, 8):
        # Parabola through the log power: the peak between two frequencies.
        a, b, c = np.log(power[k - 1 : k + 2] + 1e-300)
        bend = a - 2 * b + c
        exact = k + (0.5 * (a - c) / bend if bend < 0 else 0.0)
        period = _polish(x, n / exact)
        if period >= 2 and all(abs(period - p) > 0.02 * p for p in found):
            found.append(period)
    return [p for p in found if n >= LEAST_CYCLES * p]


def _polish(x: Floats, period: float) -> float:
    """Move a period to a whole number of samples where that is as good, else to the best nearby."""
    if period < 2 or strength_of(x, period) < FAINT:
        return period
    grid = period * (1 + np.linspace(-0.01, 0.01, 9))
    best = max(grid, key=lambda p: strength_of(x, float(p)))
    whole = round(float(best))
    if whole >= 2 and abs(whole - best) < 0.3 and strength_of(x, whole) >= strength_of(x, float(best)) - 0.01:
        return float(whole)
    return float(best)


def _is_overtone(period: float, alone: dict[float, float]) -> bool:
    """A candidate that a small multiple of it explains clearly better is that one's overtone.

    Clearly: by 0.05 and by three tenths of what it explains itself. Six hours that leave a faint day over are a season of their own.
    """
    for longer, strength in alone.items():
        k = longer / period
        more = max(OVERTONE_GAIN, OVERTONE_SHARE * alone[period])
        if 1.5 < k < 6.5 and abs(k - round(k)) < 0.03 and strength > alone[period] + more:
            return True
    return False


def _slot_means(y: Floats, period: float) -> Floats:
    """(n,) mean of the observed samples in each sample's slot; NaN where a slot has none."""
    count = max(2, round(period))
    slots = ((np.arange(len(y)) % period) / period * count).astype(np.int64) % count
    ok = ~np.isnan(y)
    sums = np.bincount(slots[ok], y[ok], count)
    seen = np.bincount(slots[ok], minlength=count)
    with np.errstate(invalid="ignore", divide="ignore"):
        return np.asarray(np.where(seen > 0, sums / seen, np.nan)[slots])


def check_lengths(periods: Sequence[float], n: int, step_ns: int, *, may_be_long: bool = False) -> None:
    """Raise ValueError, with the remedy, for a stated season under 2 samples or over half of the data.

    may_be_long : up to the whole of the data will do, as it does for the harmonic kind.
    """
    for p in periods:
        length = written(p * step_ns)
        if p > n:
            raise ValueError(
                f"a season of {length} is {p:g} samples, longer than the {n} samples; "
                f"{int(np.ceil(p)) - n} more samples are needed, or take a shorter season"
            )
        if p > n / 2 and not may_be_long:
            raise ValueError(
                f"a season of {length} is {p:g} samples, longer than half of the {n} samples; "
                f"{int(np.ceil(2 * p)) - n} more samples are needed, or take kind: harmonic, which carries a season seen once"
            )
        if p < 2:
            raise ValueError(
                f"a season of {length} is under 2 samples; take a finer cadence or a longer season"
            )


def written(ns: float) -> str:
    """A season's length in words: years where it is whole ones, else days from four weeks on, else hours."""
    years = ns / YEAR_NS
    if abs(years - round(years)) < 1e-9 and round(years):
        return f"{round(years)} y"
    return f"{ns / DAY_NS:g} d" if ns > 28 * DAY_NS else f"{ns / SECOND_NS / 3600:g} h"


def check_periods(periods: Sequence[float], n: int, step_ns: int) -> list[int]:
    """Whole-sample periods for stated seasons, or ValueError with the remedy: loess takes no others."""
    check_lengths(periods, n, step_ns)
    whole = []
    for p in periods:
        if abs(p - round(p)) > 1e-6:
            near = whole_period(p, n)
            hours = p * step_ns / SECOND_NS / 3600
            remedy = (
                f"; {near * step_ns / SECOND_NS / 3600:g} h ({near} samples) is near a multiple of it, and "
                if near
                else "; "
            )
            raise ValueError(
                f"a season of {hours:g} h is {p:g} samples, not a whole number{remedy}kind: harmonic takes any length"
            )
        whole.append(round(p))
    return whole
