"""Change points: where a series takes a new level, spread or slope, by exact penalised search."""

from dataclasses import dataclass
from functools import lru_cache
from itertools import pairwise
from typing import NamedTuple

import numpy as np
from numba import njit

from watchtide.core import robust
from watchtide.core.series import Floats, Ints

COSTS = ("step", "step+spread", "slope")
_CODES = {name: code for code, name in enumerate(COSTS)}


def search(y: Floats, *, cost: str = "step", penalty: float | None = None, shortest: int = 2) -> Ints:
    """First indices of new regimes that minimise cost plus penalty, exactly.

    y : (n,) float64; NaN samples are skipped and keep their index, so that lengths count observed
        samples.
    cost : "step" (squared deviations from the segment mean), "step+spread" (Gaussian, n_k times
        the log of the segment variance, floored), "slope" (squared residuals from a line a segment).
    penalty : once a change. None takes 3 log(n) (step) or 5 log(n) (slope) times the robust
        long-run variance of the noise, 4 log(n) (1 + phi) / (1 - phi) for step+spread.
    shortest : least observed samples in a segment; 1 … n.
    Raises ValueError for an unknown cost, a negative penalty, or fewer than 2 * shortest samples.
    Killick, Fearnhead and Eckley (2012), section 3; a candidate is dropped only `shortest` samples
    after its prune test first holds, without which short segments are missed. O(n) to O(n^2).
    """
    y, x = _observed(y)
    _check_cost(cost)
    if shortest < 1:
        raise ValueError(f"shortest must be at least 1 sample, got {shortest}")
    if len(y) < 2 * shortest:
        raise ValueError(
            f"a change needs {2 * shortest} observed samples (2 * shortest), got {len(y)}; "
            "take a smaller shortest or more history"
        )
    if penalty is None:
        penalty = default_penalty(y, cost)
    if not penalty >= 0:
        raise ValueError(f"penalty must be 0 or more, got {penalty}")
    z, scale, floor = _standardise(y)
    if cost != "step+spread":
        penalty = penalty / scale**2
    sums = _sums(z, x, 3 if cost == "step" else 6)
    if cost == "step":
        previous = _search_steps(sums, float(penalty), shortest)
    else:
        previous = _search(sums, _CODES[cost], float(penalty), shortest, floor)
    changes = []
    at = int(previous[len(z)])
    while at > 0:
        changes.append(int(x[at]))
        at = int(previous[at])
    return np.asarray(changes[::-1], dtype=np.int64)


def cost(y: Floats, changes: Ints, cost: str = "step") -> float:
    """The objective without penalty of the segments that start at 0 and at each of `changes`."""
    _check_cost(cost)
    observed, x = _observed(y)
    if len(observed) == 0:
        return 0.0
    z, scale, floor = _standardise(observed)
    sums = _sums(z, x)
    edges = [0, *np.searchsorted(x, np.sort(np.asarray(changes, dtype=np.int64))).tolist(), len(z)]
    total = 0.0
    for a, b in pairwise(edges):
        if b > a:
            total += _segment_cost(sums, a, b, _CODES[cost], floor)
    if cost == "step+spread":
        return float(total + len(z) * 2 * np.log(scale))
    return float(total * scale**2)


_objective = cost


def default_penalty(y: Floats, cost: str = "step", *, variance: float | None = None) -> float:
    """The penalty `search` takes when none is given; y of (n,), NaN skipped; variance : long-run, where it is known."""
    seen = y[~np.isnan(y)]
    n = max(len(seen), 2)
    if cost == "step+spread":
        phi = robust.lag_one(seen)
        return float(4 * np.log(n) * (1 + phi) / (1 - phi))
    if variance is None:
        variance = robust.long_run_variance(seen)
    # Noise-free data would make every change free: a billionth of the range is no news.
    least = (1e-9 * float(np.ptp(seen))) ** 2 if len(seen) else 0.0
    return float((5 if cost == "slope" else 3) * np.log(n) * max(variance, least))


@dataclass(frozen=True)
class Shift:
    """One change of level: index of the first sample of the new regime, size with its 95 % interval, and how sure."""

    index: int
    size: float
    before: float
    after: float
    confidence: float
    size_ci: tuple[float, float]


