"""What it costs to carry a fit past the end of its history: how errors grow with the distance.

Values held out of the middle of a history lie closer than those that come after its end. The same fit is made from
several places in the past and carried on over what is known to have followed.
"""

import itertools
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from watchtide.core import robust
from watchtide.core.expect import applying, fitting, sliding
from watchtide.core.expect.baselines import LEARNED, Parts, trailing
from watchtide.core.expect.frame import Frame
from watchtide.core.expect.records import Choice, Model, Training
from watchtide.core.series import Floats, Ints

# Places in the past from which a fit is carried on, to see how errors grow with the distance.
ORIGINS = 6
BUCKETS = 6
# Errors of so many samples say as much of the growth as what is known without any: that there is none.
PRIOR_SAMPLES = 60
LEAST_GROWTH = 1.1
# How far means stray is read off this quantile of theirs, which lies at so many sigmas: of six places two may be far out.
STRAYED, STRAYED_SIGMAS = 0.75, 1.1503
# Of the variance of a spread, what a walking level adds a season where nothing could be tried.
USUAL_WALK = 0.01


@dataclass(frozen=True)
class Carry:
    """How errors grow past the end of a history.

    ahead : (k,) samples past the end, growth : (k,) times the held-out spread, at least 1 and never falling; slope : what a sample more
    adds to the squared growth beyond `tried`, the furthest that could be tried. lengths : (w,) samples of windows, drift : (w,) how far
    the mean over each strays in sigmas, as far as it is more than that of held-out values.
    """

    ahead: Floats
    growth: Floats
    tried: int
    slope: float
    lengths: Floats
    drift: Floats

    def growth_at(self, ahead: Ints | Floats) -> Floats:
        """(m,) growth so many samples past the end; 1 before it."""
        grown = np.interp(ahead, self.ahead, self.growth)
        # Past what could be tried the variance goes on growing as it did.
        beyond = np.maximum(np.asarray(ahead) - self.tried, 0)
        return np.where(np.asarray(ahead) > 0, np.sqrt(grown**2 + self.slope * beyond), 1.0)

    def drift_at(self, ahead: Ints | Floats, lengths: Ints) -> Floats:
        """(w, m) drift of windows of these lengths so many samples past the end; 0 before it."""
        stray = np.interp(lengths, self.lengths, self.drift) if len(self.lengths) else np.zeros(len(lengths))
        return np.outer(stray, np.asarray(ahead) > 0)

    def as_data(self) -> dict[str, Any]:
        return {k: v.tolist() if isinstance(v, np.ndarray) else v for k, v in vars(self).items()}

    @classmethod
    def from_data(cls, data: dict[str, Any]) -> "Carry":
        ahead, growth, drift = (
            np.atleast_1d(np.asarray(data[k], np.float64)) for k in ("ahead", "growth", "drift")
        )
        if len(ahead) == 0 or len(ahead) != len(growth) or np.any(growth < 1):
            raise ValueError("growth past the end must be at least 1 at one distance or more")
        # Older ones have one drift for windows of any length.
        lengths = np.asarray(data.get("lengths", np.ones(len(drift))), np.float64)
        if len(lengths) != len(drift):
            raise ValueError("drift past the end must have one figure a length of window")
        return cls(ahead, growth, int(data["tried"]), float(data["slope"]), lengths, drift)


def follows_by_itself(model: Model) -> bool:
    """Whether nothing of the kind strays once carried: it reads the samples before each one, or holds what it was given."""
    kind, facts = model.choice.kind, model.fitted.facts
    return kind in ("rolling", "isolation", "fixed", *LEARNED) or facts.get("method") == "forecast"


def settled(choice: Choice, model: Model) -> Choice:
    """The choice with what a fit chose by itself: later fits do not choose anew."""
    facts, options = model.fitted.facts, dict(choice.options)
    if "ridge" in facts:
        options["ridge"] = facts["ridge"]
    if "season_windows" in facts:
        options["season_window"] = facts["season_windows"]
    return replace(choice, options=options)


