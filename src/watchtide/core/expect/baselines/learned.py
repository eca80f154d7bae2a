"""What both learned kinds share: windows of a stream, a linear map with a network for its residual, and held-out predictions."""

import hashlib
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from watchtide.core.expect.baselines import Fitted
from watchtide.core.expect.baselines.networks import (
    PARAMETERS_A_VALUE,
    Bounds,
    Examples,
    Network,
    Schedule,
    Trained,
    Walked,
    check_size,
    one_thread,
    train,
    walk,
)
from watchtide.core.expect.frame import Frame, Period, phase
from watchtide.core.robust import mad_sigma
from watchtide.core.series import Bools, Floats, Ints

# A window with a smaller share of usable samples does not train; missing ones are interpolated.
LEAST_OBSERVED = 0.9
# Windows beyond this number change a network of this size little: of longer histories every second, third … one is taken.
MOST_WINDOWS = 100_000
# The last fifth of the windows decides when to stop.
VALIDATION_SHARE = 0.2
LEAST_WINDOWS = 32
# Samples of a window where there is no season, and the limits of one that is not stated.
USUAL_WINDOW, LEAST_WINDOW, MOST_WINDOW = 32, 8, 96
# Harmonics that encode the phase of a season: of the shortest one, and at most.
PHASES, MOST_PHASES = 2, 6
# A sample so many sigmas off is replaced by its prediction in later windows. At 6, spikes of 20 on noise of 3 stayed in them, and
# their echoes put the level at 6 sigmas; at 4 it is 3.6 (simulated quarter-hours, two seasons, one seed).
WILD_SIGMAS = 4.0
# How much further from the mean of its window a prediction may lie than any training sample did.
REACH = 1.25
# Ridge penalty of the linear map, in shares of the variance of a scaled sample.
RIDGE = 1e-3


