"""Change points: where a series takes a new level, spread or slope, by exact penalised search."""

from dataclasses import dataclass
from itertools import pairwise

import numpy as np

from watchtide.core import robust
from watchtide.core.series import Floats, Ints
from watchtide.core.shifts.kernels import search_any, search_steps, segment_cost, sums_of

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
    sums = sums_of(z, x, 3 if cost == "step" else 6)
    if cost == "step":
        previous = search_steps(sums, float(penalty), shortest)
    else:
        previous = search_any(sums, _CODES[cost], float(penalty), shortest, floor)
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
    sums = sums_of(z, x)
    edges = [0, *np.searchsorted(x, np.sort(np.asarray(changes, dtype=np.int64))).tolist(), len(z)]
    total = 0.0
    for a, b in pairwise(edges):
        if b > a:
            total += segment_cost(sums, a, b, _CODES[cost], floor)
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
