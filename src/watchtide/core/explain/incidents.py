"""Findings of several streams that belong together, proposed from overlap in time, shared attributes and *fed by*."""

import bisect
import math
from collections.abc import Collection, Sequence
from dataclasses import dataclass

import numpy as np
from scipy.sparse import coo_array
from scipy.sparse.csgraph import connected_components

from watchtide.core.series import SECOND_NS, Ints, keys

# Streams of one cause begin within an hour of one another, or two steps of the coarser one …
NEAR_NS = 3_600 * SECOND_NS
# … and what one feeds may follow it by so much.
LAG_NS = 6 * NEAR_NS


@dataclass(frozen=True)
class Piece:
    """One finding: closed span in ns, number and key of its stream, the stream's cadence in ns, and its size in sigmas, NaN
    where it has none."""

    start: int
    end: int
    stream: int
    key: str
    step_ns: int = 0
    size: float = math.nan


def joins(one: Piece, others: Sequence[Piece], fed_by: Collection[tuple[int, int]] = ()) -> bool:
    """Whether a piece goes together with one of others (`propose`)."""
    return any(0 in together for together in propose([one, *others], fed_by))


def as_they_come(pieces: Sequence[Piece], fed_by: Collection[tuple[int, int]] = ()) -> list[list[int]]:
    """Pieces joined one after another, in their order: each to the first group, by begin, that began within the longest lag of
    it and that it goes together with, else to a group of its own. Places of pieces, groups in the order in which they began to be
    known."""
    out: list[list[int]] = []
    # Groups by the begin of their first piece.
    begins: list[int] = []
    groups: list[list[int]] = []
    for i, piece in enumerate(pieces):
        low = bisect.bisect_left(begins, piece.start - LAG_NS)
        high = bisect.bisect_right(begins, piece.start + LAG_NS)
        near = groups[low:high]
        mine = next((g for g in near if joins(piece, [pieces[k] for k in g], fed_by)), None)
        if mine is None:
            mine = []
            out.append(mine)
            at = bisect.bisect(begins, piece.start)
            begins.insert(at, piece.start)
            groups.insert(at, mine)
        mine.append(i)
    return out


def propose(
    pieces: Sequence[Piece],
    fed_by: Collection[tuple[int, int]] = (),
    apart: Sequence[Collection[int]] = (),
) -> list[list[int]]:
    """Groups of pieces of at least two streams that go together, each in order of time; the largest first.

    fed_by : (stream, stream that feeds it). apart : places of pieces that somebody has said are not one thing: a group
    within one of these is not proposed again. Two pieces of different streams go together where their streams share a
    `name=value` (the metric is one) and they begin within an hour, or two steps of the coarser stream, of one another;
    or where one stream feeds the other and the fed one begins up to six hours later, while the other lasts. What goes
    together with the same piece is one group. O(n k log n) with k attributes a stream.
    """
    if not pieces:
        return []
    n = len(pieces)
    start = np.array([p.start for p in pieces], np.int64)
    step = np.array([p.step_ns for p in pieces], np.int64)
    stream = np.array([p.stream for p in pieces], np.int64)
    order = np.lexsort((np.arange(n), start))
    links = [_in_one_stream(start, step, stream)]
    links += [_sharing(start, step, rows) for rows in _by_pair(pieces, stream)]
    along = _along_the_way(pieces, order.tolist(), fed_by)
    links.append(np.array(along, np.int64).reshape(-1, 2).T)
    one, other = np.hstack(links)
    _, label = connected_components(
        coo_array((np.ones(len(one), np.bool_), (one, other)), (n, n)), directed=False
    )
    groups: dict[int, list[int]] = {}
    for i in order.tolist():
        groups.setdefault(int(label[i]), []).append(i)
    said = [set(g) for g in apart]
    found = [
        g
        for g in groups.values()
        if len({pieces[i].stream for i in g}) > 1 and not any(set(g) <= one for one in said)
    ]
    return sorted(found, key=lambda g: (-len({pieces[i].stream for i in g}), pieces[g[0]].start))