def describe(y: Floats, changes: Ints, *, reach: int | None = None) -> list[Shift]:
    """Size and confidence of each change of level.

    size : difference of the medians of the regimes around the change, of at most `reach` samples
        next to it.
    confidence : 1 / (1 + exp(-(gain / v - 3 log n) / 2)), where gain is what the squared error grows
        by without this change and v is the long-run variance: 0.5 where the default penalty would
        just still allow the change. A grade of evidence, not a frequency.
    size_ci : size ± 1.96 √(π/2 v (1/n₁ + 1/n₂)), the large-sample error of two medians of Gaussian noise with the
        long-run variance v; it takes the place of the change as known.
    """
    edges = [0, *(int(c) for c in changes), len(y)]
    found = []
    variance = max(
        robust.long_run_variance(y), (1e-9 * float(np.nanmax(np.abs(y), initial=0.0))) ** 2, 1e-300
    )
    n = max(int(np.sum(~np.isnan(y))), 2)
    for i in range(1, len(edges) - 1):
        left, right = y[edges[i - 1] : edges[i]], y[edges[i] : edges[i + 1]]
        if reach is not None:
            left, right = left[-reach:], right[:reach]
        before, after = float(np.nanmedian(left)), float(np.nanmedian(right))
        n1, n2 = np.sum(~np.isnan(left)), np.sum(~np.isnan(right))
        gain = n1 * n2 / (n1 + n2) * (float(np.nanmean(right)) - float(np.nanmean(left))) ** 2
        evidence = np.clip((gain / variance - 3 * np.log(n)) / 2, -50, 50)
        size, half = after - before, 1.96 * float(np.sqrt(np.pi / 2 * variance * (1 / n1 + 1 / n2)))
        sure = float(1 / (1 + np.exp(-evidence)))
        found.append(Shift(edges[i], size, before, after, sure, (size - half, size + half)))
    return found


@dataclass(frozen=True)
class Step:
    """One stretch of the penalty path: from this penalty up to that of the stretch with fewer, `changes` are optimal."""

    penalty: float
    changes: Ints
    cost: float
    is_elbow: bool


# Beyond this many changes more of them explain nothing, and the elbow lies far below.
MOST_ON_PATH = 60


def path(y: Floats, *, cost: str = "step", shortest: int = 2) -> list[Step]:
    """Every optimal number of changes between a tenth of the default penalty and the one that allows none.

    y, cost, shortest : as in `search`. Fewest changes first. Between two penalties whose searches differ by more than one
    change, the penalty at which both would cost the same is tried, and so on: no optimum in between is missed
    (Haynes, Eckley and Fearnhead 2017, section 3). The elbow is where the cost lies furthest below the straight line
    from the first to the last of the path, both axes scaled to 1. Raises ValueError like `search`.
    """
    default = max(default_penalty(y, cost), 1e-300)
    found: dict[int, tuple[Ints, float]] = {}

    def at(penalty: float) -> int:
        changes = search(y, cost=cost, penalty=penalty, shortest=shortest)
        k = len(changes)
        found[k] = changes, _objective(y, changes, cost)
        return k

    low = default / 10
    while (most := at(low)) > MOST_ON_PATH:
        found.clear()
        low *= 2
    high = max(default, 2 * low)
    while at(high) > 0:
        high *= 4
    # Pairs of numbers of changes between which others may be optimal.
    open_ = [(most, 0)]
    while open_:
        more, fewer = open_.pop()
        if more <= fewer + 1:
            continue
        between = at((found[fewer][1] - found[more][1]) / (more - fewer))
        if between not in (more, fewer):
            open_ += [(more, between), (between, fewer)]
    counts = sorted(found)
    costs = [found[k][1] for k in counts]
    elbow = _elbow(counts, costs)
    # A stretch ends where more changes are worth their penalty.
    ends = [(costs[i] - costs[i + 1]) / (counts[i + 1] - counts[i]) for i in range(len(counts) - 1)]
    return [
        Step(end, found[k][0], found[k][1], k == elbow) for k, end in zip(counts, [*ends, low], strict=True)
    ]


def _elbow(counts: list[int], costs: list[float]) -> int:
    if len(counts) < 3 or costs[0] <= costs[-1]:
        return counts[0]
    x = (np.array(counts) - counts[0]) / (counts[-1] - counts[0])
    v = (np.array(costs) - costs[-1]) / (costs[0] - costs[-1])
    return counts[int(np.argmax(1 - x - v))]


@dataclass(frozen=True)
class Raised:
    """A shift seen online: first sample of the new regime as the test sees it, and the sample at which it was known."""

    index: int
    raised: int
    direction: int


