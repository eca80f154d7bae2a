"""Small regression networks: training one, and its forward pass over rows or along a stream.

The optimiser is scikit-learn's `MLPRegressor`, one epoch at a time; stopping and the forward pass are ours. A network is plain
arrays, so that a kept one needs no library.
"""

import itertools
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from contextvars import ContextVar
from dataclasses import dataclass
from typing import Any

import numpy as np
from numba import njit

from watchtide.core.series import Floats
from watchtide.extras import needed

# A batch holds so many times the root of the number of rows, within these bounds.
BATCH, LEAST_BATCH, MOST_BATCH = 2.0, 16, 1024
# Rows times outputs for each parameter of a network: with early stopping it may have more parameters than values to fit.
PARAMETERS_A_VALUE = 20

# Called after each epoch, counted from 1, with the mean squared errors of training and validation, NaN without the latter.
Progress = Callable[[int, float, float], None]
_watcher: ContextVar[Progress | None] = ContextVar("watcher", default=None)


@contextmanager
def watched(progress: Progress | None) -> Iterator[None]:
    """Report each epoch of every network trained within, to None not at all; what `progress` raises ends the training and passes
    through."""
    before = _watcher.set(progress)
    try:
        yield
    finally:
        _watcher.reset(before)


@dataclass(frozen=True)
class Schedule:
    """How long a network trains: at most `epochs`, and until `patience` epochs after its best one."""

    epochs: int = 30
    patience: int = 5
    seed: int = 1


@dataclass(frozen=True)
class Examples:
    """(n, in) rows and their (n, out) targets, in order of time."""

    rows: Any
    targets: Any

    def __len__(self) -> int:
        return len(self.rows)

    def part(self, which: slice) -> "Examples":
        return Examples(self.rows[which], self.targets[which])

    @classmethod
    def joined(cls, parts: Sequence["Examples"]) -> "Examples":
        return cls(np.concatenate([p.rows for p in parts]), np.concatenate([p.targets for p in parts]))


@dataclass(frozen=True)
class Network:
    """A perceptron beside a linear map. weights : (out, in) arrays of its layers, biases : (out,); ReLU between layers, none after
    the last. line : (out, in) coefficients of the linear map, None for none."""

    weights: tuple[Floats, ...]
    biases: tuple[Floats, ...]
    line: Floats | None = None

    def arrays(self) -> dict[str, Floats]:
        layers = {f"weights_{i}": w for i, w in enumerate(self.weights)}
        layers |= {f"biases_{i}": b for i, b in enumerate(self.biases)}
        return layers if self.line is None else layers | {"line": self.line}

    @classmethod
    def of(cls, arrays: dict[str, Floats]) -> "Network":
        count = sum(name.startswith("weights_") for name in arrays)
        weights, biases = (
            tuple(arrays[f"{name}_{i}"] for i in range(count)) for name in ("weights", "biases")
        )
        return cls(weights, biases, arrays.get("line"))

    def check(self, inputs: int, outputs: int) -> None:
        """Raise ValueError where layers and linear map do not fit these widths: a file may come from a stranger."""
        width = inputs
        for i, (w, b) in enumerate(zip(self.weights, self.biases, strict=True), start=1):
            if w.ndim != 2 or w.shape[1] != width or b.shape != (w.shape[0],):
                raise ValueError(f"layer {i} of the network does not fit the layer before it")
            width = w.shape[0]
        if not self.weights or width != outputs:
            raise ValueError(f"the network has {width} outputs where {outputs} are needed")
        if self.line is not None and self.line.shape != (outputs, inputs):
            raise ValueError("the linear map of the network does not fit its layers")

    def __call__(self, rows: Floats) -> Floats:
        """(n, out) for (n, in) rows, in double precision."""
        x = np.asarray(rows, np.float64)
        line = 0.0 if self.line is None else x @ self.line.T
        for i, (w, b) in enumerate(zip(self.weights, self.biases, strict=True)):
            x = x @ w.T + b
            if i < len(self.weights) - 1:
                x = np.maximum(x, 0.0)
        return np.asarray(x + line)


