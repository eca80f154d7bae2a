"""Two scans against the same labels: what differs, and whether chance could have made it."""

from collections.abc import Iterable, Sequence
from typing import Any

import numpy as np

from watchtide.core.scoring import intervals
from watchtide.core.scoring.card import Scorecard
from watchtide.core.scoring.curve import Scored
from watchtide.core.scoring.rows import Finding, Label, touches
from watchtide.core.series import Floats, Ints

# Beyond any stamp, ns.
LATEST = 2**62


def paired(
    one: Scorecard, other: Scorecard, labels: Sequence[Label], *, block_ns: int, seed: int = 1,
    names: tuple[str, str] = ("the one", "the other"),
) -> dict[str, Any]:  # fmt: skip
    """Precision and recall of two scans, their differences, and paired 95 % intervals of these.

    Whole blocks of time are drawn (circular, 1,000 draws), the same for both, so that a hard week is hard for both.
    An interval is None with the reason where the span holds under 10 blocks. words : what can be said, and what cannot,
    of the two by their names.
    Politis and Romano (1992).
    """
    a, b = one.figures, other.figures
    span = (
        min(a["span"]["from"], b["span"]["from"]), max(a["span"]["to"], b["span"]["to"]),
    )  # fmt: skip
    starts = intervals.draw_blocks(span, block_ns, seed)
    told: dict[str, Any] = {"block_s": block_ns / 1e9, "notes": {}}
    for name in ("precision", "recall"):
        p, q = a["events"][name], b["events"][name]
        difference = None if p is None or q is None else q - p
        entry: dict[str, Any] = {"one": p, "other": q, "difference": difference, "difference_ci": None}
        if difference is None:
            told["notes"][name] = f"{name} has no value in one of the two"
        elif starts is None:
            told["notes"][name] = (
                f"the span holds under {intervals.LEAST_BLOCKS} blocks: no interval by resampling"
            )
        else:
            draws = _draws(other, labels, starts, span, block_ns, name) - _draws(
                one, labels, starts, span, block_ns, name
            )
            entry["difference_ci"], dropped = intervals.percentile(draws)
            if dropped:
                told["notes"][name] = (
                    f"{dropped} of {intervals.DRAWS} draws had nothing to divide by and were dropped"
                )
        entry["words"] = _words(name, entry, names)
        told[name] = entry
    same = set(one.found) & set(other.found)
    told["found_by_both"] = len(same)
    told["found_by_one_only"] = len(set(one.found) - same)
    told["found_by_other_only"] = len(set(other.found) - same)
    return told


def _draws(
    card: Scorecard, labels: Sequence[Label], starts: Ints, span: tuple[int, int], block: int, name: str
) -> Floats:
    def total(moments: Sequence[int]) -> Floats:
        at = np.clip(np.asarray(moments, dtype=np.int64), span[0], span[1])
        return intervals.drawn_sums(starts, span, block, at, np.ones(len(at)))

    if name == "precision":
        hit = total([o.finding.start for o in card.outcomes if o.state == "true"])
        miss = total([o.finding.start for o in card.outcomes if o.state == "false"])
    else:
        hit, miss = (
            total([labels[i].start for i in card.found]),
            total([labels[i].start for i in card.missed]),
        )
    return intervals.ratio_draws(hit, hit + miss)


def shared(one: Sequence[Finding], other: Sequence[Finding]) -> tuple[int, int, int]:
    """How many findings of one overlap a finding of the other on the same stream, and how many of each overlap none."""

    only_one = len(apart(one, other))
    return len(one) - only_one, only_one, len(apart(other, one))


def apart(one: Sequence[Finding], other: Sequence[Finding]) -> list[Finding]:
    """The findings of one that overlap none of the other on the same stream."""
    spans: dict[str, list[tuple[int, int]]] = {}
    for f in other:
        spans.setdefault(f.series, []).append((f.start, f.end))
    return [f for f in one if not touches(f.start, f.end, spans.get(f.series, ()))]


def moved(
    expected: Floats, spread: Floats, after: Floats, spread_after: Floats
) -> tuple[float | None, float | None]:
    """(median of how far the expectation moved, in the old spread; median of new over old spread); None without a value.

    All (n,), of the same samples.
    """
    with np.errstate(invalid="ignore", divide="ignore"):
        both = np.abs(after - expected) / spread, spread_after / spread
    far, wide = (float(np.nanmedian(x)) if np.isfinite(x).any() else None for x in both)
    return far, wide


def judged_by_all(scans: Sequence[Iterable[Scored]]) -> tuple[int, int] | None:
    """The closed span in ns that every one of some scans judged; None where one judged nothing, or there is none."""
    begin, end = -LATEST, LATEST
    for own in scans:
        first, last = LATEST, -LATEST
        for s in own:
            seen = np.flatnonzero(~np.isnan(s.z))
            if len(seen):
                first, last = min(first, int(s.times[seen[0]])), max(last, int(s.times[seen[-1]]))
        if first > last:
            return None
        begin, end = max(begin, first), min(end, last)
    return (begin, end) if begin < end else None


def _words(name: str, entry: dict[str, Any], names: tuple[str, str]) -> str:
    if entry["difference"] is None:
        return f"nothing can be said of {name}"
    ci = entry["difference_ci"]
    if entry["difference"] == 0 and (ci is None or ci[0] == ci[1]):
        return f"{name} is the same"
    if ci is None:
        return f"{name} differs by {_signed(entry['difference'])}; too little history to say whether that is chance"
    if ci[0] > 0 or ci[1] < 0:
        better = names[1] if entry["difference"] > 0 else names[0]
        return f"{better} has the higher {name}, by {abs(entry['difference']):.3f}; chance alone would hardly make it so"
    low, high = _signed(ci[0]), _signed(ci[1])
    return f"{name} differs by {_signed(entry['difference'])}; chance alone could have made that ({low} to {high})"


def _signed(value: float) -> str:
    """With its sign, a true minus."""
    return f"{value:+.3f}".replace("-", "−")
