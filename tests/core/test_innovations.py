"""Leaps: innovations of autocorrelated scores; and levels for noise with few independent samples."""

from dataclasses import replace

import numpy as np
import pytest
from scipy import stats
from scipy.signal import lfilter

from watchtide.core import robust
from watchtide.core.expect import sliding
from watchtide.core.judge import combining, flagging, innovations, promises, tails, watches, windows
from watchtide.core.judge.grouping import Group
from watchtide.core.judge.watches import Beside
from watchtide.engine.scan import stages
from watchtide.plan.text import from_data

HOUR = 3_600 * 10**9


def wandering(seed, n=3_000, phi=0.97):
    rng = np.random.default_rng(seed)
    return lfilter([1.0], [1.0, -phi], rng.normal(0, np.sqrt(1 - phi**2), n))


@pytest.mark.parametrize(("decay", "gain"), [(0.9, 1.0), (0.97, 0.4)])
def test_innovations_are_those_of_the_linear_filter_where_nothing_is_clipped(decay, gain):
    z = wandering(1)
    got, _ = innovations._follow(z, decay, gain, 1e9, np.nan)
    # Independent: x(t) = a x(t-1) + gain z(t) with a = decay (1 - gain), begun at the first sample.
    a = decay * (1 - gain)
    state = lfilter([gain], [1.0, -a], z[1:], zi=[a * z[0]])[0]
    before = np.r_[z[0], state[:-1]]
    np.testing.assert_allclose(got[1:], z[1:] - decay * before, atol=1e-9)
    assert np.isnan(got[0])


@pytest.mark.parametrize("phi", [0.9, 0.97, 0.99])
def test_a_follower_leaves_what_cannot_be_foretold(phi):
    scales = [innovations.fit(wandering(seed, phi=phi)).scale for seed in range(6)]
    assert np.median(scales) == pytest.approx(np.sqrt(1 - phi**2), rel=0.12)


def test_white_noise_constants_gaps_and_short_histories_have_none():
    rng = np.random.default_rng(0)
    for z in (
        rng.normal(size=3_000), np.zeros(3_000), np.full(3_000, np.nan), np.empty(0), wandering(0, 150),
        np.where(np.arange(3_000) % 2, np.nan, wandering(0)),
    ):  # fmt: skip
        assert innovations.fit(z) is None


def test_the_state_restarts_after_a_gap():
    z = np.array([0.0, 0.1, np.nan, 5.0, 5.1])
    got, _ = innovations._follow(z, 1.0, 1.0, 1.0, np.nan)
    np.testing.assert_allclose(got, [np.nan, 0.1, np.nan, np.nan, 2.1])


def test_the_way_back_from_a_dip_is_no_leap_up():
    follower = innovations.Follower(0.97, 1.0, 0.25)
    z = np.zeros(60)
    z[30:40] = -5.0
    got = innovations.leaps(z, follower)
    assert np.nanmax(got.up) <= 0 and got.down[30] == pytest.approx(20)


def test_leaps_do_not_know_the_future():
    z = wandering(3)
    follower = innovations.fit(z)
    changed = z.copy()
    changed[2_000:] += 50
    one, other = innovations.leaps(z, follower), innovations.leaps(changed, follower)
    np.testing.assert_array_equal(one.up[:2_000], other.up[:2_000])
    np.testing.assert_array_equal(one.down[:2_000], other.down[:2_000])
    np.testing.assert_array_equal(one.away[:2_000], other.away[:2_000])