def _in_one_stream(start: Ints, step: Ints, stream: Ints) -> Ints:
    """(2, m) pairs of neighbours in one stream that begin together; all streams at once."""
    order = np.lexsort((start, stream))
    a, b = order[:-1], order[1:]
    near = np.maximum(NEAR_NS, 2 * np.maximum(step[a], step[b]))
    return np.vstack((a, b))[:, (stream[a] == stream[b]) & (start[b] - start[a] <= near)]


def _by_pair(pieces: Sequence[Piece], stream: Ints) -> list[Ints]:
    """Places of the pieces whose streams have a `name=value`, for each that several streams have."""
    key_of = {p.stream: p.key for p in pieces}
    sharing: dict[tuple[str, str], list[int]] = {}
    for number, key in key_of.items():
        for pair in keys.decode(key):
            sharing.setdefault(pair, []).append(number)
    by_stream = np.argsort(stream, kind="stable")
    numbers, first = np.unique(stream[by_stream], return_index=True)
    own = dict(zip(numbers.tolist(), np.split(by_stream, first[1:]), strict=True))
    # Families give the same streams by several pairs.
    several = {tuple(s) for s in sharing.values() if len(s) > 1}
    return [np.concatenate([own[s] for s in some]) for some in several]


def _sharing(start: Ints, step: Ints, rows: Ints) -> Ints:
    """(2, m) pairs that join all of these pieces that begin together, cadence by cadence."""
    rows = rows[np.argsort(start[rows], kind="stable")]
    cadences = np.unique(step[rows]).tolist()
    of = {cadence: rows[step[rows] == cadence] for cadence in cadences}
    links = []
    for mine in cadences:
        a = of[mine]
        at = start[a]
        joined = np.diff(at) <= _near(mine, mine)
        for theirs in cadences:
            if theirs == mine:
                continue
            b, near = of[theirs], _near(mine, theirs)
            low = np.searchsorted(at, start[b] - near)
            high = np.searchsorted(at, start[b], side="right")
            hit = high > low
            links.append(np.vstack((a[high[hit] - 1], b[hit])))
            # All of `a` that one of `b` reaches is one: each gap between the first and the last of them is bridged.
            bridges = np.bincount(low[hit], minlength=len(a) + 1) - np.bincount(
                high[hit] - 1, minlength=len(a) + 1
            )
            joined |= np.cumsum(bridges)[: len(joined)] > 0
        links.append(np.vstack((a[:-1], a[1:]))[:, joined])
    return np.hstack(links)


def _near(step_ns: int, other_ns: int) -> int:
    return max(NEAR_NS, 2 * step_ns, 2 * other_ns)


def _along_the_way(
    pieces: Sequence[Piece], order: Sequence[int], fed_by: Collection[tuple[int, int]]
) -> list[tuple[int, int]]:
    """Pairs of pieces where the stream of the first feeds that of the second, and the second began while the first lasted."""
    of_stream: dict[int, list[int]] = {}
    for i in order:
        of_stream.setdefault(pieces[i].stream, []).append(i)
    pairs = []
    for fed, feeding in fed_by:
        mine, theirs = of_stream.get(fed, []), of_stream.get(feeding, [])
        at = 0
        for b in mine:
            while at < len(theirs) and pieces[theirs[at]].start < pieces[b].start - LAG_NS:
                at += 1
            for a in theirs[at:]:
                if pieces[a].start > pieces[b].start + NEAR_NS:
                    break
                if pieces[a].end >= pieces[b].start - NEAR_NS:
                    pairs.append((a, b))
    return pairs


def shared(stream_keys: Sequence[str]) -> list[tuple[str, str]]:
    """The `name=value` pairs that all of these keys have, in the order of the first."""
    if not stream_keys:
        return []
    rest = [set(keys.decode(k)) for k in stream_keys[1:]]
    return [pair for pair in keys.decode(stream_keys[0]) if all(pair in other for other in rest)]
