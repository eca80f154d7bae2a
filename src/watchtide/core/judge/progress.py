"""What a replay has judged so far."""

import numpy as np

from watchtide.core.expect.quantile import Counted
from watchtide.core.judge import watches
from watchtide.core.judge.standing import Kept
from watchtide.core.series import Bools, Floats, Ints

# Arrays of a state that belong to what was judged, and those of its counts.
JUDGED = [
    "expected",
    "spread",
    "z",
    "score",
    "above",
    "below",
    "odd",
    "trend",
    "side",
    "window",
    "first",
    "suspect",
    "lacking",
]
COUNTED = ["event", "trials"]


class Progress:
    """What is judged so far; arrays of (n,), seasons (k, n)."""

    def __init__(self, n: int) -> None:
        self.expected, self.spread, self.z, self.score, self.above, self.below, self.odd, self.trend = (
            np.full((8, n), np.nan)
        )
        self.side = np.zeros(n, np.int8)
        self.window = np.ones(n, np.int64)
        self.first: Ints = np.arange(n)
        self.seasons: Floats | None = None
        self.suspect = np.zeros(n, np.bool_)
        self.counted = Counted.none(n)
        self.lacking = np.zeros(n, np.bool_)
        self.rehearsed: watches.Evidence | None = None
        self.taught: Bools = np.empty(0, np.bool_)

    def expect(
        self, at: int, stop: int, expected: Floats, spread: Floats, trend: Floats, seasons: Floats
    ) -> None:
        """What is expected of the samples at … stop - 1, with its parts; seasons : (k, stop - at)."""
        self.expected[at:stop], self.spread[at:stop], self.trend[at:stop] = expected, spread, trend
        if self.seasons is None:
            self.seasons = np.full((len(seasons), len(self.z)), np.nan)
        self.seasons[:, at:stop] = seasons

    def judged(self, at: int) -> dict[str, np.ndarray]:
        """What was judged before a sample."""
        out = {name: getattr(self, name)[:at] for name in JUDGED}
        out |= {name: getattr(self.counted, name)[:at] for name in COUNTED}
        return out if self.seasons is None else out | {"seasons": self.seasons[:, :at]}

    def take_up(self, kept: Kept) -> None:
        """What was judged before, as it was."""
        at = kept.at
        for name in JUDGED:
            getattr(self, name)[:at] = kept.judged[name]
        for name in COUNTED:
            getattr(self.counted, name)[:at] = kept.judged[name]
        if "seasons" in kept.judged:
            self.seasons = np.full((len(kept.judged["seasons"]), len(self.z)), np.nan)
            self.seasons[:, :at] = kept.judged["seasons"]
        self.rehearsed, self.taught = kept.rehearsed, kept.taught