# Samples before which an online test has no scale to go by.
WARM_UP = 200
# Mean and standard deviation of the absolute value of a standard normal.
GAUSSIAN_SIZE, GAUSSIAN_SIZE_SPREAD = np.sqrt(2 / np.pi), np.sqrt(1 - 2 / np.pi)
# Scores beyond this say no more of a lasting shift.
CLIP = 3.0
# Samples that must lie in a new regime before it is one.
LEAST_REGIME = 24
# … and how far its median must lie from the level before, in standard deviations: less is drift.
LEAST_JUMP = 2.0
# The shift that the online test is sharpest for, in standard deviations of the noise.
SHARPEST = 1.0


class _Sums(NamedTuple):
    """Both sums of the test, and the samples at which they last began."""

    up: float
    down: float
    up_from: int
    down_from: int


@dataclass(frozen=True)
class Course:
    """Where an online test stands after `done` seen samples: what it has found, where each began among the seen ones and about
    which level scores were since, and its sums."""

    done: int
    found: tuple[Raised, ...]
    begins: tuple[int, ...]
    levels: tuple[float, ...]
    sums: _Sums


_START = Course(0, (), (), (), _Sums(0.0, 0.0, 0, 0))


@dataclass(frozen=True)
class Running:
    """An online test after `done` seen samples, and what it goes by until it reads its scale anew: about : level that scores
    are clipped about; level, slack, threshold : of the sums."""

    done: int
    about: float = 0.0
    level: float = 0.0
    slack: float = 0.0
    threshold: float = np.inf
    up: float = 0.0
    down: float = 0.0

    def after(self, z: float) -> "Running | None":
        """After one more seen sample; None where only the whole test can say what follows."""
        if self.done < WARM_UP:
            return Running(self.done + 1)
        if self.done % WARM_UP == 0:
            return None
        move = min(max(z - self.about, -CLIP), CLIP) - self.level
        up, down = _moved(self.up, self.down, move, self.slack)
        if up > self.threshold or down > self.threshold:
            return None
        return Running(self.done + 1, self.about, self.level, self.slack, self.threshold, up, down)


def sizes(z: Floats) -> Floats:
    """(n,) the size of scores as scores: those of a standard normal have a mean of 0 and a standard deviation of 1."""
    return np.asarray((np.abs(z) - GAUSSIAN_SIZE) / GAUSSIAN_SIZE_SPREAD)


def online(z: Floats, *, run_length: float, shortest: int = LEAST_REGIME) -> list[Raised]:
    """Shifts of a stream of scores as they become known: a two-sided cumulative sum test on clipped scores.

    z : (n,) scores around 0, NaN skipped; run_length : mean number of samples between false alarms where nothing
    shifts; shortest : samples that must lie in the new regime. Only samples up to each one are used: the scale and lag-one autocorrelation of the first 200, and of
    all so far every 200 on. A shift is one only once `shortest` samples lie in it and their median, and that of the newest, lies two standard deviations from the level before; after it
    the new level counts as usual. Page (1954); threshold by Siegmund (1985),
    with the long-run variance of the noise.
    """
    return online_on(z, run_length=run_length, shortest=shortest)[0]


def online_on(
    z: Floats,
    *,
    run_length: float,
    shortest: int = LEAST_REGIME,
    course: Course | None = None,
    most: int | None = None,
) -> tuple[list[Raised], Course, Running]:
    """`online`, gone on with from where an earlier test of the same first scores stood, to the same result; where it stands
    now, at most before sample `most`; and how it goes on."""
    start = _START if course is None else course
    found, begins, levels, sums = list(start.found), list(start.begins), list(start.levels), start.sums
    seen = np.flatnonzero(~np.isnan(z))
    if len(seen) <= WARM_UP:
        return found, start, Running(len(seen))
    known = len(seen) if most is None else int(np.searchsorted(seen, most))
    plain = z[seen]
    # Scores about the level in force when each came, clipped: what has shifted for long is no wider for it.
    y = np.clip(plain, -CLIP, CLIP)
    for begin, about in zip(begins, levels, strict=True):
        y[begin:] = np.clip(plain[begin:] - about, -CLIP, CLIP)
    level, i, stands = 0.0, start.done, start
    slack, threshold = 0.0, np.inf
    while i < len(y):
        stop = min(i - i % WARM_UP + WARM_UP, len(y))
        if i % WARM_UP == 0 and i <= known:
            stands = Course(i, tuple(found), tuple(begins), tuple(levels), sums)
        if i % WARM_UP == 0 and i > 0:
            past = y[:i]
            if not found:
                level = float(np.median(past[: 4 * WARM_UP]))
            scale = max(robust.mad_sigma(past, centre=0.0), 1e-6)
            inflated = max(robust.long_run_variance(past), scale**2)
            slack = float(SHARPEST * np.sqrt(inflated) / 2)
            threshold = _threshold(run_length, slack, inflated)
        if i >= WARM_UP:
            # After the first shift scores are about the level since.
            at, begin, sign, *rest = _cusum(
                y, i, stop, 0.0 if found else level, scale, slack, threshold, shortest, *sums
            )
            sums = _Sums(*rest)
            if at >= 0:
                found.append(Raised(int(seen[begin]), int(seen[at]), sign))
                level = float(np.median(plain[begin : at + 1]))
                y[begin:] = np.clip(plain[begin:] - level, -CLIP, CLIP)
                begins.append(begin)
                levels.append(level)
                sums, stop = sums._replace(up=0.0, down=0.0), at + 1
        i = stop
    about = levels[-1] if levels else 0.0
    running = Running(len(y), about, 0.0 if found else level, slack, threshold, sums.up, sums.down)
    return found, stands, running


