"""What to judge next: an unbiased sample of findings and of unflagged spans, and estimates weighted by it."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from watchtide.core.scoring.intervals import wilson
from watchtide.core.scoring.rows import Finding, Label
from watchtide.core.series import Floats, Ints

DRAWS = 1000
# Strata of findings: families, times thirds of the scores within each.
SCORE_PARTS = 3


@dataclass(frozen=True)
class Drawn:
    """Indices of the units drawn, the stratum of each, the chance that it had of being drawn, and that of each stratum."""

    index: Ints
    stratum: tuple[str, ...]
    probability: Floats
    chances: dict[str, float]


def strata_of(findings: Sequence[Finding], family: Sequence[str]) -> tuple[str, ...]:
    """A stratum for each finding: its family and which third of the family's scores it lies in."""
    score = np.array([0.0 if np.isnan(f.score) else f.score for f in findings])
    out = [""] * len(findings)
    for name in sorted(set(family)):
        rows = np.flatnonzero([x == name for x in family])
        order = np.argsort(np.argsort(score[rows], kind="stable"), kind="stable")
        for row, rank in zip(rows, order, strict=True):
            out[row] = f"{name or 'all'}, third {int(rank * SCORE_PARTS // len(rows)) + 1}"
    return tuple(out)


def draw(
    strata: Sequence[str],
    n: int,
    *,
    seed: int,
    spread: dict[str, float] | None = None,
    drawn: Sequence[int] = (),
) -> Drawn:
    """Draw n units without replacement within strata.

    First in proportion to the strata's sizes; with `spread` (standard deviation of the verdicts seen so far, per stratum) by
    Neyman's allocation, more where verdicts differ more. Every stratum gets at least one while there are enough.
    drawn : indices that were drawn before: they are not drawn again, and the chance told is that of having been drawn
    by now, the same for those before.
    Neyman (1934); Cochran (1977), sections 5.5 and 5.9. Raises ValueError for n under 1.
    """
    if n < 1:
        raise ValueError(f"at least 1 must be drawn, got {n}")
    names = sorted(set(strata))
    before = np.zeros(len(strata), np.bool_)
    before[np.asarray(drawn, np.int64)] = True
    whole = {name: np.flatnonzero([s == name for s in strata]) for name in names}
    where = {name: rows[~before[rows]] for name, rows in whole.items()}
    sizes = np.array([len(where[name]) for name in names], dtype=np.float64)
    # A stratum of which nothing is known counts as undecided as can be.
    weight = (
        sizes if spread is None else sizes * np.array([max(spread.get(name, 0.5), 0.05) for name in names])
    )
    counts = allocate(weight, sizes.astype(np.int64), min(n, int(sizes.sum())))
    rng = np.random.default_rng(seed)
    index: list[int] = []
    stratum: list[str] = []
    chances: dict[str, float] = {}
    for name, count in zip(names, counts, strict=True):
        index += rng.choice(where[name], size=int(count), replace=False).tolist()
        stratum += [name] * int(count)
        chances[name] = (len(whole[name]) - len(where[name]) + float(count)) / len(whole[name])
    order = np.argsort(index, kind="stable")
    named = tuple(stratum[i] for i in order)
    return Drawn(
        np.asarray(index, np.int64)[order], named, np.array([chances[name] for name in named]), chances
    )


def allocate(weight: Floats, sizes: Ints, n: int) -> Ints:
    """(k,) whole numbers in proportion to weight, at least 1 where n allows it, none over its stratum's size."""
    k = len(sizes)
    counts = np.minimum(1, sizes) if n >= k else np.zeros(k, np.int64)
    while counts.sum() < min(n, int(sizes.sum())):
        room = counts < sizes
        lack = np.where(room, weight / max(weight[room].sum(), 1e-300) * n - counts, -np.inf)
        counts[int(np.argmax(lack))] += 1
    return np.asarray(counts, dtype=np.int64)


def unflagged_spans(
    times: Sequence[tuple[str, int, int]],
    flagged: Sequence[Finding],
    length_ns: int,
    n: int,
    *,
    seed: int,
    is_near: Callable[[str, int, int], bool] | None = None,
) -> list[Label]:
    """Spans of equal length drawn from the time nothing was flagged in, with the chance of each.

    times : (series, first, last) of what was scanned. Spans are cells of a fixed grid; a cell that a finding touches is none.
    is_near : whether a span (series, first, last) came near the level; such spans are a stratum of their own and get half
    of the draws, because what was missed is likelier there. Within a stratum all are as likely.
    """
    cells = []
    for series, first, last in times:
        own = [(f.start, f.end) for f in flagged if f.series == series]
        for start in range(first, last + 1 - length_ns + 1, length_ns):
            if not any(a < start + length_ns and b >= start for a, b in own):
                cells.append((series, start))
    if not cells:
        return []
    near = np.array([is_near is not None and is_near(s, a, a + length_ns - 1) for s, a in cells])
    names = np.where(near, "unflagged, near the level", "unflagged")
    sizes = np.array([int(np.sum(~near)), int(np.sum(near))], dtype=np.int64)
    counts = allocate(np.where(sizes > 0, 1.0, 0.0), sizes, min(n, len(cells)))
    rng = np.random.default_rng(seed)
    chosen = np.concatenate(
        [
            rng.choice(np.flatnonzero(near == is_in), size=int(count), replace=False)
            for is_in, count in zip((False, True), counts, strict=True)
        ]
    )
    chance = np.where(near, counts[1] / max(sizes[1], 1), counts[0] / max(sizes[0], 1))
    return [
        Label(cells[i][1], cells[i][1] + length_ns - 1, cells[i][0], "unsure", origin="sampled", stratum=str(names[i]), probability=float(chance[i]))
        for i in np.sort(chosen)
    ]  # fmt: skip


