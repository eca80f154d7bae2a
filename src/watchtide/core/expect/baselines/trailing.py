"""Limits that follow a trailing reference period: what share of it lay within, and how far."""

import numpy as np
from numba import njit

from watchtide.core.expect.baselines import Fitted, Parts
from watchtide.core.expect.frame import DAY_NS, Frame, Period
from watchtide.core.series import Floats

# Samples without which there are no limits, as in a long gap.
LEAST = 8
# Samples of a reference that nobody stated.
USUAL = 60
# Draws of whole days by which limits are seen to wander.
DRAWS = 60


def fit(
    frame: Frame,
    periods: tuple[Period, ...],
    *,
    reference_ns: int | None = None,
    gap_ns: int = 0,
    share: float = 0.99,
) -> Fitted:
    """Nothing is learnt but the lengths: limits are read off the reference period before each sample.

    reference_ns : how long it is, None takes four weeks and at least 60 samples; gap_ns : how long before the sample it ends, so that a slow drift does not
    carry its own limits along; share : of the reference that lies between the limits.
    Raises ValueError for a share outside 0.5 … 1 or a reference of fewer than 8 samples.
    """
    gap = int(gap_ns // frame.step_ns)
    reference = usual_reference(frame) if reference_ns is None else int(reference_ns // frame.step_ns)
    if not 0.5 <= share < 1:
        raise ValueError(f"share must be at least 0.5 and under 1, got {share:g}")
    if reference < LEAST:
        raise ValueError(
            f"the reference holds {reference} samples, it needs at least {LEAST}; take a longer one"
        )
    return Fitted("trailing", periods, {}, {"reference": reference, "gap": gap, "share": share})


def usual_reference(frame: Frame) -> int:
    """Samples of four weeks, at least 60; the whole history where it is too short to know half of them."""
    usual = max(int(28 * DAY_NS // frame.step_ns), USUAL)
    return max(len(frame), USUAL) if usual // 2 >= len(frame) else usual


@njit(cache=True, nogil=True)
def _quantiles(values, use, reference, gap, low, high, least):  # type: ignore[no-untyped-def]
    n = len(values)
    out = np.full((3, n), np.nan)
    ranked = np.empty(reference + 1)
    m = 0
    has_begun = False
    for i in range(n):
        come, go = i - gap - 1, i - gap - reference - 1
        if go >= 0 and use[go]:
            at = np.searchsorted(ranked[:m], values[go])
            for j in range(at, m - 1):
                ranked[j] = ranked[j + 1]
            m -= 1
        if come >= 0 and use[come]:
            v = values[come]
            at = np.searchsorted(ranked[:m], v)
            for j in range(m, at, -1):
                ranked[j] = ranked[j - 1]
            ranked[at] = v
            m += 1
        has_begun = has_begun or m >= least
        if not has_begun or m < LEAST:
            continue
        for k in range(3):
            share = low if k == 0 else (0.5 if k == 1 else high)
            place = share * (m - 1)
            a = int(place)
            b = min(a + 1, m - 1)
            out[k, i] = ranked[a] + (place - a) * (ranked[b] - ranked[a])
    return out


def expect(fitted: Fitted, frame: Frame) -> Parts:
    """Middle of the limits, and a spread by which the limits lie where Gaussian ones of that share would.

    Nothing is said until half of the reference has been known once, or as much as has one sample beyond the limits.
    """
    share = fitted.facts["share"]
    low, middle, high = _quantiles(
        frame.values,
        frame.usable,
        fitted.facts["reference"],
        fitted.facts["gap"],
        (1 - share) / 2,
        (1 + share) / 2,
        max(LEAST, min(fitted.facts["reference"] // 2, round(1 / (1 - share)))),
    )
    spread = _spread_of(low, high, share)
    return Parts((low + high) / 2, middle, np.zeros((len(fitted.periods), len(frame))), {}, spread)


def _spread_of(low: Floats, high: Floats, share: float) -> Floats:
    from scipy.special import ndtri

    return np.asarray((high - low) / 2 / ndtri((1 + share) / 2))


def wander(fitted: Fitted, frame: Frame) -> float:
    """How far the middle of the limits strays by chance alone, as a standard deviation in spreads.

    Limits hang on the few furthest samples of their reference: by draws of its days with replacement, from the end of the frame;
    0 where it holds under eight days, or eighths of the reference where that is shorter. Künsch (1989).
    """
    reference, share = fitted.facts["reference"], fitted.facts["share"]
    values = frame.values[frame.usable][-reference:]
    block = int(np.clip(DAY_NS // frame.step_ns, 1, max(reference // 8, 1)))
    count = len(values) // block
    if count < 8:
        return 0.0
    days = values[len(values) - count * block :].reshape(count, block)
    picks = np.random.default_rng(1).integers(count, size=(DRAWS, count))
    low, high = np.quantile(days[picks].reshape(DRAWS, -1), [(1 - share) / 2, (1 + share) / 2], axis=1)
    spread = float(np.median(_spread_of(low, high, share)))
    # What it is compared with has strayed too, the less the more references it was learnt from.
    both = np.sqrt(1 + min(reference / np.sum(frame.usable), 1.0))
    return float(both * np.std((low + high) / 2)) / spread if spread > 0 else 0.0
