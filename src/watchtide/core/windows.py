"""Windows as evidence: ramps, bursts of noise, stuck values and odd shapes, which no single sample betrays; and leaps.

For every end t and several lengths: the clipped mean of the standardised residuals, and their roughness (log of
the clipped mean square), each against its own robust middle and scale, so that autocorrelation is paid
for. Runs of equal values, by how surprising each further equal value is at its time of day. And leaps away from the sample
before, where neighbours go together (`innovations`). Each statistic is put on the scale of the stream's own tail: a window scores as many sigmas as a single sample
that is reached as rarely, in false findings a week.
"""

from collections.abc import Mapping
from dataclasses import asdict, dataclass, replace
from typing import Any

import numpy as np
from numba import njit

from watchtide.core import innovations, robust
from watchtide.core.innovations import Follower
from watchtide.core.series import SECOND_NS, Bools, Floats, Ints
from watchtide.core.tails import MAXIMA, Settings, Tail, fit_tail, independent_samples

WEEK_NS = 7 * 86_400 * SECOND_NS
CLIP = 3.0
# A mean square under this is as good as none: its logarithm must not run away.
LEAST_SQUARE = 0.02
# Lengths go up by doubling to two days, or a twelfth of the history where that is shorter.
SHORTEST, LENGTHS_NS = 6, 2 * 86_400 * SECOND_NS
LEAST_OBSERVED = 0.7
# All families of windows together are to be reached as rarely as a single sample is, not each of them …
TOGETHER = 4.0
# … and heard in whole twenty times more rarely still: one that speaks then carries dozens of samples, not the two or so of a replay.
TOGETHER_WHOLE = 80.0
# What a unit of a window's statistic is worth beside its rarity.
LOUDER = 0.01
# A tail says nothing of what comes less often than this a week.
LEAST_RATE = 1e-4
# Below the lowest level of the operating curve a window is not worth telling.
LEAST_SCORE = 2.0
# Relative difference of values that are the same but for the rounding of a bin's mean.
SAME = robust.FLOAT_SPACINGS * float(np.finfo(np.float64).eps)
# Statistics of windows are means of clipped scores, nearly Gaussian: at u sigmas the shape of a Gaussian tail is
# u φ(u)⁻¹ (1 - Φ(u)) - 1, -0.16 at 2 and -0.09 at 3, and they differ less from one another.
OF_WINDOWS = replace(MAXIMA, shape=-0.1, shape_spread=0.1)
# Families that flag one sample and few after it: they need no rarer a rate in-sample than in replay.
LEAPS = ("rise", "fall")
# Standard error of the log mean square past the end of a fit, an error of 8 % in the spread. Chosen on `bench promises`, seeds 950
# to 955: 0.15 and 0.3 gave the same. Without it one window of two days had as many samples as `odds` allow in months.
CARRIED_ROUGH = 0.15
LONE = ("isolated", *LEAPS)
LONE_CARRIES = 2.0
# Maxima of blocks of about a day; of a young stream over fewer samples, so that there are enough of them to fit a tail.
LEAST_BLOCK, USUAL_BLOCK, BLOCKS = 6, 24, 42
ODD = 2


