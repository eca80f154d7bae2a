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
def _brought_up(least, u, t, totals, squares):  # type: ignore[no-untyped-def]
    """Bound of the values at t of candidates that had at least this one at u: the samples between cost as much again."""
    if u == t:
        return least
    d = totals[t] - totals[u]
    return least + (squares[t] - squares[u]) - d * d / (t - u)


# Candidates that share one bound in a step search, and blocks that share one of theirs.
BLOCK, SHELF = 32, 8


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
    previous = np.zeros(n + 1, np.int64)
    base = np.empty(n + 1)
    level = np.empty(n + 1)
    starts = np.empty(n + 1)
    doomed = np.empty(n + 1)
    values = np.empty(n + 1)
    # Each block's least value, and when it was taken.
    least = np.full(n // BLOCK + 1, -np.inf)
    taken = np.zeros(n // BLOCK + 1, np.int64)
    # No value of a shelf's lay under this, and when.
    bound = np.full(n // (BLOCK * SHELF) + 1, -np.inf)
    bounded = np.zeros(n // (BLOCK * SHELF) + 1, np.int64)
    held = at = 0
    slack = 1e-9 * (1.0 + abs(penalty))
    # When the earliest candidate still held was doomed.
    first_doomed = n + 1
    for t in range(shortest, n + 1):
        total, square = totals[t], squares[t]
        fresh = t - shortest
        if fresh == 0 or best[fresh] < np.inf:
            base[held] = best[fresh] - squares[fresh]
            level[held] = totals[fresh]
            starts[held] = fresh
            doomed[held] = n + 1
            d = total - level[held]
            value = base[held] + square - d * d / (t - fresh)
            block, shelf = held // BLOCK, held // (BLOCK * SHELF)
            # The bounds are brought up to now, so that they hold for the newcomer too.
            if held % BLOCK == 0:
                least[block], taken[block] = np.inf, t
            if held % (BLOCK * SHELF) == 0:
                bound[shelf], bounded[shelf] = np.inf, t
            least[block] = min(_brought_up(least[block], taken[block], t, totals, squares), value)
            bound[shelf] = min(_brought_up(bound[shelf], bounded[shelf], t, totals, squares), value)
            taken[block] = bounded[shelf] = t
            held += 1
        d = total - level[at]
        near = base[at] + square - d * d / (t - starts[at]) + slack
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
                    low = own
                    at = first
                    while values[at] > low:
                        at += 1
                if most > near + penalty:
                    for k in range(first, stop):
                        if values[k] > near + penalty and doomed[k] > n:
                            doomed[k] = t
                            first_doomed = min(first_doomed, t)
            bound[shelf], bounded[shelf] = lowest, t
        best[t] = low + penalty
        previous[t] = int(starts[at])
        # Closing ranks makes every block be looked at anew: not at each step.
        if t % BLOCK == 0 and t >= first_doomed + shortest:
            first_doomed = n + 1
            kept = moved = 0
            for k in range(held):
                if doomed[k] > n or t < doomed[k] + shortest:
                    base[kept], level[kept], starts[kept], doomed[kept] = (
                        base[k],
                        level[k],
                        starts[k],
                        doomed[k],
                    )
                    if k == at:
                        moved = kept
                    first_doomed = min(first_doomed, int(doomed[kept]))
                    kept += 1
            held, at = kept, moved
            least[:] = -np.inf
            bound[:] = -np.inf
    return previous
