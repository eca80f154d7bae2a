"""Where flagging starts: levels in their readings, and the flags they give."""

from dataclasses import dataclass

import numpy as np

from watchtide.core import grouping
from watchtide.core.series import SECOND_NS, Bools, Floats, Ints

SIDES = ("both", "above", "below")
WEEK_NS = 7 * 86_400 * SECOND_NS
# Below this many clean scores a side has no tail of its own to read.
LEAST_SCORES = 200
TAIL_SHARE = 0.025
FALLBACK_SIGMAS = 4.0


@dataclass(frozen=True)
class Level:
    """Sigmas from which a sample is flagged, per side (inf where the side is not watched)."""

    above: float
    below: float
    note: str


@dataclass(frozen=True)
class Tail:
    """One side's own tail of clean scores: empirical up to `start`, exponential beyond.

    share : share of samples above `start`; scale : of the excess; clustering : findings per flagged
    sample at `start`, after persistence and grouping.
    """

    scores: Floats
    start: float
    share: float
    scale: float
    clustering: float
    per_week: float

    def odds_level(self, rate: float) -> float:
        """The score that this share of clean samples reaches."""
        if rate >= self.share:
            return float(np.quantile(self.scores, 1 - min(rate, 1.0)))
        return self.start + self.scale * float(np.log(self.share / rate))

    def rate_at(self, level: float) -> float:
        """Share of clean samples that reach `level`."""
        if level < self.start:
            return float(np.mean(self.scores >= level))
        return self.share * float(np.exp(-(level - self.start) / self.scale))


def fit_tail(scores: Floats, clean: Bools, times: Ints, step_ns: int, group: grouping.Group) -> Tail | None:
    """The tail of one side, from clean signed scores (positive on that side).

    None below 200 clean samples. The scale of the excess over the 97.5 % quantile is its median over
    ln 2, which up to half of the excesses may distort (unlabelled incidents) without harm. This is a
    simple empirical reading, in-sample; it is exact for an exponential tail, errs on the quiet side for
    a Gaussian one, and promises too little for a heavier one.
    """
    z = np.where(clean, scores, np.nan)
    seen = z[~np.isnan(z)]
    if len(seen) < LEAST_SCORES:
        return None
    start = float(np.quantile(seen, 1 - TAIL_SHARE))
    excess = seen[seen > start] - start
    share = len(excess) / len(seen)
    if share == 0:
        return Tail(seen, start, 1 / len(seen), max(1e-6, 0.05 * abs(start)), 1.0, WEEK_NS / step_ns)
    scale = max(float(np.median(excess)) / float(np.log(2)), 1e-6)
    runs = grouping.find_side(z, start, times, group)
    flagged = max(int(np.sum(seen >= start)), 1)
    clustering = max(len(runs), 1) / flagged
    return Tail(seen, start, share, scale, clustering, WEEK_NS / step_ns)


def resolve_level(
    kind: str,
    amount: float,
    z: Floats,
    clean: Bools,
    times: Ints,
    step_ns: int,
    side: str,
    group: grouping.Group,
) -> Level:
    """Sigmas for a stated level, by this stream's own scores where the reading needs them.

    kind : sigmas | odds | per-week | interval | share; amount in that reading.
    z : (n,) signed scores; clean : (n,) samples of training that no label takes out.
    A rate is the total over the sides watched: with both, each side gets half.
    """
    if side not in SIDES:
        raise ValueError(f"side must be one of {', '.join(SIDES)}, got {side!r}")
    watched = ("above", "below") if side == "both" else (side,)
    if kind == "interval":
        kind, amount = "odds", 1 / (1 - amount)
    if kind == "sigmas":
        found, note = dict.fromkeys(watched, amount), "as stated"
    elif kind == "share":
        seen = _signed(z, side)[clean & ~np.isnan(z)]
        level = float(np.quantile(seen, 1 - amount)) if len(seen) else FALLBACK_SIGMAS
        found, note = dict.fromkeys(watched, level), f"reached by {amount:.3%} of the training samples"
    else:
        found = {}
        note = "read off this stream's own scores: empirical, beyond the 97.5 % quantile exponential"
        for s in watched:
            tail = fit_tail(z if s == "above" else -z, clean, times, step_ns, group)
            if tail is None:
                found[s] = FALLBACK_SIGMAS
                note = f"under {LEAST_SCORES} clean samples to read a tail from: {FALLBACK_SIGMAS:g} sigmas taken"
            elif kind == "odds":
                found[s] = tail.odds_level(1 / amount / len(watched))
            else:
                found[s] = tail.odds_level(amount / len(watched) / tail.per_week / tail.clustering)
    # A level at or below the noise's middle would flag everything.
    found = {s: max(level, 0.1) for s, level in found.items()}
    return Level(found.get("above", np.inf), found.get("below", np.inf), note)


def flag(z: Floats, level: Level) -> np.ndarray:
    """(n,) int8: 1 above, -1 below, 0 not flagged; a missing score is never flagged."""
    out = np.zeros(len(z), np.int8)
    with np.errstate(invalid="ignore"):
        out[z >= level.above] = 1
        out[z <= -level.below] = -1
    return out


def _signed(z: Floats, side: str) -> Floats:
    return np.abs(z) if side == "both" else (z if side == "above" else -z)
