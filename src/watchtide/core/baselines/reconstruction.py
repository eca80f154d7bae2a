"""Baseline by a network with a bottleneck that rebuilds windows: what passes through it is what windows have in common."""

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
    stride: int = 1,
    epochs: int = 30,
    bottleneck: int = 8,
    patience: int = 5,
    seed: int = 1,
    per: str = "stream",
) -> Fitted:
    """A network with a narrow layer of `bottleneck` units between two of four times as many, trained to give back windows.

    window_ns : length of a window, None for one of the shortest season, at most 96 samples; stride : samples from one window
    of training to the next, the rest overlaps. The newest sample of a window is hidden from the network and given back with
    the others: what it says of a sample rests on those before it alone. The last fifth of the windows shows when to stop.
    Raises ValueError for windows too few for the network, and a training that diverges.
    Hinton and Salakhutdinov (2006); hidden inputs: Vincent et al. (2008).
    """
    networks.check_per(per)
    window = networks.window_of(window_ns, periods, frame, MOST_WINDOW)
    seen = networks.windows_of(frame, window, stride)
    train = networks.split(len(seen.starts))
    wide = 4 * bottleneck
    parameters = wide * (2 * window + 2 * bottleneck + 2)
    networks.check_size(train, window, parameters, "bottleneck")
    rows, _, whole = seen.rows(None)
    net = networks.train(
        rows[:train], whole[:train], (rows[train:], whole[train:]), (wide, bottleneck, wide),
        epochs=epochs, patience=patience, seed=seed,
    )  # fmt: skip
    facts = {
        "window": window - 1, "lags": window, "stride": stride, "overlap": max(1 - stride / window, 0.0),
        "bottleneck": bottleneck, "epochs": len(net.losses), "best_epoch": net.best, "seed": seed,
        "epoch_losses": net.losses.tolist(),
        "windows": {"training": train, "validation": len(seen.starts) - train}, "scale": seen.scale,
        "reach": networks.REACH * float(np.max(np.abs(whole[:train][:, -1]))),
    }  # fmt: skip
    none = np.zeros((len(frame), 0))
    fitted = networks.finish("reconstruction", frame, periods, net, none, facts)
    strain = np.log(np.maximum(_walked(fitted, frame).strain[frame.usable], 1e-12))
    middle = float(np.nanmedian(strain)) if np.isfinite(strain).any() else 0.0
    # Under the usual a window is rebuilt well, which is no trouble: the scale is of those over it.
    over = strain[strain > middle] - middle
    fitted.facts.update(
        middle=middle, spread=max(1.4826 * float(np.median(over)), 1e-6) if len(over) else 1.0
    )
    return fitted


def held_out(fitted: Fitted, inner: Frame, tame: Bools, folds: Ints) -> Floats:
    """(m,) what networks say of the samples of each fold that learned from the windows that end in the others."""
    facts = fitted.facts
    wide = 4 * facts["bottleneck"]

    def again(may_train: Bools) -> Network | None:
        seen = networks.windows_of(inner, facts["lags"], facts["stride"], may_train)
        if len(seen.starts) < networks.LEAST_WINDOWS:
            return None
        rows, _, whole = seen.rows(None)
        return networks.train(
            rows, whole, None, (wide, facts["bottleneck"], wide),
            epochs=facts["best_epoch"], patience=1, seed=facts["seed"],
        )  # fmt: skip

    none = np.zeros((len(inner), 0))
    return networks.held_out(fitted, inner, tame, folds, none, again)


def strength(fitted: Fitted, frame: Frame) -> Floats:
    """(n,) how badly the window that ends at each sample is rebuilt, in robust sigmas of the training windows' logarithms."""
    strain = _walked(fitted, frame).strain
    return np.asarray((np.log(np.maximum(strain, 1e-12)) - fitted.facts["middle"]) / fitted.facts["spread"])


def expect(fitted: Fitted, frame: Frame) -> Parts:
    """The last sample of the rebuilt window that ends at each one, which the network has not seen."""
    expected = _walked(fitted, frame, is_whole=False).expected
    return Parts(expected, expected, np.zeros((len(fitted.periods), len(frame))))


def _walked(fitted: Fitted, frame: Frame, *, is_whole: bool = True) -> networks.Walked:
    return networks.judged(fitted, frame, lambda f, _: np.zeros((len(f), 0)), is_whole=is_whole)