@dataclass(frozen=True)
class Watch:
    """Windows calibrated on clean held-out scores.

    lengths : (k,) samples; mean, rough : (k, 2) middle and scale of each length's statistic.
    equal : (groups,) chance that a value equals the one before; scale : per family, (2, m) statistic and the
    sigmas it is worth, rising; a family without enough data is left out. block : samples whose maxima were taken. together : how many
    times more rarely than a single sample each family is reached, those of one sample always as in replay. follower : the filter
    whose innovations are leaps, None where neighbouring scores are hardly correlated.
    """

    lengths: Ints
    mean: Floats
    rough: Floats
    equal: Floats
    scale: dict[str, Floats]
    block: int
    together: float = TOGETHER
    follower: Follower | None = None

    def added(self, *, is_causal: bool) -> float:
        """Samples that windows add to each that is reached by itself, at one level and on one side.

        What has no side counts half on each side. A window that speaks carries about two fifths of the longest; in replay only those
        samples at which one ends, about two. So it is of isolation trees and leaps, which flag one sample and few after it.
        """
        odd = sum(name in self.scale for name in ("rough", "stuck"))
        carries = LONE_CARRIES if is_causal else max(0.4 * float(self.lengths[-1]), 1.0)
        lone = ("isolated" in self.scale) + any(name in self.scale for name in LEAPS)
        return (1 + odd) / self.together * carries + lone / TOGETHER * LONE_CARRIES

    def as_data(self) -> dict[str, Any]:
        return {
            "lengths": self.lengths.tolist(), "mean": self.mean.tolist(), "rough": self.rough.tolist(),
            "equal": self.equal.tolist(), "scale": {k: v.tolist() for k, v in self.scale.items()}, "block": self.block,
            "together": self.together, "follower": None if self.follower is None else asdict(self.follower),
        }  # fmt: skip

    @classmethod
    def from_data(cls, data: Mapping[str, Any]) -> "Watch":
        together = float(data.get("together", TOGETHER))
        if not together > 0:
            raise ValueError(f"how much more rarely windows are reached must be positive, got {together:g}")
        follower = data.get("follower")
        return cls(
            np.asarray(data["lengths"], np.int64), np.asarray(data["mean"], np.float64).reshape(-1, 2),
            np.asarray(data["rough"], np.float64).reshape(-1, 2), np.asarray(data["equal"], np.float64),
            {k: np.asarray(v, np.float64) for k, v in data["scale"].items()}, int(data["block"]),
            together, Follower(**{k: float(v) for k, v in follower.items()}) if follower else None,
        )  # fmt: skip


@dataclass(frozen=True)
class Evidence:
    """Scores with windows heard; arrays of (n,).

    score : sigmas, at least the sample's own; side : 1 above, -1 below, 2 odd, 0 missing; window : samples that
    spoke; first : index of the first of them.
    """

    score: Floats
    side: np.ndarray
    window: Ints
    first: Ints

    @property
    def signed(self) -> Floats:
        """Score with the sign of its side; odd ones positive."""
        return np.where(self.side == -1, -self.score, self.score)


def alone(z: Floats) -> Evidence:
    """Every sample by itself: no windows."""
    n = len(z)
    side = np.where(np.isnan(z), 0, np.where(z >= 0, 1, -1)).astype(np.int8)
    return Evidence(np.abs(z), side, np.ones(n, np.int64), np.arange(n))


