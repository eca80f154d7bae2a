"""Units of a stream: where they begin and end, and how they are laid side by side."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from watchtide.core.series import bursts

MS = 1_000_000


def bursts_of(counts, gap=1_000, step=1):
    """(times in ns, number of each sample) of bursts of so many samples, `gap` ms apart."""
    times, number, at = [], [], 0
    for k, count in enumerate(counts):
        times += [at + i * step for i in range(count)]
        number += [k] * count
        at = times[-1] + gap if count else at
    return np.array(times, np.int64) * MS, np.array(number, np.int64)


@given(st.lists(st.integers(1, 40), min_size=1, max_size=12))
@settings(deadline=None, max_examples=60)
def test_a_gap_parts_bursts_as_they_were_made(counts):
    times, number = bursts_of(counts)
    assert bursts.by_gap(times, 500 * MS).tolist() == number.tolist()
    # A gap as long as the longest silence parts nothing.
    assert not bursts.by_gap(times, 1_000 * MS).any()


def test_stretches_are_counted_from_midnight_and_empty_ones_have_no_number():
    hours = np.array([0, 5, 23, 24, 30, 80], np.int64) * 3_600 * 10**9
    assert bursts.by_length(hours, 24 * 3_600 * 10**9).tolist() == [0, 0, 0, 1, 1, 2]


def test_units_stand_side_by_side_each_sample_at_its_place():
    times, number = bursts_of([10, 10, 10])
    values = np.arange(30.0)
    laid = bursts.lay(times, values, number)
    assert laid.step_ns == MS
    assert laid.waves.tolist() == values.reshape(3, 10).tolist()
    assert laid.spread_out(laid.waves).tolist() == values.tolist()
    assert laid.spread_out(np.array([7.0, 8.0, 9.0])).tolist() == [7.0] * 10 + [8.0] * 10 + [9.0] * 10


def test_a_sample_that_is_missing_leaves_a_hole_and_one_too_many_is_cut():
    times, number = bursts_of([10, 11, 10, 10])
    values = np.arange(41.0)
    kept = np.arange(41) != 3
    laid = bursts.lay(times[kept], values[kept], number[kept])
    assert laid.length == 10
    assert np.isnan(laid.waves[0, 3]) and np.isnan(laid.waves).sum() == 1
    assert laid.waves[1].tolist() == list(range(10, 20))
    # The eleventh of the second one has no place.
    assert np.flatnonzero(laid.place < 0).tolist() == [19]


def test_what_parts_units_belongs_to_none_of_them():
    times, number = bursts_of([10, 10])
    at, values, own = bursts.parted(times, np.ones(20), number)
    assert own.tolist() == [0] * 10 + [-1] + [1] * 10
    assert np.isnan(values[10]) and times[9] < at[10] < times[10]
    assert np.all(np.diff(at) > 0)
    laid = bursts.lay(at, values, own)
    assert laid.waves.shape == (2, 10) and laid.place[10] == -1


def test_a_span_touches_the_units_that_it_meets():
    times, number = bursts_of([10, 10, 10])
    inside = [(int(times[12]), int(times[12])), (int(times[29]) + 5 * MS, int(times[29]) + 9 * MS)]
    assert bursts.touched(times, number, 3, inside).tolist() == [False, True, False]
    assert bursts.touched(times, number, 3, [(int(times[9]), int(times[10]))]).tolist() == [True, True, False]


@pytest.mark.parametrize(
    ("counts", "words"),
    [
        ([3] * 20, "hold 3 samples"),
        ([1] * 20, "single sample"),
        ([10, 200, 30, 90, 15, 70, 300, 40], "unlike length, 10 to 300 samples"),
    ],
)
def test_units_that_have_no_shape_in_common_are_refused_with_a_remedy(counts, words):
    times, number = bursts_of(counts)
    with pytest.raises(ValueError, match=words):
        bursts.lay(times, np.ones(len(times)), number)


def test_no_samples_at_all_are_said_to_be_none():
    none = np.zeros(0, np.int64)
    assert bursts.by_gap(none, 5).tolist() == []
    with pytest.raises(ValueError, match="no samples"):
        bursts.lay(none, np.zeros(0), none)