class TestAwaySinceALeap:
    FOLLOWER = innovations.Follower(1.0, 1.0, 1.0)

    def away(self, z):
        return innovations.leaps(np.asarray(z, np.float64), self.FOLLOWER)

    @pytest.mark.parametrize("side", [1, -1])
    def test_until_it_leaps_back(self, side):
        z = np.zeros(200)
        z[50:110] = 8.0 * side
        got = self.away(z)
        np.testing.assert_array_equal(np.flatnonzero(got.away), np.arange(51, 110))
        np.testing.assert_array_equal(got.away[51:110], 8.0 * side)
        np.testing.assert_array_equal(got.ages[51:110], np.arange(1, 60))

    def test_while_the_level_wanders_but_not_once_it_is_near_the_old_one(self):
        up, down = np.linspace(8, 16, 40), np.linspace(8, 0, 41)
        assert np.all(self.away(np.r_[np.zeros(20), up]).away[21:] == 8)
        got = self.away(np.r_[np.zeros(20), down, np.zeros(20)])
        np.testing.assert_array_equal(np.flatnonzero(got.away), np.arange(21, 20 + 31))

    def test_for_96_samples_at_most_and_over_missing_ones(self):
        z = np.r_[np.zeros(20), np.full(300, 8.0)]
        z[40:44] = np.nan
        got = self.away(z)
        seen = np.setdiff1d(np.arange(21, 21 + innovations.MOST_LEFT_OUT), np.arange(40, 44))
        np.testing.assert_array_equal(np.flatnonzero(got.away), seen)

    def test_not_after_a_spike_and_not_on_the_way_back(self):
        z = np.zeros(100)
        z[30:33], z[60:70] = 8.0, -8.0
        got = self.away(z)
        np.testing.assert_array_equal(np.flatnonzero(got.away), np.r_[31:33, 61:70])
        assert np.all(got.away[61:70] < 0)


def test_the_way_back_is_no_leap_where_the_level_was_taken_up():
    """From far below up, for so long that the filter has taken it up, and back: neither leads away from what is expected."""
    z = np.full(200, -2.9)
    z[80:120] = -0.1
    got = innovations.leaps(z, innovations.Follower(1.0, 1.0, 0.25))
    assert np.nanmax(got.up[1:]) <= 0 and np.nanmax(got.down[90:]) < 2.5 and not got.away[20:].any()


def test_a_step_within_the_wander_stays_flagged_in_replay():
    """Of 1.8 sigmas within noise that wanders by one: known when it comes, and until it is over."""
    whole = after = 0
    for seed in range(6):
        past, z = wandering(seed, phi=0.99), wandering(100 + seed, phi=0.99)
        z[1_000:1_045] += 1.8
        watch = watch_of(past, True)
        got = combining.combine(watch, z, Beside(z, np.zeros(3_000, np.int64)), is_causal=True)
        whole += np.mean(got.score[1_000:1_045] >= 4)
        after += np.mean(got.score[1_046:1_100] >= 4)
    # In one of six the noise falls as far by itself before the step ends, and its end is then a leap of its own.
    assert whole / 6 > 0.8 and after / 6 < 0.2


@pytest.mark.parametrize("cut", [0, 1, 3, 305, 500])
def test_leaps_go_on_from_the_state_of_the_filter(cut):
    z = wandering(5, 800)
    z[[2, 300, 301, 600]] = np.nan
    follower = innovations.Follower(0.97, 0.7, 0.25)
    z[298:330] += 4
    whole, head = innovations.leaps(z, follower), innovations.leaps(z[:cut], follower)
    rest = innovations.leaps(z[cut:], follower, head.state)
    for name in ("up", "down", "away", "ages"):
        np.testing.assert_array_equal(np.r_[getattr(head, name), getattr(rest, name)], getattr(whole, name))
    assert rest.state == whole.state and np.any(whole.away[300:330] != 0)


def test_what_is_left_out_lets_the_scale_grow_as_the_noise_wanders():
    """A random walk: k steps on, the level is known to the square root of k."""
    z = np.zeros(300)
    z[100:] = 20.0
    got = innovations.leaps(z, innovations.Follower(1.0, 1.0, 1.0))
    np.testing.assert_allclose(got.up[100:160], 20 / np.sqrt(np.arange(1, 61)))
    # At 2.5 scales it is taken up, and is the level from then on.
    assert np.nanmax(got.up[165:]) <= 0 and got.state.left_out == 0
    missing = np.zeros(20)
    missing[5:8], missing[8] = np.nan, 8.0
    got = innovations.leaps(missing, innovations.Follower(1.0, 1.0, 1.0))
    assert got.up[8] == 4.0 and np.isnan(got.up[5:8]).all()
    # Noise that returns to its middle is known no worse than without any filter; in the end the filter begins anew.
    z[100:] = 2.0
    got = innovations.leaps(z, innovations.Follower(0.8, 1.0, 0.3))
    assert got.up[190] == pytest.approx(2 / (0.3 / np.sqrt(1 - 0.64)), rel=1e-3)
    assert np.isnan(got.up[100 + innovations.MOST_LEFT_OUT])


