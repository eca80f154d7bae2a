"""Scores of counts against SciPy's distributions, and the laws fitted to them."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import stats

from watchtide.core.expect import quantile, spread
from watchtide.core.expect.quantile import Counted
from watchtide.engine.prepare import preparing
from watchtide.engine.scan import stages
from watchtide.plan import Plan
from watchtide.plan.text import from_data

HOUR = 3_600 * 10**9
START = 1_783_900_800 * 10**9


def counted(n, trials=np.inf):
    return Counted(np.ones(n), np.full(n, float(trials)))


def by_scipy(law, k):
    """The normal quantile of the smaller mid-probability."""
    upper, lower = law.sf(k) + 0.5 * law.pmf(k), law.cdf(k) - 0.5 * law.pmf(k)
    return np.where(upper <= 0.5, stats.norm.isf(upper), stats.norm.ppf(lower))


@pytest.mark.parametrize("mean", [0.01, 0.3, 2.0, 17.0, 60.0, 400.0, 9_000.0])
@pytest.mark.parametrize("extra", [0.0, 0.05, 1.0, 3.0])
def test_scores_of_counts_are_those_of_the_distribution(mean, extra):
    variance = mean + extra * mean**2
    law = stats.nbinom(mean**2 / (variance - mean), mean / variance) if extra else stats.poisson(mean)
    k = np.unique(np.floor(np.linspace(0, mean + 8 * np.sqrt(variance), 60)))
    z = quantile.score(k, np.full(len(k), mean), np.full(len(k), np.sqrt(variance)), counted(len(k)))
    reference = by_scipy(law, k)
    # Beyond eight sigmas SciPy's own tails run out of digits.
    near = np.abs(reference) < 8
    assert np.allclose(z[near], reference[near], atol=1e-7)
    assert np.all(np.isfinite(z)) and np.all(np.diff(z) > 0)


@pytest.mark.parametrize("trials", [5, 60, 1_000])
@pytest.mark.parametrize("share", [0.01, 0.3, 0.97])
@pytest.mark.parametrize("rho", [0.0, 0.02, 0.2])
def test_scores_of_shares_are_those_of_the_distribution(trials, share, rho):
    variance = trials * share * (1 - share) * (1 + (trials - 1) * rho)
    total = 1 / rho - 1 if rho else 0.0
    law = stats.betabinom(trials, share * total, (1 - share) * total) if rho else stats.binom(trials, share)
    k = np.arange(trials + 1.0)
    mean, deviation = np.full(len(k), trials * share), np.full(len(k), np.sqrt(variance))
    z = quantile.score(k, mean, deviation, counted(len(k), trials))
    # Its own tails are one less a sum and lose their digits: sums from the far end do not.
    chance = law.pmf(k)
    upper, lower = np.cumsum(chance[::-1])[::-1] - chance / 2, np.cumsum(chance) - chance / 2
    with np.errstate(invalid="ignore", divide="ignore"):
        reference = np.where(upper <= 0.5, stats.norm.isf(upper), stats.norm.ppf(lower))
    near = np.abs(reference) < 7
    assert np.allclose(z[near], reference[near], atol=1e-6)


def test_a_wide_share_is_read_by_a_beta_law_within_a_hundredth():
    n, share, rho = 30_000, 0.3, 0.01
    total = 1 / rho - 1
    law = stats.betabinom(n, share * total, (1 - share) * total)
    k = np.array([3_500.0, 5_000, 8_000, 9_000, 10_000, 13_000, 17_000])
    deviation = np.sqrt(n * share * (1 - share) * (1 + (n - 1) * rho))
    assert deviation > quantile.WIDE_EVENTS
    z = quantile.score(k, np.full(7, n * share), np.full(7, deviation), counted(7, n))
    assert np.allclose(z, by_scipy(law, k), atol=0.01)


def test_far_out_scores_stay_finite_and_rise():
    k = np.array([1e2, 1e3, 1e4, 1e6, 1e9])
    z = quantile.score(k, np.full(5, 3.0), np.full(5, 2.0), counted(5))
    assert np.all(np.isfinite(z)) and np.all(np.diff(z) > 0) and z[0] > 12


@given(
    st.floats(0.05, 500),
    st.floats(0.0, 2.0),
    st.floats(-6, 9).filter(lambda x: abs(x) > 0.3),
    st.sampled_from([np.inf, 2_000.0]),
)
@settings(max_examples=150, deadline=None)
def test_the_value_at_a_level_has_that_score(mean, extra, level, trials):
    deviation = np.sqrt(mean + extra * mean**2)
    one = counted(1, trials)
    value = quantile.values_at(level, np.array([mean]), np.array([deviation]), one)
    if 0 <= value[0] <= trials:
        # Within two hundredths of a whole number a value counts as that.
        z = quantile.score(value, np.array([mean]), np.array([deviation]), one)
        steps = quantile.score(
            np.round(value) + [-1, 1], np.full(2, mean), np.full(2, deviation), counted(2, trials)
        )
        assert abs(z[0] - level) <= 0.02 * (steps[1] - steps[0]) + 1e-9
    else:
        assert value[0] < 0 < -level or value[0] > trials


@given(st.floats(0.02, 0.9), st.integers(1, 30), st.floats(1.0, 3.0), st.floats(0.3, 9))
@settings(max_examples=150, deadline=None)
def test_a_level_that_all_trials_do_not_reach_lies_above_them(chance, trials, wider, level):
    mean = np.array([chance * trials])
    deviation = np.sqrt(mean * (1 - chance)) * wider
    one = counted(1, trials)
    [most] = quantile.score(np.array([float(trials)]), mean, deviation, one)
    [value] = quantile.values_at(level, mean, deviation, one)
    if most < level:
        # A straight line of one spread a sigma goes on from there.
        assert value == pytest.approx(trials + (level - most) * deviation[0])
    else:
        assert value <= trials


def test_without_counts_a_score_is_the_residual_over_the_spread():
    y, e, s = np.array([1.0, np.nan, 3.0]), np.array([0.0, 1.0, 5.0]), np.array([2.0, 1.0, 4.0])
    assert np.array_equal(quantile.score(y, e, s), [0.5, np.nan, -0.5], equal_nan=True)
    blank = Counted(np.full(3, np.nan), np.full(3, np.nan))
    assert np.array_equal(quantile.score(y, e, s, blank), [0.5, np.nan, -0.5], equal_nan=True)
    assert np.array_equal(quantile.values_at(4.0, e, s, blank), e + 4 * s)


def test_a_mean_of_counts_lies_between_its_neighbours():
    z = quantile.score(np.array([4.0, 4.25, 5.0]), np.full(3, 2.0), np.full(3, 1.5), counted(3))
    assert z[1] == pytest.approx(z[0] + 0.25 * (z[2] - z[0]))


class TestLaws:
    @pytest.mark.parametrize("extra", [0.0, 0.02, 0.1, 0.5])
    def test_counts_with_quiet_nights_get_the_law_that_made_them(self, extra):
        # Least squares on bins of the mean read 0.5 to 2 times the true term, by what the nights held.
        rng = np.random.default_rng(7)
        mean = 200 * (0.003 + np.clip(np.sin(np.arange(6_000) / 30), 0, None))
        k = rng.poisson(mean * rng.gamma(1 / extra, extra, 6_000) if extra else mean).astype(float)
        a, b = spread.fit_counts(k, mean, np.full(len(k), np.inf))
        assert b == pytest.approx(extra, rel=0.1, abs=2e-3) and 1 <= a < 1.3

    def test_incidents_do_not_widen_the_law(self):
        rng = np.random.default_rng(8)
        mean = np.full(4_000, 40.0)
        k = rng.poisson(mean * rng.gamma(50, 0.02, 4_000)).astype(float)
        plain = spread.fit_counts(k, mean, np.full(len(k), np.inf))
        k[::40] *= 4
        hurt = spread.fit_counts(k, mean, np.full(len(k), np.inf))
        wide = [np.sqrt(a * 40 + b * 1_600) for a, b in (plain, hurt)]
        assert wide[1] == pytest.approx(wide[0], rel=0.1)

    @pytest.mark.parametrize("mean", [80.0, 400.0])
    def test_skewed_counts_of_any_size_come_as_rarely_as_promised(self, mean):
        """As a Gaussian with the same variance 4 sigmas above came 33 times as often as a Gaussian's do."""
        rng = np.random.default_rng(9)
        n = 400_000
        k = rng.poisson(mean * rng.gamma(10, 0.1, n)).astype(float)
        deviation = np.sqrt(mean + 0.1 * mean**2)
        z = quantile.score(k, np.full(n, mean), np.full(n, deviation), counted(n))
        assert np.sum(z >= 3.5) / n == pytest.approx(stats.norm.sf(3.5), rel=0.35)
        assert np.mean((k - mean) / deviation >= 3.5) > 5 * stats.norm.sf(3.5)

    def test_a_gauge_in_whole_numbers_is_no_count(self):
        # A pressure in hPa: read as counts its spread was 5 where it is 1.5, and a spike of 8 sigmas went unseen.
        rng = np.random.default_rng(3)
        n = 24 * 60
        slow = np.cumsum(rng.normal(0, 0.12, n))
        y = np.round(
            1013 + slow - slow.mean() + 2 * np.sin(2 * np.pi * np.arange(n) / 24) + rng.normal(0, 1.5, n)
        )
        y[700] += 12
        stream = stages.Input("p", START + np.arange(n) * HOUR, y)
        assert not preparing.are_counts(y)
        got = stages.scan(stream, Plan())
        assert got.resolved["prepare"]["as"] == "value" and got.flags[700] == 1
        assert np.median(got.base.spread) < 2.2

    @pytest.mark.parametrize("mean", [0.05, 1.0, 30.0, 2_000.0])
    def test_counts_are_counts_whatever_their_size(self, mean):
        rng = np.random.default_rng(4)
        season = 1 + 0.9 * np.sin(2 * np.pi * np.arange(1_000) / 24)
        assert all(not spread.is_underdispersed(rng.poisson(mean * season).astype(float)) for _ in range(20))

    def test_upper_and_lower_are_the_values_at_which_flags_begin(self):
        rng = np.random.default_rng(5)
        n = 24 * 40
        y = rng.poisson(6 * (1 + 0.8 * np.sin(2 * np.pi * np.arange(n) / 24))).astype(float)
        y[[300, 500]] = 60, 45
        from watchtide.engine.scan.outcome import points_of

        plan = from_data({"flag": {"level": {"sigmas": 3.0}, "windows": "none"}})
        got = stages.scan(stages.Input("c", START + np.arange(n) * HOUR, y), plan)
        p = points_of(got)
        assert got.base.counted.event[0] == 1
        assert np.array_equal(p["flag"] == "above", y >= p["upper"])
        assert np.array_equal(p["flag"] == "below", y <= p["lower"])


def test_weekends_have_a_spread_of_their_own():
    """The groups followed the shortest season alone: a quiet weekend hid in the spread of the working days."""
    rng = np.random.default_rng(6)
    n = 7 * 24 * 10
    day = np.arange(n) // 24 % 7
    noise = rng.normal(0, np.where(day >= 5, 0.3, 2.0))
    week = np.where(day >= 5, -6.0, 0.0)
    y = 20 + 3 * np.sin(2 * np.pi * np.arange(n) / 24) + week + noise
    plan = from_data({"baseline": {"seasons": ["24h", "7d"]}})
    monday = START - START % (7 * 24 * HOUR) + 4 * 24 * HOUR
    got = stages.scan(stages.Input("w", monday + np.arange(n) * HOUR, y), plan)
    quiet, busy = np.median(got.base.spread[day >= 5]), np.median(got.base.spread[day < 5])
    assert quiet == pytest.approx(0.35, rel=0.35) and busy == pytest.approx(2.0, rel=0.15)
