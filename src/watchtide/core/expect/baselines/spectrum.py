"""Baseline by singular spectrum analysis: the strongest oscillations and the trend, of any shape."""

import numpy as np
from numba import njit
from scipy.linalg import eigh

from watchtide.core.expect.baselines import Fitted, Parts
from watchtide.core.expect.frame import DAY_NS, Frame, Period
from watchtide.core.expect.regimes import moving_mean
from watchtide.core.robust import mad_sigma
from watchtide.core.series import Floats

MOST_WINDOW = 400
# Gavish and Donoho's threshold for an unknown noise level, against the median singular value.
THRESHOLD = 2.858
FILLS = 3
# A swing that keeps half of itself over a window goes on for ever; its frequency is found by so many steps of Gauss and Newton.
STEPS = 4
# Ranks that are tried for how well they foretell, and what counts as about as well.
MOST_RANKS, AS_GOOD = 12, 1.05
# What of an error is slower than two windows counts so much: most of it is a swing that no rank foretells.
SLOW_WEIGHT = 0.25


def fit(
    frame: Frame,
    periods: tuple[Period, ...],
    *,
    window_ns: int | None = None,
    rank: int | None = None,
    method: str = "reconstruction",
) -> Fitted:
    """The leading left singular vectors of the trajectory matrix of the training part.

    window_ns : length of a row, None takes two of the shortest season (at most 400 samples, a third of the
        history); rank : how many vectors, None as many of those above Gavish and Donoho's threshold as foretell best: noise
        that is not white lies above it too, and would swing on for ever.
    method : `reconstruction` judges training by what the vectors rebuild, and carries on by their recurrence, whose
        weight halves with every window ahead, and by the swings that last, of even size and at frequencies fitted to
        the whole history; `forecast` judges every sample by the recurrence from the samples before it.
    Missing samples, and those far from the fit, are filled by the fit itself, three times over.
    Raises ValueError for an unknown method, or a history shorter than three windows.
    Golyandina, Nekrutkin and Zhigljavsky (2001), chapters 1 and 2; Gavish and Donoho (2014); Roy and Kailath (1989) for frequencies.
    """
    if method not in ("reconstruction", "forecast"):
        raise ValueError(f"method must be reconstruction or forecast, got {method!r}")
    use = np.flatnonzero(frame.usable)
    if len(use) == 0:
        return _level_alone(periods, method, np.nan)
    first, last = int(use[0]), int(use[-1])
    y = frame.trained[first : last + 1]
    n = len(y)
    window = _window_of(n, frame.step_ns, periods, window_ns)
    if window < 2:
        return _level_alone(periods, method, float(np.median(y[~np.isnan(y)])))
    if rank is not None and not 1 <= rank < window:
        raise ValueError(f"rank must be between 1 and {window - 1}, got {rank}")
    middle = float(np.nanmedian(y))
    missing = np.isnan(y)
    rebuilt = np.zeros(n)
    vectors = np.zeros((window, 1))
    for turn in range(FILLS):
        filled = np.where(missing, rebuilt, y - middle)
        residual = filled - rebuilt
        scale = mad_sigma(residual[~missing], centre=0.0)
        if turn > 0 and scale > 0:
            filled = np.where(np.abs(residual) > 5 * scale, rebuilt, filled)
        if turn == FILLS - 1 and rank is None:
            rank = _foretelling_rank(filled, window, vectors.shape[1])
        vectors = _vectors(filled, window, rank)
        rebuilt = _rebuild(filled, vectors)
    recurrence = _recurrence(vectors)
    facts = {
        "method": method, "start": int(frame.times[first]), "middle": middle, "window": window,
        "rank": int(vectors.shape[1]), "scale": mad_sigma((y - middle - rebuilt)[~missing], centre=0.0),
    }  # fmt: skip
    arrays = {"recurrence": recurrence, "rebuilt": rebuilt, "vectors": vectors}
    if method == "reconstruction":
        arrays["swings"] = _swings(filled, vectors)
    return Fitted("spectrum", periods, arrays, facts)


def _level_alone(periods: tuple[Period, ...], method: str, middle: float) -> Fitted:
    """What is said of a history too short for any vector."""
    facts = {"method": method, "start": 0, "middle": middle}
    return Fitted("spectrum", periods, {"recurrence": np.zeros(0)}, facts)


