"""Baseline by a network with a bottleneck that rebuilds windows: what passes through it is what windows have in common."""

from typing import Any

import numpy as np

from watchtide.core.baselines import Fitted, Parts, networks
from watchtide.core.baselines.networks import Design, Learnt
from watchtide.core.frame import Frame, Period
from watchtide.core.series import Floats, Ints

MOST_WINDOW = 96


def design(
    frame: Frame, periods: tuple[Period, ...], *, window_ns: int | None = None, stride: int = 1, bottleneck: int = 8, **_: Any
) -> Design:  # fmt: skip
    """A narrow layer of `bottleneck` units between two of four times as many."""
    return _design(networks.window_of(window_ns, periods, frame, MOST_WINDOW) - 1, stride, bottleneck)


def _design(past: int, stride: int, bottleneck: int) -> Design:
    wide = 4 * bottleneck
    return Design("reconstruction", past, (wide, bottleneck, wide), "bottleneck", stride, True)


def fit(
    frame: Frame,
    periods: tuple[Period, ...],
    *,
    window_ns: int | None = None,
    stride: int = 1,
    epochs: int = 30,
    bottleneck: int = 8,
    patience: int = 5,
    seed: int = 1,
    per: str = "stream",
    shared: Learnt | None = None,
) -> Fitted:
    """A network trained to give back the usable windows of the frame, or the family's.

    window_ns : length of a window, None for one of the shortest season, at most 96 samples; stride : samples from one window
    of training to the next, the rest overlaps. The newest sample of a window is hidden from the network and given back with
    the others: what it says of a sample rests on those before it alone. The last fifth of the windows shows when to stop.
    Raises ValueError for windows too few for the network, and a training that diverges.
    Hinton and Salakhutdinov (2006); hidden inputs: Vincent et al. (2008).
    """
    own = design(frame, periods, window_ns=window_ns, stride=stride, bottleneck=bottleneck)
    length = own.past + 1
    facts = {
        "lags": length, "stride": stride, "overlap": max(1 - stride / length, 0.0), "bottleneck": bottleneck, "middle": 0.0, "spread": 1.0,
    }  # fmt: skip
    fitted = networks.fit(
        own, frame, periods, facts, epochs=epochs, patience=patience, seed=seed, per=per, shared=shared
    )
    strain = np.log(np.maximum(_strain(fitted, frame)[frame.usable], 1e-12))
    if not np.isfinite(strain).any():
        return fitted
    middle = float(np.nanmedian(strain))
    # Under the usual a window is rebuilt well, which is no trouble: the scale is of those over it.
    over = strain[strain > middle] - middle
    wide = 1.4826 * float(np.median(over)) if len(over) else 1.0
    fitted.facts.update(middle=middle, spread=max(wide, 1e-6))
    return fitted


def _design_of(fitted: Fitted) -> Design:
    facts = fitted.facts
    return _design(facts["window"], facts["stride"], facts["bottleneck"])


def held_out(fitted: Fitted, inner: Frame, folds: Ints) -> Floats:
    """(m,) what is said of each fold by a network that did not learn to say it."""
    return networks.held_out(_design_of(fitted), fitted, inner, folds)


def _strain(fitted: Fitted, frame: Frame) -> Floats:
    return networks.judged(_design_of(fitted), fitted, frame, is_whole=True).strain


def strength(fitted: Fitted, frame: Frame) -> Floats:
    """(n,) how badly the window that ends at each sample is rebuilt, in robust sigmas of the training windows' logarithms."""
    facts = fitted.facts
    return np.asarray((np.log(np.maximum(_strain(fitted, frame), 1e-12)) - facts["middle"]) / facts["spread"])


def expect(fitted: Fitted, frame: Frame) -> Parts:
    """The last sample of the rebuilt window that ends at each one, which the network has not seen."""
    expected = networks.judged(_design_of(fitted), fitted, frame).expected
    return Parts(expected, expected, np.zeros((len(fitted.periods), len(frame))))
