"""How often findings would begin together by chance alone: what is proposed as one incident is ranked by it."""

from collections.abc import Collection, Sequence

import numpy as np
from scipy.stats import poisson

from watchtide.core import keys
from watchtide.core.incidents import LAG_NS, NEAR_NS, Piece
from watchtide.core.series import Floats, Ints

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
        self._key: dict[int, str] = {}
        for p in every:
            sizes.setdefault(p.stream, []).append(_size(p))
            self._key[p.stream] = p.key
        self._sizes: dict[int, Floats] = {s: np.sort(np.array(x)) for s, x in sizes.items()}
        self._all: Floats = np.sort(np.concatenate([*self._sizes.values(), np.empty(0)]))
        self._sharing: dict[tuple[str, str], set[int]] = {}
        for stream, key in self._key.items():
            for pair in keys.decode(key):
                self._sharing.setdefault(pair, set()).add(stream)
        self._fed: dict[int, set[int]] = {}
        for one, other in fed_by:
            self._fed.setdefault(one, set()).add(other)
            self._fed.setdefault(other, set()).add(one)

    def of(self, group: Sequence[Piece]) -> float:
        """Groups like this one, or less likely ones, to be expected by chance in the time that was looked at.

        Findings of a stream are taken for a Poisson process, those of different streams for independent. Of the strongest
        2, 3, … streams of the group: how many anchors there are at least as strong as the weakest of them, times the chance
        that so many others that could go with an anchor begin as near to it, at least as strong. The least of these counts,
        by Bonferroni times as many as were looked at. O(k m) for k streams and m that could go with them.
        """
        firsts: dict[int, Piece] = {}
        for p in group:
            if p.stream not in firsts or _size(p) > _size(firsts[p.stream]):
                firsts[p.stream] = p
        members = sorted(firsts.values(), key=_size, reverse=True)[:MOST_DEPTH]
        if len(members) < 2:
            return float(len(self._all))
        starts: Ints = np.array([p.start for p in members], np.int64)
        anchor = members[0]
        shared = {s for pair in keys.decode(anchor.key) for s in self._sharing.get(pair, ())} - {
            anchor.stream
        }
        fed = self._fed.get(anchor.stream, set())
        found = []
        for depth in range(2, len(members) + 1):
            least = _size(members[depth - 1])
            apart = int(np.ptp(starts[:depth]))
            near = max(NEAR_NS, apart, *(2 * p.step_ns for p in members[:depth]))
            anchors = self._at_least(self._all, least)
            found.append(anchors * self._others(shared, least, near, depth - 1))
            if {p.stream for p in members[1:depth]} <= fed:
                found.append(anchors * self._others(fed, least, max(LAG_NS, near), depth - 1))
        return float(min(found) * len(found))

    def _others(self, streams: Collection[int], least: float, near_ns: int, n: int) -> float:
        """The chance that n or more of these streams begin a finding so strong within so much of a moment."""
        own = sum(self._at_least(self._sizes.get(s, np.empty(0)), least) for s in streams)
        return float(poisson.sf(n - 1, own * 2 * near_ns / self.span_ns))

    @staticmethod
    def _at_least(sizes: Floats, least: float) -> int:
        return len(sizes) - int(np.searchsorted(sizes, least))


def _size(piece: Piece) -> float:
    """A finding of unknown size is taken for the smallest."""
    return 0.0 if np.isnan(piece.size) else piece.size
