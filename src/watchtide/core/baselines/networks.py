"""Small regression networks: how they are trained, what is kept of them, and how they judge.

The optimiser is scikit-learn's `MLPRegressor`, one epoch at a time; windows, scaling, stopping and the forward pass are ours.
A kept network is plain arrays, so that judging needs no other program.
"""

import itertools
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numba import njit

from watchtide.core.baselines import Fitted
from watchtide.core.frame import Frame, Period, phase
from watchtide.core.robust import mad_sigma
from watchtide.core.series import Bools, Floats, Ints

# A window with fewer observed samples than this share of its own teaches nothing; what it lacks is drawn straight across.
LEAST_OBSERVED = 0.9
# More windows than this say little more to a network this small: of longer histories every second, third … one is taken.
MOST_WINDOWS = 100_000
# The last fifth of the windows shows when to stop.
VALIDATION_SHARE = 0.2
LEAST_WINDOWS = 32
USUAL_WINDOW = 32
# Parameters that a value given back may stand for at most: it is stopped before it learns by heart.
WINDOWS_A_PARAMETER = 20
# Sines and cosines of a season's first so many multiples say where in it a sample lies: of a longer season more, as many as tell
# its days apart.
PHASES, MOST_PHASES = 2, 6
# A sample so many sigmas off is no lead-in for those after it: what was expected takes its place, for a window at most. With 6,
# what a spike of 20 left in the windows after it made levels of 6 sigmas out of 3.6.
WILD_SIGMAS = 4.0
# How much further from the mean of its window than any sample of training one may be said to be.
REACH = 1.25
# What a coefficient of the straight line costs, in shares of a scaled sample's variance.
RIDGE = 1e-3
# A batch holds so many times the root of the number of windows, within these bounds.
BATCH, LEAST_BATCH, MOST_BATCH = 2.0, 16, 1024

Progress = Callable[[int, float, float], None]


@dataclass(frozen=True)
class Network:
    """A trained network. weights : (out, in) arrays of its layers, biases : (out,); ReLU between them, none after the last.

    losses : (epochs, 2) mean squared error of training and validation after each epoch, in scaled units; best : the epoch
    whose weights these are, counted from 1. line : (out, in) what is added to its sayings by a straight line, None for nothing.
    """

    weights: tuple[Floats, ...]
    biases: tuple[Floats, ...]
    losses: Floats
    best: int
    line: Floats | None = None

    def arrays(self) -> dict[str, Floats]:
        own = {f"weights_{i}": w for i, w in enumerate(self.weights)}
        own |= {} if self.line is None else {"line": self.line}
        return own | {f"biases_{i}": b for i, b in enumerate(self.biases)} | {"losses": self.losses}

    @classmethod
    def of(cls, arrays: dict[str, Floats], best: int) -> "Network":
        count = sum(name.startswith("weights_") for name in arrays)
        weights, biases = ([arrays[f"{name}_{i}"] for i in range(count)] for name in ("weights", "biases"))
        return cls(
            tuple(weights), tuple(biases), arrays.get("losses", np.zeros((0, 2))), best, arrays.get("line")
        )

    def check(self, inputs: int) -> None:
        """Raise ValueError where the layers do not fit one another, or what is given them: they may come from a stranger."""
        width = inputs
        for i, (w, b) in enumerate(zip(self.weights, self.biases, strict=True)):
            if w.ndim != 2 or w.shape[1] != width or b.shape != (w.shape[0],) or not len(b):
                raise ValueError(f"layer {i + 1} of the network does not fit what comes before it")
            width = w.shape[0]
        if not self.weights:
            raise ValueError("the network has no layers")
        if self.line is not None and self.line.shape != (width, inputs):
            raise ValueError("the network's line does not fit its layers")

    def __call__(self, rows: Floats) -> Floats:
        """(n, out) for (n, in) rows, in double precision."""
        x = np.asarray(rows, np.float64)
        for i, (w, b) in enumerate(zip(self.weights, self.biases, strict=True)):
            x = x @ w.T + b
            if i < len(self.weights) - 1:
                x = np.maximum(x, 0.0)
        return x if self.line is None else x + np.asarray(rows, np.float64) @ self.line.T


def one_thread() -> Any:
    """While it lasts, sums of matrices are made in one thread: they come out the same wherever they are made."""
    from threadpoolctl import threadpool_limits  # type: ignore[import-untyped]

    return threadpool_limits(limits=1)


