"""Stamps of every kind, and both changes of the clock."""

import numpy as np
import pyarrow as pa
import pytest

from watchtide.core.series import SECOND_NS
from watchtide.tables import clock

MOMENT = 1_787_390_100 * SECOND_NS  # 2026-08-22T09:15:00Z


@pytest.mark.parametrize(
    ("text", "extra"),
    [
        ("2026-08-22T09:15:00Z", 0), ("2026-08-22 09:15:00+00:00", 0), ("2026-08-22T10:15:00+01:00", 0),
        ("2026-08-22T09:15Z", 0), ("1787390100", 0), ("1787390100.25", 250_000_000), ("1787390100000", 0),
        ("1787390100000000", 0), ("1787390100000000007", 7), ("2026-08-22T09:15:00.123456789Z", 123_456_789),
        ("2026-08-22T09:15:00,5Z", 500_000_000),
    ],
)  # fmt: skip
def test_every_form_is_read_to_the_nanosecond(text, extra):
    assert clock.parse_one(text) == MOMENT + extra


def test_local_stamps_and_dates_are_read_in_the_zone():
    assert clock.parse_one("2026-08-22 10:15", "Europe/Dublin") == MOMENT
    assert clock.format_time(clock.parse_one("2026-08-22", "Europe/Dublin")) == "2026-08-21T23:00:00Z"


@pytest.mark.parametrize(
    "text", ["", "yesterday", "2026-13-01", "2026-02-30T00:00Z", "0001-01-01", "9999-01-01T00:00Z", "12"]
)
def test_what_is_no_time_is_refused_with_an_example(text):
    with pytest.raises(clock.ClockError, match="is no time; write for example"):
        clock.parse_one(text)


def test_one_bad_stamp_among_good_ones_is_told_apart_from_another_form():
    got = clock.parse(
        pa.array(["2026-08-22T09:15Z", "2026-06-31T00:00Z", "1787390100", "n/a", "2026-08-22T09:30Z"])
    )
    assert got.bad.tolist() == [False, True, True, True, False]
    assert got.other.tolist() == [False, False, True, False, False]


def local_ns(*stamps):
    return np.array([np.datetime64(s, "ns").astype(np.int64) for s in stamps])


def test_the_repeated_hour_is_told_apart_by_order_within_a_stream():
    rows = local_ns(
        "2026-10-25T00:30",
        "2026-10-25T01:00",
        "2026-10-25T01:30",
        "2026-10-25T01:00",
        "2026-10-25T01:30",
        "2026-10-25T02:00",
    )
    got = clock.localise(rows, "Europe/Dublin")
    assert [str(s) for s in clock.format_times(got.times)] == [
        "2026-10-24T23:30:00Z", "2026-10-25T00:00:00Z", "2026-10-25T00:30:00Z", "2026-10-25T01:00:00Z",
        "2026-10-25T01:30:00Z", "2026-10-25T02:00:00Z",
    ]  # fmt: skip
    assert got.repeated.sum() == 4
    # Two streams side by side: each has its own order.
    two = np.repeat(rows, 2)
    twice = clock.localise(two, "Europe/Dublin", np.tile([0, 1], 6))
    assert np.array_equal(twice.times[::2], got.times) and np.array_equal(twice.times[1::2], got.times)


def test_the_skipped_hour_takes_the_offset_before_the_change_and_is_marked():
    got = clock.localise(
        local_ns("2026-03-29T00:30", "2026-03-29T01:30", "2026-03-29T02:30"), "Europe/Dublin"
    )
    assert got.skipped.tolist() == [False, True, False]
    assert [str(s) for s in clock.format_times(got.times)] == [
        "2026-03-29T00:30:00Z",
        "2026-03-29T01:30:00Z",
        "2026-03-29T01:30:00Z",
    ]


@pytest.mark.parametrize(
    "zone", ["Europe/Dublin", "America/St_Johns", "Australia/Lord_Howe", "Asia/Kathmandu", "UTC"]
)
def test_local_and_back_is_the_same_moment(zone):
    rng = np.random.default_rng(0)
    times = np.sort(rng.integers(1_750_000_000, 1_800_000_000, 500)) * SECOND_NS
    local = times + clock.utc_offsets(times, zone)
    got = clock.localise(local, zone)
    plain = ~got.repeated
    assert np.array_equal(got.times[plain], times[plain])


def test_an_unknown_zone_says_what_to_write():
    with pytest.raises(clock.ClockError, match="Europe/Dublin"):
        clock.zone("Dublin time")
