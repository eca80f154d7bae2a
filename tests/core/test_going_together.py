"""Which findings are proposed as one incident."""

import itertools

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from watchtide.core.explain import incidents
from watchtide.core.explain.incidents import LAG_NS, NEAR_NS, Piece, propose
from watchtide.core.series import keys

MINUTE = NEAR_NS // 60


def piece(stream, start, minutes=30, key=None, step=0):
    return Piece(
        start * MINUTE, (start + minutes) * MINUTE, stream, key or f"metric=taps,place=p{stream}", step
    )


def test_what_begins_together_and_shares_an_attribute_is_one_incident():
    found = propose([piece(1, 0), piece(2, 20), piece(3, 500), piece(4, 30, key="metric=wind,place=far")])
    assert found == [[0, 1]]


def test_one_stream_alone_is_never_proposed():
    assert propose([piece(1, 0), piece(1, 10), piece(1, 20)]) == []


def test_a_coarse_stream_may_begin_two_of_its_steps_off():
    far = [piece(1, 0), piece(2, 110)]
    assert propose(far) == []
    assert propose([far[0], piece(2, 110, step=60 * MINUTE)]) == [[0, 1]]


def test_what_is_fed_may_follow_by_hours_while_the_other_lasts():
    long, late = piece(1, 0, 400, "metric=gate"), piece(2, 200, 30, "metric=pages")
    assert propose([long, late]) == []
    assert propose([long, late], {(2, 1)}) == [[0, 1]]
    # The other way round, what feeds cannot begin hours after what it feeds.
    assert propose([long, late], {(1, 2)}) == []
    over = piece(1, 0, 20, "metric=gate")
    assert propose([over, late], {(2, 1)}) == []
    too_late = piece(2, LAG_NS // MINUTE + 1, 30, "metric=pages")
    assert propose([piece(1, 0, 1000, "metric=gate"), too_late], {(2, 1)}) == []


def test_what_was_said_to_be_apart_is_not_proposed_again_unless_more_joins():
    two = [piece(1, 0), piece(2, 20)]
    assert propose(two, apart=[{0, 1}]) == []
    assert propose([*two, piece(3, 40)], apart=[{0, 1}]) == [[0, 1, 2]]


def brute(pieces, fed_by):
    """All pairs looked at one by one, then joined until nothing changes."""
    groups = [{i} for i in range(len(pieces))]

    def go(a, b):
        near = max(NEAR_NS, 2 * a.step_ns, 2 * b.step_ns)
        alike = set(keys.decode(a.key)) & set(keys.decode(b.key))
        if alike and abs(a.start - b.start) <= near:
            return True
        for x, y in ((a, b), (b, a)):
            if (
                (y.stream, x.stream) in fed_by
                and y.start - LAG_NS <= x.start <= y.start + NEAR_NS
                and x.end >= y.start - NEAR_NS
            ):
                return True
        return False

    for i, j in itertools.combinations(range(len(pieces)), 2):
        if go(pieces[i], pieces[j]):
            a, b = (next(g for g in groups if k in g) for k in (i, j))
            if a is not b:
                groups.remove(b)
                a |= b
    return sorted(sorted(g) for g in groups if len({pieces[i].stream for i in g}) > 1)


@settings(max_examples=150, deadline=None)
@given(st.integers(0, 10_000))
def test_groups_equal_those_of_all_pairs(seed):
    rng = np.random.default_rng(seed)
    streams = [f"metric=m{rng.integers(2)},place=p{rng.integers(3)}" for _ in range(6)]
    pieces = [
        piece(
            s := int(rng.integers(6)),
            int(rng.integers(0, 1500)),
            int(rng.integers(1, 300)),
            streams[s],
            s % 3 * 60 * MINUTE,
        )
        for _ in range(rng.integers(0, 25))
    ]
    fed_by = {(int(a), int(b)) for a, b in rng.integers(0, 6, (3, 2)) if a != b}
    assert sorted(sorted(g) for g in propose(pieces, fed_by)) == brute(pieces, fed_by)


def test_what_all_share_is_told_in_the_order_of_the_first():
    assert incidents.shared(["metric=a,place=x,fare=child", "fare=child,metric=a,place=y"]) == [
        ("metric", "a"), ("fare", "child"),
    ]  # fmt: skip
    assert incidents.shared([]) == []
