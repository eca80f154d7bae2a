"""Windows as calibrated on a stream, and scores combined with those of windows."""

from collections.abc import Mapping
from dataclasses import asdict, dataclass
from typing import Any

import numpy as np

from watchtide.core.expect.runs import chance_of_equal, surprises
from watchtide.core.judge.innovations import Follower
from watchtide.core.judge.shapes import Shapes
from watchtide.core.series import Floats, Ints

# All families of windows together are to be reached as rarely as a single sample is, not each of them …
TOGETHER = 4.0
# Families that flag one sample and few after it: they need no rarer a rate in-sample than in replay.
LEAPS = ("rise", "fall")
LONE = ("isolated", *LEAPS)
LONE_CARRIES = 2.0
# Judged live, leaps flag what is away since: of chance ones over 3.2 scales 3 samples in an autoregression of 0.8, 8 in one of 0.95,
# 15 in one of 0.995, beside the leap (40 streams of 20,000 samples each).
AWAY_CARRIES = 16.0
ODD = 2
# An episode lasts at most so many times the longest window: four days, which is a day more than a new level takes to settle.
EPISODE_LENGTHS = 2


@dataclass(frozen=True)
class Watch:
    """Windows calibrated on clean held-out scores.

    lengths : (k,) samples; mean, rough : (k, 2) middle and scale of each length's statistic.
    equal : (groups,) chance that a value equals the one before; scale : per family, (2, m) statistic and the
    sigmas it stands for, rising; a family without enough data is left out. block : samples whose maxima were taken. together : how many
    times more rarely than a single sample each family is reached, those of one sample always as in replay. follower : the filter
    whose innovations are leaps, None where neighbouring scores are hardly correlated. correlation : of neighbouring scores, by which
    roughness is taken of what is new in each.
    """

    lengths: Ints
    mean: Floats
    rough: Floats
    equal: Floats
    scale: dict[str, Floats]
    block: int
    together: float = TOGETHER
    follower: Follower | None = None
    correlation: float = 0.0

    def added(self, *, is_causal: bool) -> float:
        """Samples that windows add to each that is reached by itself, at one level and on one side.

        What has no side counts half on each side. A window that is flagged carries about two fifths of the longest; in replay only those
        samples at which one ends, about two. So it is of isolation trees, and of leaps in a whole history; in replay leaps flag what is
        away since.
        """
        odd = sum(name in self.scale for name in ("rough", "stuck", "episode", "shape"))
        carries = LONE_CARRIES if is_causal else max(0.4 * float(self.lengths[-1]), 1.0)
        lone = LONE_CARRIES * ("isolated" in self.scale)
        if any(name in self.scale for name in LEAPS):
            lone += AWAY_CARRIES if is_causal else LONE_CARRIES
        return (1 + odd) / self.together * carries + lone / TOGETHER

    def as_data(self) -> dict[str, Any]:
        return {
            "lengths": self.lengths.tolist(), "mean": self.mean.tolist(), "rough": self.rough.tolist(),
            "equal": self.equal.tolist(), "scale": {k: v.tolist() for k, v in self.scale.items()}, "block": self.block,
            "together": self.together, "follower": None if self.follower is None else asdict(self.follower),
            "correlation": self.correlation,
        }  # fmt: skip

    @classmethod
    def from_data(cls, data: Mapping[str, Any]) -> "Watch":
        together = float(data.get("together", TOGETHER))
        if not together > 0:
            raise ValueError(f"how much more rarely windows are reached must be positive, got {together:g}")
        follower = data.get("follower")
        return cls(
            np.asarray(data["lengths"], np.int64), np.asarray(data["mean"], np.float64).reshape(-1, 2),
            np.asarray(data["rough"], np.float64).reshape(-1, 2), np.asarray(data["equal"], np.float64),
            {k: np.asarray(v, np.float64) for k, v in data["scale"].items()}, int(data["block"]),
            together, Follower(**{k: float(v) for k, v in follower.items()}) if follower else None,
            float(data.get("correlation", 0.0)),
        )  # fmt: skip


@dataclass(frozen=True)
class Beside:
    """What windows go by beside the scores of the same samples; arrays of (n,).

    values : observed; groups : slot of the shortest season, 0 … count - 1. expected : in the unit of the values, None where only
    scores are known; event : what one counted event adds to a value, None of what is no count; isolated : what kinds say that judge
    whole windows, None of others; lags : samples that such a window holds. shapes : the seasons as filters, for a history that is judged as a whole.
    """

    values: Floats
    groups: Ints
    count: int = 1
    expected: Floats | None = None
    event: Floats | None = None
    isolated: Floats | None = None
    lags: int = 1
    shapes: Shapes | None = None


@dataclass(frozen=True)
class Evidence:
    """Scores combined with those of windows; arrays of (n,).

    score : sigmas, at least the sample's own; side : 1 above, -1 below, 2 odd, 0 missing; window : samples that
    the score rests on; first : index of the first of them.
    """

    score: Floats
    side: np.ndarray
    window: Ints
    first: Ints

    @property
    def signed(self) -> Floats:
        """Score with the sign of its side; odd ones positive."""
        return np.where(self.side == -1, -self.score, self.score)


def alone(z: Floats) -> Evidence:
    """Every sample by itself: no windows."""
    n = len(z)
    side = np.where(np.isnan(z), 0, np.where(z >= 0, 1, -1)).astype(np.int8)
    return Evidence(np.abs(z), side, np.ones(n, np.int64), np.arange(n))


def runs_of(equal: Floats, beside: Beside, scores: Floats) -> tuple[Floats, Ints]:
    """(n,) how surprising the run of equal values ending at each sample is, in nats, and where it began. equal : (count,) chance
    that a value equals the one before; scores : (n,), which stand for what was expected where that is not known."""
    expected = scores if beside.expected is None else beside.expected
    chance = chance_of_equal(equal, beside.groups, beside.values, expected, beside.event)
    run, first = surprises(beside.values, chance)
    return run, first