def weighted_ratio(
    top: Floats, bottom: Floats, probability: Floats, strata: Sequence[str], *, seed: int = 1
) -> tuple[float | None, list[float] | None]:
    """Sum of top over sum of bottom, each weighted by 1 / probability, and its 95 % interval.

    top, bottom, probability : (n,). Horvitz and Thompson (1952); the interval by resampling units within strata, 1,000 draws.
    """
    w = 1 / probability
    below = float(np.sum(w * bottom))
    if below <= 0:
        return None, None
    rng = np.random.default_rng(seed)
    tops, bottoms = np.zeros(DRAWS), np.zeros(DRAWS)
    for name in sorted(set(strata)):
        rows = np.flatnonzero([s == name for s in strata])
        picks = rng.integers(0, len(rows), size=(DRAWS, len(rows)))
        tops += (w * top)[rows][picks].sum(axis=1)
        bottoms += (w * bottom)[rows][picks].sum(axis=1)
    usable = bottoms > 0
    low, high = (
        np.quantile(tops[usable] / bottoms[usable], [0.025, 0.975]) if usable.any() else (np.nan, np.nan)
    )
    return float(np.sum(w * top)) / below, [float(low), float(high)]


def spread_of(told: Sequence[tuple[str, bool]]) -> dict[str, float]:
    """Standard deviation of the verdicts seen so far in each stratum, for `draw`. told : stratum, whether it was real."""
    return {
        name: float(np.std([is_real for own, is_real in told if own == name]))
        for name in {s for s, _ in told}
    }


def share_of(
    hits: Sequence[bool], probability: Sequence[float | None], strata: Sequence[str]
) -> tuple[float | None, list[float] | None]:
    """Share of hits with its 95 % interval: weighted where units were drawn by chance, else plain with Wilson's.

    Never narrower than the plain count's: resampling a few verdicts that are all alike shows no spread.
    """
    plain = wilson(sum(hits), len(hits))
    if plain is None:
        return None, None
    if any(p is None for p in probability):
        return sum(hits) / len(hits), list(plain)
    chance = np.array([p or 1.0 for p in probability])
    share, ends = weighted_ratio(np.array(hits, dtype=np.float64), np.ones(len(hits)), chance, strata)
    is_wider = ends is None or plain[1] - plain[0] > ends[1] - ends[0]
    return share, list(plain) if is_wider else ends


def sampled_block(
    findings: Sequence[tuple[Finding, bool, Label]], missed: Sequence[Label]
) -> dict[str, Any] | None:
    """The `sampled` block of a scorecard, or None where no verdict is sampled.

    findings : each sampled finding, whether it is true, and the row that judged it; missed : sampled rows that found an
    incident where nothing was flagged. Precision over the former; recall over true findings and the latter, all weighted.
    """
    rows = [label for _, _, label in findings] + list(missed)
    rows = [r for r in rows if r.probability]
    if not rows:
        return None
    known = [(is_true, r) for _, is_true, r in findings if r.probability]
    true = np.array([float(t) for t, _ in known])
    chance = np.array([float(r.probability or 1.0) for _, r in known])
    strata = [r.stratum for _, r in known]
    precision, precision_ci = (
        weighted_ratio(true, np.ones(len(true)), chance, strata) if known else (None, None)
    )
    lost = [r for r in missed if r.probability and r.verdict == "incident"]
    tops = np.r_[true, np.zeros(len(lost))]
    bottoms = np.r_[true, np.ones(len(lost))]
    chances = np.r_[chance, [float(r.probability or 1.0) for r in lost]]
    recall, recall_ci = (
        weighted_ratio(tops, bottoms, chances, [*strata, *(r.stratum for r in lost)])
        if len(tops)
        else (None, None)
    )
    return {
        "precision": precision, "precision_ci": precision_ci, "recall": recall, "recall_ci": recall_ci, "n": len(rows),
        "strata": {name: sum(r.stratum == name for r in rows) for name in sorted({r.stratum for r in rows})},
    }  # fmt: skip
