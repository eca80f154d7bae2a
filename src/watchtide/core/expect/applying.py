"""A fitted baseline applied to samples: what was expected of them, and how far each may stray."""

from dataclasses import replace

import numpy as np

from watchtide.core.expect import quantile, spread
from watchtide.core.expect.baselines import OWN_SPREAD, TRAILS, Parts
from watchtide.core.expect.frame import Frame, slots
from watchtide.core.expect.records import Choice, Model, Training
from watchtide.core.series import Floats, Ints


def judge(model: Model, frame: Frame, training: Training | None = None) -> tuple[Parts, Floats]:
    """Parts and expected values of a frame, in the unit of the values.

    training : of the fit, where the frame begins with its training part; its levels are then followed as they became
    the normal. Else the last one holds.
    """
    choice = model.choice
    scaled = to_fit(frame, choice)
    n = len(frame)
    delayed = np.full(n, model.step)
    if training is not None:
        delayed[: len(training.delayed)] = training.delayed
    parts = model.fitted.expect(without(scaled, delayed, choice) if choice.kind in TRAILS else scaled)
    expected = back(parts.expected, delayed, choice)
    if choice.has_link:
        trend = parts.trend * np.exp(delayed)
        return replace(
            parts, expected=expected, trend=trend, seasons=parts.seasons * np.exp(delayed)
        ), expected
    if choice.is_log:
        level = np.exp(np.minimum(parts.trend + delayed, 700.0))
        logs = parts.expected - parts.trend
        with np.errstate(invalid="ignore", divide="ignore"):
            share = np.where(logs != 0, (expected - level) / logs, 0.0)
        more = {k: v * share for k, v in parts.more.items()}
        return Parts(expected, level, parts.seasons * share, more, own_spread(parts, expected)), expected
    return replace(parts, expected=expected, trend=parts.trend + delayed), expected


def fitted_now(model: Model, part: Frame, training: Training) -> Floats:
    """(m,) in-sample expected values of a training part, with its accepted steps as they are."""
    scaled = to_fit(part, model.choice)
    return back(
        model.fitted.expect(without(scaled, training.steps, model.choice)).expected,
        training.steps,
        model.choice,
    )


def own_spread(parts: Parts, expected: Floats) -> Floats | None:
    return None if parts.spread is None else parts.spread * expected


def spread_groups(frame: Frame, model: Model) -> Ints:
    """(n,) which group gives each sample's spread: its slot of the shortest season, and its day of the longer one."""
    if model.group_period is None:
        return np.zeros(len(frame), np.int64)
    own = slots(frame, model.group_period, model.groups)
    return own if model.day_period is None else own * model.days + slots(frame, model.day_period, model.days)


def counted_of(model: Model, frame: Frame) -> quantile.Counted | None:
    """What makes the values of a frame counts for this model: None where its law is a symmetrical one."""
    return counted_by(model, frame.counted)


def counted_by(model: Model, counted: quantile.Counted | None) -> quantile.Counted | None:
    """The same of values that are counts of this sort; None of what is none."""
    if not model.spread.is_counted or counted is None or model.choice.kind in OWN_SPREAD:
        return None
    if model.spread.has_trials:
        return counted
    return replace(counted, trials=np.full(len(counted.trials), np.inf))


def score_of(model: Model, frame: Frame, expected: Floats, wide: Floats) -> Floats:
    """(n,) signed scores of a frame's values with this expectation and spread: their quantile residuals."""
    return quantile.score(frame.values, expected, wide, counted_of(model, frame))


def spread_at(
    model: Model,
    parts: Parts,
    expected: Floats,
    groups: Ints,
    denominator: Floats | None,
    frame: Frame,
) -> Floats:
    """(n,) spread of each sample: the model's, or what the kind itself says, never under the floor; wider where a covariate
    is not known."""
    own = None if parts.spread is None else parts.spread[: len(frame)]
    usual = model.spread.at(expected, groups, denominator)
    if model.doubt:
        usual = np.hypot(usual, model.doubt)
    if (unknown := unknown_columns(model, frame, expected)) is not None:
        usual = np.hypot(usual, unknown)
    if own is None:
        return usual
    if model.choice.kind in OWN_SPREAD:
        return np.maximum(own, model.spread.floor)
    # A window's own scatter, shrunk to the stream's as far as the window is short.
    m, prior = float(model.fitted.facts["window"]), spread.PRIOR_SAMPLES
    shrunk = np.sqrt((m * own**2 + prior * usual**2) / (m + prior))
    return np.maximum(np.where(np.isnan(shrunk), usual, shrunk), model.spread.floor)


def unknown_columns(model: Model, frame: Frame, expected: Floats) -> Floats | None:
    """(n,) standard deviation that covariates missing at a sample would explain, None where all are known.

    A missing one is taken at its mean; standardised, it may lie one standard deviation off: its coefficient.
    """
    names = model.fitted.facts.get("columns") or []
    if model.choice.kind != "harmonic" or not names or not np.isnan(frame.columns).any():
        return None
    beta = model.fitted.arrays["beta"]
    first = len(beta) - 2 * len(model.fitted.arrays["order"]) - len(names)
    own = beta[first : first + len(names)]
    total = np.sum(np.isnan(frame.columns) * own[:, None] ** 2, axis=0)
    # Logarithms are shares of what is expected.
    size = np.abs(expected) if model.choice.is_log or model.choice.has_link else 1.0
    return np.asarray(np.sqrt(total) * size)


def to_fit(frame: Frame, choice: Choice) -> Frame:
    """Values on the scale the baseline is fitted on."""
    if not choice.is_log:
        return frame
    with np.errstate(invalid="ignore", divide="ignore"):
        logs = np.where(frame.values > 0, np.log(np.maximum(frame.values, 1e-300)), np.nan)
    return frame.with_values(logs)


def back(expected: Floats, steps: Floats, choice: Choice) -> Floats:
    """Expected values in the unit of the values, with their level put back."""
    if choice.has_link:
        return expected * np.exp(steps)
    return np.exp(np.minimum(expected + steps, 700.0)) if choice.is_log else expected + steps


def without(frame: Frame, steps: Floats, choice: Choice) -> Frame:
    """A frame with the accepted steps taken out."""
    if not np.any(steps):
        return frame
    return frame.with_values(frame.values / np.exp(steps) if choice.has_link else frame.values - steps)