@dataclass(frozen=True)
class Trained:
    """A network and how it was trained. losses : [training, validation] mean squared error after each epoch; best : the epoch whose
    weights the network has, counted from 1."""

    net: Network
    losses: list[list[float]]
    best: int


def one_thread() -> Any:
    """A context in which matrix products run in one thread: their rounding is then the same on any number of cores."""
    with needed("learn", "a learned baseline"):
        from threadpoolctl import threadpool_limits  # type: ignore[import-untyped]

    return threadpool_limits(limits=1)


def check_size(training: Examples, layers: Sequence[int], option: str) -> None:
    """Raise ValueError where there are too few examples for a network with these layers; option : what sets their width."""
    widths = [training.rows.shape[1], *layers, training.targets.shape[1]]
    parameters = sum((a + 1) * b for a, b in itertools.pairwise(widths))
    if training.targets.size * PARAMETERS_A_VALUE < parameters:
        raise ValueError(
            f"{len(training)} windows are too few for a network of {parameters} parameters: take fewer units ({option}), a shorter "
            "window, or more history"
        )


def train(
    training: Examples,
    validation: Examples | None,
    layers: Sequence[int],
    schedule: Schedule,
    loss_unit: float = 1.0,
) -> Trained:
    """Train a network with these widths between input and output; validation only decides when to stop.

    The weights of the epoch with the least validation error are kept; without validation it runs all epochs. The same seed
    gives the same bytes in any number of processes. `watched` reports each epoch. loss_unit : what losses are multiplied by,
    for targets that were scaled.
    Raises ValueError where the error is not finite, naming the epoch.
    Adam, Kingma and Ba (2015); early stopping, Prechelt (1998).
    """
    with needed("learn", "a learned baseline"):
        from sklearn.neural_network import MLPRegressor  # type: ignore[import-untyped]

    batch = int(np.clip(BATCH * np.sqrt(len(training)), LEAST_BATCH, MOST_BATCH))
    net = MLPRegressor(
        hidden_layer_sizes=tuple(layers),
        batch_size=min(batch, len(training)),
        learning_rate_init=3e-3,
        # With a plain number every epoch would shuffle alike.
        random_state=np.random.RandomState(schedule.seed),
    )
    progress = _watcher.get()
    given, seen = _for_library(training), None if validation is None else _for_library(validation)
    losses: list[list[float]] = []
    best = 0
    coefficients: tuple[list[Any], list[Any]] = [], []
    with one_thread(), np.errstate(over="ignore", invalid="ignore"):
        for epoch in range(1, schedule.epochs + 1):
            try:
                net.partial_fit(*given)
                errors = [_error(net, *data) for data in (given, seen) if data is not None]
            except ValueError as error:
                raise ValueError(_diverged(epoch)) from error
            if not np.all(np.isfinite(errors)):
                raise ValueError(_diverged(epoch))
            errors = [loss_unit * error for error in errors]
            losses.append([errors[0], errors[-1] if seen is not None else np.nan])
            if progress is not None:
                progress(epoch, *losses[-1])
            if seen is None or best == 0 or errors[-1] < losses[best - 1][1]:
                best = epoch
                coefficients = [w.copy() for w in net.coefs_], [b.copy() for b in net.intercepts_]
            elif epoch - best >= schedule.patience:
                break
    weights = tuple(np.ascontiguousarray(w.T, np.float64) for w in coefficients[0])
    biases = tuple(np.asarray(b, np.float64) for b in coefficients[1])
    return Trained(Network(weights, biases), losses, best)


def _for_library(examples: Examples) -> tuple[Any, Any]:
    """Rows and targets in single precision; one target as a vector."""
    rows = np.ascontiguousarray(examples.rows, np.float32)
    targets = np.ascontiguousarray(examples.targets, np.float32)
    return rows, targets[:, 0] if targets.shape[1] == 1 else targets