def test_an_episode_lies_between_a_leap_and_the_way_back():
    follower = innovations.Follower(1.0, 1.0, 1.0)
    z = np.zeros(200)
    z[80:110] = 9.0
    strength, first = innovations.episodes(z, follower, 48)
    assert strength[110] == 9.0 and first[110] == 80
    # The clipped filter needs some samples to be back, which leap too.
    assert set(np.flatnonzero(strength)) <= set(range(110, 117)) and strength.argmax() == 110
    # A longer one is none, and neither are spikes of opposite sides, or a new level that lasts.
    assert not innovations.episodes(z, follower, 20)[0].any()
    lone = np.zeros(200)
    lone[80:83], lone[110:113] = 9.0, -9.0
    assert not innovations.episodes(lone, follower, 48)[0].any()
    lasting = np.zeros(200)
    lasting[80:] = 9.0
    assert not innovations.episodes(lasting, follower, 48)[0].any()


def test_the_strength_of_an_episode_is_the_least_of_its_leaps_and_its_level():
    """Against every pair of leaps, taken one by one."""
    z = wandering(11, 900)
    z[300:340] += 3
    z[[310, 600]] = np.nan
    follower = innovations.Follower(0.97, 0.7, 0.25)
    strength, first = innovations.episodes(z, follower, 60)
    u = innovations._follow(z, 0.97, 0.7, 0.25, np.nan)[0] / 0.25
    leap, middles = np.zeros(900), np.zeros((2, 900))
    for t in np.flatnonzero(np.abs(u) >= 1):
        after, before = z[t : t + 7], z[max(t - 7, 0) : t]
        if np.sum(~np.isnan(after)) >= 4 and np.sum(~np.isnan(before)) >= 4:
            middles[:, t] = np.nanmedian(before), np.nanmedian(after)
            change = (middles[1, t] - middles[0, t]) / 0.25
            leap[t] = np.sign(u[t]) * min(abs(u[t]), abs(change)) if change * u[t] > 0 else 0
    for b in range(900):
        near = [0.0]
        for a in range(max(b - 60, 0), b - 6):
            if leap[a] * leap[b] < 0:
                level = np.nanmean(np.clip(z[a:b], -10, 10)) - (middles[0, a] + middles[1, b]) / 2
                near.append(min(abs(leap[a]), abs(leap[b]), np.sign(leap[a]) * level / 0.25))
        assert strength[b] == pytest.approx(max(near))
    assert strength.argmax() == 340 and first[340] == 300


def test_noise_that_soon_forgets_a_leap_makes_no_long_episode():
    """Two opposite leaps of four scales, two days apart: between them a level stays, and noise is back after some hours."""
    follower = innovations.Follower(1.0, 1.0, 1.0)
    level, shocks = np.zeros(400), np.zeros(400)
    level[100:148] = 4.0
    shocks[100], shocks[148] = 4.0, -4.0
    noise = lfilter([1.0], [1.0, -0.9], shocks)
    assert innovations.episodes(level, follower, 96)[0][148] == pytest.approx(4)
    assert innovations.episodes(noise, follower, 96)[0][148] < 2.5


def test_an_episode_of_many_scales_is_sure_where_chance_makes_few():
    """Most days of slow noise have no way back of two scales: what tails of a pile of noughts made of one of 15 was chance."""
    past = wandering(21, 2_688, phi=0.995)
    for at, size in ((600, 1.5), (1_300, 1.2), (2_000, 1.6)):
        past[at : at + 40] += size
    watch = watch_of(past, False)
    at_8, at_12 = combining._sigmas(np.array([8.0, 12.0]), *watch.scale["episode"])
    assert at_8 > 5 and at_12 > at_8


