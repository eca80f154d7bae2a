"""Baseline by a network with a bottleneck that rebuilds windows from what they have in common."""

from typing import Any

import numpy as np

from watchtide.core.expect.baselines import Fitted, Parts, learned
from watchtide.core.expect.baselines.learned import Design, Shared
from watchtide.core.expect.baselines.networks import Schedule
from watchtide.core.expect.frame import Frame, Period
from watchtide.core.series import Floats, Ints


def design(
    frame: Frame,
    periods: tuple[Period, ...],
    *,
    window_ns: int | None = None,
    stride: int = 1,
    bottleneck: int = 8,
    **_: Any,
) -> Design:
    """A layer of `bottleneck` units between two of four times as many; further options are the schedule's."""
    return _design(learned.window_of(window_ns, periods, frame) - 1, stride, bottleneck)


def _design(past: int, stride: int, bottleneck: int) -> Design:
    wide = 4 * bottleneck
    return Design("reconstruction", past, (wide, bottleneck, wide), "bottleneck", stride, True)


def fit(
    frame: Frame,
    periods: tuple[Period, ...],
    *,
    window_ns: int | None = None,
    stride: int = 1,
    bottleneck: int = 8,
    per: str = "stream",
    shared: Shared | None = None,
    **schedule: int,
) -> Fitted:
    """A network trained to rebuild the usable windows of the frame, or the family's.

    window_ns : length of a window, None for one of the shortest season, at most 96 samples; stride : samples from one training
    window to the next. The newest sample of a window is an output and no input, so that its expectation rests on those
    before it alone. schedule : epochs, patience, seed.
    Raises ValueError for too few windows, and a training that diverges.
    Hinton and Salakhutdinov (2006); hidden inputs: Vincent et al. (2008).
    """
    built = design(frame, periods, window_ns=window_ns, stride=stride, bottleneck=bottleneck)
    fitted = learned.fit(built, frame, periods, Schedule(**schedule), per=per, shared=shared)
    overlap = max(1 - stride / built.outputs, 0.0)
    fitted.facts.update(lags=built.outputs, stride=stride, overlap=overlap, bottleneck=bottleneck)
    strain = np.log(np.maximum(_strain(fitted, frame)[frame.usable], 1e-12))
    middle = float(np.nanmedian(strain)) if np.isfinite(strain).any() else 0.0
    # A window rebuilt better than usual is no anomaly: the scale is that of the upper half.
    over = strain[strain > middle] - middle
    scale = 1.4826 * float(np.median(over)) if len(over) else 1.0
    fitted.facts.update(middle=middle, spread=max(scale, 1e-6))
    return fitted


def _design_of(fitted: Fitted) -> Design:
    facts = fitted.facts
    return _design(facts["window"], facts["stride"], facts["bottleneck"])


def held_out(fitted: Fitted, inner: Frame, folds: Ints) -> Floats:
    """(m,) predictions of each fold by a network that did not train on it."""
    return learned.held_out(_design_of(fitted), fitted, inner, folds)


def _strain(fitted: Fitted, frame: Frame) -> Floats:
    return learned.predicted(_design_of(fitted), fitted, frame, has_strain=True).strain


def strength(fitted: Fitted, frame: Frame) -> Floats:
    """(n,) error of rebuilding the window that ends at each sample, in robust sigmas of the logarithms in training."""
    error = np.log(np.maximum(_strain(fitted, frame), 1e-12))
    return np.asarray((error - fitted.facts["middle"]) / fitted.facts["spread"])


def expect(fitted: Fitted, frame: Frame) -> Parts:
    """The last sample of the rebuilt window that ends at each one, which the network does not read."""
    expected = learned.predicted(_design_of(fitted), fitted, frame).expected
    return Parts(expected, expected, np.zeros((len(fitted.periods), len(frame))))