def measure(part: Frame, model: Model, held: Floats, steps: int, denominator: Floats | None = None) -> Carry:
    """How the errors of this baseline grow over `steps` samples past a history, from the history itself.

    part : (n,) the training part; held : (n,) its clean held-out scores, NaN elsewhere; denominator : (n,) of ratios. The
    fit is made anew from up to six places in the second half and carried on over at most half of it; growth is the robust
    scale of the errors by distance, in buckets whose edges grow as a power, drawn towards 1 and made to rise by isotonic
    regression. Trailing limits are not carried, but wander: that is their drift.
    """
    if model.choice.kind == "trailing":
        wander = np.array([trailing.wander(model.fitted, part)])
        return Carry(np.ones(1), np.ones(1), 1, 0.0, np.ones(1), wander)
    places, reach = places_of(part, model, steps)
    errors = []
    for at in places.tolist():
        if (found := refitted(part, model, at, denominator)) is not None:
            view = part.part(at, at + reach)
            # A network reads what came before each sample: what is foretold has none of it.
            ahead = view.with_values(np.full(reach, np.nan)) if model.choice.kind in LEARNED else view
            parts, expected = applying.judge(found[0], ahead)
            d = None if denominator is None else denominator[at : at + reach]
            errors.append(scored(found[0], view, parts, expected, d))
    return grown(part, errors, held, steps, reach) if len(errors) >= 2 else unmeasured(part, model, steps)


def unmeasured(part: Frame, model: Model, steps: int) -> Carry:
    """The growth that is assumed where under two places can be tried: the level walks a tenth of a spread a season."""
    longest, none = _longest(part, model), np.empty(0)
    far = np.geomspace(1, max(steps, 2), 32)
    grows = np.sqrt(1 + USUAL_WALK * far / longest)
    return Carry(far, grows, max(steps, 2), USUAL_WALK / longest, none, none)


def _longest(part: Frame, model: Model) -> int:
    return max((round(p.samples(part.step_ns)) for p in model.choice.periods), default=24)


def places_of(part: Frame, model: Model, steps: int) -> tuple[Ints, int]:
    """Up to six places in the second half of a history from which to carry a fit on, and over how many samples."""
    n = len(part)
    first = max(3 * _longest(part, model), n // 2)
    reach = min(steps, max((n - first) // 2, 1))
    if n - reach <= first:
        return np.empty(0, np.int64), reach
    return np.unique(np.linspace(first, n - reach, ORIGINS).astype(np.int64)), reach


def grown(part: Frame, errors: Sequence[Floats], held: Floats, steps: int, reach: int) -> Carry:
    """Growth and drift by the scores of the same forecast from several places.

    errors : scores of each, (reach,); held : (n,) clean held-out scores; steps : the horizon asked.
    """
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
    grown = z / np.interp(np.arange(reach), ahead, rising)
    lengths = sliding.lengths_for(int(np.sum(~np.isnan(held))), part.step_ns)
    return Carry(ahead, rising, reach, slope, lengths.astype(np.float64), _drift(grown, held, lengths))


def refitted(part: Frame, model: Model, at: int, denominator: Floats | None) -> tuple[Model, Training] | None:
    """The same fit to what came before `at`; None where that is too short for this baseline."""
    d = None if denominator is None else denominator[:at]
    try:
        return fitting.fit(part.part(0, at), settled(model.choice, model), d)
    except ValueError:
        return None


def scored(model: Model, view: Frame, parts: Parts, expected: Floats, denominator: Floats | None) -> Floats:
    """(m,) scores of what came with this expectation, NaN where nothing usable did."""
    groups = applying.spread_groups(view, model)
    wide = applying.spread_at(model, parts, expected, groups, denominator, view)
    return np.where(view.usable, applying.score_of(model, view, expected, wide), np.nan)


def _drift(z: Floats, held: Floats, lengths: Ints) -> Floats:
    """(w,) how far the mean over windows of each length strays in carried errors beyond the spread it has in held-out ones.

    z : (places, reach) errors in grown sigmas; held : (n,). Held-out values have history on both sides; what is carried is
    out of step by little, or misses the slow swings that a fit follows within its history: windows hear either.
    """
    usual, _ = sliding.statistics(held, lengths)
    carried = np.array([sliding.statistics(row, lengths)[0] for row in z])
    out = np.zeros(len(lengths))
    for i in range(len(lengths)):
        middle = float(robust.median(usual[i]))
        inside = robust.mad_sigma(usual[i], centre=middle)
        away = np.abs(carried[:, i] - middle)
        if np.isnan(middle) or np.isnan(away).all():
            # Windows as long as what was tried: the next shorter one speaks for them.
            out[i] = out[i - 1] if i else 0.0
            continue
        strayed = float(np.nanquantile(away, STRAYED)) / STRAYED_SIGMAS
        out[i] = np.sqrt(max(strayed**2 - inside**2, 0.0))
    return out
