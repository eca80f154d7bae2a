"""How far a sample usually lies from its expectation: a spread that never collapses to zero."""

from dataclasses import dataclass

import numpy as np

from watchtide.core.robust import MAD_TO_SIGMA, mad_sigma, resolution
from watchtide.core.series import Bools, Floats, Ints

# A slot speaks for itself from about this many samples on; below it leans on the stream's spread.
PRIOR_SAMPLES = 20


@dataclass(frozen=True)
class Spread:
    """spread : (n,) in the unit of the values, positive; reason : what it rests on, in words."""

    spread: Floats
    stream: float
    floor: float
    reason: str


def slot_spread(
    values: Floats,
    expected: Floats,
    slots: Ints,
    training: Bools,
    *,
    robust: bool = True,
    is_count: bool = False,
) -> Spread:
    """Spread of the residuals per slot, shrunk to the stream's, floored by the data's resolution.

    values, expected : (n,); training : which samples may speak (observed, clean, in training).
    slots : (n,) slot of each sample in the season the spread follows; all 0 for one spread.
    robust : 1.4826 MAD, else standard deviation.
    is_count : where counts scatter at least as much as chance events do, the spread is also at least
        the square root of the expected value (and of 1).
    The shrunk variance is (m s_slot² + 20 s²) / (m + 20) with m samples in a slot and its two
    neighbours; the floor is the resolution over √12, the spread that rounding alone causes.
    """
    residual = values - expected
    used = training & ~np.isnan(residual)
    r = residual[used]
    stream = (mad_sigma(r, centre=0.0) if robust else float(np.std(r))) if len(r) else 0.0
    quantum = resolution(values[training])
    floor = max(quantum / np.sqrt(12), 1e-9 * float(np.nanmax(np.abs(values[used]), initial=0.0)), 1e-12)
    count = int(slots.max()) + 1 if len(slots) else 1
    sizes = np.zeros(count)
    variances = np.full(count, stream**2)
    if count > 1 and len(r):
        order = np.argsort(slots[used], kind="stable")
        edges = np.searchsorted(slots[used][order], np.arange(count + 1))
        groups = [r[order[edges[i] : edges[i + 1]]] for i in range(count)]
        for i in range(count):
            near = np.concatenate([groups[i - 1], groups[i], groups[(i + 1) % count]])
            sizes[i] = len(near)
            if len(near):
                scale = MAD_TO_SIGMA * float(np.median(np.abs(near))) if robust else float(np.std(near))
                variances[i] = scale**2
    shrunk = np.sqrt((sizes * variances + PRIOR_SAMPLES * stream**2) / (sizes + PRIOR_SAMPLES))
    spread = np.maximum(shrunk[slots] if len(slots) else np.empty(0), floor)
    reason = "spread of the slot, shrunk to the stream's" if count > 1 else "one spread for the stream"
    if stream <= floor:
        reason = "nearly all residuals are 0: the data's resolution sets the spread"
    if (
        is_count
        and len(r)
        and np.mean(r**2) >= 0.5 * max(float(np.mean(np.maximum(expected[used], 0))), 1e-9)
    ):
        spread = np.maximum(spread, np.sqrt(np.maximum(np.nan_to_num(expected, nan=0.0), 1.0)))
        reason += ", at least that of chance counts"
    return Spread(spread, stream, float(floor), reason)
