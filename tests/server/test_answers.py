"""Answers as JSON: times, numbers and columns as documented, whatever type they have on the server."""

import json
from datetime import UTC, datetime

import numpy as np
import pytest
from django.utils.functional import lazystr

from watchtide.server.negotiation import Json
from watchtide.server.scans.charts import column
from watchtide.tables import clock


def read(data):
    return json.loads(Json().render(data))


@pytest.mark.parametrize(
    ("value", "written"),
    [
        (np.datetime64(1_700_000_000_123_000_000, "ns"), "2023-11-14T22:13:20.123Z"),
        (np.array([0, 10**9], "datetime64[ns]"), ["1970-01-01T00:00:00Z", "1970-01-01T00:00:01Z"]),
        (np.array([0, 5 * 10**6], "datetime64[ns]"), ["1970-01-01T00:00:00.000Z", "1970-01-01T00:00:00.005Z"]),
        (datetime(2026, 3, 1, 12, 0, 0, 5, UTC), "2026-03-01T12:00:00.000005Z"),
        (np.float64(0.1), 0.1),
        (np.int64(7), 7),
        (np.array([1.5, np.nan, np.inf], np.float32), [1.5, None, None]),
        (lazystr("gauge"), "gauge"),
        ({1: "one", None: 2}, {"1": "one", "null": 2}),
        ({"large": 2**70}, {"large": 2**70}),
        (float("nan"), None),
    ],
)  # fmt: skip
def test_every_kind_of_value_is_written_as_documented(value, written):
    assert read({"x": value}) == {"x": written}


def test_no_body_is_nothing():
    assert Json().render(None) == b""


@pytest.mark.parametrize("size", [1e-3, 1.0, 812.34, 1e7, 1e30, 1e60])
def test_a_column_has_seven_digits_at_any_size(size):
    values = size * (1 + np.random.default_rng(3).normal(0, 1, 500))
    values[7] = np.nan
    got = np.array([np.nan if v is None else v for v in read({"x": column(values)})["x"]])
    assert np.isnan(got[7]) and np.nanmax(np.abs(got / values - 1)) < 5e-7


@pytest.mark.parametrize("ns", [0, -1, 10**9, 1_700_000_000_123_456_789, clock.EARLIEST_NS, 5 * 10**6])
def test_one_time_is_written_like_several(ns):
    assert clock.format_time(ns) == str(clock.format_times(np.array([ns], np.int64))[0])
