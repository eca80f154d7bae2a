"""Compiled searches for the changes of least cost."""

import numpy as np
from numba import njit

from watchtide.core.series import Floats, Ints


def sums_of(z: Floats, x: Ints, rows: int = 6) -> Floats:
    """(6, n + 1) prefix sums of 1, z, z², x, x², x z, with x scaled to 0 … 1 and centred; or the first few of them."""
    sums = np.zeros((rows, len(z) + 1))
    sums[0] = np.arange(len(z) + 1)
    np.cumsum(z, out=sums[1, 1:])
    np.cumsum(z * z, out=sums[2, 1:])
    if rows > 3:
        u = (x - x[0]) / max(float(x[-1] - x[0]), 1.0) - 0.5
        for row, of in zip(sums[3:], (u, u * u, u * z), strict=True):
            np.cumsum(of, out=row[1:])
    return sums


@njit(cache=True, nogil=True)
def segment_cost(sums, a, b, code, floor):  # type: ignore[no-untyped-def]
    n = sums[0, b] - sums[0, a]
    sz = sums[1, b] - sums[1, a]
    squares = sums[2, b] - sums[2, a] - sz * sz / n
    if squares < 0.0:
        squares = 0.0
    if code == 0:
        return squares
    if code == 1:
        return n * np.log(max(squares / n, floor))
    sx = sums[3, b] - sums[3, a]
    xx = sums[4, b] - sums[4, a] - sx * sx / n
    if n < 3 or xx <= 0.0:
        return 0.0 if n < 3 else squares
    xz = sums[5, b] - sums[5, a] - sx * sz / n
    rest = squares - xz * xz / xx
    return rest if rest > 0.0 else 0.0


@njit(cache=True, nogil=True)
def _least_future(sums, a, b, code, floor, n_all):  # type: ignore[no-untyped-def]
    """Greatest lower bound on cost(a, u) - cost(b, u) over all later u: what pruning may rely on.

    For squared errors this is cost(a, b). The floor breaks that for step+spread: with s the squared
    deviations and f the floor, the bound is n log f - (n - s / f) where s / n < f, and otherwise the
    lesser of n log(s / n) and its value when everything up to the end has no further deviation.
    """
    c = segment_cost(sums, a, b, code, floor)
    if code != 1:
        return c
    n = sums[0, b] - sums[0, a]
    sz = sums[1, b] - sums[1, a]
    s = max(sums[2, b] - sums[2, a] - sz * sz / n, 0.0)
    if s / n < floor:
        return n * np.log(floor) - (n - s / floor)
    most = n_all - a
    late = most * np.log(s / (most * floor)) if s / most > floor else 0.0
    return n * np.log(floor) + min(n * np.log(s / (n * floor)), late)


@njit(cache=True, nogil=True)
def search_any(sums, code, penalty, shortest, floor):  # type: ignore[no-untyped-def]
    """previous[t]: the start of the last segment of the best partition of the first t samples."""
    n = sums.shape[1] - 1
    best = np.full(n + 1, np.inf)
    best[0] = -penalty
    previous = np.zeros(n + 1, np.int64)
    candidates = np.empty(n + 1, np.int64)
    doomed = np.empty(n + 1, np.int64)  # when the prune test first held, or n + 1
    held = 0
    # Rounding of the prefix sums must not prune a tie.
    slack = 1e-9 * (1.0 + abs(penalty))
    for t in range(shortest, n + 1):
        fresh = t - shortest
        if fresh == 0 or best[fresh] < np.inf:
            candidates[held] = fresh
            doomed[held] = n + 1
            held += 1
        low = np.inf
        at = 0
        for k in range(held):
            s = candidates[k]
            value = best[s] + segment_cost(sums, s, t, code, floor) + penalty
            if value < low:
                low = value
                at = s
        best[t] = low
        previous[t] = at
        kept = 0
        for k in range(held):
            s = candidates[k]
            if doomed[k] > n:
                bound = best[s] + _least_future(sums, s, t, code, floor, n)
                if bound > low + slack:
                    doomed[k] = t
            if doomed[k] > n or t < doomed[k] + shortest:
                candidates[kept] = s
                doomed[kept] = doomed[k]
                kept += 1
        held = kept
    return previous


# Candidates that share one bound in a step search, and blocks that share one of theirs.
BLOCK, SHELF = 32, 8
# What is kept of each candidate: cost up to it less its squares, sum up to it, its place, and when it was doomed.
BASE, LEVEL, START, DOOMED = 0, 1, 2, 3


