"""Baseline by a small network that predicts the next sample from a window of those before it."""

from typing import Any

import numpy as np

from watchtide.core.expect.baselines import Fitted, Parts, learned
from watchtide.core.expect.baselines.learned import Design, Shared
from watchtide.core.expect.baselines.networks import Schedule
from watchtide.core.expect.frame import Frame, Period
from watchtide.core.series import Floats, Ints

USUAL_HIDDEN = 32


def design(
    frame: Frame,
    periods: tuple[Period, ...],
    *,
    window_ns: int | None = None,
    hidden: int | None = None,
    **_: Any,
) -> Design:
    """One layer of `hidden` units, None for 32 or what the history allows; further options are the schedule's."""
    past = learned.window_of(window_ns, periods, frame)
    width = learned.most_hidden(USUAL_HIDDEN, past, frame, periods) if hidden is None else hidden
    return _design(past, width)


def _design(past: int, hidden: int) -> Design:
    return Design("next-step", past, (hidden,), "hidden")


def fit(
    frame: Frame,
    periods: tuple[Period, ...],
    *,
    window_ns: int | None = None,
    hidden: int | None = None,
    per: str = "stream",
    shared: Shared | None = None,
    **schedule: int,
) -> Fitted:
    """A network trained on the usable windows of the frame, or the family's.

    window_ns : how far it looks back, None for one of the shortest season, at most 96 samples. schedule : epochs, patience, seed.
    Raises ValueError for too few windows, and a training that diverges.
    """
    built = design(frame, periods, window_ns=window_ns, hidden=hidden)
    fitted = learned.fit(built, frame, periods, Schedule(**schedule), per=per, shared=shared)
    fitted.facts["hidden"] = built.layers[0]
    return fitted


def _design_of(fitted: Fitted) -> Design:
    return _design(fitted.facts["window"], fitted.facts["hidden"])


def held_out(fitted: Fitted, inner: Frame, folds: Ints) -> Floats:
    """(m,) predictions of each fold by a network that did not train on it."""
    return learned.held_out(_design_of(fitted), fitted, inner, folds)


def expect(fitted: Fitted, frame: Frame) -> Parts:
    """The prediction of each sample from those before it; where samples are missing, from earlier predictions."""
    expected = learned.predicted(_design_of(fitted), fitted, frame).expected
    return Parts(expected, expected, np.zeros((len(fitted.periods), len(frame))))
