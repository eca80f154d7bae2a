"""From flagged samples to findings: persistence, merging, shortest length."""

from dataclasses import dataclass

import numpy as np
from numba import njit

from watchtide.core.series import Floats, Ints


@dataclass(frozen=True)
class Group:
    """need of the last `of` samples must be flagged; runs within merge_ns join; shorter ones go."""

    need: int = 1
    of: int = 1
    merge_ns: int = 0
    shortest: int = 1

    def __post_init__(self) -> None:
        if not 1 <= self.need <= self.of:
            raise ValueError(f"group: need must be between 1 and of, got need {self.need} of {self.of}")
        if self.merge_ns < 0 or self.shortest < 1:
            raise ValueError("group: merge must not be negative and shortest at least 1 sample")


def find_side(z: Floats, level: float, times: Ints, group: Group) -> Ints:
    """(k, 3) findings of one side: first index, last index, flagged samples.

    z : (n,) scores, positive on the side watched; NaN is never flagged but takes its place among the
    last `of` samples. A sample belongs to a finding when some `of` samples in a row hold it and at
    least `need` flagged ones; flagged samples that share such a window belong together. O(n) and little work where few samples are flagged.
    """
    with np.errstate(invalid="ignore"):
        flagged = np.flatnonzero(z >= level)
    out = np.empty((len(flagged), 3), np.int64)
    k = group_indices(flagged, times, group.need, group.of, group.merge_ns, group.shortest, out)
    return out[:k]


@njit(cache=True, nogil=True)
def group_indices(flagged, times, need, of, merge_ns, shortest, out):  # type: ignore[no-untyped-def]
    """Fill `out` with (first, last, samples) of each finding; returns how many.

    Only the flagged samples are walked: `need` of them in a row within `of` positions qualify.
    """
    found = 0
    first = -1
    last = -1
    count = 0
    for k in range(len(flagged)):
        qualifies = False
        if k >= need - 1 and flagged[k] - flagged[k - need + 1] < of:
            qualifies = True
        opens = -1
        if qualifies:
            opens = k - need + 1
        if not qualifies:
            continue
        begin = flagged[opens]
        joined = False
        if first >= 0:
            shared = begin <= last
            # With one sample needed, two flagged ones within `of` positions share a window.
            touches = begin - last == 1 or (need == 1 and begin - last < of)
            near = times[begin] - times[last] <= merge_ns
            joined = shared or touches or near
        if joined:
            for j in range(opens, k + 1):
                if flagged[j] > last:
                    count += 1
            last = flagged[k]
        else:
            if first >= 0 and last - first + 1 >= shortest:
                out[found, 0] = first
                out[found, 1] = last
                out[found, 2] = count
                found += 1
            first = begin
            last = flagged[k]
            count = k - opens + 1
    if first >= 0 and last - first + 1 >= shortest:
        out[found, 0] = first
        out[found, 1] = last
        out[found, 2] = count
        found += 1
    return found


@dataclass(frozen=True)
class Runs:
    """Findings of one stream as arrays of (k,), in time order.

    first, last : indices of the first and last flagged sample; side : 1 above, -1 below;
    samples : flagged samples within; peak : index of the strongest one.
    """

    first: Ints
    last: Ints
    side: np.ndarray
    samples: Ints
    peak: Ints


def find_runs(z: Floats, above: float, below: float, times: Ints, group: Group) -> Runs:
    """Findings of both sides; a finding has one side, so that a dip beside a spike makes two."""
    parts, sides = [], []
    for sign, level in ((1, above), (-1, below)):
        if np.isfinite(level):
            rows = find_side(sign * z, level, times, group)
            parts.append(rows)
            sides.append(np.full(len(rows), sign, np.int8))
    rows = np.concatenate(parts) if parts else np.empty((0, 3), np.int64)
    side = np.concatenate(sides) if sides else np.empty(0, np.int8)
    order = np.lexsort((rows[:, 1], rows[:, 0]))
    rows, side = rows[order], side[order]
    peaks = np.array(
        [a + int(np.nanargmax(s * z[a : b + 1])) for (a, b, _), s in zip(rows, side, strict=True)],
        dtype=np.int64,
    )
    return Runs(rows[:, 0], rows[:, 1], side, rows[:, 2], peaks)


def mark(runs: Runs, z: Floats) -> np.ndarray:
    """(n,) bool: observed samples inside the closed span of a finding."""
    out = np.zeros(len(z), np.bool_)
    for a, b in zip(runs.first, runs.last, strict=True):
        out[a : b + 1] = True
    return out & ~np.isnan(z)
