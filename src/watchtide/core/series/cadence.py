"""Cadence: how the samples of a stream follow one another, estimated from stamps that jitter, drift and go missing.

Three things are kept apart: the *stamps* of samples, the *places* they take on a grid, and the *axis*, an even scale on
which a place always has the same length. On a fixed cadence stamp and axis agree. On months the axis counts months of
equal length, so that a year is 12 of them; on working days it counts the days that occur, so that a week is five of
them. Everything fitted to a grid sees the axis alone.
"""

from collections.abc import Callable
from dataclasses import replace

import numpy as np

from watchtide.core.series import SECOND_NS, Floats, Ints, distinct
from watchtide.core.series.calendar import find_months, find_workdays
from watchtide.core.series.steps import DAY_NS, Cadence, Change, Found, fixed

# Stamps from which a live cadence is estimated, and the samples after which a coarser one is followed.
KNOWN_STAMPS = 50
BLOCK = 32
# A cadence this much coarser is another one; a stretch of it rules from this share of the span on, or at the end.
COARSER, COARSE_SHARE = 1.45, 0.1
# A jittered cadence is taken for a round duration within this much of it: clocks and exporters are that exact.
NEAR_ROUND = 0.01
# Differences of more steps than this are left out of the estimate: their rounding is uncertain.
MOST_STEPS_APART = 64
# Stretches of stamps by which candidates are compared, and the share of the best coherence that is as good.
STRETCH, STRETCHES = 128, 4
LIKE_BEST = 0.8
# The coherence that chance reaches among so many candidates, times the root of the number of stamps.
CHANCE_COHERENCE = 2.0
# Median and mean difference this near to one another: few samples are missing.
WITHOUT_LOSS = 0.07

_ROUND_S = (1, 2, 3, 4, 5, 6, 10, 12, 15, 20, 30)
_ROUND = np.array(
    sorted(
        {x * 10**6 for x in (1, 2, 5, 10, 20, 25, 50, 100, 200, 250, 500)}
        | {x * SECOND_NS for x in _ROUND_S}
        | {x * 60 * SECOND_NS for x in _ROUND_S}
        | {x * 3_600 * SECOND_NS for x in (1, 2, 3, 4, 6, 8, 12)}
        | {x * DAY_NS for x in (1, 2, 7, 14, 28)}
    ),
    np.int64,
)


def find(times: Ints, to_local: Callable[[Ints], Ints] | None = None) -> Found:
    """The cadence of these stamps.

    times : (n,) stamps in UTC, any order, double ones count once; to_local : stamps in UTC to local ones, by which days, weeks,
    months and years are counted; None takes UTC. Fewer than two distinct stamps have no cadence and get one day.
    O(n log n), O(n) where the stamps are in order.

    An exact cadence is the most frequent difference. With jitter no two differences are the same: the step is then
    the total time over the total number of steps between neighbours, each difference rounded to whole steps of the
    median, repeated until it stands; what jitter adds to one difference it takes from the next.
    """
    t = distinct(times)
    if len(t) < 2:
        return Found(fixed(DAY_NS), 1.0)
    steps = np.diff(t)
    first = int(steps[0])
    is_even = bool(np.all(steps == first))
    # Shorter than 20 hours nothing of a calendar shows.
    if first < 20 * 3_600 * SECOND_NS and is_even:
        return Found(fixed(first), 1.0)
    if _middle(steps) >= 20 * 3_600 * SECOND_NS:
        days = t if to_local is None else distinct(to_local(t))
        found = find_months(days) or find_workdays(days)
        if found is not None:
            return found
        if len(days) == len(t):
            t, steps = days, np.diff(days)
            is_even = bool(np.all(steps == steps[0]))
        if is_even:
            return Found(fixed(int(steps[0])), 1.0)
    return _fixed(t, steps)


def step_of(times: Ints) -> int:
    """The length of a step in nanoseconds; see `find`."""
    return find(times).cadence.step_ns


def _middle(steps: Ints) -> float:
    """The median difference, of a part of them where there are many."""
    return float(np.median(steps[:4_096]))


def _fixed(t: Ints, steps: Ints) -> Found:
    """A fixed cadence of sorted stamps, with the coarser one where it changes on the way."""
    change = _ruling(t, steps)
    if change is not None:
        own = t[np.searchsorted(t, change.begins_ns) :]
        return _placed(own, change.after.step_ns, change)
    step, is_regular = _step(t)
    found = _placed(t, step, None)
    return found if is_regular else replace(found, is_regular=False)


