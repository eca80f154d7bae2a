"""What it costs to carry a fit past the end of its history: how errors grow with the distance.

Values held out of the middle of a history lie closer than those that come after its end. The same fit is made from
several places in the past and carried on over what is known to have followed.
"""

import itertools
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from watchtide.core import expectation, robust, windows
from watchtide.core.expectation import Choice, Model
from watchtide.core.frame import Frame
from watchtide.core.series import Floats, Ints

# Places in the past from which a fit is carried on, to see how errors grow with the distance.
ORIGINS = 6
BUCKETS = 6
# Errors of so many samples say as much of the growth as what is known without any: that there is none.
PRIOR_SAMPLES = 60
LEAST_GROWTH = 1.1
# Without two such places the level is taken to walk a tenth of a spread a season.
USUAL_WALK = 0.01


@dataclass(frozen=True)
class Carry:
    """How errors grow past the end of a history.

    ahead : (k,) samples past the end, growth : (k,) times the held-out spread, at least 1 and never falling; slope : what a sample more
    adds to the squared growth beyond `tried`, the furthest that could be tried. drift : spread of the mean over a long window in
    sigmas, as far as it is more than that of held-out values.
    """

    ahead: Floats
    growth: Floats
    tried: int
    slope: float
    drift: float

    def growth_at(self, ahead: Ints | Floats) -> Floats:
        """(m,) growth so many samples past the end; 1 before it."""
        grown = np.interp(ahead, self.ahead, self.growth)
        # Past what could be tried the variance goes on growing as it did.
        beyond = np.maximum(np.asarray(ahead) - self.tried, 0)
        return np.where(np.asarray(ahead) > 0, np.sqrt(grown**2 + self.slope * beyond), 1.0)

    def drift_at(self, ahead: Ints | Floats) -> Floats:
        """(m,) drift so many samples past the end; 0 before it."""
        return np.where(np.asarray(ahead) > 0, self.drift, 0.0)

    def as_data(self) -> dict[str, Any]:
        return {**vars(self), "ahead": self.ahead.tolist(), "growth": self.growth.tolist()}

    @classmethod
    def from_data(cls, data: dict[str, Any]) -> "Carry":
        ahead, growth = (np.asarray(data[k], np.float64) for k in ("ahead", "growth"))
        if len(ahead) == 0 or len(ahead) != len(growth) or np.any(growth < 1):
            raise ValueError("growth past the end must be at least 1 at one distance or more")
        return cls(ahead, growth, int(data["tried"]), float(data["slope"]), float(data["drift"]))


def follows_by_itself(model: Model) -> bool:
    """Whether the kind reads the samples before each one, or holds what it was given: nothing of it is carried."""
    kind, facts = model.choice.kind, model.fitted.facts
    return kind in ("rolling", "trailing", "isolation", "fixed") or facts.get("method") == "forecast"


def settled(choice: Choice, model: Model) -> Choice:
    """The choice with what a fit chose by itself: later fits do not choose anew."""
    facts, options = model.fitted.facts, dict(choice.options)
    if "ridge" in facts:
        options["ridge"] = facts["ridge"]
    if "season_windows" in facts:
        options["season_window"] = facts["season_windows"]
    return replace(choice, options=options)


def measure(part: Frame, model: Model, steps: int, denominator: Floats | None = None) -> Carry:
    """How the errors of this baseline grow over `steps` samples past a history, from the history itself.

    part : (n,) the training part; denominator : (n,) of ratios. The fit is made anew from up to six places in the second half and carried on
    over at most half of it; growth is the robust scale of the errors by distance, in buckets whose edges grow as a power,
    drawn towards 1 and made to rise by isotonic regression.
    """
    choice = settled(model.choice, model)
    n = len(part)
    longest = max((round(p.samples(part.step_ns)) for p in choice.periods), default=24)
    first = max(3 * longest, n // 2)
    reach = min(steps, max((n - first) // 2, 1))
    places = (
        np.unique(np.linspace(first, n - reach, ORIGINS).astype(np.int64))
        if n - reach > first
        else np.empty(0, np.int64)
    )
    errors = [z for at in places if (z := _carried(part, choice, int(at), reach, denominator)) is not None]
    if len(errors) < 2:
        far = np.geomspace(1, max(steps, 2), 32)
        return Carry(far, np.sqrt(1 + USUAL_WALK * far / longest), max(steps, 2), USUAL_WALK / longest, 0.0)
    edges = np.unique(np.geomspace(1, reach + 1, BUCKETS + 1).astype(np.int64)) - 1
    z = np.array(errors)
    pairs = list(itertools.pairwise(edges))
    scale = np.array([robust.mad_sigma(z[:, a:b].ravel(), centre=0.0) for a, b in pairs])
    count = np.array([np.sum(~np.isnan(z[:, a:b])) for a, b in pairs], np.float64)
    # Few errors tell little: each bucket is drawn towards 1, and those that fall are put together, not overruled by the largest.
    shrunk = np.sqrt((count * scale**2 + PRIOR_SAMPLES) / (count + PRIOR_SAMPLES))
    # Few scans carry a fit past its end; the others need not wait for all of the optimisers.
    from scipy.optimize import isotonic_regression

    rising = np.maximum(isotonic_regression(shrunk, weights=count + 1e-9).x, 1.0)
    ahead = np.array([(a + b) / 2 + 1 for a, b in pairs])
    # What is hardly seen within reach is not carried on beyond it.
    slope = float(rising[-1] ** 2 - 1) / reach if rising[-1] > LEAST_GROWTH else 0.0
    return Carry(ahead, rising, reach, slope, _drift(z, rising, ahead, part.step_ns))


def _carried(part: Frame, choice: Choice, at: int, reach: int, denominator: Floats | None) -> Floats | None:
    """(reach,) errors in sigmas of a fit to what came before `at`; None where that is too short for this baseline."""
    try:
        model, _ = expectation.fit(
            part.part(0, at), choice, None if denominator is None else denominator[:at]
        )
    except ValueError:
        return None
    view = part.part(at, at + reach)
    parts, expected = expectation.judge(model, view)
    groups = expectation.spread_groups(view, model)
    d = None if denominator is None else denominator[at : at + reach]
    wide = expectation.spread_at(model, parts, expected, groups, d)
    return np.where(view.usable, (view.values - expected) / wide, np.nan)


def _drift(z: Floats, growth: Floats, ahead: Floats, step_ns: int) -> float:
    """Spread of the means over whole windows of two days beyond that of the same errors around their own middle, in grown sigmas."""
    window = int(max(windows.LENGTHS_NS // step_ns, 24))
    count = z.shape[1] // window
    if count < 2:
        return 0.0
    grown = np.clip(z / np.interp(np.arange(z.shape[1]), ahead, growth), -windows.CLIP, windows.CLIP)
    blocks = grown[:, : count * window].reshape(len(z), count, window)
    seen = np.sum(~np.isnan(blocks), axis=2)
    with np.errstate(invalid="ignore"):
        means = np.where(seen >= window // 2, np.nansum(blocks, axis=2) / np.maximum(seen, 1), np.nan)
    around = means - np.nanmedian(means, axis=1, keepdims=True) if not np.isnan(means).all() else means
    usual = robust.mad_sigma(around.ravel(), centre=0.0)
    return float(np.sqrt(max(robust.mad_sigma(means.ravel(), centre=0.0) ** 2 - usual**2, 0.0)))
