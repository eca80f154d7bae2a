"""Sources of one stream put together: sums lose nothing, restarts leave no dip, one alone stands as it is."""

import numpy as np
import pytest

from watchtide.core.series import joining, live

SECOND = 10**9


def source(first, n, value, *, step=10, phase=0.0):
    times = ((first + phase + np.arange(n) * step) * SECOND).astype(np.int64)
    return times, np.full(n, float(value))


def test_one_alone_stands_as_it_is():
    times, values = source(3, 40, 5, phase=0.25)
    got_t, got_v = joining.joined([(times, values), (times[:0], values[:0])], "sum")
    assert np.array_equal(got_t, times) and np.array_equal(got_v, values)


@pytest.mark.parametrize(("how", "expected"), [("sum", 9.0), ("mean", 4.5), ("max", 7.0), ("last", 7.0)])
def test_two_at_once_meet_on_their_grid(how, expected):
    got_t, got_v = joining.joined([source(0, 60, 2, phase=1), source(0, 60, 7, phase=6)], how)
    inner = (got_t > 10 * SECOND) & (got_t < 580 * SECOND)
    assert np.all(got_v[inner] == expected)
    assert np.all(np.diff(got_t[inner]) == 10 * SECOND)


def test_a_sample_that_one_source_lacks_is_no_drop_of_a_sum():
    a, b = source(0, 60, 2), source(0, 60, 7)
    b = np.delete(b[0], 30), np.delete(b[1], 30)
    _, values = joining.joined([a, b], "sum")
    assert np.all(values == 9.0)


def test_a_restart_goes_on_as_one_stream():
    got_t, got_v = joining.joined([source(0, 30, 2), source(305, 30, 3)], "sum")
    assert len(got_t) == 60 and got_v.tolist() == [2.0] * 30 + [3.0] * 30


def counter(first, seconds, rate, *, step=10.0, phase=0.0):
    """Intervals of a counter that began at 0 at `first` and grew evenly."""
    at = first + np.r_[0, np.arange(phase + step, seconds, step)]
    return live.intervals((at * SECOND).astype(np.int64), (at - first) * rate)


def test_rates_of_two_counters_add_up_whatever_their_phases():
    times, rates = joining.joined_rates([counter(0, 600, 2.0, phase=3), counter(0, 600, 5.0, phase=8)])
    inner = (times >= 20 * SECOND) & (times < 560 * SECOND)
    assert np.allclose(rates[inner], 7.0) and np.all(np.diff(times[inner]) == 10 * SECOND)


def test_nothing_that_was_counted_is_lost_where_a_process_is_restarted():
    # One runs throughout; the other is restarted after 300 s, and counts from 0 again.
    parts = [counter(0, 600, 4.0, phase=2), counter(0, 300, 6.0, phase=5), counter(304, 296, 6.0, phase=1)]
    times, rates = joining.joined_rates(parts)
    inner = (times >= 50 * SECOND) & (times < 550 * SECOND)
    counted = float(np.sum(rates[inner] * 10))
    # Four seconds of the restarted one, and what it had not yet reported, were never counted by anybody.
    assert 0.975 * 5_000 < counted <= 5_000
    assert np.all(rates[inner] <= 10.0 + 1e-9)


def test_an_unknown_way_is_refused():
    with pytest.raises(ValueError, match="one of sum, mean, last, max"):
        joining.joined([], "median")
