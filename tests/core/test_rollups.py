"""Roll-ups against plain NumPy, and that merging in any order gives the same."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from watchtide.core.series import rollups

ROWS = st.lists(
    st.tuples(st.integers(0, 2), st.integers(0, 3), st.floats(-1e6, 1e6)), min_size=1, max_size=80
)


def split(rows):
    groups, bins, values = zip(*rows, strict=True)
    return np.array(groups), np.array(bins), np.array(values)


@given(ROWS)
def test_moments_are_those_of_each_group_and_bin(rows):
    g, b, v = split(rows)
    got = rollups.moments(g, b, v)
    for i in range(len(got.groups)):
        own = v[(g == got.groups[i]) & (b == got.bins[i])]
        assert got.counts[i] == len(own) and got.totals[i] == pytest.approx(own.sum(), abs=1e-6)
        assert (got.least[i], got.most[i]) == (own.min(), own.max())
    assert got.counts.sum() == len(rows)


@given(ROWS, st.integers(0, 80))
def test_merging_two_parts_is_the_whole(rows, cut):
    g, b, v = split(rows)
    cut = min(cut, len(rows))
    whole = rollups.sketch(g, b, v)
    merged = rollups.merge_sketches(
        rollups.sketch(g[cut:], b[cut:], v[cut:]), rollups.sketch(g[:cut], b[:cut], v[:cut])
    )
    for name in ("groups", "bins", "keys", "counts"):
        assert np.array_equal(getattr(whole, name), getattr(merged, name))
    moments = rollups.merge_moments(
        rollups.moments(g[:cut], b[:cut], v[:cut]), rollups.moments(g[cut:], b[cut:], v[cut:])
    )
    assert np.array_equal(moments.counts, rollups.moments(g, b, v).counts)


@pytest.mark.parametrize("share", [0.0, 0.01, 0.5, 0.95, 0.99, 1.0])
@pytest.mark.parametrize("kind", ["lognormal", "signed", "integers", "tiny"])
def test_quantiles_lie_within_the_stated_accuracy_of_the_one_of_that_rank(share, kind):
    rng = np.random.default_rng(0)
    v = {
        "lognormal": rng.lognormal(0, 3, 5_000), "signed": rng.normal(0, 100, 5_000), "tiny": rng.random(5_000) * 1e-200,
        "integers": rng.poisson(5, 5_000).astype(float),
    }[kind]  # fmt: skip
    zeros = np.zeros(len(v), np.int64)
    _, _, got = rollups.quantiles(rollups.sketch(zeros, zeros, v), share)
    exact = np.quantile(v, share, method="lower")
    assert abs(got[0] - exact) <= rollups.ACCURACY * abs(exact) * 1.0001


def test_buckets_rise_with_the_values_over_the_whole_range():
    v = np.array([-1e300, -5.0, -1e-250, 0.0, 1e-250, 1.0, 1.1, 1e300])
    keys = rollups.buckets(v)
    assert np.all(np.diff(keys) > 0) and np.allclose(rollups.bucket_values(keys), v, rtol=rollups.ACCURACY)


def test_distinct_is_exact_below_its_limit_and_close_above():
    zeros = lambda n: np.zeros(n, np.int64)
    few = rollups.mix(np.arange(1_000).repeat(3))
    assert rollups.distinct(rollups.hashes(zeros(3_000), zeros(3_000), few))[2] == [1_000]
    many = rollups.mix(np.arange(200_000))
    parts = [
        rollups.hashes(zeros(100_000), zeros(100_000), half) for half in (many[:100_000], many[100_000:])
    ]
    [estimate] = rollups.distinct(rollups.merge_hashes(*parts))[2]
    assert abs(estimate / 200_000 - 1) < 4 / np.sqrt(rollups.LEAST_HASHES - 2)


def test_nothing_and_only_missing_values_give_nothing():
    none = np.empty(0, np.int64)
    assert len(rollups.moments(none, none, np.empty(0)).groups) == 0
    assert (
        len(rollups.sketch(np.zeros(2, np.int64), np.zeros(2, np.int64), np.array([np.nan, np.nan])).keys)
        == 0
    )
    assert len(rollups.quantiles(rollups.sketch(none, none, np.empty(0)), 0.5)[2]) == 0
    assert len(rollups.distinct(rollups.hashes(none, none, none))[2]) == 0
