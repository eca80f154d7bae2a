"""How a forecast continues past the end of a history: constant level, damped local trend, or the last season repeated.

The way is chosen by the forecasts that each would have made from several places in the past.
"""

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
from numba import njit

from watchtide.core import robust
from watchtide.core.expect import applying, carrying, records
from watchtide.core.expect.frame import Frame
from watchtide.core.expect.records import Model
from watchtide.core.series import Floats

# Half-lives: of the level's weights in horizons, of the trend's in those of the level, of its damping in horizons. They
# span what differs visibly over a horizon; no data was used to choose them.
LEVEL_LIVES, TREND_LIVES, DAMPED_LIVES = (0.02, 0.1, 0.5), (0.5, 2.0), (0.5, 2.0)
# Another way must be this much better than holding the level.
MARGIN = 0.02
# Innovations are clipped at so many of their robust scales: an incident at the end is no trend.
CLIP = 3.0


@dataclass(frozen=True)
class Way:
    """One way to continue a history. name : as notes give it; forecast : history -> (h,) expected values."""

    name: str
    forecast: Callable[["History"], Floats]


@dataclass(frozen=True)
class History:
    """What a way continues. values, level, expected : (n,) observed, trend by the model, and expected in-sample; later,
    later_level : (h,) what the model expects, and the level it holds; periods : (k,) samples of the seasons; is_multiplied :
    whether seasons multiply the level."""

    values: Floats
    level: Floats
    expected: Floats
    later: Floats
    later_level: Floats
    periods: tuple[int, ...]
    is_multiplied: bool

    @property
    def free(self) -> Floats:
        """(n,) values without their seasons."""
        if self.is_multiplied:
            with np.errstate(invalid="ignore", divide="ignore"):
                return np.where(self.expected > 0, self.values * self.level / self.expected, np.nan)
        return self.values - (self.expected - self.level)

    def with_level(self, level: Floats) -> Floats:
        """(h,) what is expected with another level under the same seasons."""
        if self.is_multiplied:
            with np.errstate(invalid="ignore", divide="ignore"):
                share = np.where(self.later_level > 0, self.later / self.later_level, 1.0)
            return np.asarray(np.maximum(level, 0.0) * share)
        return self.later - self.later_level + level


@dataclass(frozen=True)
class Onward:
    """The chosen way: expected : (h,); carry : growth of its errors with the horizon; note : in words."""

    expected: Floats
    carry: carrying.Carry
    note: str


def history_of(model: Model, training: records.Training, frame: Frame, stop: int) -> History:
    """What a model of the samples before `stop` expects of them and of those after."""
    parts, expected = applying.judge(model, frame, training)
    periods = tuple(round(p.samples(frame.step_ns)) for p in model.choice.periods)
    is_multiplied = model.choice.is_log or model.choice.has_link
    return History(
        values=frame.trained[:stop],
        level=parts.trend[:stop],
        expected=expected[:stop],
        later=expected[stop:],
        later_level=parts.trend[stop:],
        periods=periods,
        is_multiplied=is_multiplied,
    )


def ways(periods: Sequence[int], horizon: int) -> list[Way]:
    """The ways that are tried, the simplest first."""
    out = [Way("the level is held", lambda h: h.later)]
    for level in LEVEL_LIVES:
        for trend in TREND_LIVES:
            for damped in DAMPED_LIVES:
                lives = tuple(max(x * horizon, 2.0) for x in (level, trend * level, damped))
                out.append(Way("a damped local trend goes on", _damped(lives)))
    for period in sorted({p for p in periods if p >= 2}):
        out.append(Way(f"the last {period} samples are repeated", _repeated(period)))
        out.append(Way(f"half the model, half the last {period} samples", _half(_repeated(period))))
    return out


def _half(other: Callable[[History], Floats]) -> Callable[[History], Floats]:
    return lambda h: (h.later + other(h)) / 2