def lengths_for(n: int, step_ns: int) -> Ints:
    """Window lengths in samples: 6, 12, 24 … up to two days (at least 24 samples) and a twelfth of n."""
    most = min(max(LENGTHS_NS // step_ns, 24), n // 12)
    out = []
    length = SHORTEST
    while length <= most:
        out.append(length)
        length *= 2
    return np.asarray(out, dtype=np.int64)


def statistics(z: Floats, lengths: Ints) -> tuple[Floats, Floats]:
    """(k, n) clipped mean and log of the clipped mean square of the window ending at each sample; NaN where too few are seen."""
    mean, square = _statistics(np.ascontiguousarray(z), lengths)
    # All logarithms at once are half the price of as many single ones.
    return mean, np.log(np.maximum(square, LEAST_SQUARE, out=square), out=square)


@njit(cache=True, nogil=True)
def _clipped(z):  # type: ignore[no-untyped-def]
    """(n,) clipped scores, 0 where missing; and which are seen."""
    out, seen = np.zeros(len(z)), np.zeros(len(z), np.bool_)
    for i in range(len(z)):
        if not np.isnan(z[i]):
            out[i], seen[i] = min(max(z[i], -CLIP), CLIP), True
    return out, seen


@njit(cache=True, nogil=True)
def _statistics(z, lengths):  # type: ignore[no-untyped-def]
    n, k = len(z), len(lengths)
    mean, squares = np.full((k, n), np.nan), np.full((k, n), np.nan)
    clipped, is_seen = _clipped(z)
    seen = is_seen.astype(np.int64)
    # What was there before anything was judged is no gap: a window begins at the first score at the earliest.
    begin = 0
    while begin < n and not is_seen[begin]:
        begin += 1
    for li in range(k):
        length = lengths[li]
        # Sums of a sliding window begin anew at every sample that is a multiple of 4096, so that rounding
        # never depends on more of the past than that.
        for t in range(begin + length - 1, n):
            if (t - length + 1) % 4096 == 0 or t == begin + length - 1:
                total = square = 0.0
                count = 0
                for i in range(t - length + 1, t + 1):
                    total += clipped[i]
                    square += clipped[i] * clipped[i]
                    count += seen[i]
            else:
                come, gone = clipped[t], clipped[t - length]
                total = total + come - gone
                square = square + come * come - gone * gone
                count += seen[t] - seen[t - length]
            if count >= LEAST_OBSERVED * length:
                mean[li, t] = total / count
                squares[li, t] = square / count
    return mean, squares


@njit(cache=True, nogil=True)
def surprises(values, equal):  # type: ignore[no-untyped-def]
    """(n,) how surprising the run of equal values ending at each sample is, in nats; and where it began."""
    n = len(values)
    out = np.zeros(n)
    first = np.arange(n)
    last = -1
    for i in range(n):
        if np.isnan(values[i]):
            # What is missing neither adds to a run nor ends it.
            if last >= 0:
                out[i], first[i] = out[last], first[last]
            continue
        if last >= 0 and is_same(values[i], values[last]):
            out[i] = out[last] - np.log(equal[i])
            first[i] = first[last]
        last = i
    return out, first


@njit(cache=True, nogil=True)
def is_same(a, b):  # type: ignore[no-untyped-def]
    """Whether values, or arrays of them, differ by no more than the arithmetic of a mean: 16 spacings of floating-point
    numbers."""
    return np.abs(a - b) <= SAME * np.maximum(np.abs(a), np.abs(b))


def equal_chances(values: Floats, clean: Bools, groups: Ints, count: int) -> Floats:
    """(count,) chance that a value equals its predecessor, by time of day, shrunk to the stream's."""
    both = clean.copy()
    both[1:] &= clean[:-1]
    both[:1] = False
    same = np.zeros(len(values), np.bool_)
    same[1:] = is_same(values[1:], values[:-1])
    n, k = np.bincount(groups[both], minlength=count), np.bincount(groups[both & same], minlength=count)
    whole = (k.sum() + 0.5) / (n.sum() + 1.0)
    return np.asarray(np.clip((k + 20 * whole) / (n + 20), 1e-6, 1.0))


def chance_of_equal(
    equal: Floats, groups: Ints, values: Floats, expected: Floats, event: Floats | None
) -> Floats:
    """(n,) chance that each value equals its predecessor: by time of day, and of counts at least what chance makes it.

    expected : (n,) in the unit of the values; event : (n,) what one counted event adds to a value, or None.
    """
    by_time = equal[groups]
    if event is None:
        return by_time
    from scipy.special import gammaln

    k, mean = np.nan_to_num(values / event), np.maximum(np.nan_to_num(expected / event, nan=1.0), 1e-6)
    with np.errstate(invalid="ignore", over="ignore"):
        same = np.exp(k * np.log(mean) - mean - gammaln(np.maximum(k, 0.0) + 1))
    return np.asarray(np.clip(np.maximum(by_time, same), 1e-6, 1.0))


# A window this many of its own robust scales out is trouble, not noise: it may not speak for the noise.
TROUBLE = 5.0


# A run of equal values this surprising, in nats, is a stuck one: chance makes one in a million samples.
STUCK = 14.0


def trouble(z: Floats, step_ns: int, surprise: Floats | None = None) -> Bools:
    """(n,) samples that look like trouble over several samples, and so may not teach what is usual.

    z : (n,) signed scores, NaN where none. Windows of 6 samples and more whose clipped mean or roughness lies over 5 robust
    scales from the middle, trimmed to what carries them; twice over, because what is found hides more of its kind.
    Lone samples are for the tail to believe or not. surprise : (n,) of the run of equal values ending at each sample.
    """
    out = np.zeros(len(z), np.bool_)
    if surprise is not None and surprise.max(initial=0.0) >= STUCK:
        for end in np.flatnonzero((surprise >= STUCK) & (np.r_[surprise[1:], 0.0] <= 0)):
            begin = end
            while begin > 0 and surprise[begin] > 0:
                begin -= 1
            out[begin : end + 1] = True
    lengths = lengths_for(int(np.sum(~np.isnan(z))), step_ns)
    for _ in range(2 if len(lengths) else 0):
        calm = np.where(out, np.nan, z)
        mean, rough = statistics(calm, lengths)
        of_mean, of_rough = _least_scales(calm, lengths)
        middles = _middles(mean, of_mean, lengths), _middles(rough, of_rough, lengths)
        found = _loud(mean, rough, *middles, lengths, *_clipped(calm))
        if not found.any():
            break
        out |= found
    return out


@njit(cache=True, nogil=True)
def _loud(mean, rough, mean_at, rough_at, lengths, clipped, seen):  # type: ignore[no-untyped-def]
    """Samples that carry a window far above, far below, or far rougher than the rest."""
    n = len(clipped)
    out = np.zeros(n, np.bool_)
    for family in range(3):
        rows, at = (rough, rough_at) if family == 2 else (mean, mean_at)
        sign = -1.0 if family == 1 else 1.0
        for li in range(len(lengths)):
            row, middle, scale = rows[li], at[li, 0], at[li, 1]
            # Nearly none is loud: the rest are told by a comparison alone.
            least = 0.999 * TROUBLE * scale
            for t in range(n):
                if not sign * (row[t] - middle) >= least:
                    continue
                now = sign * (row[t] - middle) / scale
                before = sign * (row[t - 1] - middle) / scale if t > 0 else -np.inf
                if now >= TROUBLE and not before > now:
                    after = sign * (row[t + 1] - middle) / scale if t < n - 1 else 0.0
                    # The head of each run of loud windows stands for it.
                    if not after >= now:
                        a, b = _trim(family, t - lengths[li] + 1, t, clipped, seen)
                        out[a : b + 1] = True
    return out


def calibrate(
    held: Floats,
    clean: Bools,
    values: Floats,
    times: Ints,
    step_ns: int,
    groups: Ints,
    count: int,
    isolated: Floats | None = None,
    grain: float = 0.0,
    expected: Floats | None = None,
    event: Floats | None = None,
    *,
    is_causal: bool,
    has_leaps: bool = True,
) -> Watch | None:
    """Windows of a stream, from clean held-out scores; None where there is too little to compare with, or
    most values are the same one: windows of rare events tell nothing that the events do not.

    held : (n,) signed held-out scores, NaN where none; clean : samples that may speak; values : (n,) observed;
    groups : (n,) time-of-day group, 0 … count - 1; isolated : (n,) what isolation trees say, if they were asked. is_causal : whether they
    are to be used so; has_leaps : whether leaps are used, which mean nothing where the season is still in the scores.
    """
    z = np.where(clean, held, np.nan)
    n = int(np.sum(~np.isnan(z)))
    lengths = lengths_for(n, step_ns)
    if n < 200 or len(lengths) == 0 or robust.is_mostly_one_value(np.where(clean, values, np.nan)):
        return None
    block = int(max(min(USUAL_BLOCK, n // BLOCKS), LEAST_BLOCK, lengths[-1] // 4))
    weeks = n * step_ns / WEEK_NS
    known = replace(MAXIMA, known=independent_samples(z))
    own = {s: _peaks_tail(v, block, weeks, grain, known) for s, v in (("above", z), ("below", -z))}
    if own["above"] is None or own["below"] is None:
        return None
    mean, rough = statistics(z, lengths)
    of_mean, of_rough = _least_scales(z, lengths)
    mean_at, rough_at = _middles(mean, of_mean, lengths), _middles(rough, of_rough, lengths)
    with np.errstate(invalid="ignore"):
        up = np.nanmax(np.where(np.isnan(mean), -np.inf, _standard(mean, mean_at)), axis=0)
        down = np.nanmax(np.where(np.isnan(mean), -np.inf, -_standard(mean, mean_at)), axis=0)
        wild = np.nanmax(np.where(np.isnan(rough), -np.inf, _standard(rough, rough_at)), axis=0)
    equal = equal_chances(values, clean, groups, count)
    run, _ = surprises(
        values, chance_of_equal(equal, groups, values, held if expected is None else expected, event)
    )
    a_week = WEEK_NS / step_ns
    together = TOGETHER if is_causal else TOGETHER_WHOLE
    scale: dict[str, Floats] = {}
    pairs: list[tuple[str, Floats]] = [
        ("above", up),
        ("below", down),
        ("rough", wild),
        ("stuck", np.where(clean, run, np.nan)),
    ]
    follower = innovations.fit(z) if has_leaps else None
    if follower is not None:
        pairs += zip(LEAPS, innovations.leaps(z, follower), strict=True)
    if isolated is not None:
        pairs.append(("isolated", np.where(clean, isolated, np.nan)))
    for name, statistic in pairs:
        tail = _peaks_tail(
            np.where(np.isfinite(statistic), statistic, np.nan), block, weeks, settings=OF_WINDOWS
        )
        if tail is None:
            continue
        grid = tail.levels
        if name == "stuck":
            # Runs so short that they tie say nothing of long ones: chance itself sets the least rate.
            grid = np.linspace(3.0, 60.0, 80)
        rate = tail.rates_at(grid)
        if name == "stuck":
            rate = np.maximum(rate, a_week * np.exp(-0.8 * grid))
        rarer = TOGETHER if name in LONE else together
        scale[name] = np.array([grid, _worth(own, name, np.maximum(rate, 1e-12) * rarer)])
    return Watch(lengths, mean_at, rough_at, equal, scale, block, together, follower)


def _worth(own: dict[str, Tail | None], family: str, rate: Floats) -> Floats:
    """(k,) sigmas that a single sample reaches as often, a week."""
    above, below = own["above"], own["below"]
    assert above is not None and below is not None
    if family == "above":
        return _levels_for(above, rate)
    if family == "below":
        return _levels_for(below, rate)
    return np.maximum(_levels_for(above, rate / 2), _levels_for(below, rate / 2))


def _levels_for(tail: Tail, rate: Floats) -> Floats:
    """The tail's levels, but beyond what it can know no faster than an exponential one: surer is not so much larger."""
    known = np.maximum(rate, LEAST_RATE)
    return tail.levels_for(known) + tail.scale * np.log(known / rate)


def _peaks_tail(
    values: Floats, block: int, weeks: float, grain: float = 0.0, settings: Settings = MAXIMA
) -> Tail | None:
    """Tail of the maxima of blocks, per week."""
    whole = len(values) // block * block
    if whole == 0:
        return None
    rows = values[:whole].reshape(-1, block)
    seen = ~np.isnan(rows).all(axis=1)
    peaks = np.nanmax(rows[seen], axis=1) if seen.any() else np.empty(0)
    # Blocks of about a day are drawn together.
    own = replace(settings, blocks=max(len(peaks) / weeks, 1e-9))
    return fit_tail(peaks, np.arange(len(peaks)) // 2, weeks, settings=own, grain=grain)


@njit(cache=True, nogil=True)
def _middles(rows, least, lengths):  # type: ignore[no-untyped-def]
    """(k, 2) median and robust scale of each row, by every eighth of its window: windows in between say nothing new.

    least : (k,) scales below which chance alone lies: most windows of a stream of hardly anything are alike.
    """
    out = np.zeros((len(rows), 2))
    for i in range(len(rows)):
        some = rows[i][:: max(1, lengths[i] // 8)]
        some = some[~np.isnan(some)]
        if len(some):
            out[i, 0] = robust.middle(some)
            out[i, 1] = 1.4826 * robust.middle(np.abs(some - out[i, 0]))
        out[i, 1] = max(out[i, 1], least[i])
    return out


def _least_scales(z: Floats, lengths: Ints) -> tuple[Floats, Floats]:
    """Scales of the mean and of the log mean square over windows of independent samples of this size, a little under.

    Where hardly anything ever happens (clipped root mean square under a half), two events in a window are chance too.
    """
    clipped, seen = _clipped(z)
    size = float(np.sqrt(clipped @ clipped / seen.sum())) if seen.any() else 1.0
    mean, rough = 0.6 * max(size, 1e-3) / np.sqrt(lengths), 1 / np.sqrt(lengths)
    if size < 0.5:
        mean = np.maximum(mean, 2 * CLIP / lengths / TROUBLE)
        two = np.log(2 * CLIP**2 / lengths + LEAST_SQUARE) - np.log(LEAST_SQUARE)
        rough = np.maximum(rough, two / TROUBLE)
    return mean, rough


def _standard(rows: Floats, at: Floats, drift: Floats | None = None) -> Floats:
    scale = at[:, 1:] if drift is None else np.sqrt(at[:, 1:] ** 2 + drift**2)
    return np.asarray((rows - at[:, :1]) / scale)


def listen(
    watch: Watch,
    z: Floats,
    values: Floats,
    groups: Ints,
    *,
    is_causal: bool,
    isolated: Floats | None = None,
    lags: int = 1,
    expected: Floats | None = None,
    event: Floats | None = None,
    drift: Floats | None = None,
    near: Floats | None = None,
    past_end: Bools | None = None,
    since: int = 0,
) -> Evidence:
    """Scores of samples with their windows heard, of those from `since` on; causal ones alone may begin there.

    z : (n,) signed scores, NaN where not judged; values, groups : (n,). Not causal: windows are taken strongest first without
    overlap, and each gives its score to its trimmed span. Causal: a sample hears windows ending at it only, and only those
    whose trimmed span holds it. drift : (n,), or (w, n) by length, what the mean of a window may stray beyond its usual scale, in
    sigmas, where a fit is carried past its end. past_end : (n,) samples there, whose spread may be a little off. near : (n,) scores
    by one and the same fit, from which leaps are computed, so that a refit is no leap, or more or fewer that end where z does;
    None takes z.
    """
    mean, rough = (rows[:, since:] for rows in statistics(z, watch.lengths))
    clipped = np.clip(np.nan_to_num(z), -CLIP, CLIP)
    seen = ~np.isnan(z)
    fresh = z[since:]
    worth = np.zeros((4, len(watch.lengths), len(fresh)))
    for place, (name, rows, at, sign) in enumerate(
        (("above", mean, watch.mean, 1), ("below", mean, watch.mean, -1), ("rough", rough, watch.rough, 1))
    ):
        if name in watch.scale:
            stray = drift
            if name == "rough":
                stray = None if past_end is None else CARRIED_ROUGH * past_end.astype(np.float64)
            worth[place] = _interpolate(sign * _standard(rows, at, stray), watch.scale[name])
    run, began = surprises(
        values, chance_of_equal(watch.equal, groups, values, z if expected is None else expected, event)
    )
    stuck = (
        _interpolate(np.where(np.isnan(fresh), np.nan, run[since:]), watch.scale["stuck"])
        if "stuck" in watch.scale
        else np.zeros(len(fresh))
    )
    out = alone(fresh)
    out = replace(out, first=out.first + since)
    score, side, window, first = out.score, out.side, out.window, out.first
    lone: list[tuple[str, Floats, int, int]] = []
    if isolated is not None:
        lone.append(("isolated", isolated, ODD, lags))
    if watch.follower is not None:
        leaps = innovations.leaps(z if near is None else near, watch.follower)
        up, down = (x[len(x) - len(fresh) :] for x in leaps)
        # Two samples make a leap: the one before it and its own.
        lone += [("rise", up, 1, 2), ("fall", down, -1, 2)]
    for name, statistic, code, count in lone:
        if name in watch.scale:
            sigmas = _interpolate(np.where(np.isnan(fresh), np.nan, statistic), watch.scale[name])
            is_higher = sigmas > np.nan_to_num(score, nan=np.inf)
            score[is_higher], side[is_higher], window[is_higher] = sigmas[is_higher], code, count
    if is_causal:
        _listen_causal(worth, stuck, began, watch.lengths, clipped, seen, score, side, window, first, since)
    else:
        _listen_whole(worth, stuck, began, watch.lengths, clipped, seen, score, side, window, first)
    return out


def _interpolate(x: Floats, scale: Floats) -> Floats:
    """Sigmas a statistic is worth; under the threshold nothing, beyond the scale its end."""
    grid, sigmas = scale
    with np.errstate(invalid="ignore"):
        # A little for the statistic itself, so that of two windows past all rates the louder goes first.
        out = np.interp(x, grid, np.maximum.accumulate(sigmas)) + LOUDER * (x - grid[0])
        return np.where(np.isnan(x) | (x < grid[0]), 0.0, out)


@njit(cache=True, nogil=True)
def _trim(family, a, b, clipped, seen):  # type: ignore[no-untyped-def]
    """The part of a window that carries it: the greatest sum of what exceeds half of the window's own mean."""
    total = 0.0
    count = 0
    for i in range(a, b + 1):
        if seen[i]:
            total += clipped[i] if family == 0 else (-clipped[i] if family == 1 else clipped[i] * clipped[i])
            count += 1
    usual = 1.0 if family == 2 else 0.0
    cut = usual + 0.5 * (total / max(count, 1) - usual)
    best = run = 0.0
    left, best_left, best_right = a, a, a
    for i in range(a, b + 1):
        v = 0.0
        if seen[i]:
            v = clipped[i] if family == 0 else (-clipped[i] if family == 1 else clipped[i] * clipped[i])
            v -= cut
        if run <= 0.0:
            run, left = 0.0, i
        run += v
        if run > best:
            best, best_left, best_right = run, left, i
    return best_left, best_right


@njit(cache=True, nogil=True)
def _common_side(a, b, clipped, seen):  # type: ignore[no-untyped-def]
    """1 or -1 where all samples of a window lie on that side by at least half a sigma, else no side: a blackout is below."""
    above = below = 0
    for i in range(a, b + 1):
        if seen[i]:
            if clipped[i] >= 0.5:
                above += 1
            elif clipped[i] <= -0.5:
                below += 1
            else:
                return ODD
    if above and not below:
        return 1
    return -1 if below and not above else ODD


@njit(cache=True, nogil=True)
def _speak(a, b, worth, code, seen, score, side, window, first):  # type: ignore[no-untyped-def]
    spoke = 0
    for i in range(a, b + 1):
        if seen[i]:
            spoke += 1
    for i in range(a, b + 1):
        if seen[i] and worth > score[i]:
            score[i], side[i], window[i], first[i] = worth, code, spoke, a


@njit(cache=True, nogil=True)
def _listen_whole(worth, stuck, began, lengths, clipped, seen, score, side, window, first):  # type: ignore[no-untyped-def]
    n = len(clipped)
    heads = np.empty(n * len(lengths) * 3 // 2 + n + 1, np.int64)
    values = np.empty(len(heads))
    m = 0
    for family in range(3):
        for li in range(len(lengths)):
            row = worth[family, li]
            half = max(lengths[li] // 2, 1)
            last = -half - 1
            for t in range(n):
                if row[t] < LEAST_SCORE:
                    continue
                # The strongest within half a length on either side stands for them all.
                if m > 0 and last >= 0 and t - last <= half:
                    if row[t] > values[m - 1]:
                        values[m - 1] = row[t]
                        heads[m - 1] = (family * len(lengths) + li) * n + t
                        last = t
                    continue
                if m < len(heads):
                    heads[m] = (family * len(lengths) + li) * n + t
                    values[m] = row[t]
                    m += 1
                    last = t
    for t in range(n):
        ends = t == n - 1 or began[t + 1] != began[t]
        if ends and stuck[t] >= LEAST_SCORE and m < len(heads):
            heads[m] = 3 * len(lengths) * n + t
            values[m] = stuck[t]
            m += 1
    taken = np.zeros(n, np.bool_)
    for k in np.argsort(-values[:m], kind="mergesort"):
        row, t = heads[k] // n, heads[k] % n
        family = row // len(lengths)
        if family == 3:
            a, b = began[t], t
        else:
            a, b = _trim(family, t - lengths[row % len(lengths)] + 1, t, clipped, seen)
        free = True
        for i in range(a, b + 1):
            if taken[i]:
                free = False
                break
        if free:
            taken[a : b + 1] = True
            code = 1 if family == 0 else (-1 if family == 1 else _common_side(a, b, clipped, seen))
            _speak(a, b, values[k], code, seen, score, side, window, first)


@njit(cache=True, nogil=True)
def _listen_causal(worth, stuck, began, lengths, clipped, seen, score, side, window, first, since):  # type: ignore[no-untyped-def]
    """worth, stuck and what comes out : of the samples from `since` on; the rest of all."""
    for i in range(len(score)):
        t = since + i
        if not seen[t]:
            continue
        for family in range(4):
            if family == 3:
                if stuck[i] >= LEAST_SCORE and stuck[i] > score[i]:
                    score[i], first[i], window[i] = stuck[i], began[t], t - began[t] + 1
                    side[i] = _common_side(began[t], t, clipped, seen)
                continue
            for li in range(len(lengths)):
                w = worth[family, li, i]
                if w < LEAST_SCORE or w <= score[i]:
                    continue
                a, b = _trim(family, t - lengths[li] + 1, t, clipped, seen)
                if b == t:
                    score[i] = w
                    side[i] = 1 if family == 0 else (-1 if family == 1 else _common_side(a, b, clipped, seen))
                    first[i] = a
                    spoke = 0
                    for j in range(a, b + 1):
                        if seen[j]:
                            spoke += 1
                    window[i] = spoke
