"""Baseline by the same slot: what this weekday and time did in other seasons, or in the previous n of them."""

import numpy as np
from numba import njit

from watchtide.core import robust
from watchtide.core.expect.baselines import Fitted, Parts
from watchtide.core.expect.frame import Frame, Period, slot_count, slots
from watchtide.core.series import Bools, Floats, Ints

CENTRES = ("median", "mean", "trimmed")


def fit(
    frame: Frame, periods: tuple[Period, ...], *, centre: str = "median", previous: int | None = None
) -> Fitted:
    """Centre of each slot of the longest season over the training part.

    centre : median, mean, or trimmed (a fifth off either end). previous : instead of all of training,
        each sample is compared with its own slot in the n seasons before it; beyond training with
        the last n of it. A slot without samples takes a straight line between its neighbours.
    Raises ValueError for an unknown centre or previous under 1.
    """
    if centre not in CENTRES:
        raise ValueError(f"centre must be one of {', '.join(CENTRES)}, got {centre!r}")
    if previous is not None and previous < 1:
        raise ValueError(f"previous must be at least 1 season, got {previous}")
    period = max(periods, key=lambda p: p.ns)
    count = slot_count(frame, period)
    use = frame.usable
    at, values = slots(frame, period, count)[use], frame.values[use]
    level = centres(at, values, count, centre)
    gaps = np.isnan(level)
    if gaps.any() and not gaps.all():
        x = np.arange(count)
        level[gaps] = np.interp(x[gaps], x[~gaps], level[~gaps], period=count)
    arrays = {"level": level}
    if previous is not None:
        # The newest samples of each slot, oldest first, for what comes after training.
        ring = np.full((count, previous), np.nan)
        _fill(at.astype(np.int64), values, ring)
        arrays["ring"] = ring
    end = int(frame.times[use][-1]) if use.any() else 0
    facts = {"centre": centre, "previous": previous, "per_slot": len(values) / count, "end": end}
    return Fitted("slot", periods, arrays, facts)


def centres(at: Ints, values: Floats, count: int, centre: str) -> Floats:
    """(count,) centre of the values of each slot; NaN where a slot has none."""
    ranked, edges = robust.in_groups(at, values, count)
    sizes = np.diff(edges)
    out = np.full(count, np.nan)
    seen = sizes > 0
    a, m = edges[:-1][seen], sizes[seen]
    if centre == "median":
        out[seen] = (ranked[a + (m - 1) // 2] + ranked[a + m // 2]) / 2
        return out
    cut = m // 5 if centre == "trimmed" else np.zeros_like(m)
    total = np.r_[0.0, np.cumsum(ranked)]
    out[seen] = (total[a + m - cut] - total[a + cut]) / (m - 2 * cut)
    return out


@njit(cache=True, nogil=True)
def _fill(at, values, ring):  # type: ignore[no-untyped-def]
    width = ring.shape[1]
    for i in range(len(at)):
        for j in range(width - 1):
            ring[at[i], j] = ring[at[i], j + 1]
        ring[at[i], width - 1] = values[i]


@njit(cache=True, nogil=True)
def _walk(at, values, use, ring, level, how):  # type: ignore[no-untyped-def]
    """Centre of the ring of each sample's slot before the sample enters it."""
    n = len(at)
    width = ring.shape[1]
    out = np.empty(n)
    held = np.empty(width)
    for i in range(n):
        m = 0
        for j in range(width):
            v = ring[at[i], j]
            if not np.isnan(v):
                held[m] = v
                m += 1
        if m == 0:
            out[i] = level[at[i]]
        elif how == 0:
            out[i] = np.median(held[:m])
        else:
            ranked = np.sort(held[:m])
            cut = m // 5 if how == 2 else 0
            out[i] = np.mean(ranked[cut : m - cut])
        if use[i]:
            for j in range(width - 1):
                ring[at[i], j] = ring[at[i], j + 1]
            ring[at[i], width - 1] = values[i]
    return out


def expect(fitted: Fitted, frame: Frame) -> Parts:
    """The slot's centre; with `previous`, of the seasons before each sample as far as the frame holds them."""
    period = max(fitted.periods, key=lambda p: p.ns)
    level = fitted.arrays["level"]
    at = slots(frame, period, len(level))
    if "ring" in fitted.arrays:
        ring = fitted.arrays["ring"]
        starts_later = len(frame) > 0 and int(frame.times[0]) > fitted.facts["end"]
        expected = _walk(
            at, frame.values, frame.usable, ring.copy() if starts_later else np.full_like(ring, np.nan),
            level, CENTRES.index(fitted.facts["centre"]),
        )  # fmt: skip
    else:
        expected = level[at]
    seen = level[~np.isnan(level)]
    base = np.full(len(frame), float(seen.mean()) if len(seen) else np.nan)
    row = np.zeros((len(fitted.periods), len(frame)))
    row[fitted.periods.index(period)] = expected - base
    return Parts(expected, base, row)


def held_out(fitted: Fitted, frame: Frame, tame: Bools) -> Floats:
    """(n,) centre of each sample's slot without the sample itself: with a season a cycle, without its cycle.

    tame : samples that may speak. Medians by rank, means by their sums: no fit is made again.
    """
    period = max(fitted.periods, key=lambda p: p.ns)
    level = fitted.arrays["level"]
    at = slots(frame, period, len(level))
    return np.asarray(_without_own(at, frame.values, tame, level, CENTRES.index(fitted.facts["centre"])))


@njit(cache=True, nogil=True)
def _without_own(at, values, tame, level, how):  # type: ignore[no-untyped-def]
    n, count = len(at), len(level)
    ranked, edges = robust.in_groups(at[tame], values[tame], count)
    out = np.empty(n)
    for i in range(n):
        part = ranked[edges[at[i]] : edges[at[i] + 1]]
        m = len(part)
        if not tame[i]:
            out[i] = level[at[i]]
            continue
        if m < 2:
            # Nobody else was ever in this slot: its neighbours stand in, as they do for an empty one.
            out[i] = (level[(at[i] - 1) % count] + level[(at[i] + 1) % count]) / 2
            continue
        if how == 0:
            # One side of the middle moves up by the rank that the sample leaves.
            low, high = (m - 2) // 2, (m - 1) // 2
            out[i] = (
                part[low + 1 if values[i] <= part[low] else low]
                + part[high + 1 if values[i] <= part[high] else high]
            ) / 2
            continue
        own = np.searchsorted(part, values[i])
        cut = (m - 1) // 5 if how == 2 else 0
        total = 0.0
        for j in range(cut, m - 1 - cut):
            total += part[j] if j < own else part[j + 1]
        out[i] = total / (m - 1 - 2 * cut)
    return out