def _diverged(epoch: int) -> str:
    return f"the training diverged in epoch {epoch}: take a smaller network, or a transform that draws in extreme values"


def _error(net: Any, rows: Any, targets: Any) -> float:
    return float(np.mean((net.predict(rows) - targets) ** 2, dtype=np.float64))


@dataclass(frozen=True)
class Bounds:
    """scale : unit of the scaled samples; wild : scales from the prediction beyond which a sample is replaced in later windows;
    reach : how far from the mean of its window a prediction may lie, in scales."""

    scale: float
    wild: float
    reach: float


@dataclass(frozen=True)
class Walked:
    """Predictions along a stream; arrays of (n,). expected : NaN until a window is full. strain : root mean squared error of
    rebuilding the window that ends at a sample, in scales; NaN where it was not requested. filled : the samples as later
    windows read them."""

    expected: Floats
    strain: Floats
    filled: Floats


def walk(
    net: Network, values: Floats, extras: Floats, lead: Floats, bounds: Bounds, has_strain: bool = False
) -> Walked:
    """Predict each sample from those before it, in order.

    values : (n,), NaN where missing; extras : (n, k) further inputs; lead : (w,) samples before the first, w as the network reads.
    A missing or wild sample is replaced by its prediction in later windows. After w wild samples in a row the observed
    values replace the predictions: they are a new level. has_strain : the network returns the whole window, and is compared with it.
    """
    # Input by unit, so that the inner loop runs over adjacent memory.
    weights, biases = [w.T for w in net.weights], list(net.biases)
    line = np.zeros((weights[0].shape[0], weights[-1].shape[1])) if net.line is None else net.line.T
    if not has_strain:
        # Only the last output is needed where the window is not rebuilt.
        weights[-1], biases[-1], line = weights[-1][:, -1:], biases[-1][-1:], line[:, -1:]
    # The linear map reads the same inputs as the first layer: both are one product, its outputs behind those of the layer.
    weights[0] = np.concatenate([weights[0], line], axis=1)
    biases[0] = np.r_[biases[0], np.zeros(line.shape[1])]
    layers = tuple(np.ascontiguousarray(w) for w in weights), tuple(np.ascontiguousarray(b) for b in biases)
    buffer = np.r_[lead, np.full(len(values), np.nan)]
    expected, strain = np.full(len(values), np.nan), np.full(len(values), np.nan)
    limits = np.array([bounds.scale, bounds.wild, bounds.reach])
    inputs = np.ascontiguousarray(values, np.float64), np.ascontiguousarray(extras, np.float64)
    _walk(*inputs, buffer, *layers, limits, has_strain, expected, strain)
    return Walked(expected, strain, buffer[len(lead) :])


@njit(cache=True, nogil=True)
def _forward(x, weights, biases, out, linear):  # type: ignore[no-untyped-def]
    """Put what a network says of its inputs into `out`; x and linear are taken for what lies between."""
    layers, ends = len(weights), len(linear)
    # Where the outputs of the linear map begin in the first product.
    own = biases[0].size - ends
    for layer in range(layers):
        bias = biases[layer]
        for j in range(bias.size):
            out[j] = bias[j]
        _add_product(x, weights[layer], out)
        if layer == 0:
            for j in range(ends):
                linear[j] = out[own + j]
        if layer < layers - 1:
            for j in range(bias.size):
                x[j] = max(out[j], 0.0)
    for j in range(ends):
        out[j] += linear[j]