def _placed(t: Ints, step: int, change: Change | None) -> Found:
    """What is known of a fixed cadence once its step is."""
    steps = np.diff(t)
    share = float(np.mean(np.rint(steps / step) == 1)) if len(steps) else 1.0
    phase = (t - t[0]) % step
    if np.all(phase == 0):
        return Found(fixed(step), share, change=change)
    middle, width = _phase(t[:KNOWN_STAMPS], step)
    return Found(fixed(step), share, False, True, middle, width, change)


def _step(t: Ints) -> tuple[int, bool]:
    """(the step of sorted stamps, whether they have any): exact where most are the same, else estimated and rounded."""
    steps = np.diff(t)
    lengths, counts = np.unique(steps, return_counts=True)
    usual = int(lengths[np.argmax(counts)])
    whole = np.mean(steps % usual == 0)
    if counts.max() >= 0.5 * len(steps) or (whole > 0.9 and counts.max() > 1):
        return usual, True
    return _estimated(t, steps.astype(np.float64))


def _estimated(t: Ints, steps: Floats) -> tuple[int, bool]:
    """(the step of jittered stamps, rounded; whether they keep step at all).

    Neighbours that are missing make differences of several steps, double samples some of nearly none; both are counted
    by rounding, which is right up to about a quarter of a step of jitter. What is found so, and the usual round durations near the median
    difference, are then compared by how far the stamps themselves keep step: at nearly the same coherence the longer one is
    the step, since any part of it keeps step as well. Bartlett (1963), spectrum of a point process.
    """
    usual, mean = float(np.median(steps)), float(np.mean(steps))
    if abs(usual - mean) < WITHOUT_LOSS * mean:
        # Without loss the mean difference is the step, whatever the jitter.
        near = int(_ROUND[np.argmin(np.abs(np.log(_ROUND / mean)))])
        error = 3 * float(np.std(steps)) / len(steps)
        if abs(near - mean) <= max(NEAR_ROUND * mean, error):
            return near, True
    starts = (usual, float(np.quantile(steps, 0.25)), float(np.quantile(steps, 0.1)), usual / 2)
    found = [_repeated(steps, x) for x in starts if x > 0]
    found.append(mean)
    round_ones = [float(x) for x in _ROUND if 0.3 * usual <= x <= 2.2 * usual]
    pieces = _stretches(t)
    scored = [(_in_step(pieces, x, is_round=False), x) for x in found]
    scored += [(_in_step(pieces, x, is_round=True), x) for x in round_ones]
    best = max(fit for (fit, _), _ in scored)
    if best < CHANCE_COHERENCE / np.sqrt(pieces.shape[1]):
        return int(_ROUND[np.argmin(np.abs(np.log(_ROUND / mean)))]), False
    (_, step), start = max(
        (row for row in scored if row[0][0] >= LIKE_BEST * best), key=lambda row: (row[1], row[0][0])
    )
    if start in round_ones:
        return int(start), True
    left = steps - np.rint(steps / step) * step
    scale = float(np.std(np.clip(left, -0.5 * step, 0.5 * step))) / np.sqrt(2.0)
    n = max(float(np.sum(steps)) / step, 2.0)
    return rounded(step, scale * np.sqrt(12.0 / n**3)), True


def _repeated(steps: Floats, start: float) -> float:
    """Total time over the total number of steps, each difference rounded by the last result, until it stands."""
    step = start
    for most in (4, 8, 16, MOST_STEPS_APART, MOST_STEPS_APART, MOST_STEPS_APART):
        apart = np.rint(steps / step)
        near = apart <= most
        total = apart[near].sum()
        if total == 0:
            return step
        step = float(steps[near].sum() / total)
    return step


def _stretches(t: Ints) -> Floats:
    """(k, m) up to four stretches of up to 128 stamps, each from its own first one, in nanoseconds."""
    m = min(STRETCH, len(t))
    begins = np.unique(np.linspace(0, len(t) - m, STRETCHES).astype(np.int64))
    return np.stack([t[a : a + m] - t[a] for a in begins]).astype(np.float64)


def _in_step(pieces: Floats, step: float, *, is_round: bool) -> tuple[float, float]:
    """(how far stamps keep step with this length or one near it, that length); 1 without any jitter."""
    reach = NEAR_ROUND if is_round else 0.5 * NEAR_ROUND
    near = step * (1 + np.linspace(-reach, reach, 13))
    turns = pieces[None, :, :] / near[:, None, None]
    fit = np.sqrt(np.mean(np.abs(np.mean(np.exp(2j * np.pi * turns), axis=2)) ** 2, axis=1))
    at = int(np.argmax(fit))
    return float(fit[at]), float(near[at])