def train(
    rows: Floats, targets: Floats, validation: tuple[Floats, Floats] | None, layers: Sequence[int], *,
    epochs: int, patience: int, seed: int, progress: Progress | None = None,
) -> Network:  # fmt: skip
    """Train a network on (n, in) rows to give (n, out) targets, stopped by validation rows that do not train.

    layers : widths between. It ends `patience` epochs after the validation error was least, and the weights of that epoch
    are kept; without validation it runs all epochs. The same seed gives the same bytes, however many processes there are.
    Raises ValueError where the error is no number any more, naming the epoch.
    Adam, Kingma and Ba (2015); early stopping, Prechelt (1998).
    """
    from sklearn.neural_network import MLPRegressor  # type: ignore[import-untyped]

    x, y = np.ascontiguousarray(rows, np.float32), np.ascontiguousarray(targets, np.float32)
    held = None if validation is None else tuple(np.ascontiguousarray(v, np.float32) for v in validation)
    y = y[:, 0] if y.shape[1] == 1 else y
    net = MLPRegressor(
        hidden_layer_sizes=tuple(layers),
        batch_size=int(min(np.clip(BATCH * np.sqrt(len(x)), LEAST_BATCH, MOST_BATCH), len(x))),
        learning_rate_init=3e-3,
        # A generator of its own: with a number each epoch would shuffle alike.
        random_state=np.random.RandomState(seed),
    )
    losses: list[tuple[float, float]] = []
    best, kept = 0, None
    with one_thread(), np.errstate(over="ignore", invalid="ignore"):
        for epoch in range(1, epochs + 1):
            try:
                net.partial_fit(x, y)
                own = _error(net, x, y)
                other = own if held is None else _error(net, *held)
            except ValueError as error:
                raise ValueError(_diverged(epoch)) from error
            if not (np.isfinite(own) and np.isfinite(other)):
                raise ValueError(_diverged(epoch))
            losses.append((own, np.nan if held is None else other))
            if progress is not None:
                progress(epoch, *losses[-1])
            if held is None or kept is None or other < losses[best - 1][1]:
                best, kept = epoch, ([w.copy() for w in net.coefs_], [b.copy() for b in net.intercepts_])
            elif epoch - best >= patience:
                break
    assert kept is not None
    return Network(
        tuple(np.ascontiguousarray(w.T, np.float64) for w in kept[0]),
        tuple(np.asarray(b, np.float64) for b in kept[1]),
        np.array(losses),
        best,
    )


def _diverged(epoch: int) -> str:
    return f"the training diverged in epoch {epoch}: take a smaller network, or a transform that draws in what is far out"


def _error(net: Any, x: Any, y: Any) -> float:
    held = y[:, 0] if y.ndim == 2 and y.shape[1] == 1 else y
    return float(np.mean((net.predict(x) - held) ** 2, dtype=np.float64))


@dataclass(frozen=True)
class Windows:
    """What a stream gives a network to learn from. filled : (n,) its values, missing ones drawn straight across; scale :
    what counts as one; starts : (m,) first samples of the windows, in order of time."""

    filled: Floats
    scale: float
    starts: Ints
    length: int

    def rows(self, extras: Floats | None) -> tuple[Floats, Floats, Floats]:
        """(m, length - 1 + k) scaled samples of each window but its last, with what stands beside that one; (m,) that one,
        scaled; (m, length) the scaled window. The mean of the first length - 1 samples is taken out of each."""
        view = np.lib.stride_tricks.sliding_window_view(self.filled, self.length)[self.starts]
        own = (view - view[:, :-1].mean(axis=1, keepdims=True)) / self.scale
        rows = own[:, :-1]
        if extras is not None and extras.shape[1]:
            rows = np.hstack([rows, extras[self.starts + self.length - 1]])
        return rows.astype(np.float32), own[:, -1].astype(np.float32), own.astype(np.float32)