def _window_of(n: int, step_ns: int, periods: tuple[Period, ...], window_ns: int | None) -> int:
    """Samples of a row of the trajectory matrix of n samples."""
    if window_ns is None:
        # Two days hold a daily season's shape twice; a tenth of the history leaves enough rows to tell noise.
        shortest = min((p.samples(step_ns) for p in periods), default=DAY_NS / step_ns)
        return int(min(max(2 * shortest, 8), MOST_WINDOW, n // 3))
    window = int(window_ns // step_ns)
    if window < 2 or window > n // 3:
        raise ValueError(
            f"the window holds {window} samples; it needs 2 to a third of the {n} samples of history"
        )
    return window


def _vectors(y: Floats, window: int, rank: int | None) -> Floats:
    """(window, rank) leading eigenvectors of the lag-covariance matrix."""
    rows = np.lib.stride_tricks.sliding_window_view(y, window)
    values, vectors = eigh(rows.T @ rows)
    values, vectors = np.maximum(values[::-1], 0.0), vectors[:, ::-1]
    if rank is None:
        singular = np.sqrt(values)
        rank = int(np.clip(np.sum(singular > THRESHOLD * np.median(singular)), 1, max(window // 3, 1)))
    return np.asarray(vectors[:, :rank])


def _foretelling_rank(y: Floats, window: int, most: int) -> int:
    """As few of the strongest vectors as foretell a third of y about as well as any number of them up to `most`.

    The last third from what is before it and, the other way round, the first from what is after: noise that goes on by chance
    hardly does so both ways.
    """
    ranks = np.unique(np.round(np.geomspace(1, most, min(most, MOST_RANKS))).astype(np.int64))
    errors = np.zeros(len(ranks))
    for way in (y, y[::-1]):
        past, future = np.split(np.ascontiguousarray(way), [2 * len(y) // 3])
        vectors = _vectors(past, window, most)
        for i, rank in enumerate(ranks):
            own = vectors[:, :rank]
            # The last values rest on two windows and no more.
            before = _rebuild(past[-2 * window :], own)[1 - window :]
            path = _follow(np.full(len(future), np.nan), _recurrence(own), before, np.inf)
            away = future - path
            # A swing longer than the window that no rank foretells must not drown what one does: it is judged apart.
            slow = moving_mean(away, 2 * window)
            errors[i] += np.median(np.abs(away - slow)) + SLOW_WEIGHT * np.median(np.abs(slow))
    return int(ranks[np.flatnonzero(errors <= AS_GOOD * errors.min())[0]])


def _rebuild(y: Floats, vectors: Floats) -> Floats:
    """(n,) mean along the diagonals of the trajectory matrix projected on the vectors."""
    window = len(vectors)
    rows = np.lib.stride_tricks.sliding_window_view(y, window)
    total = np.zeros(len(y))
    for v in vectors.T:
        total += np.convolve(rows @ v, v)
    counts = np.minimum(np.minimum(np.arange(1, len(y) + 1), window), np.arange(len(y), 0, -1))
    return total / np.minimum(counts, len(rows))


def _recurrence(vectors: Floats) -> Floats:
    """(window - 1,) coefficients on the samples before, oldest first; zeros where the vectors allow none."""
    last = vectors[-1]
    share = float(last @ last)
    if share >= 1 - 1e-9:
        return np.zeros(len(vectors) - 1)
    return np.asarray(vectors[:-1] @ last / (1 - share))


def _swings(y: Floats, vectors: Floats) -> Floats:
    """(k + 1, 3) frequency in radians a sample, cosine and sine of each swing that lasts; the level first, at frequency 0.

    Time counts from the last sample. Frequencies by rotation of the vectors (Roy and Kailath, 1989), then by least squares over all
    of y: a recurrence of two days is out of step by little, which weeks ahead is much. Sizes are those of the second half.
    """
    n, window = len(y), len(vectors)
    turn = np.linalg.lstsq(vectors[:-1], vectors[1:], rcond=None)[0]
    roots = np.asarray(np.linalg.eigvals(turn), np.complex128)
    lasting = np.abs(roots) ** window > 0.5
    found: Floats = np.sort(np.angle(roots[lasting & (roots.imag > 0)])).astype(np.float64)
    # Two that this history cannot tell apart are one; one that it holds less than once is the level.
    apart = 2 * np.pi / n
    found = found[found > apart]
    frequency = found[np.diff(found, prepend=0.0) > apart]
    t = np.arange(n, dtype=np.float64) - (n - 1)
    for _ in range(STEPS if len(frequency) else 0):
        waves = _waves(frequency, t)
        size = np.linalg.lstsq(waves, y, rcond=None)[0]
        slope = t[:, None] * (size[2::2] * waves[:, 1::2] - size[1::2] * waves[:, 2::2])
        step = np.linalg.lstsq(np.column_stack([waves, slope]), y, rcond=None)[0][len(size) :]
        frequency = np.clip(frequency + np.clip(step, -apart / 2, apart / 2), apart, np.pi)
    late = t >= t[n // 2]
    size = np.linalg.lstsq(_waves(frequency, t[late]), y[late], rcond=None)[0]
    level = np.array([[0.0, size[0], 0.0]])
    return np.vstack([level, np.column_stack([frequency, size[1::2], size[2::2]])])


def _waves(frequency: Floats, t: Floats) -> Floats:
    """(n, 1 + 2 k) one, and cosine and sine of each frequency in turn."""
    angle = np.outer(t, frequency)
    waves = np.stack([np.cos(angle), np.sin(angle)], axis=2).reshape(len(t), -1)
    return np.column_stack([np.ones(len(t)), waves])


def _carried(fitted: Fitted, ahead: int, bound: float) -> Floats:
    """(ahead,) what follows the training part: the recurrence at first, more and more the swings that last."""
    recurrence, rebuilt = fitted.arrays["recurrence"], fitted.arrays["rebuilt"]
    path = _follow(np.full(ahead, np.nan), recurrence, rebuilt[len(rebuilt) - len(recurrence) :], np.inf)
    path = np.where(np.abs(path) > bound, 0.0, path)
    if "swings" not in fitted.arrays:
        # A model kept before there were any.
        return path
    swings = fitted.arrays["swings"]
    t = np.arange(1.0, ahead + 1)
    size = np.r_[swings[0, 1], swings[1:, 1:].ravel()]
    near = 2.0 ** (-t / fitted.facts["window"])
    return np.asarray(near * path + (1 - near) * (_waves(swings[1:, 0], t) @ size))


@njit(cache=True, nogil=True)
def _follow(y, recurrence, before, clip):  # type: ignore[no-untyped-def]
    """(n,) forecast of each sample from the ones before it; missing and wild ones enter drawn in to the forecast."""
    n, m = len(y), len(recurrence)
    history = np.empty(m + n)
    history[:m] = before
    out = np.empty(n)
    for i in range(n):
        total = 0.0
        for j in range(m):
            total += recurrence[j] * history[i + j]
        out[i] = total
        away = y[i] - total
        if np.isnan(y[i]):
            history[m + i] = total
        elif abs(away) > clip:
            history[m + i] = total + (clip if away > 0 else -clip)
        else:
            history[m + i] = y[i]
    return out


def expect(fitted: Fitted, frame: Frame) -> Parts:
    """Rebuilt values in training, the recurrence beyond it; or the one-step forecast throughout."""
    n, k = len(frame), len(fitted.periods)
    recurrence, middle = fitted.arrays["recurrence"], fitted.facts["middle"]
    if len(recurrence) == 0 or n == 0:
        flat = np.full(n, middle)
        return Parts(flat, flat, np.zeros((k, n)))
    rebuilt = fitted.arrays["rebuilt"]
    m = len(rebuilt)
    place = (frame.times - fitted.facts["start"]) // frame.step_ns
    width = len(recurrence)
    expected = np.full(n, np.nan)
    # A recurrence may grow without bound: beyond ten times what was seen it says nothing.
    bound = 10 * float(np.max(np.abs(rebuilt))) + 1e-300
    inside = (place >= 0) & (place < m)
    if fitted.facts["method"] == "reconstruction":
        expected[inside] = rebuilt[place[inside]]
        beyond = place >= m
        if beyond.any():
            ahead = int(place[-1]) - m + 1
            expected[beyond] = _carried(fitted, ahead, bound)[place[beyond] - m]
        expected[place < 0] = np.nan
    else:
        y = frame.values - middle
        begins_after = int(place[0]) >= m
        # What came before the frame is the fit's own end, or its own beginning.
        before = rebuilt[m - width :] if begins_after else rebuilt[:width]
        gap = max(int(place[0]) - m, 0) if begins_after else 0
        if gap:
            before = (
                _follow(np.full(gap, np.nan), recurrence, before, np.inf)[-width:]
                if gap >= width
                else np.r_[before, _follow(np.full(gap, np.nan), recurrence, before, np.inf)][-width:]
            )
        expected = _follow(
            np.where(frame.usable, y, np.nan), recurrence, before, 4 * max(fitted.facts["scale"], 1e-300)
        )
        if not begins_after:
            expected[:width] = np.nan
    expected = np.where(np.abs(expected) > bound, 0.0, expected) + middle
    return Parts(expected, expected, np.zeros((k, n)))