def test_an_episode_within_the_wander_of_weeks_is_found_whole():
    found = 0
    for seed in range(5):
        past, z = wandering(seed, phi=0.99), wandering(100 + seed, phi=0.99)
        z[1_000:1_045] += 2.5
        watch = watch_of(past, False)
        got = combining.combine(watch, z, Beside(z, np.zeros(3_000, np.int64)), is_causal=False)
        inside = got.score[1_000:1_045] >= 4
        found += inside.all() and not (got.score[[950, 990, 1_055, 1_095]] >= 4).any()
    assert found >= 4


def watch_of(past, is_causal):
    n = len(past)
    return windows.calibrate(
        past, np.ones(n, bool), Beside(past, np.zeros(n, np.int64)), HOUR, is_causal=is_causal
    )


@pytest.mark.parametrize("is_causal", [False, True])
def test_a_spike_within_the_wander_of_days_is_found(is_causal):
    """Spikes of 2.5 sigmas scored 2.5 and lay far below every level; they are ten times what an hour brings."""
    groups = np.zeros(3_000, np.int64)
    found = 0
    for seed in range(5):
        past, z = wandering(seed), wandering(100 + seed)
        z[1_000] = z[999] + 2.5 if z[999] > 0 else z[999] - 2.5
        watch = watch_of(past, is_causal)
        heard = combining.combine(watch, past, Beside(past, groups), is_causal=is_causal)
        n = len(past)
        held = promises.Held(
            heard,
            np.ones(n, bool),
            np.arange(n, dtype=np.int64) * HOUR,
            HOUR,
            added=watch.added(is_causal=is_causal),
        )
        level = flagging.resolve_level("per-week", 0.1, held, "both", Group())
        got = combining.combine(watch, z, Beside(z, groups), is_causal=is_causal)
        found += flagging.flag(got, level.above, level.below, level.odd)[1_000] == np.sign(z[1_000])
        assert got.window[1_000] == 2
    assert found >= 4


def test_a_watch_with_leaps_comes_back_from_its_data():
    watch = watch_of(wandering(4), True)
    again = watches.Watch.from_data(watch.as_data())
    assert again.follower == watch.follower is not None
    old = watch.as_data()
    del old["follower"]
    assert watches.Watch.from_data(old).follower is None


def test_a_new_fit_is_no_leap_and_hides_none():
    """Both samples of a leap are judged by one fit: a refit is no event, and a spike in its first sample is one."""
    n, refit = 24 * 7 * 16, 24
    t = np.arange(n)
    values = 3 + np.sin(2 * np.pi * t / 24) + 0.3 * wandering(9, n, 0.99)
    times = 1_780_272_000 * 10**9 + t.astype(np.int64) * HOUR
    plan = from_data({"baseline": {"kind": "harmonic", "seasons": ["24h"]}, "replay": {"refit": "24h"}})
    plain = stages.scan(stages.Input("s", times, values), plan, (), "replay").base
    judged = ~np.isnan(plain.z)
    first = int(np.flatnonzero(judged)[0])
    at_refit = (t - first) % refit == 0
    leapt = (plain.evidence.window == 2) & (plain.evidence.score >= 1.0)
    assert leapt[judged].sum() > 0
    assert np.mean(leapt[judged & at_refit]) <= 3 * np.mean(leapt[judged]) + 0.01
    spike = first + 60 * refit
    values[spike] += 1.0 if plain.z[spike] > 0 else -1.0
    got = stages.scan(stages.Input("s", times, values), plan, (), "replay").base
    assert got.evidence.window[spike] == 2
    assert got.evidence.score[spike] > abs(got.own_score[spike])


def test_windows_of_a_young_stream_are_calibrated():
    """Three weeks of hours are 21 days, too few for a tail of daily maxima: no window was calibrated."""
    assert watch_of(wandering(5, 504), True) is not None
    assert watch_of(np.random.default_rng(5).normal(size=504), True) is not None


