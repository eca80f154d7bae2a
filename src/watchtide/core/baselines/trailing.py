"""Limits that follow a trailing reference period: what share of it lay within, and how far."""

import numpy as np
from numba import njit

from watchtide.core.baselines import Fitted, Parts
from watchtide.core.frame import DAY_NS, Frame, Period
from watchtide.core.series import Floats


def fit(
    frame: Frame,
    periods: tuple[Period, ...],
    *,
    reference_ns: int = 28 * DAY_NS,
    gap_ns: int = 0,
    share: float = 0.99,
) -> Fitted:
    """Nothing is learnt but the lengths: limits are read off the reference period before each sample.

    reference_ns : how long it is; gap_ns : how long before the sample it ends, so that a slow drift does not
    carry its own limits along; share : of the reference that lies between the limits.
    Raises ValueError for a share outside 0.5 … 1 or a reference of fewer than 8 samples.
    """
    reference, gap = int(reference_ns // frame.step_ns), int(gap_ns // frame.step_ns)
    if not 0.5 <= share < 1:
        raise ValueError(f"share must be at least 0.5 and under 1, got {share:g}")
    if reference < 8:
        raise ValueError(f"the reference holds {reference} samples, it needs at least 8; take a longer one")
    return Fitted("trailing", periods, {}, {"reference": reference, "gap": gap, "share": share})


@njit(cache=True, nogil=True)
def _quantiles(values, use, reference, gap, low, high):  # type: ignore[no-untyped-def]
    n = len(values)
    out = np.full((3, n), np.nan)
    ranked = np.empty(reference + 1)
    m = 0
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
        if m < 8:
            continue
        for k in range(3):
            share = low if k == 0 else (0.5 if k == 1 else high)
            place = share * (m - 1)
            a = int(place)
            b = min(a + 1, m - 1)
            out[k, i] = ranked[a] + (place - a) * (ranked[b] - ranked[a])
    return out


def expect(fitted: Fitted, frame: Frame) -> Parts:
    """Middle of the limits, and a spread by which the limits lie where Gaussian ones of that share would."""
    share = fitted.facts["share"]
    low, middle, high = _quantiles(
        frame.values,
        frame.usable,
        fitted.facts["reference"],
        fitted.facts["gap"],
        (1 - share) / 2,
        (1 + share) / 2,
    )
    half: Floats = (high - low) / 2
    from scipy.special import ndtri

    spread = half / ndtri((1 + share) / 2)
    return Parts((low + high) / 2, middle, np.zeros((len(fitted.periods), len(frame))), {}, spread)
