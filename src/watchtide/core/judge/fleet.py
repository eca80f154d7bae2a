"""Fleet discipline: of thousands of streams tested at once, hold the share of false ones among those kept.

A unit is one stream in one closed block of time. Its p-value is the chance that a clean block's strongest score
reaches this one's, by the tail model of clean block maxima. The level makes the findings first; those that
overlap no rejected unit are dropped, and counted.
"""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from watchtide.core.judge.tails import Settings, Tail, fit_tail
from watchtide.core.series import Bools, Floats, Ints

# Clean blocks of its own that a stream needs; below that its family's are taken.
LEAST_BLOCKS = 60


@dataclass(frozen=True)
class Blocks:
    """One stream's blocks: number (k,) since 1970, strongest score (k,) in each, and which blocks are clean."""

    number: Ints
    strongest: Floats
    clean: Bools


def block_maxima(times: Ints, score: Floats, clean: Bools, block_ns: int) -> Blocks:
    """Strongest score of each closed block that has a judged sample.

    clean : (n,) samples that may speak for the noise; a block is clean when all its judged samples are.
    """
    seen = ~np.isnan(score)
    number = times[seen] // block_ns
    if len(number) == 0:
        return Blocks(np.empty(0, np.int64), np.empty(0), np.empty(0, np.bool_))
    names, at = np.unique(number, return_inverse=True)
    strongest = np.full(len(names), -np.inf)
    np.maximum.at(strongest, at, score[seen])
    dirty = np.bincount(at, ~clean[seen], len(names)) > 0
    return Blocks(names, strongest, ~dirty)


def numbers(start: int, end: int, block_ns: int) -> range:
    """Numbers of the blocks that a closed span in ns touches."""
    return range(start // block_ns, end // block_ns + 1)


def tail_of(blocks: Sequence[Blocks]) -> Tail | None:
    """Tail of clean block maxima, per block, over one stream or a family."""
    values = np.concatenate([b.strongest[b.clean] for b in blocks]) if blocks else np.empty(0)
    where = np.concatenate([b.number[b.clean] for b in blocks]) if blocks else np.empty(0, np.int64)
    if len(values) < LEAST_BLOCKS:
        return None
    return fit_tail(values, where, float(len(values)), settings=Settings(share=0.3))


def p_values(blocks: Blocks, tail: Tail | None) -> Floats:
    """(k,) chance that a clean block reaches each maximum; 1 where there is no tail to tell."""
    if tail is None:
        return np.ones(len(blocks.number))
    return np.minimum(1.0, tail.rates_at(blocks.strongest))


def reject(p: Floats, rate: float, *, is_strict: bool = False) -> Bools:
    """(m,) which p-values are rejected with the share of false ones held at `rate`.

    Benjamini and Hochberg (1995) for independent or positively dependent tests; with is_strict Benjamini and Yekutieli
    (2001), under any dependence, at the cost of ln m in power. Raises ValueError for a rate outside 0 … 1.
    """
    if not 0 < rate < 1:
        raise ValueError(f"the rate must be between 0 and 1, got {rate:g}")
    m = len(p)
    if m == 0:
        return np.zeros(0, np.bool_)
    if is_strict:
        rate = rate / float(np.sum(1 / np.arange(1, m + 1)))
    order = np.argsort(p, kind="stable")
    under = np.flatnonzero(p[order] <= rate * np.arange(1, m + 1) / m)
    out = np.zeros(m, np.bool_)
    if len(under):
        out[order[: under[-1] + 1]] = True
    return out


PROMISE = (
    "of the stream-blocks that keep their findings, at most this share is false on average over many blocks of "
    "time; it says nothing of a single block, and a block without trouble still keeps a false one now and then"
)