def rounded(step: float, error: float) -> int:
    """The roundest duration near an estimated step: a usual one within 1 %, else of as few digits as its error allows."""
    at = int(np.argmin(np.abs(np.log(_ROUND / step))))
    usual = int(_ROUND[at])
    if abs(usual - step) <= max(NEAR_ROUND * usual, 4 * error):
        return usual
    for unit in (
        DAY_NS,
        3_600 * SECOND_NS,
        60 * SECOND_NS,
        SECOND_NS,
        10**8,
        10**7,
        10**6,
        10**5,
        10**4,
        10**3,
    ):
        near = round(step / unit) * unit
        if near and abs(near - step) <= max(4 * error, 1e-4 * step):
            return int(near)
    return max(round(step), 1)


def _phase(t: Ints, step: int) -> tuple[int, int]:
    """(where in a step the middle of these stamps lies, how far they stray from it), in nanoseconds."""
    angle = 2 * np.pi * ((t % step) / step)
    turn = float(np.angle(np.mean(np.exp(1j * angle)))) / (2 * np.pi)
    middle = round(turn * step) % step
    away = (t - middle + step // 2) % step - step // 2
    return middle, int(min(np.quantile(np.abs(away), 0.95), step // 2))


# ---------------------------------------------------------------------------------------------- changes on the way


def follow(t: Ints, begun: Cadence | None = None) -> list[Change]:
    """Changes to a coarser fixed cadence in sorted stamps, each known from stamps up to then alone.

    Blocks of 32 differences, counted from the first stamp: two in a row whose median is 1.45 times the step in force,
    and in which hardly any difference is one such step, are a new cadence and not loss. begun : the cadence in
    force at the beginning; None estimates it from the first 50 stamps.
    """
    steps = np.diff(t)
    if begun is None:
        begun = fixed(_step(t[:KNOWN_STAMPS])[0]) if len(steps) else fixed(DAY_NS)
    out: list[Change] = []
    now = begun
    whole = len(steps) // BLOCK
    if whole < 2:
        return out
    blocks = steps[: whole * BLOCK].reshape(whole, BLOCK)
    middles = np.median(blocks, axis=1)
    if middles.max() < COARSER * now.step_ns:
        return out
    begin = 0
    while begin + 1 < whole:
        fine = np.mean(blocks < 1.25 * now.step_ns, axis=1)
        coarse = (middles >= COARSER * now.step_ns) & (fine < 0.1)
        coarse[:begin] = False
        pairs = np.flatnonzero(coarse[:-1] & coarse[1:])
        if not len(pairs):
            break
        b = int(pairs[0]) + 1
        after = fixed(_step(t[(b - 1) * BLOCK : (b + 1) * BLOCK + 1])[0])
        begin = b
        if after.step_ns >= COARSER * now.step_ns:
            # It began within the block before the first whole one at the earliest.
            reach = max((b - 2) * BLOCK, 0)
            last = np.flatnonzero(steps[reach : (b + 1) * BLOCK] < 1.25 * now.step_ns)
            begins = reach + (int(last[-1]) + 1 if len(last) else 0)
            out.append(Change(now, after, int(t[begins]), int(t[(b + 1) * BLOCK])))
            now = after
    return out


# As many of the newest stamps say whether a coarser cadence may have begun.
TELLING = 2 * BLOCK


def may_coarsen(t: Ints, step_ns: int) -> bool:
    """Whether `follow` may see a coarser cadence by the end of these stamps, where it saw none before.

    t : the newest `TELLING` stamps, in order. A coarser block has half its differences 1.45 steps long at least.
    """
    return bool(np.sum(np.diff(t) >= COARSER * step_ns) >= BLOCK // 2)


def _ruling(t: Ints, steps: Ints) -> Change | None:
    """The coarser cadence that rules a finished history, if there is one: it lasts for a tenth of the time, or to the end."""
    if len(steps) < 3 * BLOCK or steps.max() < COARSER * np.median(steps[:BLOCK]):
        return None
    found = follow(t)
    if not found:
        return None
    best: Change | None = None
    span = int(t[-1] - t[0])
    for i, change in enumerate(found):
        stop = int(found[i + 1].begins_ns) if i + 1 < len(found) else int(t[-1])
        a, b = np.searchsorted(t, [change.begins_ns, stop])
        own = steps[a:b]
        # How long it lasted before something finer came back.
        fine = np.flatnonzero(own < 0.7 * change.after.step_ns)
        lasted = (
            int(t[a + int(fine[0])]) - int(t[a]) if len(fine) > 0.2 * max(len(own), 1) else stop - int(t[a])
        )
        is_last = i + 1 == len(found) and stop - int(t[a]) == lasted
        if lasted >= COARSE_SHARE * span or is_last:
            best = change
    return best


# ------------------------------------------------------------------------------------------------ calendar cadences
