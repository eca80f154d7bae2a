"""From series to expectation: baselines, spread, steps that become normal, and odd inputs."""

import numpy as np
import pytest

from watchtide.core import expectation, robust, seasons, spread
from watchtide.core.baselines import kinds
from watchtide.core.series import SECOND_NS, Series, infer_step, regrid, season_slots, wall_clock

STEP = 3_600 * SECOND_NS
DAY = 24


def series_of(y, offsets=None):
    times = np.arange(len(y), dtype=np.int64) * STEP
    return Series(times, y, STEP, np.zeros(len(y), np.int64) if offsets is None else offsets)


def daily(days, noise=0.3, seed=0):
    t = np.arange(days * DAY)
    return 10 + 4 * np.sin(2 * np.pi * t / DAY) + np.random.default_rng(seed).normal(0, noise, len(t))


def expect(y, **options):
    return expectation.expect(series_of(y), ~np.isnan(y), periods=options.pop("periods", (DAY,)), **options)


@pytest.mark.parametrize("kind", list(kinds()))
class TestEveryBaseline:
    """The same checks for every kind, by one protocol."""

    def test_expects_the_season_and_sees_a_spike(self, kind):
        y = daily(28)
        y[300] += 6
        got = expect(y, kind=kind)
        z = (y - got.expected) / got.spread
        assert abs(z[300]) > 12 and np.mean(np.abs(np.delete(z, 300)) > 4) < 0.01
        assert 0.2 < got.stream_spread < 0.4

    def test_follows_shift_and_scale(self, kind):
        y = daily(21)
        one, other = expect(y, kind=kind), expect(y * 7 - 1000, kind=kind)
        assert np.allclose(other.expected, one.expected * 7 - 1000, atol=1e-6)
        assert np.allclose(other.spread, one.spread * 7, rtol=1e-3)

    def test_the_future_of_the_training_part_changes_nothing_before_it(self, kind):
        y = daily(28)
        changed = y.copy()
        changed[500:] = 1e6
        one, other = (expect(v, kind=kind, train_stop=500) for v in (y, changed))
        assert np.array_equal(one.expected, other.expected) and np.array_equal(one.spread, other.spread)

    def test_beyond_training_the_season_is_repeated_and_the_spread_wider(self, kind):
        y = daily(28)
        got = expect(y, kind=kind, train_stop=20 * DAY)
        after = slice(20 * DAY, None)
        assert np.std(y[after] - got.expected[after]) < 0.5
        assert got.facts["inflation"] >= 1

    @pytest.mark.parametrize(
        "y",
        [np.full(200, 3.0), np.full(200, np.nan), np.array([1.0] + [np.nan] * 99), daily(10) * 1e9],
        ids=["constant", "all missing", "one sample", "huge"],
    )
    def test_odd_series_give_no_error_and_no_infinity(self, kind, y):
        got = expect(y, kind=kind, periods=(DAY,), settle_samples=72)
        assert not np.isinf(got.expected).any()
        assert np.all(np.isnan(got.spread) | (got.spread > 0))

    def test_gaps_are_expected_through(self, kind):
        y = daily(28)
        y[200:260] = np.nan
        got = expect(y, kind=kind)
        assert np.isfinite(got.expected).all()


def test_a_lasting_step_becomes_the_new_normal_after_it_has_settled():
    y = daily(42)
    y[500:] += 5
    got = expect(y, settle_samples=72)
    z = np.abs(y - got.expected) / got.spread
    assert np.median(z[500:570]) > 8, "judged by the old level at first"
    assert np.median(z[580:]) < 1.5 and np.median(z[:500]) < 1.5
    assert got.settling[500:572].all() and not got.settling[600:].any()
    assert list(got.shift_candidates) == [500]


def test_an_episode_shorter_than_settle_is_never_the_normal():
    y = daily(42)
    y[500:540] += 5
    got = expect(y, settle_samples=72)
    z = np.abs(y - got.expected) / got.spread
    assert np.median(z[500:540]) > 8 and np.median(z[545:620]) < 1.5


def test_a_slow_trend_is_no_row_of_steps():
    y = daily(60) + np.linspace(0, 6, 60 * DAY)
    assert len(expect(y, settle_samples=72).shift_candidates) == 0


def test_spread_is_shrunk_to_the_streams_and_floored_by_the_resolution():
    values = np.round(np.random.default_rng(0).normal(0, 0.2, 600), 0)
    slots = np.arange(600) % 3
    got = spread.slot_spread(values, np.zeros(600), slots, np.ones(600, bool))
    assert got.spread.min() >= 1 / np.sqrt(12) * 0.999  # whole numbers: the rounding's own spread
    wild = np.where(slots == 1, 5.0, 1.0) * np.random.default_rng(1).normal(size=600)
    per_slot = spread.slot_spread(wild, np.zeros(600), np.arange(600) % 12, np.ones(600, bool))
    assert (per_slot.spread > 0).all()
    few = spread.slot_spread(wild[:24], np.zeros(24), np.arange(24) % 12, np.ones(24, bool))
    # Two samples a slot say little: all slots lie near the stream's spread.
    assert few.spread.max() / few.spread.min() < 2.5