def _repeated(period: int) -> Callable[[History], Floats]:
    def forecast(h: History) -> Floats:
        known = h.values.copy()
        # What is missing from the last season is taken from those before it, else from the model.
        last = known[-period:].copy() if len(known) >= period else np.full(period, np.nan)
        for back in range(2, len(known) // period + 1):
            if not np.isnan(last).any():
                break
            part = known[-back * period : -(back - 1) * period]
            last = np.where(np.isnan(last), part, last)
        out = np.resize(last, len(h.later))
        return np.where(np.isnan(out), h.later, out)

    return forecast


def _damped(lives: tuple[float, ...]) -> Callable[[History], Floats]:
    alpha, beta, phi = 1 - 0.5 ** (1 / lives[0]), 1 - 0.5 ** (1 / lives[1]), 0.5 ** (1 / lives[2])

    def forecast(h: History) -> Floats:
        free = h.free
        scale = robust.mad_sigma(h.values - h.expected, centre=0.0)
        level, trend = damped_trend(free, alpha, beta, phi, CLIP * scale)
        steps = np.arange(1, len(h.later) + 1)
        return h.with_level(level + trend * phi * (1 - phi**steps) / (1 - phi))

    return forecast


@njit(cache=True, nogil=True)
def damped_trend(y, alpha, beta, phi, most):  # type: ignore[no-untyped-def]
    """Level and trend a sample at the end of a series; NaN goes on as expected.

    l(t) = l(t-1) + phi b(t-1) + alpha e(t), b(t) = phi b(t-1) + alpha beta e(t), e the error, clipped at `most`.
    Gardner and McKenzie (1985), in the form of Hyndman and Athanasopoulos (2021), 8.2.
    """
    level, trend, begun = 0.0, 0.0, False
    for v in y:
        if not begun:
            if not np.isnan(v):
                level, begun = v, True
            continue
        expected = level + phi * trend
        error = 0.0 if np.isnan(v) else v - expected
        if most > 0.0:
            error = min(max(error, -most), most)
        level = expected + alpha * error
        trend = phi * trend + alpha * beta * error
    return level, trend


def choose(
    part: Frame,
    model: Model,
    training: records.Training,
    ahead: Frame,
    held: Floats,
    denominator: Floats | None = None,
) -> Onward:
    """The way whose forecasts from up to six places in the second half of the history had the least mean absolute score
    over at most the horizon asked.

    part : (n,) the history; ahead : (n + h,) the same with the samples to come; held : (n,) clean held-out scores;
    denominator : of ratios, at least (n,). Another way than holding the level must be 2 % better; without two places to try
    the level is held. Tashman (2000), rolling origins.
    """
    n, horizon = len(part), len(ahead) - len(part)
    own = history_of(model, training, ahead, n)
    places, reach = carrying.places_of(part, model, horizon)
    options = ways(own.periods, horizon)
    tried = [
        found
        for at in places.tolist()
        if (found := _tried(part, model, at, reach, options, denominator)) is not None
    ]
    if len(tried) < 2:
        return Onward(own.later, carrying.unmeasured(part, model, horizon), options[0].name)
    loss = [np.nanmean([np.nanmean(np.abs(errors[k])) for errors in tried]) for k in range(len(options))]
    best = int(np.nanargmin(loss))
    if not loss[best] < (1 - MARGIN) * loss[0]:
        best = 0
    carry = carrying.grown(part, [errors[best] for errors in tried], held, horizon, reach)
    return Onward(options[best].forecast(own), carry, options[best].name)


def _tried(
    part: Frame, model: Model, at: int, reach: int, options: Sequence[Way], denominator: Floats | None
) -> list[Floats] | None:
    """Scores of each way's forecast from one place; None where too little came before it."""
    found = carrying.refitted(part, model, at, denominator)
    if found is None:
        return None
    view = part.part(0, at + reach)
    h = history_of(*found, view, at)
    later = view.part(at, at + reach)
    parts, _ = applying.judge(found[0], later)
    d = None if denominator is None else denominator[at : at + reach]
    return [carrying.scored(found[0], later, parts, way.forecast(h), d) for way in options]