def windows_of(frame: Frame, length: int, stride: int = 1, may_train: Bools | None = None) -> Windows:
    """The windows of usable samples that end in one. may_train : (n,) ends that may teach; None for all usable ones."""
    y = frame.trained
    seen = np.flatnonzero(~np.isnan(y))
    if not len(seen):
        return Windows(y, 1.0, np.empty(0, np.int64), length)
    filled = np.interp(np.arange(len(y)), seen, y[seen])
    scale = mad_sigma(y) or float(np.nanstd(y)) or 1.0
    ends = frame.usable if may_train is None else frame.usable & may_train
    count = np.cumsum(np.r_[0, frame.usable])
    last = np.arange(length - 1, len(y))
    share = (count[last + 1] - count[last + 1 - length]) / length
    starts = last[ends[last] & (share >= LEAST_OBSERVED)] - (length - 1)
    step = max(stride, -(-len(starts) // MOST_WINDOWS))
    return Windows(filled, scale, starts[::step], length)


def split(count: int) -> int:
    """How many of so many windows train, in order of time; the rest shows when to stop. Raises ValueError for too few."""
    if count < LEAST_WINDOWS:
        raise ValueError(
            f"{count} windows without a gap are too few to train a network on; it needs {LEAST_WINDOWS}: take a shorter window, "
            "more history, or another kind"
        )
    return count - max(round(VALIDATION_SHARE * count), 1)


def window_of(window_ns: int | None, periods: Sequence[Period], frame: Frame, most: int) -> int:
    """Samples of a window: as stated, else one of the shortest season or 32, at most `most` and at least 8."""
    if window_ns is not None:
        length = int(window_ns // frame.step_ns)
        if length < 2:
            raise ValueError(f"the window holds {length} samples; it needs 2 at least")
        return length
    # Without a season a third of what there is, so that there are windows enough.
    without = min(USUAL_WINDOW, int(frame.usable.sum()) / 3)
    usual = min((p.samples(frame.step_ns) for p in periods), default=without)
    return int(np.clip(round(usual), 8, most))


def extras_of(frame: Frame, periods: Sequence[Period]) -> Floats:
    """(n, k) where in its seasons each sample lies, and the columns beside it; unknown ones at their mean, 0."""
    shortest = min((p.ns for p in periods), default=1)
    parts = [
        turn(2 * np.pi * k * phase(frame, p))
        for p in periods
        for k in range(1, int(np.clip(-(-p.ns // (2 * shortest)), PHASES, MOST_PHASES)) + 1)
        for turn in (np.sin, np.cos)
    ]
    parts += [np.nan_to_num(column) for column in frame.columns]
    return np.column_stack(parts) if parts else np.zeros((len(frame), 0))


@dataclass(frozen=True)
class Bounds:
    """scale : what counts as one; wild : from how many of them off a sample is no lead-in; reach : how far from the mean of a
    window the network may say a sample is."""

    scale: float
    wild: float
    reach: float

    @classmethod
    def of(cls, facts: dict[str, Any]) -> "Bounds":
        return cls(facts["scale"], np.inf if facts["wild"] is None else facts["wild"], facts["reach"])


@dataclass(frozen=True)
class Walked:
    """What a network says of samples in their order; arrays of (n,). expected : NaN until a window is there. strain : root of
    the mean squared error of the window that ends at a sample, rebuilt, in scales; NaN for a network that rebuilds none. filled :
    the samples as they lead in those after them."""

    expected: Floats
    strain: Floats
    filled: Floats


def walk(
    net: Network, values: Floats, extras: Floats, lead: Floats, bounds: Bounds, is_whole: bool = False
) -> Walked:
    """Judge samples one after another, each by those before it.

    lead : (past,) samples before the first, as many as the network reads, NaN where they are not known. What is missing or wild
    is replaced by what was expected; what stays wild for a whole window is a new level, and leads in what follows. is_whole : all of the window is rebuilt, for its strain.
    """
    # Unit beside unit in memory: what one input adds to all of them is added at once.
    weights = tuple(np.ascontiguousarray(w.T) for w in net.weights)
    line = np.zeros((weights[0].shape[0], weights[-1].shape[1])) if net.line is None else net.line.T.copy()
    length = len(lead)
    buffer = np.r_[lead, np.full(len(values), np.nan)]
    expected, strain = np.full(len(values), np.nan), np.full(len(values), np.nan)
    _walk(
        np.ascontiguousarray(values, np.float64), np.ascontiguousarray(extras, np.float64), buffer, length,
        weights, net.biases, line, bounds.scale, bounds.wild, bounds.reach, is_whole, expected, strain,
    )  # fmt: skip
    return Walked(expected, strain, buffer[length:])


@njit(cache=True, nogil=True)
def _walk(  # type: ignore[no-untyped-def]
    values, extras, buffer, length, weights, biases, line, scale, wild, reach, is_whole, expected, strain
):
    layers = len(weights)
    widest = 0
    for layer in range(layers):
        widest = max(widest, weights[layer].shape[0], weights[layer].shape[1])
    x, out, straight = np.zeros(widest), np.zeros(widest), np.zeros(widest)
    ends = line.shape[1]
    past = length
    known = 0
    last = np.nan
    for i in range(length):
        if not np.isnan(buffer[i]):
            known += 1
            last = buffer[i]
    # What was observed where something else leads in.
    seen = np.full(len(values), np.nan)
    replaced = 0
    for t in range(len(values)):
        at = length + t
        said = np.nan
        mean = 0.0
        if known >= past:
            for i in range(past):
                mean += buffer[at - past + i]
            mean /= past
            for i in range(past):
                x[i] = (buffer[at - past + i] - mean) / scale
            for i in range(extras.shape[1]):
                x[past + i] = extras[t, i]
            for j in range(ends if is_whole else 0):
                straight[j] = 0.0
            straight[ends - 1] = 0.0
            for i in range(line.shape[0]):
                if is_whole:
                    for j in range(ends):
                        straight[j] += x[i] * line[i, j]
                else:
                    straight[ends - 1] += x[i] * line[i, ends - 1]
            for layer in range(layers):
                w, bias = weights[layer], biases[layer]
                ins, outs = w.shape
                is_last = layer == layers - 1
                if is_last and not is_whole:
                    total = bias[outs - 1]
                    for i in range(ins):
                        total += x[i] * w[i, outs - 1]
                    out[outs - 1] = total
                else:
                    for j in range(outs):
                        out[j] = bias[j]
                    for i in range(ins):
                        for j in range(outs):
                            out[j] += x[i] * w[i, j]
                if not is_last:
                    for j in range(outs):
                        x[j] = max(out[j], 0.0)
            for j in range(0 if is_whole else ends - 1, ends):
                out[j] += straight[j]
            # Beyond all that it has learned a network says anything: it stays as far from the mean as samples of training did.
            said = mean + scale * min(max(out[ends - 1], -reach), reach)
            expected[t] = said
        y = values[t]
        if np.isnan(y):
            # Before there is a window the last sample goes on.
            buffer[at] = last if np.isnan(said) else said
            if not np.isnan(buffer[at]):
                known += 1
        else:
            if not np.isnan(said) and abs(y - said) > wild * scale:
                buffer[at] = said
                seen[t] = y
                replaced += 1
                if replaced == past:
                    for i in range(min(past, t + 1)):
                        if not np.isnan(seen[t - i]):
                            buffer[at - i] = seen[t - i]
                    replaced = 0
            else:
                buffer[at] = y
                replaced = 0
            known += 1
            last = y
        if is_whole and not np.isnan(said) and not np.isnan(y):
            total = ((y - mean) / scale - out[past]) ** 2
            for i in range(past):
                total += ((buffer[at - past + i] - mean) / scale - out[i]) ** 2
            strain[t] = np.sqrt(total / (past + 1))


def lead_in(fitted_end: int, tail: Floats, frame: Frame) -> tuple[Floats, int]:
    """(length,) samples that lead in a frame, and how many missing ones lie between: those training ended with where the frame
    comes soon after it, else none."""
    steps = round((int(frame.times[0]) - fitted_end) / frame.step_ns)
    if 1 <= steps <= 4 * len(tail):
        return tail, steps - 1
    return np.full(len(tail), np.nan), 0


def check_size(windows: int, outputs: int, parameters: int, option: str) -> None:
    """Raise ValueError where so many windows of training cannot hold so many parameters apart."""
    if windows * outputs * WINDOWS_A_PARAMETER < parameters:
        raise ValueError(
            f"{windows} windows are too few for a network of {parameters} parameters: take fewer units ({option}), a shorter "
            "window, or more history"
        )


@dataclass(frozen=True)
class Examples:
    """What a network is to learn: (m, in) rows and (m, out) targets in order of time, in single precision; scale : what counts as one."""

    rows: Any
    targets: Any
    scale: float


@dataclass(frozen=True)
class Design:
    """How a learned kind is built. past : samples read before each one; layers : widths between, named by `option`; stride : from one window of
    training to the next; is_whole : it gives back all of the window, else its last sample alone, with what stands beside that."""

    kind: str
    past: int
    layers: tuple[int, ...]
    option: str
    stride: int = 1
    is_whole: bool = False

    def extras(self, frame: Frame, periods: Sequence[Period]) -> Floats:
        return np.zeros((len(frame), 0)) if self.is_whole else extras_of(frame, periods)

    def examples(self, frame: Frame, periods: Sequence[Period], may_train: Bools | None = None) -> Examples:
        seen = windows_of(frame, self.past + 1, self.stride, may_train)
        rows, last, whole = seen.rows(None if self.is_whole else self.extras(frame, periods))
        return Examples(rows, whole if self.is_whole else last[:, None], seen.scale)


@dataclass(frozen=True)
class Learnt:
    """A network with what it learned from: numbers of windows, and how far from their mean it may say a sample is."""

    net: Network
    training: int
    validation: int
    reach: float


def learn(
    design: Design, given: Sequence[Examples], *, epochs: int, patience: int, seed: int, progress: Progress | None = None
) -> Learnt:  # fmt: skip
    """Train one network on the windows of one stream or several; the last fifth of each shows when to stop.

    Raises ValueError for windows too few for the network, and a training that diverges.
    """
    cut = [split(len(e.rows)) for e in given]
    rows, targets = (
        np.concatenate([getattr(e, k)[:n] for e, n in zip(given, cut, strict=True)])
        for k in ("rows", "targets")
    )
    held = tuple(
        np.concatenate([getattr(e, k)[n:] for e, n in zip(given, cut, strict=True)])
        for k in ("rows", "targets")
    )
    widths = [rows.shape[1], *design.layers, targets.shape[1]]
    parameters = sum((a + 1) * b for a, b in itertools.pairwise(widths))
    check_size(len(rows), targets.shape[1], parameters, design.option)
    net = past_line(
        design,
        rows,
        targets,
        (held[0], held[1]),
        epochs=epochs,
        patience=patience,
        seed=seed,
        progress=progress,
    )
    return Learnt(net, len(rows), len(held[0]), REACH * float(np.max(np.abs(targets[:, -1]))))


def past_line(
    design: Design, rows: Any, targets: Any, held: tuple[Any, Any] | None, *, epochs: int, patience: int, seed: int,
    progress: Progress | None = None,
) -> Network:  # fmt: skip
    """A network of this design for what a straight line leaves: most of the next sample is one, and is had at once.

    The line is a ridge regression, for a bottleneck of reduced rank (Izenman 1975): no more passes it than passes the network. A network
    that makes validation no better than the line alone says nothing.
    """
    with one_thread():
        line = _line(
            np.asarray(rows, np.float64),
            np.asarray(targets, np.float64),
            min(design.layers) if design.is_whole else None,
        )
        rest = targets - rows @ line.T
        size = float(np.sqrt(np.mean(rest**2))) or 1.0
        other = None if held is None else (held[0], (held[1] - held[0] @ line.T) / size)
    net = train(
        rows,
        rest / size,
        other,
        design.layers,
        epochs=epochs,
        patience=patience,
        seed=seed,
        progress=progress,
    )
    is_vain = other is not None and net.losses[net.best - 1, 1] >= float(np.mean(other[1] ** 2))
    last = 0.0 if is_vain else size
    return Network(
        (*net.weights[:-1], net.weights[-1] * last), (*net.biases[:-1], net.biases[-1] * last), net.losses * size**2, net.best, line
    )  # fmt: skip


def _line(x: Floats, y: Floats, rank: int | None) -> Floats:
    """(out, in) coefficients of a ridge regression without a constant, of reduced rank where one is stated."""
    square = x.T @ x + RIDGE * len(x) * np.eye(x.shape[1])
    beta = np.linalg.solve(square, x.T @ y)
    if rank is not None and rank < y.shape[1]:
        # The strongest directions of what the line says.
        _, vectors = np.linalg.eigh(beta.T @ square @ beta)
        strongest = vectors[:, -rank:]
        beta = beta @ strongest @ strongest.T
    return np.ascontiguousarray(beta.T)


def fit(
    design: Design, frame: Frame, periods: tuple[Period, ...], facts: dict[str, Any], *, epochs: int, patience: int, seed: int,
    per: str, shared: Learnt | None,
) -> Fitted:  # fmt: skip
    """A fitted baseline of this design: with a network of its own, or the one that its family shares.

    Raises ValueError as `learn` does, and for a family's network where there is none.
    """
    own = design.examples(frame, periods)
    if per == "family" and shared is None:
        raise ValueError(
            "per: family trains one network over the streams of a scan; as if live, and on a server, each stream is judged by "
            "itself: take per: stream"
        )
    learnt = shared or learn(design, [own], epochs=epochs, patience=patience, seed=seed)
    net = learnt.net
    extras = design.extras(frame, periods)
    known = facts | {
        "window": design.past, "epochs": len(net.losses), "best_epoch": net.best, "epoch_losses": net.losses.tolist(),
        "seed": seed, "per": per, "windows": {"training": learnt.training, "validation": learnt.validation}, "scale": own.scale,
        "reach": learnt.reach, "wild": None, "end": int(frame.times[-1]),
    }  # fmt: skip
    lead = np.full(design.past, np.nan)
    values = np.where(frame.usable, frame.values, np.nan)
    free = walk(net, values, extras, lead, Bounds.of(known))
    off = mad_sigma((values - free.expected)[frame.usable], centre=0.0)
    if np.isfinite(off) and off > 0:
        known["wild"] = WILD_SIGMAS * off / own.scale
    tail = walk(net, values, extras, lead, Bounds.of(known)).filled[-design.past :]
    tail = np.r_[np.full(design.past - len(tail), np.nan), tail]
    return Fitted(design.kind, periods, net.arrays() | {"tail": tail}, known)


def held_out(design: Design, fitted: Fitted, inner: Frame, folds: Ints) -> Floats:
    """(m,) what networks say of the samples of each fold that learned from the windows that end in the others.

    A family's network has learned from many streams, and hardly knows this one better than those like it: it speaks itself.
    """
    facts = fitted.facts
    lead = np.full(design.past, np.nan)
    values = np.where(inner.usable, inner.values, np.nan)
    extras = design.extras(inner, fitted.periods)
    out = np.full(len(inner), np.nan)
    for fold in np.unique(folds):
        own = folds == fold
        given = design.examples(inner, fitted.periods, ~own)
        if facts["per"] == "family" or len(given.rows) < LEAST_WINDOWS:
            net = Network.of(fitted.arrays, facts["best_epoch"])
        else:
            net = past_line(
                design,
                given.rows,
                given.targets,
                None,
                epochs=facts["best_epoch"],
                patience=1,
                seed=facts["seed"],
            )
        out[own] = walk(net, values, extras, lead, Bounds.of(facts)).expected[own]
    return out


def judged(design: Design, fitted: Fitted, frame: Frame, *, is_whole: bool = False) -> Walked:
    """What a fitted network says of a frame, led in by the end of training where the frame comes soon after it.

    Raises ValueError for a network that does not fit its own facts, as a stranger's may not.
    """
    facts = fitted.facts
    net = Network.of(fitted.arrays, facts["best_epoch"])
    lead, missing = lead_in(facts["end"], fitted.arrays["tail"], frame)
    view = _before(frame, missing) if missing else frame
    beside = design.extras(view, fitted.periods)
    net.check(len(lead) + beside.shape[1])
    if is_whole and len(net.biases[-1]) != len(lead) + 1:
        raise ValueError("the network gives back windows of another length")
    got = walk(net, view.values, beside, lead, Bounds.of(facts), is_whole)
    return Walked(got.expected[missing:], got.strain[missing:], got.filled[missing:])


def _before(frame: Frame, count: int) -> Frame:
    """A frame with so many missing samples before it."""
    earlier = frame.times[0] - np.arange(count, 0, -1, dtype=np.int64) * frame.step_ns
    blank = np.full(count, np.nan)
    return Frame(
        np.r_[earlier, frame.times],
        np.r_[np.full(count, frame.offsets_ns[0]), frame.offsets_ns],
        frame.step_ns,
        np.r_[blank, frame.values],
        np.r_[np.zeros(count, np.bool_), frame.usable],
        np.r_[np.ones(count), frame.weights],
        np.hstack([np.full((len(frame.columns), count), np.nan), frame.columns]),
        frame.names,
    )