def test_counts_scatter_at_least_like_chance():
    rng = np.random.default_rng(3)
    mean = np.full(2000, 0.3)
    got = spread.slot_spread(
        rng.poisson(mean).astype(float), mean, np.zeros(2000, int), np.ones(2000, bool), is_count=True
    )
    assert got.spread.min() >= 1.0


def test_noise_estimates_are_blind_to_steps_and_see_slow_wander():
    rng = np.random.default_rng(0)
    noise = rng.normal(0, 2, 4000)
    stepped = noise + np.repeat([0, 50, -20, 90], 1000)
    assert robust.noise_variance(stepped) == pytest.approx(4, rel=0.15)
    assert robust.long_run_variance(stepped) == pytest.approx(4, rel=0.6)
    ar = np.zeros(4000)
    for i in range(1, 4000):
        ar[i] = 0.6 * ar[i - 1] + rng.normal()
    # Closed form: sigma² / (1 - phi)².
    assert robust.long_run_variance(ar) == pytest.approx(1 / 0.16, rel=0.4)


def test_seasons_are_found_told_apart_and_not_made_up():
    rng = np.random.default_rng(5)
    t = np.arange(24 * 70)
    week = np.where((t // 24) % 7 >= 5, 0.4, 1.0)
    y = (5 + 3 * np.sin(2 * np.pi * t / 24)) * week + rng.normal(0, 0.3, len(t))
    assert sorted(s.samples for s in seasons.detect(y, STEP)) == [24, 168]
    assert seasons.detect(rng.normal(size=2000), STEP) == []
    assert seasons.detect(np.cumsum(rng.normal(size=2000)), STEP) == []
    tide = np.cos(2 * np.pi * np.arange(4000) / 74.52) + rng.normal(0, 0.1, 4000)
    [season] = seasons.detect(tide, 600 * SECOND_NS)
    assert season.samples == pytest.approx(74.52, abs=0.05) and season.strength > 0.9
    assert seasons.whole_period(74.52, 4000) == 149


def test_a_season_longer_than_half_the_data_says_how_much_is_missing():
    with pytest.raises(ValueError, match="36 more samples are needed"):
        seasons.check_periods([168], 300, STEP)
    with pytest.raises(ValueError, match="not a whole number"):
        seasons.check_periods([12.42], 300, STEP)


def test_regrid_combines_and_keeps_gaps():
    times = np.array([5, 65, 66, 300, 300]) * SECOND_NS
    values = np.array([1.0, 2, 4, 7, 9])
    minute = 60 * SECOND_NS
    for combine, expected in [
        ("mean", [1, 3, np.nan, np.nan, np.nan, 8]), ("sum", [1, 6, np.nan, np.nan, np.nan, 16]),
        ("count", [1, 2, 0, 0, 0, 2]), ("last", [1, 4, np.nan, np.nan, np.nan, 9]),
        ("max", [1, 4, np.nan, np.nan, np.nan, 9]), ("p50", [1, 3, np.nan, np.nan, np.nan, 8]),
    ]:  # fmt: skip
        shuffled = np.random.default_rng(0).permutation(3).tolist() + [3, 4]
        got = regrid(times[shuffled], values[shuffled], minute, combine=combine)
        assert np.array_equal(got.values, expected, equal_nan=True), combine
    assert infer_step(np.array([0, 900, 1800, 4500]) * SECOND_NS) == 900 * SECOND_NS
    with pytest.raises(ValueError, match="stray stamp"):
        regrid(np.array([0, 10**18]), np.zeros(2), SECOND_NS)


def test_the_wall_clock_grid_keeps_the_hour_through_a_clock_change():
    n = 24 * 6
    offsets = np.where(np.arange(n) < 72, 3600, 0) * SECOND_NS  # clocks go back on the fourth day
    clock = wall_clock(series_of(np.arange(n, dtype=float), offsets))
    slots = season_slots(clock, STEP, 24)[clock.position]
    local_hour = (np.arange(n) + np.where(np.arange(n) < 72, 1, 0)) % 24
    assert np.array_equal(slots, local_hour)
    assert clock.length == n - 1  # the repeated hour shares its place
    assert clock.spread_out(np.arange(n, dtype=float))[71] == pytest.approx((71 + 72) / 2)
    # A year with both changes has as many places as samples, and is no plain copy all the same.
    both = np.where((np.arange(n) >= 30) & (np.arange(n) < 100), 3600, 0) * SECOND_NS
    clock = wall_clock(series_of(np.arange(n, dtype=float), both))
    assert clock.length == n and np.isnan(clock.spread_out(np.arange(n, dtype=float))[30])
