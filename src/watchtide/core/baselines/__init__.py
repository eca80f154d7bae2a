"""Baselines: what each sample is expected to be. One file a kind, one protocol for all.

A kind is a function `fit(y, slots, periods, **options) -> Fitted`, on the local-time grid of the
training part; `Fitted.carry(n)` gives the parts for n positions, the training part first and what
follows carried forward. Kinds that come later take the same shape.
"""

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np

from watchtide.core.series import Floats


@dataclass(frozen=True)
class Fitted:
    """A fitted baseline on m local grid positions.

    trend : (m,); seasons : (k, m); periods : (k,) whole samples.
    inflation : how many times wider an unseen sample scatters than a fitted one.
    """

    kind: str
    trend: Floats
    seasons: Floats
    periods: tuple[int, ...]
    inflation: float
    facts: dict[str, Any]

    def carry(self, n: int) -> tuple[Floats, Floats]:
        """Trend (n,) and seasons (k, n): beyond the training part the last level is held, and the
        last full cycle of each season repeated."""
        m = len(self.trend)
        if n <= m:
            return self.trend[:n], self.seasons[:, :n]
        beyond = n - m
        trend = np.r_[self.trend, np.full(beyond, self.trend[-1] if m else np.nan)]
        rows = []
        for row, period in zip(self.seasons, self.periods, strict=True):
            cycle = row[m - period :]
            rows.append(np.r_[row, np.resize(cycle, beyond)])
        return trend, np.asarray(rows).reshape(len(self.periods), n)


def kinds() -> dict[str, Callable[..., Fitted]]:
    """The kinds that can be fitted, by the name a plan gives them."""
    from watchtide.core.baselines import loess, slot

    return {"loess": loess.fit, "slot": slot.fit}
