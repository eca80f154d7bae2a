"""The same series by longer periods: against sums by Python's own calendar, and where samples are missing."""

from collections import defaultdict
from datetime import UTC, datetime
from zoneinfo import ZoneInfo

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from watchtide.core.series import SECOND_NS, Series
from watchtide.core.series.coarser import coarser, periods

DUBLIN = ZoneInfo("Europe/Dublin")
HOUR_NS = 3_600 * SECOND_NS


def hourly(start: datetime, n: int, zone: ZoneInfo = DUBLIN) -> Series:
    times = int(start.timestamp()) * SECOND_NS + np.arange(n) * HOUR_NS
    offsets = [
        int(datetime.fromtimestamp(t / 1e9, zone).utcoffset().total_seconds()) * SECOND_NS for t in times
    ]
    return Series(times, np.arange(n, dtype=float), HOUR_NS, np.array(offsets))


def name_of(moment: datetime, by: str) -> tuple[int, ...]:
    if by == "week":
        return moment.isocalendar()[:2]
    return (moment.year, moment.month) if by == "month" else (moment.year, moment.month, moment.day)


@pytest.mark.parametrize("by", ["day", "week", "month"])
@pytest.mark.parametrize("is_sum", [True, False])
def test_sums_and_means_are_those_of_the_local_calendar_through_a_clock_change(by, is_sum):
    # Both changes of 2026: a day of 23 hours and one of 25.
    series = hourly(datetime(2026, 3, 20, 13, tzinfo=UTC), 24 * 230)
    found = defaultdict(list)
    for t, v in zip(series.times, series.values, strict=True):
        found[name_of(datetime.fromtimestamp(t / 1e9, DUBLIN), by)].append(v)
    nothing = np.full(len(series), np.nan)
    got = coarser(series, by, is_sum=is_sum, expected=nothing, z=nothing)
    np.testing.assert_allclose(got.values, [(sum if is_sum else np.mean)(v) for v in found.values()])
    assert np.isnan(got.expected).all() and np.isnan(got.score).all()
    # Every period begins at local midnight, and is seen in full but the first and the last.
    for t in got.times:
        assert datetime.fromtimestamp(t / 1e9, DUBLIN).hour == 0
    assert np.all(got.share[1:-1] == 1.0) and got.share[0] < 1 and got.share[-1] < 1


def test_an_hour_that_a_clock_change_repeats_comes_twice():
    series = hourly(datetime(2026, 10, 24, 22, tzinfo=UTC), 6)
    assert np.array_equal(periods(series, "hour").starts, series.times)


def test_what_was_expected_is_put_together_over_the_samples_that_were_seen():
    series = hourly(datetime(2026, 1, 5, tzinfo=UTC), 72)
    values = np.full(72, 10.0)
    values[[3, 4]] = np.nan
    expected = np.full(72, 9.0)
    expected[30] = np.nan
    z = np.zeros(72)
    z[[5, 50, 51]] = [-6.0, 4.0, 7.5]
    got = coarser(series.with_values(values), "day", is_sum=True, expected=expected, z=z)
    assert got.values.tolist() == [220.0, 240.0, 240.0]
    assert got.expected[[0, 2]].tolist() == [198.0, 216.0]
    # One that was seen has no expectation: the two sums would be of different samples.
    assert np.isnan(got.expected[1])
    assert got.score.tolist() == [-6.0, 0.0, 7.5]
    np.testing.assert_allclose(got.share, [22 / 24, 1, 1])


def test_a_period_without_a_sample_is_missing():
    series = hourly(datetime(2026, 1, 5, tzinfo=UTC), 48)
    values = np.r_[np.full(24, np.nan), np.ones(24)]
    z = np.r_[np.full(24, np.nan), np.ones(24)]
    got = coarser(series.with_values(values), "day", is_sum=True, expected=np.ones(48), z=z)
    assert np.isnan([got.values[0], got.expected[0], got.score[0]]).all() and got.share[0] == 0
    assert got.values[1] == 24 and got.score[1] == 1


def test_a_period_shorter_than_a_step_is_refused_and_nothing_stays_nothing():
    series = Series(np.arange(5) * 24 * HOUR_NS, np.ones(5), 24 * HOUR_NS, np.zeros(5, np.int64))
    with pytest.raises(ValueError, match="further apart than one hour"):
        periods(series, "hour")
    assert (
        len(coarser(series.part(0, 0), "day", is_sum=True, expected=np.empty(0), z=np.empty(0)).values) == 0
    )


@given(st.integers(1, 400), st.integers(0, 10**6), st.sampled_from(["hour", "day", "week", "month"]))
def test_sums_lose_nothing_and_periods_hold_their_bins(n, minutes, by):
    times = minutes * 60 * SECOND_NS + np.arange(n) * 600 * SECOND_NS
    rng = np.random.default_rng(n)
    values = np.where(rng.random(n) < 0.2, np.nan, rng.normal(size=n))
    series = Series(times, values, 600 * SECOND_NS, np.zeros(n, np.int64))
    got = coarser(series, by, is_sum=True, expected=values, z=values)
    assert np.isclose(np.nansum(got.values), np.nansum(values))
    np.testing.assert_allclose(got.expected, got.values)
    bins = periods(series, by)
    last = np.r_[bins.first[1:], n] - 1
    assert np.all(times[bins.first] >= bins.starts) and np.all(times[last] < bins.ends)
    assert np.nanmax(np.abs(got.score), initial=0) == np.nanmax(np.abs(values), initial=0)
