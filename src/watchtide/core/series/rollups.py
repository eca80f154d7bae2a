"""Events to figures an interval: moments, quantile sketches and distinct counts that can be merged.

A roll-up's state is kept in columns: one row an (group, bin) for the moments, one a (group, bin, bucket) for the
quantile sketch, one a (group, bin, hash) for the distinct count. Merging two states is adding rows of equal
keys, so it neither matters in which order events arrive nor how they are cut into batches.

Quantiles: buckets of equal relative width (Masson, Rim and Lee 2019, section 2); the answer is within
`ACCURACY` of a value whose rank is that of the quantile. Distinct: the k least 64-bit hashes (Bar-Yossef et al.
2002, algorithm 2): exact below k values, else with a standard error of 1 / sqrt(k - 2).
"""

from dataclasses import dataclass

import numpy as np

from watchtide.core.series import Floats, Ints

ACCURACY = 0.005
_GAMMA = (1 + ACCURACY) / (1 - ACCURACY)
# Every float64 has a bucket number between -75,000 and 75,000; shifted, the sign of a key is the value's.
_SHIFT = 100_000
LEAST_HASHES = 4_096


@dataclass(frozen=True)
class Moments:
    """count, total, least and most of each (group, bin); rows sorted by group, then bin."""

    groups: Ints
    bins: Ints
    counts: Ints
    totals: Floats
    least: Floats
    most: Floats


@dataclass(frozen=True)
class Keyed:
    """How often each integer key stands in a (group, bin); rows sorted by group, bin, key."""

    groups: Ints
    bins: Ints
    keys: Ints
    counts: Ints


def moments(groups: Ints, bins: Ints, values: Floats) -> Moments:
    """Moments of events; those with a missing value are counted nowhere. O(n log n)."""
    seen = ~np.isnan(values)
    g, b, v = groups[seen], bins[seen], values[seen]
    return _reduce_moments(g, b, np.ones(len(g), np.int64), v, v, v)


def merge_moments(first: Moments, second: Moments) -> Moments:
    return _reduce_moments(
        np.concatenate([first.groups, second.groups]), np.concatenate([first.bins, second.bins]),
        np.concatenate([first.counts, second.counts]), np.concatenate([first.totals, second.totals]),
        np.concatenate([first.least, second.least]), np.concatenate([first.most, second.most]),
    )  # fmt: skip


def _reduce_moments(g: Ints, b: Ints, n: Ints, total: Floats, low: Floats, high: Floats) -> Moments:
    order, starts = _runs(b, g)
    if len(order) == 0:
        return Moments(g, b, n, total, low, high)
    g, b, n = g[order], b[order], n[order]
    total, low, high = total[order], low[order], high[order]
    return Moments(
        g[starts], b[starts], np.add.reduceat(n, starts), np.add.reduceat(total, starts),
        np.minimum.reduceat(low, starts), np.maximum.reduceat(high, starts),
    )  # fmt: skip


def _runs(*keys: Ints) -> tuple[Ints, Ints]:
    """Order by the keys, the last one first, and where each run of equal keys begins."""
    order = np.lexsort(keys)
    if len(order) == 0:
        return order, order
    is_new = np.zeros(len(order), np.bool_)
    is_new[0] = True
    for key in keys:
        is_new[1:] |= np.diff(key[order]) != 0
    return order, np.flatnonzero(is_new)


def buckets(values: Floats) -> Ints:
    """(n,) the bucket of each value; keys rise with the values, 0 is zero."""
    size = np.abs(values)
    with np.errstate(divide="ignore"):
        index = np.ceil(np.log(size) / np.log(_GAMMA))
    key = np.where(size < 1e-300, 0, index + _SHIFT).astype(np.int64)
    return np.where(values < 0, -key, key)


def bucket_values(keys: Ints) -> Floats:
    """(n,) the value that stands for each bucket, at most `ACCURACY` away from any value in it."""
    index = np.abs(keys) - _SHIFT
    middle = 2 * np.exp(index * np.log(_GAMMA)) / (_GAMMA + 1)
    return np.where(keys == 0, 0.0, np.sign(keys) * middle)