@dataclass(frozen=True)
class Design:
    """How a learned kind is built. past : samples read before each one; layers : widths between input and output; option : the name of
    the plan's option that sets them; stride : samples from one training window to the next; is_whole : the network returns the
    whole window, else its last sample, from the window and the phases and columns of that sample."""

    kind: str
    past: int
    layers: tuple[int, ...]
    option: str
    stride: int = 1
    is_whole: bool = False

    @property
    def outputs(self) -> int:
        return self.past + 1 if self.is_whole else 1

    @property
    def rank(self) -> int | None:
        """Largest rank of the linear map: a bottleneck's own."""
        return min(self.layers) if self.is_whole else None

    def extras(self, frame: Frame, periods: Sequence[Period]) -> Floats:
        return np.zeros((len(frame), 0)) if self.is_whole else extras_of(frame, periods)

    def examples(self, frame: Frame, periods: Sequence[Period], may_train: Bools | None = None) -> Examples:
        """Windows that end in a usable sample, less the mean of all but that sample, in scales, in single precision.

        may_train : (n,) samples that may end one; None for all usable ones.
        """
        y, length = frame.trained, self.past + 1
        seen = np.flatnonzero(~np.isnan(y))
        extras = self.extras(frame, periods)
        if len(seen) < length:
            inputs = self.past + extras.shape[1]
            return Examples(np.zeros((0, inputs), np.float32), np.zeros((0, self.outputs), np.float32))
        ends = frame.usable if may_train is None else frame.usable & may_train
        count = np.cumsum(np.r_[0, frame.usable])
        last = np.arange(self.past, len(y))
        share = (count[last + 1] - count[last - self.past]) / length
        starts = last[ends[last] & (share >= LEAST_OBSERVED)] - self.past
        starts = starts[:: max(self.stride, -(-len(starts) // MOST_WINDOWS))]
        interpolated = np.interp(np.arange(len(y)), seen, y[seen])
        view = np.lib.stride_tricks.sliding_window_view(interpolated, length)[starts]
        windows = (view - view[:, :-1].mean(axis=1, keepdims=True)) / scale_of(frame)
        rows = np.hstack([windows[:, :-1], extras[starts + self.past]]).astype(np.float32)
        return Examples(rows, windows[:, -self.outputs :].astype(np.float32))


def scale_of(frame: Frame) -> float:
    """Robust scale of the usable samples, 1 for a constant."""
    y = frame.trained
    return mad_sigma(y) or (float(np.nanstd(y)) if frame.usable.any() else 0.0) or 1.0


def window_of(window_ns: int | None, periods: Sequence[Period], frame: Frame) -> int:
    """Samples of a window: as stated, else one of the shortest season or 32, at most 96 and at least 8."""
    if window_ns is not None:
        length = int(window_ns // frame.step_ns)
        if length < 2:
            raise ValueError(f"the window holds {length} samples; it needs 2 at least")
        return length
    # Without a season a third of the history at most, so that there are windows enough.
    without = min(USUAL_WINDOW, int(frame.usable.sum()) / 3)
    usual = min((p.samples(frame.step_ns) for p in periods), default=without)
    return int(np.clip(round(usual), LEAST_WINDOW, MOST_WINDOW))


def most_hidden(usual: int, past: int, frame: Frame, periods: Sequence[Period]) -> int:
    """Units of one hidden layer: the usual number, fewer where the history has too few windows for that."""
    inputs = past + extras_of(frame, periods).shape[1]
    training = 0.7 * max(int(frame.usable.sum()) - past, 0)
    return int(np.clip(PARAMETERS_A_VALUE * training / (inputs + 2), 2, usual))


def extras_of(frame: Frame, periods: Sequence[Period]) -> Floats:
    """(n, k) sines and cosines of the phase in each season, then known days and covariates, 0 where unknown.

    A season has one harmonic for every two cycles of the shortest one in it, so that the days of a week can differ.
    """
    shortest = min((p.ns for p in periods), default=1)
    parts = [
        wave(2 * np.pi * k * phase(frame, p))
        for p in periods
        for k in range(1, int(np.clip(-(-p.ns // (2 * shortest)), PHASES, MOST_PHASES)) + 1)
        for wave in (np.sin, np.cos)
    ]
    parts += [np.nan_to_num(column) for column in frame.columns]
    return np.column_stack(parts) if parts else np.zeros((len(frame), 0))


@dataclass(frozen=True)
class Shared:
    """A trained network with the numbers of windows that trained and stopped it, and the reach of its predictions in scales."""

    trained: Trained
    training: int
    validation: int
    reach: float

    def digest(self) -> str:
        """Hexadecimal digest of the weights."""
        whole = hashlib.sha256()
        for name, values in sorted(self.trained.net.arrays().items()):
            whole.update(name.encode() + np.ascontiguousarray(values).tobytes())
        return whole.hexdigest()


def learn(design: Design, examples: Sequence[Examples], schedule: Schedule) -> Shared:
    """Train one network on the windows of one stream or several; the last fifth of each stream's decides when to stop.

    Raises ValueError for too few windows, and a training that diverges.
    """
    cut = [_training_count(len(e)) for e in examples]
    training = Examples.joined([e.part(slice(0, n)) for e, n in zip(examples, cut, strict=True)])
    validation = Examples.joined([e.part(slice(n, None)) for e, n in zip(examples, cut, strict=True)])
    check_size(training, design.layers, design.option)
    reach = REACH * float(np.max(np.abs(training.targets[:, -1])))
    trained = train_with_line(design, training, validation, schedule)
    return Shared(trained, len(training), len(validation), reach)


def _training_count(count: int) -> int:
    if count < LEAST_WINDOWS:
        raise ValueError(
            f"{count} windows without a gap are too few to train a network on; it needs {LEAST_WINDOWS}: take a shorter window, "
            "more history, or another kind"
        )
    return count - max(round(VALIDATION_SHARE * count), 1)


def train_with_line(
    design: Design, training: Examples, validation: Examples | None, schedule: Schedule
) -> Trained:
    """A linear map, and a network trained on its residuals.

    The linear map is a ridge regression, of reduced rank for a bottleneck (Izenman 1975), so that no more passes it than the
    network. Where the network lowers the validation error not at all, its last layer is set to 0. Losses are those of both together.
    """
    with one_thread():
        line = _ridge(training, design.rank)
        rest = _residuals(training, line)
        size = float(np.sqrt(np.mean(rest.targets**2))) or 1.0
        after = None if validation is None else _residuals(validation, line)
    trained = train(
        _scaled(rest, size),
        None if after is None else _scaled(after, size),
        design.layers,
        schedule,
        loss_unit=size**2,
    )
    is_useless = after is not None and trained.losses[trained.best - 1][1] >= float(np.mean(after.targets**2))
    factor = 0.0 if is_useless else size
    net = trained.net
    weights, biases = (
        (*net.weights[:-1], factor * net.weights[-1]),
        (*net.biases[:-1], factor * net.biases[-1]),
    )
    return Trained(Network(weights, biases, line), trained.losses, trained.best)


def _residuals(examples: Examples, line: Floats) -> Examples:
    return Examples(examples.rows, examples.targets - examples.rows @ line.T)


def _scaled(examples: Examples, size: float) -> Examples:
    return Examples(examples.rows, examples.targets / size)


def _ridge(examples: Examples, rank: int | None) -> Floats:
    """(out, in) coefficients of a ridge regression without a constant, of reduced rank where one is stated."""
    x, y = (np.asarray(a, np.float64) for a in (examples.rows, examples.targets))
    square = x.T @ x + RIDGE * len(x) * np.eye(x.shape[1])
    beta = np.linalg.solve(square, x.T @ y)
    if rank is not None and rank < y.shape[1]:
        # The strongest directions of the fitted values.
        _, vectors = np.linalg.eigh(beta.T @ square @ beta)
        strongest = vectors[:, -rank:]
        beta = beta @ strongest @ strongest.T
    return np.ascontiguousarray(beta.T)


def fit(
    design: Design,
    frame: Frame,
    periods: tuple[Period, ...],
    schedule: Schedule,
    *,
    per: str = "stream",
    shared: Shared | None = None,
) -> Fitted:
    """A fitted baseline of this design, with a network for this stream alone or the one that its family shares.

    Raises ValueError as `learn` does, and for `per` family without a shared network.
    """
    if per == "family" and shared is None:
        raise ValueError(
            "per: family trains one network over the streams of a scan; in replay and in a lookout each stream is judged "
            "alone: take per: stream"
        )
    found = shared or learn(design, [design.examples(frame, periods)], schedule)
    net, scale = found.trained.net, scale_of(frame)
    values = np.where(frame.usable, frame.values, np.nan)
    inputs = values, design.extras(frame, periods), np.full(design.past, np.nan)
    bounds = Bounds(scale, np.inf, found.reach)
    spread = mad_sigma((values - walk(net, *inputs, bounds).expected)[frame.usable], centre=0.0)
    if np.isfinite(spread) and spread > 0:
        bounds = replace(bounds, wild=WILD_SIGMAS * spread / scale)
    filled = walk(net, *inputs, bounds).filled[-design.past :]
    facts = {
        "window": design.past,
        "per": per,
        "seed": schedule.seed,
        "best_epoch": found.trained.best,
        "epoch_losses": found.trained.losses,
        "windows": {"training": found.training, "validation": found.validation},
        "scale": scale,
        "wild": bounds.wild if np.isfinite(bounds.wild) else None,
        "reach": found.reach,
        "end": int(frame.times[-1]),
    }
    tail = np.r_[np.full(design.past - len(filled), np.nan), filled]
    return Fitted(design.kind, periods, net.arrays() | {"tail": tail}, facts)


def _bounds_of(fitted: Fitted) -> Bounds:
    """Raises ValueError for facts that bound nothing, as a stranger's may."""
    wild = fitted.facts["wild"]
    bounds = Bounds(fitted.facts["scale"], np.inf if wild is None else wild, fitted.facts["reach"])
    if not (bounds.scale > 0 and bounds.wild > 0 and bounds.reach >= 0):
        raise ValueError("scale, wild and reach of the network must be above 0")
    return bounds


def held_out(design: Design, fitted: Fitted, inner: Frame, folds: Ints) -> Floats:
    """(m,) predictions of each fold by a network trained on the windows that end in the other folds.

    A family's network learned from many streams and fits this one hardly better than a new one: its predictions are taken.
    """
    schedule = Schedule(fitted.facts["best_epoch"], seed=fitted.facts["seed"])
    values = np.where(inner.usable, inner.values, np.nan)
    inputs = values, design.extras(inner, fitted.periods), np.full(design.past, np.nan)
    out = np.full(len(inner), np.nan)
    for fold in np.unique(folds):
        within = folds == fold
        others = design.examples(inner, fitted.periods, ~within)
        if fitted.facts["per"] == "family" or len(others) < LEAST_WINDOWS:
            net = Network.of(fitted.arrays)
        else:
            net = train_with_line(design, others, None, schedule).net
        out[within] = walk(net, *inputs, _bounds_of(fitted)).expected[within]
    return out


def predicted(design: Design, fitted: Fitted, frame: Frame, *, has_strain: bool = False) -> Walked:
    """Predictions for a frame, which begin at once where it follows the end of training.

    Raises ValueError for a network that does not fit its facts, as a stranger's may not.
    """
    net, tail = Network.of(fitted.arrays), fitted.arrays["tail"]
    if design.past < 1 or tail.shape != (design.past,):
        raise ValueError("the samples at the end of training do not fit the window of the network")
    lead, missing = _lead_of(fitted, frame)
    view = _with_missing_before(frame, missing) if missing else frame
    extras = design.extras(view, fitted.periods)
    net.check(design.past + extras.shape[1], design.outputs)
    found = walk(net, view.values, extras, lead, _bounds_of(fitted), has_strain)
    return Walked(found.expected[missing:], found.strain[missing:], found.filled[missing:])


def _lead_of(fitted: Fitted, frame: Frame) -> tuple[Floats, int]:
    """(w,) samples before a frame, and how many bins are missing between: those at the end of training, or none where that is
    more than four windows ago."""
    tail = fitted.arrays["tail"]
    steps = round((int(frame.times[0]) - fitted.facts["end"]) / frame.step_ns)
    if 1 <= steps <= 4 * len(tail):
        return tail, steps - 1
    return np.full(len(tail), np.nan), 0


def _with_missing_before(frame: Frame, count: int) -> Frame:
    earlier = frame.times[0] - np.arange(count, 0, -1, dtype=np.int64) * frame.step_ns
    blank = np.full(count, np.nan)
    return replace(
        frame,
        times=np.r_[earlier, frame.times],
        offsets_ns=np.r_[np.full(count, frame.offsets_ns[0]), frame.offsets_ns],
        values=np.r_[blank, frame.values],
        usable=np.r_[np.zeros(count, np.bool_), frame.usable],
        weights=np.r_[np.ones(count), frame.weights],
        columns=np.hstack([np.full((len(frame.columns), count), np.nan), frame.columns]),
        counted=None,
        places={},
    )
