"""Notices counted as scorecards count, and findings joined one after another."""

import pytest

from watchtide.core.explain import incidents
from watchtide.core.explain.incidents import LAG_NS, NEAR_NS, Piece
from watchtide.core.scoring import notices
from watchtide.core.scoring.rows import Finding, Label


def found(start, series="a=1"):
    return Finding(series, start, start + 5)


def test_one_that_is_true_makes_a_notice_true_and_unsure_goes_before_false():
    labels = [Label(0, 9, "a=1"), Label(20, 29, "a=1", "unsure"), Label(40, 49, "a=1", "foreseen")]
    labels.append(Label(0, 99, "a=1", "reviewed"))
    groups = [[found(0), found(40)], [found(20), found(40)], [found(40)], [found(60)], [found(200)]]
    assert notices.states(groups, labels) == ["true", "unsure", "false", "false", "unjudged"]
    # Without reviews everything counts as looked through; without any label nobody has looked.
    assert notices.states([[found(200)]], labels[:1]) == ["false"]
    assert notices.states([[found(200)]], []) == ["unjudged"]


def test_counts_leave_out_what_is_no_verdict():
    got = notices.counts(["true", "false", "false", "unsure", "unjudged"])
    assert (got["real"], got["not_real"], got["left_out"], got["open"]) == (1, 2, 1, 1)
    assert (
        got["precision"] == pytest.approx(1 / 3) and got["precision_ci"][0] < 1 / 3 < got["precision_ci"][1]
    )
    assert notices.counts([])["precision"] is None


def piece(start, stream, key="metric=taps"):
    return Piece(start, start + NEAR_NS, stream, key)


def test_pieces_join_the_first_group_that_they_go_with_as_they_come():
    pieces = [
        piece(0, 1),
        piece(3 * NEAR_NS, 2),
        piece(NEAR_NS // 2, 3),
        piece(3 * NEAR_NS + 1, 4, "metric=wind"),
    ]
    assert incidents.as_they_come(pieces) == [[0, 2], [1], [3]]
    # What feeds another takes it in, later too, but not beyond the longest lag.
    late, too_late = piece(2 * NEAR_NS, 5, "metric=x"), piece(LAG_NS + 1, 6, "metric=y")
    long = Piece(0, 9 * NEAR_NS, 1, "metric=taps")
    assert incidents.as_they_come([long, late, too_late], {(5, 1), (6, 1)}) == [[0, 1], [2]]
    assert incidents.as_they_come([]) == []


def test_each_piece_is_in_one_group_and_the_order_of_groups_is_that_of_their_first():
    pieces = [piece(k * NEAR_NS // 3, k % 7) for k in (5, 1, 9, 40, 2, 41, 80)]
    got = incidents.as_they_come(pieces)
    assert sorted(i for group in got for i in group) == list(range(len(pieces)))
    assert [group[0] for group in got] == sorted(group[0] for group in got)
