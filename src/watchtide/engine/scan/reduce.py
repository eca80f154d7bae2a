"""A long series to a few thousand points, with every extreme kept."""

import numpy as np
from tsdownsample import MinMaxDownsampler

from watchtide.core.series import Floats, Ints


def indices(values: Floats, z: Floats | None, must: Ints, points: int) -> Ints:
    """Sorted indices to draw: extremes of the values and of the score, the edges of gaps, and `must`.

    values : (n,); z : (n,) signed scores or None; must : indices that have to stay, such as peaks.
    About `points` in all; everything where n is no more. O(n).
    """
    n = len(values)
    if n <= points:
        return np.arange(n, dtype=np.int64)
    share = max(4, (points // (2 if z is not None else 1)) // 2 * 2)
    parts = [np.array([0, n - 1], np.int64), must]
    for y in (values, np.abs(z) if z is not None else None):
        if y is None:
            continue
        gaps = np.isnan(y)
        # The reducer orders NaN as it likes: gaps take the middle, which is never an extreme.
        filled = np.where(gaps, np.nanmedian(y) if not gaps.all() else 0.0, y)
        parts.append(MinMaxDownsampler().downsample(filled, n_out=share).astype(np.int64))  # type: ignore[no-untyped-call]
    gap_edges = np.flatnonzero(np.diff(np.isnan(values).astype(np.int8)))
    if len(gap_edges) < points // 4:
        parts += [gap_edges, gap_edges + 1]
    return np.unique(np.concatenate(parts))
