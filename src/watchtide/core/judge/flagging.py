"""Where flagging starts: levels in their readings, and the flags they give."""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from statistics import NormalDist

import numpy as np

from watchtide.core.judge import grouping
from watchtide.core.judge.promises import (
    LEAST_FINDINGS,
    LEAST_SCORES,
    Held,
    SideTails,
    own_tails,
    tails_by_side,
    watched_sides,
)
from watchtide.core.judge.watches import ODD, Evidence
from watchtide.core.series import Bools, Floats
from watchtide.core.series.steps import DAY_NS, WEEK_NS

READINGS = ("sigmas", "odds", "per-week", "interval", "share")
# Samples a false finding at the least where they are further apart than a day: what 0.1 a week is among days.
LEAST_SAMPLES_A_FINDING = 70
FALLBACK_SIGMAS = 4.0
# No level read off tails lies under this many sigmas, or what is as rare in a Gaussian.
LEAST_LEVEL = 2.0


@dataclass(frozen=True)
class Level:
    """Sigmas from which a sample is flagged, per side (inf where the side is not watched).

    odd : for what has no side; odds, per_week : what the stream's own tail promises at this level, None where
    it has none.
    """

    above: float
    below: float
    odd: float
    note: str
    odds: float | None = None
    per_week: float | None = None


def needs_tails(kind: str) -> bool:
    """Whether a level stated so is read off tails; else they only give its odds and its findings a week."""
    return kind not in ("sigmas", "share")


def resolve_level(
    kind: str,
    amount: float,
    held: Held,
    side: str,
    group: grouping.Group,
    *,
    family: Callable[[str], SideTails] | None = None,
    own: Mapping[str, SideTails] | None = None,
) -> Level:
    """Sigmas for a stated level, by this stream's own held-out scores where the reading needs them.

    kind : sigmas | odds | per-week | interval | share; amount in that reading. A rate is the total over the
    sides watched: with both, each side gets half. family : tails of a side over the whole family, used
    where the stream has under 400 clean scores or 40 findings of its own; without it such a stream
    takes 4 sigmas, and the note names that. At cadences coarser than a day a rate a week is limited to one in 70 samples. own : the stream's own tails by side, as `tails_by_side` gives them; None reads them off.
    """
    watched = watched_sides(side)
    if kind == "interval":
        kind, amount = "odds", 1 / (1 - amount)
    slow, most = "", WEEK_NS / (LEAST_SAMPLES_A_FINDING * held.step_ns)
    if kind == "per-week" and held.step_ns > DAY_NS and amount > most:
        # What is rare among minutes is every other month.
        slow = f"; {amount:g} a week would be one in {WEEK_NS / (amount * held.step_ns):.2g} samples here: one in {LEAST_SAMPLES_A_FINDING} taken"
        amount = most
    own = dict(tails_by_side(held, side, group) if own is None else own)
    pooled = _pool(own, watched, family)
    if kind == "sigmas":
        found, note = dict.fromkeys(watched, amount), "as stated"
    elif kind == "share":
        found = dict.fromkeys(watched, _reached_by(amount, held, side))
        note = f"reached by {amount:.3%} of the training samples"
    else:
        found, note = _by_tail(kind, amount, own, held)
        if pooled and any(own[s].samples is not None for s in pooled):
            note += f"; {' and '.join(sorted(pooled))} with the family's tail, there is too little of its own"
    # A level at or below the noise's middle would flag everything.
    found = {s: max(level, 0.1) for s, level in found.items()}
    odd = _odd_level(kind, amount, found, held, group, own)
    above, below = found.get("above", np.inf), found.get("below", np.inf)
    return Level(above, below, odd, note + slow, *_promised(own, found))


def _pool(
    own: dict[str, SideTails], watched: Sequence[str], family: Callable[[str], SideTails] | None
) -> set[str]:
    """Fill in the family's tails where a side lacks its own; which sides did."""
    lacking = {s for s in watched if own[s].samples is None or own[s].findings is None}
    if family is None:
        return set()
    for s in [s for s in watched if s in lacking]:
        whole = family(s)
        own[s] = SideTails(
            own[s].samples or whole.samples,
            own[s].findings or whole.findings,
            own[s].added or whole.added,
            own[s].a_finding or whole.a_finding,
        )
    return lacking


