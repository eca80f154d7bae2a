"""Findings of several streams that belong together, proposed from overlap in time, shared attributes and *fed by*."""

from collections.abc import Collection, Sequence
from dataclasses import dataclass

from watchtide.core import keys
from watchtide.core.series import SECOND_NS

# Streams of one cause begin within an hour of one another, or two steps of the coarser one …
NEAR_NS = 3_600 * SECOND_NS
# … and what one feeds may follow it by so much.
LAG_NS = 6 * NEAR_NS


@dataclass(frozen=True)
class Piece:
    """One finding: closed span in ns, number and key of its stream, and the stream's cadence in ns."""

    start: int
    end: int
    stream: int
    key: str
    step_ns: int = 0


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
    root = list(range(len(pieces)))

    def top(i: int) -> int:
        while root[i] != i:
            root[i] = root[root[i]]
            i = root[i]
        return i

    order = sorted(range(len(pieces)), key=lambda i: (pieces[i].start, i))
    earlier: dict[tuple[str, str], dict[int, list[int]]] = {}
    for i in order:
        for pair in keys.decode(pieces[i].key):
            known = earlier.setdefault(pair, {})
            for step, same in known.items():
                for before in reversed(same):
                    if not _begin_together(pieces[before], pieces[i]):
                        break
                    root[top(i)] = top(before)
                    if _near(step, pieces[i].step_ns) == _near(step, step):
                        # Those before it that are as near hang on it already.
                        break
            known.setdefault(pieces[i].step_ns, []).append(i)
    for a, b in _along_the_way(pieces, order, fed_by):
        root[top(b)] = top(a)
    groups: dict[int, list[int]] = {}
    for i in order:
        groups.setdefault(top(i), []).append(i)
    said = [set(g) for g in apart]
    found = [
        g
        for g in groups.values()
        if len({pieces[i].stream for i in g}) > 1 and not any(set(g) <= one for one in said)
    ]
    return sorted(found, key=lambda g: (-len({pieces[i].stream for i in g}), pieces[g[0]].start))


def _begin_together(a: Piece, b: Piece) -> bool:
    return b.start - a.start <= _near(a.step_ns, b.step_ns)


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