@njit(cache=True, nogil=True, error_model="numpy")
def search_steps(sums, penalty, shortest):  # type: ignore[no-untyped-def]
    """`search_any` for the step cost, with what each candidate needs kept side by side.

    For squared errors the prune test is the candidate's value itself. Candidates are looked at in blocks: because
    cost(s, t) >= cost(s, u) + cost(u, t), a block whose least value was m at u cannot hold the best at t while
    m + cost(u, t) lies over the value of any other candidate; so too a shelf of blocks by the least of their bounds.
    Without a change in sight nothing is pruned, and all but a few shelves are passed over.
    """
    totals, squares = sums[1], sums[2]
    n = len(totals) - 1
    best = np.full(n + 1, np.inf)
    best[0] = -penalty
    previous, values = np.zeros(n + 1, np.int64), np.empty(n + 1)
    known = np.empty((4, n + 1))
    base, level, starts, doomed = known[BASE], known[LEVEL], known[START], known[DOOMED]
    # The least value of each block, or the least bound of each shelf, and when it was taken.
    least, taken = np.full(n // BLOCK + 1, -np.inf), np.zeros(n // BLOCK + 1, np.int64)
    bound, bounded = np.full(n // (BLOCK * SHELF) + 1, -np.inf), np.zeros(n // (BLOCK * SHELF) + 1, np.int64)
    # Of the candidates: how many, the best one, and when the earliest doomed one was doomed.
    held, at, first_doomed = 0, 0, n + 1
    slack = 1e-9 * (1.0 + abs(penalty))
    for t in range(shortest, n + 1):
        total, square, fresh = totals[t], squares[t], t - shortest
        if fresh == 0 or best[fresh] < np.inf:
            base[held], level[held] = best[fresh] - squares[fresh], totals[fresh]
            starts[held], doomed[held] = fresh, n + 1
            value = _value(known, held, t, total, square)
            _join(least, taken, held, BLOCK, value, t, totals, squares)
            _join(bound, bounded, held, BLOCK * SHELF, value, t, totals, squares)
            held += 1
        near = _value(known, at, t, total, square) + slack
        low = np.inf
        blocks = (held + BLOCK - 1) // BLOCK
        for shelf in range((blocks + SHELF - 1) // SHELF):
            if _brought_up(bound[shelf], bounded[shelf], t, totals, squares) > near:
                continue
            lowest = np.inf
            for block in range(shelf * SHELF, min((shelf + 1) * SHELF, blocks)):
                over = _brought_up(least[block], taken[block], t, totals, squares)
                if over > near:
                    lowest = min(lowest, over)
                    continue
                first, stop = block * BLOCK, min((block + 1) * BLOCK, held)
                own, most = _step_costs(base, level, starts, first, stop, float(t), total, square, values)
                least[block], taken[block] = own, t
                lowest = min(lowest, own)
                if own < low:
                    low, at = own, first
                    while values[at] > low:
                        at += 1
                if most > near + penalty:
                    first_doomed = min(first_doomed, _doom(doomed, values, first, stop, near + penalty, t))
            bound[shelf], bounded[shelf] = lowest, t
        best[t] = low + penalty
        previous[t] = int(starts[at])
        # Closing ranks makes every block be looked at anew: not at each step.
        if t % BLOCK == 0 and t >= first_doomed + shortest:
            held, at, first_doomed = _close_ranks(known, held, at, t, shortest)
            least[:], bound[:] = -np.inf, -np.inf
    return previous


@njit(cache=True, nogil=True, error_model="numpy")
def _value(known, k, t, total, square):  # type: ignore[no-untyped-def]
    """Cost of ending at t the segment of candidate k."""
    d = total - known[LEVEL, k]
    return known[BASE, k] + square - d * d / (t - known[START, k])


@njit(cache=True, nogil=True, error_model="numpy")
def _join(least, taken, held, size, value, t, totals, squares):  # type: ignore[no-untyped-def]
    """Let the bound of the group of this size that candidate `held` joins hold for its value too: it is brought up to now."""
    i = held // size
    if held % size == 0:
        least[i], taken[i] = np.inf, t
    least[i] = min(_brought_up(least[i], taken[i], t, totals, squares), value)
    taken[i] = t


@njit(cache=True, nogil=True, error_model="numpy")
def _brought_up(least, u, t, totals, squares):  # type: ignore[no-untyped-def]
    """Bound of the values at t of candidates that had at least this one at u: the samples between cost as much again."""
    if u == t:
        return least
    d = totals[t] - totals[u]
    return least + (squares[t] - squares[u]) - d * d / (t - u)


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _step_costs(base, level, starts, first, stop, t, total, square, values):  # type: ignore[no-untyped-def]
    """Least and largest cost of ending at t the segments of candidates first … stop - 1. One short loop over arrays side
    by side, which the compiler turns into vector instructions."""
    low, high = np.inf, -np.inf
    for k in range(first, stop):
        d = total - level[k]
        value = base[k] + square - d * d / (t - starts[k])
        values[k] = value
        low = min(low, value)
        high = max(high, value)
    return low, high


@njit(cache=True, nogil=True, error_model="numpy")
def _doom(doomed, values, first, stop, most, t):  # type: ignore[no-untyped-def]
    """Doom at t those of candidates first … stop - 1 that cost more than `most`; t, or more than any time where there are none."""
    when = len(doomed)
    for k in range(first, stop):
        if values[k] > most and doomed[k] >= len(doomed):
            doomed[k] = when = t
    return when


@njit(cache=True, nogil=True, error_model="numpy")
def _close_ranks(known, held, at, t, shortest):  # type: ignore[no-untyped-def]
    """Let go of candidates that were doomed `shortest` samples ago; how many are left, where the best one is now, and when the earliest doomed
    one of them was doomed."""
    never = known.shape[1]
    first_doomed = never
    kept = moved = 0
    for k in range(held):
        when = known[DOOMED, k]
        if when >= never or t < when + shortest:
            for i in range(4):
                known[i, kept] = known[i, k]
            if k == at:
                moved = kept
            first_doomed = min(first_doomed, int(when))
            kept += 1
    return kept, moved, first_doomed
