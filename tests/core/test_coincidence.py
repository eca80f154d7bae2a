"""How often findings begin together by chance: against simulated histories of independent streams."""

import math

import numpy as np
import pytest

from watchtide.core.explain.coincidence import Chance
from watchtide.core.explain.incidents import NEAR_NS, Piece, propose

WEEKS = 16
SPAN = WEEKS * 7 * 24 * NEAR_NS


def piece(stream, start, size=6.0, key=None):
    return Piece(
        int(start), int(start) + NEAR_NS // 2, stream, key or f"metric=taps,place=p{stream}", 0, size
    )


def history(rng, streams=20, each=6):
    """Findings of independent streams, with sizes as an exponential tail has them."""
    return [
        piece(s, at, size)
        for s in range(streams)
        for at, size in zip(rng.integers(0, SPAN, each), 4 + rng.exponential(1.5, each), strict=True)
    ]


def rated(pieces):
    chance = Chance(pieces)
    return sorted((chance.of([pieces[i] for i in group]), group) for group in propose(pieces))


@pytest.mark.parametrize(("streams", "each"), [(20, 6), (60, 4), (8, 20)])
def test_of_independent_streams_no_more_is_proposed_than_was_said(streams, each):
    rng = np.random.default_rng(4)
    found, raw, n = {0.5: 0, 0.1: 0}, 0, 60
    for _ in range(n):
        got = rated(history(rng, streams, each))
        raw += len(got)
        for limit in found:
            found[limit] += sum(expected < limit for expected, _ in got)
    # Without the figure there would be several in each history.
    assert raw / n > 3
    for limit, count in found.items():
        assert count / n <= limit + 3 * math.sqrt(limit / n)


@pytest.mark.parametrize("seed", range(5))
def test_what_was_planted_is_the_least_likely(seed):
    rng = np.random.default_rng(seed)
    pieces = history(rng)
    at = SPAN // 2
    planted = [piece(s, at + int(rng.integers(0, NEAR_NS)), 7.0) for s in (1, 4, 9, 13, 17)]
    pieces += planted
    expected, group = rated(pieces)[0]
    assert expected < 1e-3
    assert {p.stream for p in planted} <= {pieces[i].stream for i in group}


def test_a_weak_pair_is_likely_and_a_strong_one_is_not():
    rng = np.random.default_rng(1)
    pieces = history(rng, each=12)
    chance = Chance(pieces)
    weak = [piece(1, SPAN // 3, 4.1), piece(2, SPAN // 3, 4.2)]
    strong = [piece(1, SPAN // 3, 30.0), piece(2, SPAN // 3, 28.0)]
    assert chance.of(weak) > 1 > 0.01 > chance.of(strong)
    # One strong stream does not make a weak one beside it less likely.
    assert chance.of([strong[0], weak[1]]) > 1


def test_more_streams_together_are_less_likely_and_a_lone_one_is_no_coincidence():
    rng = np.random.default_rng(2)
    chance = Chance(history(rng))
    group = [piece(s, SPAN // 2, 6.0) for s in range(8)]
    expected = [chance.of(group[:n]) for n in (2, 4, 8)]
    assert expected[0] > expected[1] > expected[2]
    assert chance.of(group[:1]) == 120


def test_what_feeds_is_weighed_among_what_feeds_alone():
    rng = np.random.default_rng(3)
    pieces = history(rng, each=12)
    pair = [piece(1, SPAN // 2, 6.0), piece(2, SPAN // 2 + 2 * NEAR_NS, 6.0)]
    assert Chance(pieces, {(2, 1)}).of(pair) < Chance(pieces).of(pair) / 3


def test_unknown_sizes_and_nothing_at_all():
    assert Chance([]).of([piece(1, 0), piece(2, 0)]) == 0
    pieces = [piece(1, 0, math.nan), piece(2, 0, math.nan)]
    assert math.isfinite(Chance(pieces).of(pieces))
