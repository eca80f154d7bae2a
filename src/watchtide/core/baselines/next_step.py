"""Baseline by a small network that says the next sample from a window of those before it."""

from typing import Any

import numpy as np

from watchtide.core.baselines import Fitted, Parts, networks
from watchtide.core.baselines.networks import Design, Learnt
from watchtide.core.frame import Frame, Period
from watchtide.core.series import Floats, Ints

MOST_WINDOW = 96
USUAL_HIDDEN = 32


def design(
    frame: Frame, periods: tuple[Period, ...], *, window_ns: int | None = None, hidden: int | None = None, **_: Any
) -> Design:  # fmt: skip
    """One layer of `hidden` units over the samples before; where in its seasons a sample lies, known days and covariates beside."""
    past = networks.window_of(window_ns, periods, frame, MOST_WINDOW)
    if hidden is None:
        # Of a short history fewer than usual, so that its windows can hold them apart.
        inputs = past + networks.extras_of(frame, periods).shape[1]
        windows = 0.7 * max(int(frame.usable.sum()) - past, 0)
        hidden = int(np.clip(networks.WINDOWS_A_PARAMETER * windows / (inputs + 2), 2, USUAL_HIDDEN))
    return Design("next-step", past, (hidden,), "hidden")


def fit(
    frame: Frame,
    periods: tuple[Period, ...],
    *,
    window_ns: int | None = None,
    epochs: int = 30,
    hidden: int | None = None,
    patience: int = 5,
    seed: int = 1,
    per: str = "stream",
    shared: Learnt | None = None,
) -> Fitted:
    """A network trained on the usable windows of the frame, or the family's.

    window_ns : how far it looks back, None for one of the shortest season, at most 96 samples; hidden : units, None for 32, fewer where
    there is little history. The last fifth of the windows in
    time shows when to stop: `patience` epochs after the best.
    Raises ValueError for windows too few for the network, and a training that diverges.
    """
    own = design(frame, periods, window_ns=window_ns, hidden=hidden)
    return networks.fit(
        own,
        frame,
        periods,
        {"hidden": own.layers[0]},
        epochs=epochs,
        patience=patience,
        seed=seed,
        per=per,
        shared=shared,
    )


def _design_of(fitted: Fitted) -> Design:
    return Design("next-step", fitted.facts["window"], (fitted.facts["hidden"],), "hidden")


def held_out(fitted: Fitted, inner: Frame, folds: Ints) -> Floats:
    """(m,) what is said of each fold by a network that did not learn to say it."""
    return networks.held_out(_design_of(fitted), fitted, inner, folds)


def expect(fitted: Fitted, frame: Frame) -> Parts:
    """What the network says of each sample from those before it; its own sayings go on where samples are missing."""
    expected = networks.judged(_design_of(fitted), fitted, frame).expected
    return Parts(expected, expected, np.zeros((len(fitted.periods), len(frame))))
