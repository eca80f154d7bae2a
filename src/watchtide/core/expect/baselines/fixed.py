"""Fixed limits: stated by a person, or proposed from history with the reason."""

from dataclasses import dataclass

import numpy as np

from watchtide.core.expect.baselines import Fitted, Parts
from watchtide.core.expect.frame import Frame, Period
from watchtide.core.robust import mad_sigma, resolution
from watchtide.core.series import Floats

# A limit lies this many sigmas from the middle, so that `sigmas=4` flags exactly what crosses it.
LIMIT_SIGMAS = 4.0


@dataclass(frozen=True)
class Proposal:
    """A limit on either side (NaN for none), what of the history lies beyond it, and why it stands there."""

    lower: float
    upper: float
    beyond: int
    reason: str


def propose(y: Floats) -> Proposal:
    """Limits from history: a tenth of the usual range beyond the 0.1 % and 99.9 % quantiles.

    y : (n,) usable samples, NaN skipped. Values that never fall below 0 get no lower limit below 0, and none
    where 0 itself is usual. Few or constant samples give limits by the data's resolution.
    """
    seen = y[~np.isnan(y)]
    if len(seen) == 0:
        return Proposal(np.nan, np.nan, 0, "no observed sample to propose limits from")
    centre, scale = float(np.median(seen)), mad_sigma(seen)
    calm = seen[np.abs(seen - centre) <= 12 * scale] if scale > 0 else seen
    low, high = (float(q) for q in np.quantile(calm, [0.001, 0.999]))
    margin = max(0.1 * (high - low), 2 * resolution(seen), 1e-9 * max(abs(centre), 1.0))
    lower, upper = low - margin, high + margin
    words = f"99.8 % of {len(calm):,} samples lie between {low:.6g} and {high:.6g}; a tenth of that range is left on either side"
    if np.min(seen) >= 0 and lower < 0:
        lower = np.nan
        words += "; values never fall below 0, so there is no lower limit"
    if len(calm) < len(seen):
        words += f"; {len(seen) - len(calm)} samples far out were not taken into account"
    beyond = int(np.sum(seen > upper) + np.sum(seen < lower))
    return Proposal(lower, upper, beyond, words)


def fit(
    frame: Frame, periods: tuple[Period, ...], *, lower: float | None = None, upper: float | None = None
) -> Fitted:
    """The stated limits; without any, those proposed from the training part.

    Raises ValueError where the lower limit is not under the upper one.
    """
    if lower is not None and upper is not None and not lower < upper:
        raise ValueError(f"the lower limit must be under the upper one, got {lower:g} and {upper:g}")
    y = frame.values[frame.usable]
    proposal = None
    if lower is None and upper is None:
        proposal = propose(y)
        lower = None if np.isnan(proposal.lower) else proposal.lower
        upper = None if np.isnan(proposal.upper) else proposal.upper
    middle = float(np.median(y)) if len(y) else 0.0
    facts = {
        "lower": lower,
        "upper": upper,
        "middle": middle,
        "reason": proposal.reason if proposal else "limits as stated",
        "beyond": int(
            np.sum(y > (np.inf if upper is None else upper))
            + np.sum(y < (-np.inf if lower is None else lower))
        ),
    }
    return Fitted("fixed", periods, {}, facts)


def expect(fitted: Fitted, frame: Frame) -> Parts:
    """The middle between the limits, with a spread that puts each limit at 4 sigmas.

    With one limit only, the middle is the history's median; the other side is not watched.
    """
    lower, upper, middle = (fitted.facts[k] for k in ("lower", "upper", "middle"))
    if lower is not None and upper is not None:
        centre, half = (lower + upper) / 2, (upper - lower) / 2
    elif lower is None and upper is None:
        centre, half = middle, np.nan
    else:
        limit = upper if lower is None else lower
        centre, half = middle, max(abs(limit - middle), 1e-9 * max(abs(limit), 1.0))
    n = len(frame)
    expected = np.full(n, float(centre))
    spread = np.full(n, float(half) / LIMIT_SIGMAS)
    return Parts(expected, expected, np.zeros((len(fitted.periods), n)), {}, spread)