def sketch(groups: Ints, bins: Ints, values: Floats) -> Keyed:
    """Quantile sketch of events; missing values are left out."""
    seen = ~np.isnan(values)
    return _reduce_keyed(groups[seen], bins[seen], buckets(values[seen]), np.ones(int(seen.sum()), np.int64))


def hashes(groups: Ints, bins: Ints, hashed: Ints) -> Keyed:
    """Distinct-count state of events by the 64-bit hash of each (see `mix`)."""
    return _cut(_reduce_keyed(groups, bins, hashed, np.ones(len(hashed), np.int64)))


def merge_sketches(first: Keyed, second: Keyed) -> Keyed:
    return _reduce_keyed(*_both(first, second))


def merge_hashes(first: Keyed, second: Keyed) -> Keyed:
    return _cut(_reduce_keyed(*_both(first, second)))


def _both(first: Keyed, second: Keyed) -> list[Ints]:
    return [
        np.concatenate([getattr(first, name), getattr(second, name)])
        for name in ("groups", "bins", "keys", "counts")
    ]


def _reduce_keyed(g: Ints, b: Ints, k: Ints, n: Ints) -> Keyed:
    order, starts = _runs(k, b, g)
    if len(order) == 0:
        return Keyed(g, b, k, n)
    return Keyed(g[order][starts], b[order][starts], k[order][starts], np.add.reduceat(n[order], starts))


def _cut(state: Keyed) -> Keyed:
    """Keep the least hashes of each (group, bin)."""
    if len(state.groups) <= LEAST_HASHES:
        return state
    _, starts = _runs(state.bins, state.groups)
    rank = np.arange(len(state.groups)) - np.repeat(starts, np.diff(np.r_[starts, len(state.groups)]))
    keep = rank < LEAST_HASHES
    return Keyed(state.groups[keep], state.bins[keep], state.keys[keep], state.counts[keep])


def quantiles(state: Keyed, share: float) -> tuple[Ints, Ints, Floats]:
    """(groups, bins, values) of a quantile, `share` between 0 and 1, by rank floor(share * (n - 1))."""
    if len(state.groups) == 0:
        return state.groups, state.bins, np.empty(0)
    _, starts = _runs(state.bins, state.groups)
    stops = np.r_[starts[1:], len(state.groups)]
    upto = np.cumsum(state.counts)
    before = upto[starts] - state.counts[starts]
    n = upto[stops - 1] - before
    rank = before + np.floor(share * (n - 1)).astype(np.int64)
    at = np.searchsorted(upto, rank, side="right")
    return state.groups[starts], state.bins[starts], bucket_values(state.keys[at])


def distinct(state: Keyed) -> tuple[Ints, Ints, Floats]:
    """(groups, bins, values) number of different events; exact below `LEAST_HASHES`, else estimated."""
    if len(state.groups) == 0:
        return state.groups, state.bins, np.empty(0)
    _, starts = _runs(state.bins, state.groups)
    stops = np.r_[starts[1:], len(state.groups)]
    n = (stops - starts).astype(np.float64)
    # Hashes are signed here: their place between the least and the largest possible one.
    share = (state.keys[stops - 1].astype(np.float64) + 2.0**63) / 2.0**64
    with np.errstate(divide="ignore"):
        estimate = (LEAST_HASHES - 1) / share
    return state.groups[starts], state.bins[starts], np.where(n < LEAST_HASHES, n, np.round(estimate))


def mix(numbers: Ints) -> Ints:
    """64-bit integers scattered evenly, each to its own (splitmix64; Steele, Lea and Flood 2014)."""
    with np.errstate(over="ignore"):
        z = numbers.astype(np.uint64) + np.uint64(0x9E3779B97F4A7C15)
        z = (z ^ (z >> np.uint64(30))) * np.uint64(0xBF58476D1CE4E5B9)
        z = (z ^ (z >> np.uint64(27))) * np.uint64(0x94D049BB133111EB)
        return (z ^ (z >> np.uint64(31))).view(np.int64)