@njit(cache=True, nogil=True)
def _walk(values, extras, buffer, weights, biases, limits, has_strain, expected, strain):  # type: ignore[no-untyped-def]
    scale, wild, reach = limits
    past, ends = len(buffer) - len(values), biases[-1].size
    unit = 1.0 / scale
    widest = 0
    for layer in range(len(weights)):
        widest = max(widest, weights[layer].shape[0], weights[layer].shape[1])
    x, out, linear = np.zeros(widest), np.zeros(widest), np.zeros(ends)
    filled = 0
    last = np.nan
    for i in range(past):
        if not np.isnan(buffer[i]):
            filled += 1
            last = buffer[i]
    # Observed values of the wild samples that a prediction replaced, and how many there were in a row.
    observed = np.full(len(values), np.nan)
    replaced = 0
    for t in range(len(values)):
        at = past + t
        prediction = np.nan
        mean = 0.0
        if filled >= past:
            window = buffer[at - past : at]
            mean = _mean(window)
            for i in range(past):
                x[i] = (window[i] - mean) * unit
            for i in range(extras.shape[1]):
                x[past + i] = extras[t, i]
            _forward(x, weights, biases, out, linear)
            # Outside its training range a network may return any value: it is cut at the reach of the training samples.
            prediction = mean + scale * min(max(out[ends - 1], -reach), reach)
            expected[t] = prediction
        y = values[t]
        if np.isnan(y):
            # Before the first window is full the last sample is carried forward.
            buffer[at] = last if np.isnan(prediction) else prediction
            if not np.isnan(buffer[at]):
                filled += 1
        else:
            if not np.isnan(prediction) and abs(y - prediction) > wild * scale:
                buffer[at] = prediction
                observed[t] = y
                replaced += 1
                if replaced == past:
                    for i in range(min(past, t + 1)):
                        if not np.isnan(observed[t - i]):
                            buffer[at - i] = observed[t - i]
                    replaced = 0
            else:
                buffer[at] = y
                replaced = 0
            filled += 1
            last = y
        if has_strain and not np.isnan(prediction) and not np.isnan(y):
            total = ((y - mean) * unit - out[past]) ** 2
            for i in range(past):
                total += ((buffer[at - past + i] - mean) * unit - out[i]) ** 2
            strain[t] = np.sqrt(total / (past + 1))


# Products are summed over so many inputs at once: the processor then need not wait for each sum, nor store it.
TOGETHER = 4


@njit(cache=True, nogil=True)
def _add_product(x, weights, out):  # type: ignore[no-untyped-def]
    """Add x @ weights to out; weights : (in, out). Always summed in the same order, so that any cut of a stream gives the same bytes."""
    inputs, outputs = weights.shape
    whole = inputs - inputs % TOGETHER
    if outputs == 1:
        out[0] += _dot(x, weights[:, 0])
        return
    for i in range(0, whole, TOGETHER):
        a, b, c, d = x[i], x[i + 1], x[i + 2], x[i + 3]
        row_a, row_b, row_c, row_d = weights[i], weights[i + 1], weights[i + 2], weights[i + 3]
        for j in range(outputs):
            out[j] += (a * row_a[j] + b * row_b[j]) + (c * row_c[j] + d * row_d[j])
    for i in range(whole, inputs):
        a, row_a = x[i], weights[i]
        for j in range(outputs):
            out[j] += a * row_a[j]


@njit(cache=True, nogil=True)
def _dot(x, weights):  # type: ignore[no-untyped-def]
    """The sum of products, as four sums beside one another."""
    a = b = c = d = 0.0
    whole = weights.size - weights.size % TOGETHER
    for i in range(0, whole, TOGETHER):
        a += x[i] * weights[i]
        b += x[i + 1] * weights[i + 1]
        c += x[i + 2] * weights[i + 2]
        d += x[i + 3] * weights[i + 3]
    for i in range(whole, weights.size):
        a += x[i] * weights[i]
    return (a + b) + (c + d)


@njit(cache=True, nogil=True)
def _mean(values):  # type: ignore[no-untyped-def]
    """The mean, in four sums beside one another for speed."""
    a = b = c = d = 0.0
    whole = values.size - values.size % TOGETHER
    for i in range(0, whole, TOGETHER):
        a += values[i]
        b += values[i + 1]
        c += values[i + 2]
        d += values[i + 3]
    for i in range(whole, values.size):
        a += values[i]
    return ((a + b) + (c + d)) / values.size
