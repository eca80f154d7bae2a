"""Baseline by a small network that says the next sample from a window of those before it."""

import numpy as np

from watchtide.core.baselines import Fitted, Parts, networks
from watchtide.core.baselines.networks import Network
from watchtide.core.frame import Frame, Period
from watchtide.core.series import Bools, Floats, Ints

MOST_WINDOW = 96


def fit(
    frame: Frame,
    periods: tuple[Period, ...],
    *,
    window_ns: int | None = None,
    epochs: int = 30,
    hidden: int = 32,
    patience: int = 5,
    seed: int = 1,
    per: str = "stream",
) -> Fitted:
    """A network with one layer of `hidden` units, trained on the usable windows of the frame.

    window_ns : how far it looks back, None for one of the shortest season, at most 96 samples. Where in its seasons a sample
    lies, known days and covariates stand beside the window. The last fifth of the windows in time shows when to stop.
    Raises ValueError for windows too few for the network, and a training that diverges.
    """
    networks.check_per(per)
    window = networks.window_of(window_ns, periods, frame, MOST_WINDOW)
    extras = networks.extras_of(frame, periods)
    seen = networks.windows_of(frame, window + 1)
    train = networks.split(len(seen.starts))
    networks.check_size(train, 1, (window + extras.shape[1]) * hidden + 2 * hidden + 1, "hidden")
    rows, target, _ = seen.rows(extras)
    net = networks.train(
        rows[:train], target[:train, None], (rows[train:], target[train:]), (hidden,),
        epochs=epochs, patience=patience, seed=seed,
    )  # fmt: skip
    facts = {
        "window": window, "hidden": hidden, "epochs": len(net.losses), "best_epoch": net.best, "seed": seed,
        "epoch_losses": net.losses.tolist(),
        "windows": {"training": train, "validation": len(seen.starts) - train}, "scale": seen.scale,
        "reach": networks.REACH * float(np.max(np.abs(target[:train]))),
    }  # fmt: skip
    return networks.finish("next-step", frame, periods, net, extras, facts)


def held_out(fitted: Fitted, inner: Frame, tame: Bools, folds: Ints) -> Floats:
    """(m,) what networks say of the samples of each fold that learned from the windows that end in the others."""
    facts = fitted.facts
    extras = networks.extras_of(inner, fitted.periods)

    def again(may_train: Bools) -> Network | None:
        seen = networks.windows_of(inner, facts["window"] + 1, may_train=may_train)
        if len(seen.starts) < networks.LEAST_WINDOWS:
            return None
        rows, target, _ = seen.rows(extras)
        return networks.train(
            rows, target[:, None], None, (facts["hidden"],),
            epochs=facts["best_epoch"], patience=1, seed=facts["seed"],
        )  # fmt: skip

    return networks.held_out(fitted, inner, tame, folds, extras, again)


def expect(fitted: Fitted, frame: Frame) -> Parts:
    """What the network says of each sample from those before it; its own sayings go on where samples are missing."""
    walked = networks.judged(fitted, frame, networks.extras_of, is_whole=False)
    expected = walked.expected
    return Parts(expected, expected, np.zeros((len(fitted.periods), len(frame))))