@njit(cache=True, nogil=True)
def _moved(up, down, move, slack):  # type: ignore[no-untyped-def]
    """Both sums after one more score, neither under 0."""
    return max(up + move - slack, 0.0), max(down - move - slack, 0.0)


@njit(cache=True, nogil=True)
def _cusum(  # type: ignore[no-untyped-def]
    y, first, stop, level, scale, slack, threshold, shortest, up, down, up_from, down_from
):
    """The test over y[first:stop]: the sample at which a shift lasts, or -1, where it began and its side; and the sums then."""
    for i in range(first, stop):
        move = y[i] - level
        if up <= 0:
            up_from = i
        if down <= 0:
            down_from = i
        up, down = _moved(up, down, move, slack)
        if up <= threshold and down <= threshold:
            continue
        start, sign = (up_from, 1) if up > threshold else (down_from, -1)
        recent = np.median(y[max(start, i - shortest // 2) : i + 1])
        if sign * (recent - level) < scale / 2:
            # It is over before it lasted: an episode, which is for the level to flag.
            up = down = 0.0
            continue
        if i - start + 1 < shortest:
            continue
        whole = sign * (np.median(y[start : i + 1]) - level)
        if min(whole, sign * (recent - level)) >= LEAST_JUMP * scale:
            return i, start, sign, up, down, up_from, down_from
    return -1, 0, 0, up, down, up_from, down_from


@lru_cache(maxsize=4_096)
def _threshold(run_length: float, slack: float, variance: float) -> float:
    """Height at which both sums together alarm once in `run_length` samples of pure noise."""
    rate = 2 * slack / variance

    def mean_run(height: float) -> float:
        u = rate * (height + 1.166 * np.sqrt(variance))
        return float((np.exp(min(u, 600.0)) - u - 1) * variance / (2 * slack**2)) / 2

    low, high = 0.0, 1.0
    while mean_run(high) < run_length:
        high *= 2
    for _ in range(60):
        middle = (low + high) / 2
        low, high = (middle, high) if mean_run(middle) < run_length else (low, middle)
    return high


def _check_cost(cost: str) -> None:
    if cost not in COSTS:
        raise ValueError(f"cost must be one of {', '.join(COSTS)}, got {cost!r}")


def _observed(y: Floats) -> tuple[Floats, Ints]:
    y = np.asarray(y, dtype=np.float64)
    at = np.flatnonzero(~np.isnan(y)).astype(np.int64)
    return y[at], at


def _standardise(y: Floats) -> tuple[Floats, float, float]:
    """Centre and scale, so that prefix sums keep their digits; the variance floor in that scale."""
    scale = float(np.std(y))
    if scale == 0 or not np.isfinite(scale):
        # Constant: the floor of 1e-300 is on the values as they are.
        return y - y[0], 1.0, 1e-300
    return (y - np.mean(y)) / scale, scale, 1e-8


def _sums(z: Floats, x: Ints, rows: int = 6) -> Floats:
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
def _segment_cost(sums, a, b, code, floor):  # type: ignore[no-untyped-def]
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
    c = _segment_cost(sums, a, b, code, floor)
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
def _search(sums, code, penalty, shortest, floor):  # type: ignore[no-untyped-def]
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
            value = best[s] + _segment_cost(sums, s, t, code, floor) + penalty
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
def _search_steps(sums, penalty, shortest):  # type: ignore[no-untyped-def]
    """`_search` for the step cost, with what each candidate needs kept side by side.

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
