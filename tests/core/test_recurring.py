"""A period beside the same ones before: figures worked out by hand, the past only, and what was odd then left out."""

import numpy as np
import pytest

from watchtide.core.expect.frame import DAY_NS
from watchtide.core.explain import recurring
from watchtide.core.series import Series
from watchtide.core.series.coarser import coarser


def usual(values, share=None, numbers=None, **more):
    values = np.asarray(values, float)
    share = np.ones(len(values)) if share is None else np.asarray(share, float)
    numbers = np.arange(len(values)) if numbers is None else np.asarray(numbers)
    return recurring.usual_of(numbers, values, share, **({"every": 1, "n": 8} | more))


def test_limits_are_those_of_the_next_one_of_a_normal_sample():
    """Three before: mean 12, s 2, t with two degrees of freedom 4.302653, times the root of 4/3."""
    got = usual([10, 12, 14, 99])
    assert got.usual[3] == 12
    reach = 4.302652729 * 2 * np.sqrt(4 / 3)
    np.testing.assert_allclose([got.lower[3], got.upper[3]], [12 - reach, 12 + reach], rtol=1e-9)
    assert got.usual[1] == 10 and np.isnan(got.lower[2]) and got.count.tolist() == [0, 1, 2, 3]
    assert np.isnan(got.usual[0])


def test_days_are_set_beside_their_own_weekday():
    week = np.array([1.0, 2, 3, 4, 5, 6, 7])
    got = usual(np.tile(week, 6), every=7, n=4)
    np.testing.assert_array_equal(got.usual[7:], np.tile(week, 5))
    assert got.count[-1] == 4


def test_what_was_far_from_the_rest_is_left_out():
    got = usual([10, 11, 9, 10.5, 9.5, 500, 10, 10])
    assert got.left_out[7] == 1 and got.count[7] == 6 and got.usual[7] == pytest.approx(10)
    # Of four nobody can say which is the odd one.
    assert usual([10, 11, 9, 500, 10]).left_out[4] == 0


def test_the_future_changes_nothing():
    rng = np.random.default_rng(4)
    values = rng.normal(100, 5, 90)
    other = values.copy()
    other[60:] = rng.normal(0, 900, 30)
    one, two = usual(values, every=7), usual(other, every=7)
    for name in ("usual", "lower", "upper", "count"):
        np.testing.assert_array_equal(getattr(one, name)[:61], getattr(two, name)[:61])


def test_gaps_and_half_seen_periods_are_none_to_compare_with():
    got = usual([10, np.nan, 12, 14, 13], share=[1, 0, 1, 0.5, 1])
    assert got.count[4] == 2 and got.usual[4] == 11
    # A missing period is no period: numbers say how far apart they are.
    got = usual([1, 2, 3, 4], numbers=[0, 7, 8, 14], every=7)
    assert got.usual[3] == 1.5 and got.count[2] == 0


def test_what_is_always_the_same_has_no_room():
    got = usual([5.0] * 9)
    assert got.lower[8] == got.upper[8] == 5 and got.left_out[8] == 0
    assert len(usual([]).usual) == 0


def test_ninety_five_of_a_hundred_lie_within():
    rng = np.random.default_rng(9)
    values = rng.normal(0, 1, 20_000)
    got = usual(values, n=8)
    inside = (values > got.lower) & (values < got.upper)
    assert 0.94 < inside[10:].mean() < 0.96


def days(first, values, per_day=4):
    """A series of so many samples a day from the first day on, by its days in UTC."""
    step = DAY_NS // per_day
    times = (first * per_day + np.arange(len(values))) * step
    nothing = np.full(len(values), np.nan)
    series = Series(times, np.asarray(values, float), step, np.zeros(len(values), np.int64))
    return coarser(series, "day", is_sum=True, expected=nothing, z=nothing), np.zeros(
        len(values) // per_day, np.int64
    )


class TestTotals:
    def test_series_that_begin_apart_lie_on_the_same_days(self):
        got = recurring.totals_of(
            [days(20_000, [1.0] * 12), None, days(20_001, [2.0] * 8)], "day", is_sum=True
        )
        assert got.numbers.tolist() == [20_000, 20_001, 20_002]
        np.testing.assert_array_equal(got.values, [[4, 4, 4], [np.nan] * 3, [np.nan, 8, 8]])
        whole, share = got.together()
        assert whole.tolist() == [4, 12, 12] and share.tolist() == pytest.approx([1 / 3, 2 / 3, 2 / 3])
        assert (got.ends - got.starts == DAY_NS).all()

    def test_means_are_means_of_those_that_are_there(self):
        rows = [days(20_000, [1.0] * 8), days(20_001, [3.0] * 4)]
        got = recurring.totals_of(rows, "day", is_sum=False)
        assert got.together()[0].tolist() == [4, 8]

    def test_weeks_begin_on_a_monday(self):
        # 5 January 1970 was one.
        monday = np.array([4 * DAY_NS])
        assert recurring._numbers(monday, "week").tolist() == [0]
        assert recurring._numbers(monday - 3_600 * 10**9, "week").tolist() == [-1]