class TestWhatIsKnown:
    @pytest.mark.parametrize("phi", [0.0, 0.6, 0.95])
    def test_independent_samples_are_those_of_the_variance(self, phi):
        got = np.median([robust.independent_samples(wandering(seed, 8_000, phi)) for seed in range(8)])
        # Of a first-order process n (1 - phi^2) / (1 + phi^2).
        assert got == pytest.approx(8_000 * (1 - phi**2) / (1 + phi**2), rel=0.2)

    def test_nothing_to_go_by(self):
        assert robust.independent_samples(np.full(900, np.nan)) == np.inf
        assert robust.independent_samples(np.zeros(900)) == 900

    @pytest.mark.parametrize("at", [0.5, 1.5, 2.5, 4.0])
    def test_the_shape_of_a_gaussian_tail_is_the_slope_of_its_reciprocal_hazard(self, at):
        def reciprocal(u):
            return stats.norm.sf(u) / stats.norm.pdf(u)

        slope = (reciprocal(at + 1e-4) - reciprocal(at - 1e-4)) / 2e-4
        assert tails.gaussian_shape(at) == pytest.approx(slope, abs=1e-6)

    def test_little_known_noise_has_a_higher_level(self):
        z = wandering(7, 4_000, 0.5)
        known = {
            k: tails.fit_tail(z, np.arange(4_000) // 24, 4_000.0, settings=tails.Settings(known=k))
            for k in (10.0, np.inf)
        }
        assert known[10.0].level_for(1e-4) > 1.2 * known[np.inf].level_for(1e-4)
        near = known[10.0].start + np.array([-1e-6, 1e-6])
        below, above = known[10.0].rates_at(near)
        assert above <= below <= 1.05 * above

    def test_ties_do_not_run_away(self):
        z = np.r_[np.full(3_000, 2.0), 2.0 + 1e-12 * np.arange(200)]
        got = tails.fit_tail(z, np.arange(3_200) // 24, 3_200.0, settings=tails.Settings(known=4.0))
        assert np.isfinite(got.levels).all() and got.level_for(1e-6) < 2.1


class TestOneSideThatCannotBeLow:
    def held(self):
        rng = np.random.default_rng(8)
        z = np.where(rng.random(6_720) < 0.8, -0.3, rng.gamma(2.0, 1.0, 6_720))
        times = np.arange(6_720, dtype=np.int64) * 900 * 10**9
        return promises.Held(watches.alone(z), np.ones(6_720, bool), times, 900 * 10**9)

    @pytest.mark.parametrize(("kind", "amount"), [("per-week", 0.5), ("odds", 1_000.0)])
    def test_no_level_lies_in_the_bulk_and_the_other_side_takes_what_is_left(self, kind, amount):
        """Shares of errors have nothing below their mean: the level below was 0.3 sigmas, and 80 findings came of it."""
        level = flagging.resolve_level(kind, amount, self.held(), "both", Group())
        assert level.below >= 2.0
        promised = level.odds if kind == "odds" else level.per_week
        assert promised == pytest.approx(amount, rel=0.1)


@pytest.mark.parametrize("since", [0, 1, 60, 199])
def test_windows_that_end_from_a_sample_on_are_those_of_the_whole(since):
    z = wandering(7, 200)
    z[[0, 1, 90]] = np.nan
    lengths = np.array([6, 12, 24], np.int64)
    for whole, end in zip(sliding.statistics(z, lengths), sliding.statistics(z, lengths, since), strict=True):
        np.testing.assert_allclose(end, whole[:, since:], rtol=1e-9, atol=1e-12)


class TestNovelty:
    def test_it_is_the_smaller_of_both_errors_of_an_autoregression(self):
        """By hand, r = 0.6, √(1 - r²) = 0.8: forwards (3 - 0.6) / 0.8 = 3, (1 - 1.8) / 0.8 = -1; backwards (1 - 1.8) / 0.8 = -1,
        (3 - 0.6) / 0.8 = 3."""
        np.testing.assert_allclose(innovations.novelty(np.array([1.0, 3.0, 1.0]), 0.6), [-1.0, 3.0, -1.0])

    def test_beside_a_missing_score_the_next_one_is_new_itself(self):
        got = innovations.novelty(np.array([1.0, np.nan, 2.0]), 0.6)
        np.testing.assert_array_equal(got, [1.0, np.nan, 2.0])

    def test_no_edge_of_a_level_is_new(self):
        z = np.r_[np.zeros(10), np.full(10, 8.0), np.zeros(10)]
        assert np.abs(innovations.novelty(z, 0.9)).max() < 2

    @pytest.mark.parametrize("n", [0, 1])
    def test_without_neighbours_there_is_no_correlation_and_all_is_new(self, n):
        z = np.ones(n)
        assert innovations.correlation_of_neighbours(z) == 0.0
        np.testing.assert_array_equal(innovations.novelty(z, 0.6), z)


def burst_watched(is_causal):
    """A stream whose level wanders from day to day, its windows, and its first 1,000 scores with noise of 1.7 sigmas in 48 of them."""
    z, groups = wandering(11, 6_000), np.zeros(6_000, np.int64)
    watch = windows.calibrate(
        z, np.ones(6_000, np.bool_), Beside(z, groups), 900 * 10**9, is_causal=is_causal
    )
    hurt = z[:1_000].copy()
    hurt[600:648] += np.random.default_rng(2).normal(0, 1.7, 48)
    return watch, hurt


def test_a_burst_of_noise_within_the_wander_is_flagged_whole():
    """By the scores themselves its roughness is that of some days without it, and a quarter of its samples was not flagged."""
    watch, hurt = burst_watched(is_causal=False)
    got = combining.combine(watch, hurt, Beside(hurt, np.zeros(1_000, np.int64)), is_causal=False)
    assert np.mean(got.score[600:648] >= 3.9) >= 0.9
    assert np.mean(got.score[:590] >= 3.9) < 0.01


def test_in_replay_roughness_is_that_of_the_scores():
    """Of the newest sample nobody knows whether it is new or the edge of a level."""
    watch, _ = burst_watched(is_causal=True)
    assert watch.correlation == 0


def test_a_watch_keeps_its_correlation():
    watch, _ = burst_watched(is_causal=False)
    assert watch.correlation == pytest.approx(0.97, abs=0.02)
    assert watches.Watch.from_data(watch.as_data()).correlation == watch.correlation


@pytest.mark.parametrize("shape", [np.ones(36), np.linspace(0, 1.5, 192)], ids=["level", "ramp"])
@pytest.mark.parametrize("height", [2.5, 4.0])
def test_a_level_scores_as_much_as_its_height_or_its_squares_make_it(shape, height):
    """A level is rough too. Where its squares scored more than its height they took the upper part of a ramp, and its begin was lost;
    then they were dropped, and a step scored half as much."""
    z, groups = np.random.default_rng(3).normal(size=6_000), np.zeros(6_000, np.int64)
    watch = windows.calibrate(z, np.ones(6_000, np.bool_), Beside(z, groups), 900 * 10**9, is_causal=False)
    hurt, part = z[:1_000].copy(), slice(600, 600 + len(shape))
    hurt[part] += height * shape

    def scores(*families):
        own = replace(watch, scale={name: watch.scale[name] for name in families})
        return combining.combine(own, hurt, Beside(hurt, groups[:1_000]), is_causal=False).score[part]

    both = scores(*watch.scale)
    assert np.all(both >= scores("above", "below"))
    assert np.all(both >= scores("rough"))


class TestRareEvents:
    def found(self, chance, seed=4, n=6_720):
        """Scores of the two days in which rare events come five times as often, and of all before."""
        rng = np.random.default_rng(seed)
        mean = np.full(n, chance)
        mean[5_600:5_792] *= 5
        counts = rng.poisson(mean).astype(float)
        times = 1_780_272_000 * 10**9 + np.arange(n, dtype=np.int64) * 900 * 10**9
        plan = from_data({"baseline": {"kind": "harmonic", "seasons": ["24h"]}, "shifts": {"of": "none"}})
        base = stages.scan(stages.Input("s", times, counts), plan).base
        return base, base.score[5_600:5_792], base.score[:5_500]

    def test_a_rate_that_rises_for_days_is_found_though_most_values_are_the_same(self):
        base, inside, before = self.found(0.15)
        assert np.mean(base.series.values == 0) > 0.8 and base.watch is not None
        assert np.median(inside) > 6 and np.mean(before >= 6) == 0

    def test_too_few_events_have_no_windows(self):
        assert self.found(0.01)[0].watch is None