def _reached_by(share: float, held: Held, side: str) -> float:
    """The level that this share of the clean samples reaches, on the sides watched."""
    e = held.evidence
    seen = e.score[held.clean & ~np.isnan(e.score) & _on_side(e, side)]
    reach = min(1.0, share * held.count / max(len(seen), 1))
    return float(np.quantile(seen, 1 - reach)) if len(seen) else FALLBACK_SIGMAS


def _promised(own: Mapping[str, SideTails], found: Mapping[str, float]) -> tuple[float | None, float | None]:
    """(one sample in so many, findings a week) that reach these levels by side; None where a side has no tail."""
    tails = [(own[s], level) for s, level in found.items()]
    odds = per_week = None
    if all(t.samples is not None for t, _ in tails):
        total = sum(float(t.sample_rates(np.array([level]))[0]) for t, level in tails)
        odds = 1 / total if total > 0 else None
    if all(t.findings is not None for t, _ in tails):
        per_week = sum(t.findings.rate_at(level) for t, level in tails if t.findings)
    return odds, per_week


def _odd_level(
    kind: str,
    amount: float,
    found: Mapping[str, float],
    held: Held,
    group: grouping.Group,
    own: Mapping[str, SideTails],
) -> float:
    """The level of what has no side.

    Windows without a side are put on the scale of the heavier of both tails (`windows.calibrate`), so their level is
    read off both too, also where one side alone is watched.
    """
    if not needs_tails(kind) or len(found) == 2 or not np.any(held.evidence.side[held.clean] == ODD):
        return max(found.values())
    (other,) = {"above", "below"} - set(found)
    both = {**own, other: own_tails(held, other, 2, group)}
    # Half a total rate a side, as where both are watched.
    levels, _ = _by_tail(kind, amount, both, held)
    return max(levels.values())


def _by_tail(
    kind: str, amount: float, own: Mapping[str, SideTails], held: Held
) -> tuple[dict[str, float], str]:
    """Levels at which the sides together are reached as often as stated, and a note of where they come from.

    Each side gets half the rate. No level lies under 2 sigmas, or under the Gaussian level of the same rate if that is lower: a
    bounded side, such as a share of errors near 0, has hardly any tail. What such a side leaves of the rate goes to the other.
    """
    count, sides = held.count, {}
    rate = 1 / amount if kind == "odds" else amount
    note = f"read off the tail of {count:,} clean held-out scores: empirical, beyond its threshold generalised Pareto"
    for s, tails in own.items():
        if (tails.samples if kind == "odds" else tails.findings) is not None:
            sides[s] = tails
        else:
            note = (
                f"{count:,} clean held-out scores; a tail needs {LEAST_SCORES} and {LEAST_FINDINGS} findings, of the "
                f"stream or its family: {FALLBACK_SIGMAS:g} sigmas taken"
            )
    a_sample = rate if kind == "odds" else rate * held.step_ns / WEEK_NS
    least = min(LEAST_LEVEL, NormalDist().inv_cdf(1 - min(a_sample / len(own), 0.5)))
    found = {s: tails.level_for(kind, rate / len(own)) for s, tails in sides.items()}
    low = [s for s, level in found.items() if level < least]
    if len(low) == 1 and len(sides) == 2:
        (other,) = set(sides) - set(low)
        left = rate - sides[low[0]].rate_at(kind, least)
        found[other] = sides[other].level_for(kind, max(left, rate / 2))
    return {s: max(found[s], least) if s in found else FALLBACK_SIGMAS for s in own}, note


def _on_side(e: Evidence, side: str) -> Bools:
    if side == "both":
        return np.ones(len(e.score), np.bool_)
    return np.asarray((e.side == (1 if side == "above" else -1)) | (e.side == ODD))


def flag(evidence: Evidence, above: Floats | float, below: Floats | float, odd: Floats | float) -> np.ndarray:
    """(n,) int8: 1 above, -1 below, 2 odd, 0 not flagged; a missing score is never flagged.

    above, below, odd : levels, one for all or (n,) of them.
    """
    out = np.zeros(len(evidence.score), np.int8)
    with np.errstate(invalid="ignore"):
        for code, level in ((1, above), (-1, below), (ODD, odd)):
            out[(evidence.side == code) & (evidence.score >= level)] = code
    return out
