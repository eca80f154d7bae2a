"""How often findings would begin together by chance alone: what is proposed as one incident is ranked by it."""

import math
from collections.abc import Collection, Sequence

import numpy as np
from scipy.special import pdtrc

from watchtide.core.explain.incidents import LAG_NS, NEAR_NS, Piece
from watchtide.core.series import Floats, keys

# A shorter history says nothing about how often a stream has findings.
LEAST_SPAN_NS = 7 * 24 * NEAR_NS
# Of a large group the strongest so many are looked at, each time one more.
MOST_DEPTH = 24


class Chance:
    """Rates at which streams have findings, by their size.

    every : all findings of the streams, judged or not, as `Piece`s with their sizes; fed_by : as `incidents.propose` takes it.
    """

    def __init__(self, every: Sequence[Piece], fed_by: Collection[tuple[int, int]] = ()) -> None:
        starts = np.array([p.start for p in every], np.int64)
        self.span_ns = max(int(np.ptp(starts)) if len(starts) else 0, LEAST_SPAN_NS)
        sizes: dict[int, list[float]] = {}
        key_of: dict[int, str] = {}
        for p in every:
            sizes.setdefault(p.stream, []).append(_size(p))
            key_of[p.stream] = p.key
        self._sizes: dict[int, Floats] = {s: np.sort(np.array(x)) for s, x in sizes.items()}
        self._all = self._pool(self._sizes)
        self._sharing: dict[tuple[str, str], set[int]] = {}
        for stream, key in key_of.items():
            for pair in keys.decode(key):
                self._sharing.setdefault(pair, set()).add(stream)
        self._parts: dict[tuple[tuple[str, str], ...], Floats] = {}
        self._with: dict[int, list[Floats]] = {}
        self._fed: dict[int, set[int]] = {}
        for one, other in fed_by:
            self._fed.setdefault(one, set()).add(other)
            self._fed.setdefault(other, set()).add(one)

    def of(self, group: Sequence[Piece]) -> float:
        """Groups like this one, or less likely ones, to be expected by chance in the time that was looked at.

        Findings of a stream are taken for a Poisson process, those of different streams for independent. Of the strongest
        2, 3, … streams of the group: how many anchors there are at least as strong as the weakest of them, times the chance
        that so many others that could go with an anchor begin as near to it, at least as strong. The least of these counts,
        by Bonferroni times as many as were looked at. O(k log n) for k streams and n findings, once the streams that share
        a `name=value` with the anchor are pooled.
        """
        firsts: dict[int, Piece] = {}
        for p in group:
            if p.stream not in firsts or _size(p) > _size(firsts[p.stream]):
                firsts[p.stream] = p
        members = sorted(firsts.values(), key=_size, reverse=True)[:MOST_DEPTH]
        if len(members) < 2:
            return float(len(self._all))
        first = last = members[0].start
        step = members[0].step_ns
        shared = self._going_with(members[0])
        own = [self._sizes.get(members[0].stream, np.empty(0))]
        fed = self._fed.get(members[0].stream, set())
        fed_sizes = [self._sizes[s] for s in fed if s in self._sizes]
        found = []
        for depth in range(2, len(members) + 1):
            weakest = members[depth - 1]
            least = _size(weakest)
            first, last = min(first, weakest.start), max(last, weakest.start)
            step = max(step, weakest.step_ns)
            near = max(NEAR_NS, last - first, 2 * step)
            anchors = _at_least([self._all], least)
            others = _at_least(shared, least) - _at_least(own, least)
            found.append(anchors * self._so_many(depth - 1, others, near))
            if {p.stream for p in members[1:depth]} <= fed:
                others = _at_least(fed_sizes, least)
                found.append(anchors * self._so_many(depth - 1, others, max(LAG_NS, near)))
        return float(min(found) * len(found))

    def _so_many(self, n: int, findings: int, near_ns: int) -> float:
        """The chance that n or more of so many findings begin within so much of a moment."""
        return float(pdtrc(n - 1, findings * 2 * near_ns / self.span_ns))

    def _going_with(self, anchor: Piece) -> list[Floats]:
        """Sorted sizes of the findings of all streams that share a `name=value` with the anchor's, its own among them.

        One array a pair, of the streams that share none of the pairs before it: those of a large family are pooled once, and
        not once a stream.
        """
        if anchor.stream in self._with:
            return self._with[anchor.stream]
        pairs = [p for p in keys.decode(anchor.key) if p in self._sharing]
        pairs.sort(key=lambda p: (-len(self._sharing[p]), p))
        parts = []
        for i in range(len(pairs)):
            place = tuple(pairs[: i + 1])
            if place not in self._parts:
                streams = self._sharing[pairs[i]].difference(*(self._sharing[p] for p in pairs[:i]))
                self._parts[place] = self._pool(streams)
            parts.append(self._parts[place])
        self._with[anchor.stream] = parts
        return parts

    def _pool(self, streams: Collection[int]) -> Floats:
        return np.sort(np.concatenate([*(self._sizes[s] for s in streams), np.empty(0)]))


def _at_least(pools: Sequence[Floats], least: float) -> int:
    return sum(len(sizes) - int(sizes.searchsorted(least)) for sizes in pools)


def _size(piece: Piece) -> float:
    """A finding of unknown size is taken for the smallest."""
    return 0.0 if math.isnan(piece.size) else piece.size
