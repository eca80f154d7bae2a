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
def peaks(score, rows):  # type: ignore[no-untyped-def]
    """(k,) index of the strongest sample of each (first, last, samples)."""
    out = np.empty(len(rows), np.int64)
    for k in range(len(rows)):
        out[k] = rows[k, 0]
        for i in range(rows[k, 0], rows[k, 1] + 1):
            if score[i] > score[out[k]]:
                out[k] = i
    return out


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

    first, last : indices of the first and last flagged sample; side : 1 above, -1 below, 2 odd;
    samples : flagged samples within; peak : index of the strongest one; raised : index of the sample at
    which persistence was met.
    """

    first: Ints
    last: Ints
    side: np.ndarray
    samples: Ints
    peak: Ints
    raised: Ints


def find_runs(
    flags: np.ndarray, score: Floats, times: Ints, group: Group, begins: Ints | None = None
) -> Runs:
    """Findings of every side; a finding has one side, so that a dip beside a spike makes two.

    flags : (n,) 1 above, -1 below, 2 odd, 0 not flagged; score : (n,). What is odd joins what it touches, and the
    finding takes the side of its strongest part. begins : (n,) index of the first sample that carries each
    flagged one (a window's), from which its finding starts; None starts at flagged ones.
    """
    flagged = np.flatnonzero(flags).astype(np.int64)
    rows = np.empty((len(flagged), 6), np.int64)
    k = group_flags(
        flagged,
        flags.astype(np.int64),
        np.nan_to_num(score),
        times,
        group.need,
        group.of,
        group.merge_ns,
        group.shortest,
        rows,
    )
    rows = rows[:k]
    if begins is not None:
        rows = _from_begins(rows, flags, np.nan_to_num(score), begins)
    return Runs(rows[:, 0], rows[:, 1], rows[:, 3].astype(np.int8), rows[:, 2], rows[:, 4], rows[:, 5])


def _from_begins(rows: Ints, flags: np.ndarray, score: Floats, begins: Ints) -> Ints:
    """Findings that start at the first sample that carries them; one that begins within the one before goes on with it.

    What the earlier one was known by, its start and when it was raised, stays as it was.
    """
    out: list[Ints] = []
    for row in rows:
        a, raised = int(row[0]), int(row[5])
        inside = np.flatnonzero(flags[a : raised + 1]) + a
        start = min(a, int(begins[inside].min()))
        last = out[-1] if out else None
        if last is not None and start <= last[1] and (row[3] in (last[3], 2) or last[3] == 2):
            stronger = score[row[4]] > score[last[4]]
            side, peak = (row[3], row[4]) if stronger else (last[3], last[4])
            out[-1] = np.array([last[0], max(last[1], row[1]), last[2] + row[2], side, peak, last[5]])
        else:
            out.append(np.array([start, row[1], row[2], row[3], row[4], raised]))
    return np.array(out, dtype=np.int64).reshape(-1, 6)


@njit(cache=True, nogil=True)
def group_flags(flagged, flags, score, times, need, of, merge_ns, shortest, rows):  # type: ignore[no-untyped-def]
    """Fill `rows` with (first, last, samples, side, peak, raised) of each finding, in time order; returns how many."""
    m = len(flagged)
    own = np.empty(m, np.int64)
    out = np.empty((m, 3), np.int64)
    found = 0
    for code in (1, -1, 2):
        k = 0
        for at in flagged:
            if flags[at] == code:
                own[k] = at
                k += 1
        runs = group_indices(own[:k], times, need, of, merge_ns, shortest, out)
        j = 0
        for r in range(runs):
            first, last = out[r, 0], out[r, 1]
            while own[j] < first:
                j += 1
            begin = j
            peak = own[j]
            raised = np.int64(-1)
            while j < k and own[j] <= last:
                if score[own[j]] > score[peak]:
                    peak = own[j]
                if (
                    raised < 0
                    and j - begin >= need - 1
                    and own[j] - own[j - need + 1] < of
                    and own[j] - first + 1 >= shortest
                ):
                    raised = own[j]
                j += 1
            rows[found] = (first, last, out[r, 2], code, peak, raised if raised >= 0 else last)
            found += 1
    order = np.argsort(rows[:found, 0] * np.int64(4) + (rows[:found, 3] == 2), kind="mergesort")
    ranked = rows[:found][order].copy()
    kept = 0
    for r in range(found):
        if kept > 0:
            last = rows[kept - 1]
            is_odd = last[3] == 2 or ranked[r, 3] == 2
            if is_odd and (ranked[r, 0] <= last[1] + 1 or times[ranked[r, 0]] - times[last[1]] <= merge_ns):
                last[1] = max(last[1], ranked[r, 1])
                last[2] += ranked[r, 2]
                last[5] = min(last[5], ranked[r, 5])
                if score[ranked[r, 4]] > score[last[4]]:
                    last[4] = ranked[r, 4]
                    last[3] = ranked[r, 3]
                continue
        rows[kept] = ranked[r]
        kept += 1
    return kept


def mark(runs: Runs, score: Floats) -> np.ndarray:
    """(n,) bool: observed samples inside the closed span of a finding."""
    out = np.zeros(len(score), np.bool_)
    for a, b in zip(runs.first, runs.last, strict=True):
        out[a : b + 1] = True
    return out & ~np.isnan(score)
