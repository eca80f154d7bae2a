"""Runs of equal values, by how surprising each further equal value is at its time of day."""

import numpy as np
from numba import njit

from watchtide.core import robust
from watchtide.core.series import Bools, Floats, Ints

# Relative difference of values that are the same but for the rounding of a bin's mean.
SAME = robust.FLOAT_SPACINGS * float(np.finfo(np.float64).eps)


@njit(cache=True, nogil=True)
def surprises(values, equal):  # type: ignore[no-untyped-def]
    """(n,) how surprising the run of equal values ending at each sample is, in nats; and where it began."""
    n = len(values)
    out = np.zeros(n)
    first = np.arange(n)
    last = -1
    for i in range(n):
        if np.isnan(values[i]):
            # What is missing neither adds to a run nor ends it.
            if last >= 0:
                out[i], first[i] = out[last], first[last]
            continue
        if last >= 0 and is_same(values[i], values[last]):
            out[i] = out[last] - np.log(equal[i])
            first[i] = first[last]
        last = i
    return out, first


@njit(cache=True, nogil=True)
def is_same(a, b):  # type: ignore[no-untyped-def]
    """Whether values, or arrays of them, differ by no more than the arithmetic of a mean: 16 spacings of floating-point
    numbers."""
    return np.abs(a - b) <= SAME * np.maximum(np.abs(a), np.abs(b))


def equal_chances(values: Floats, clean: Bools, groups: Ints, count: int) -> Floats:
    """(count,) chance that a value equals its predecessor, by time of day, shrunk to the stream's."""
    both = clean.copy()
    both[1:] &= clean[:-1]
    both[:1] = False
    same = np.zeros(len(values), np.bool_)
    same[1:] = is_same(values[1:], values[:-1])
    n, k = np.bincount(groups[both], minlength=count), np.bincount(groups[both & same], minlength=count)
    whole = (k.sum() + 0.5) / (n.sum() + 1.0)
    return np.asarray(np.clip((k + 20 * whole) / (n + 20), 1e-6, 1.0))


def chance_of_equal(
    equal: Floats, groups: Ints, values: Floats, expected: Floats, event: Floats | None
) -> Floats:
    """(n,) chance that each value equals its predecessor: by time of day, and of counts at least what chance makes it.

    expected : (n,) in the unit of the values; event : (n,) what one counted event adds to a value, or None.
    """
    by_time = equal[groups]
    if event is None:
        return by_time
    from scipy.special import gammaln

    k, mean = np.nan_to_num(values / event), np.maximum(np.nan_to_num(expected / event, nan=1.0), 1e-6)
    with np.errstate(invalid="ignore", over="ignore"):
        same = np.exp(k * np.log(mean) - mean - gammaln(np.maximum(k, 0.0) + 1))
    return np.asarray(np.clip(np.maximum(by_time, same), 1e-6, 1.0))
