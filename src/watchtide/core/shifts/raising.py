"""Change points raised as they come: a test by cumulative sums that keeps where it stands."""

from dataclasses import dataclass
from functools import lru_cache
from typing import NamedTuple

import numpy as np
from numba import njit

from watchtide.core import robust
from watchtide.core.series import Floats


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
# … and how many robust scales of what the medians of stretches as long do by themselves: a level that wanders comes that far.
WANDER = 3.0
# Fewer stretches say nothing of it.
LEAST_STRETCHES = 8
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
    which level scores were since, its sums, and how far levels have strayed by themselves at most."""

    done: int
    found: tuple[Raised, ...]
    begins: tuple[int, ...]
    levels: tuple[float, ...]
    sums: _Sums
    wander: float


_START = Course(0, (), (), (), _Sums(0.0, 0.0, 0, 0), 0.0)


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
    all so far every 200 on. A shift is one only once `shortest` samples lie in it and their median, and that of the newest, lies two standard deviations from the level before, and three
    of what the medians of as many samples do; after it the new level counts as usual. Page (1954); threshold by Siegmund (1985),
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
    wander = start.wander
    seen = np.flatnonzero(~np.isnan(z))
    if len(seen) <= WARM_UP:
        return found, start, Running(len(seen))
    known = len(seen) if most is None else int(np.searchsorted(seen, most))
    plain = z[seen]
    # Scores about the level in force when each came, clipped: what has shifted for long is no wider for it.
    y = np.clip(plain, -CLIP, CLIP)
    for begin, about in zip(begins, levels, strict=True):
        y[begin:] = np.clip(plain[begin:] - about, -CLIP, CLIP)
    level, i, stands, least = levels[-1] if levels else 0.0, start.done, start, np.inf
    slack, threshold = 0.0, np.inf
    while i < len(y):
        stop = min(i - i % WARM_UP + WARM_UP, len(y))
        if i % WARM_UP == 0 and i <= known:
            stands = Course(i, tuple(found), tuple(begins), tuple(levels), sums, wander)
        if i % WARM_UP == 0 and i > 0:
            past = y[:i]
            if not found:
                level = float(np.median(past[: 4 * WARM_UP]))
            scale = max(robust.mad_sigma(past, centre=0.0), 1e-6)
            inflated = max(robust.long_run_variance(past), scale**2)
            slack = float(SHARPEST * np.sqrt(inflated) / 2)
            threshold = _threshold(run_length, slack, inflated)
            # About the level in force all looks the calmer the more shifts were raised.
            wander = max(wander, _wander(past, plain[:i], shortest))
            least = max(LEAST_JUMP * scale, WANDER * wander)
        if i >= WARM_UP:
            # After the first shift scores are about the level since.
            at, begin, sign, *rest = _cusum(
                y, i, stop, 0.0 if found else level, scale, slack, threshold, least, shortest, *sums
            )
            sums = _Sums(*rest)
            if at >= 0:
                first = max(begin - shortest, begins[-1] + 1 if begins else 0)
                begin = first + _likeliest(plain[first : at + 1] - level, shortest)
            if 0 <= at < begin + shortest - 1:
                # Some of what the sums hold came before it.
                stop = at + 1
            elif at >= 0:
                found.append(Raised(int(seen[begin]), int(seen[at]), sign))
                level = float(np.median(plain[begin : at + 1]))
                y[begin:] = np.clip(plain[begin:] - level, -CLIP, CLIP)
                begins.append(begin)
                levels.append(level)
                sums, stop = sums._replace(up=0.0, down=0.0), at + 1
        i = stop
    about, level = (level, 0.0) if found else (0.0, level)
    running = Running(len(y), about, level, slack, threshold, sums.up, sums.down)
    return found, stands, running


def _wander(past: Floats, plain: Floats, length: int) -> float:
    """How far the medians of stretches of so many samples stray by themselves, 0 where there are too few stretches: the larger of their
    robust scale, and that of the change from one to the next. past : scores about the level in force when each came; plain : about 0."""
    whole = len(past) // length
    if whole < LEAST_STRETCHES:
        return 0.0
    about, plainly = (np.median(x[: whole * length].reshape(whole, length), axis=1) for x in (past, plain))
    change = robust.mad_sigma(np.diff(plainly), centre=0.0) / np.sqrt(2)
    return float(max(robust.mad_sigma(about), change))


@njit(cache=True, nogil=True)
def _moved(up, down, move, slack):  # type: ignore[no-untyped-def]
    """Both sums after one more score, neither under 0."""
    return max(up + move - slack, 0.0), max(down - move - slack, 0.0)


@njit(cache=True, nogil=True)
def _cusum(  # type: ignore[no-untyped-def]
    y, first, stop, level, scale, slack, threshold, least, shortest, up, down, up_from, down_from
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
        if min(whole, sign * (recent - level)) >= least:
            return i, start, sign, up, down, up_from, down_from
    return -1, 0, 0, up, down, up_from, down_from


def _likeliest(moves: Floats, shortest: int) -> int:
    """Where scores most likely left a level that is known for another: the most that a mean since then explains, (Σ m)² / n.

    moves : (n,) scores about the level, clipped at three or at how far the newest half of `shortest` lies. The sums of the test begin
    where they last were 0, which noise moves by some samples either way. Hinkley (1970).
    """
    most = max(CLIP, abs(float(np.median(moves[-(shortest // 2) :]))))
    sums = np.cumsum(np.clip(moves, -most, most)[::-1])[::-1]
    return int(np.argmax(sums**2 / np.arange(len(moves), 0, -1)))


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
