"""Levels, regimes and windows on dirty histories: incidents, outages, blackouts, rounding."""

import numpy as np
import pytest
from scipy.signal import lfilter

from watchtide.core import shifts
from watchtide.core.expect import regimes, runs
from watchtide.core.judge import combining, flagging, promises, tails, watches, windows
from watchtide.core.judge.grouping import Group
from watchtide.core.judge.watches import Beside
from watchtide.core.scoring import intervals

HOUR = 3_600 * 10**9


def held(z):
    n = len(z)
    return promises.Held(watches.alone(z), np.ones(n, bool), np.arange(n, dtype=np.int64) * HOUR, HOUR)


def level(z, kind="per-week", amount=0.1, side="both"):
    return flagging.resolve_level(kind, amount, held(z), side, Group())


class TestDirtyHistory:
    @pytest.mark.parametrize("seed", range(4))
    def test_unlabelled_incidents_hardly_raise_the_level(self, seed):
        """Ten bursts of 14 hours in ten weeks: levels above were 3.3 to 3.7 when clean and 35 to 47 with them."""
        rng = np.random.default_rng(seed)
        z = lfilter([1.0], [1.0, -0.4], rng.normal(size=24 * 70)) * 0.9
        dirty = z.copy()
        for at in range(120, 1_600, 170):
            dirty[at : at + 14] += np.abs(rng.normal(0, 9, 14))
        clean = level(z)
        assert level(dirty).above < 2.5 * clean.above
        assert level(dirty).below < 1.1 * clean.below

    def test_what_has_no_side_is_not_judged_by_the_incidents_of_one(self):
        rng = np.random.default_rng(5)
        z = rng.normal(size=24 * 70)
        z[::97] = 25.0
        got = level(z)
        assert got.odd < 6

    @pytest.mark.parametrize("dirt", [0, 30])
    def test_levels_fall_as_rates_rise_and_rates_do_not_jump(self, dirt):
        """Where excesses were left out a lower rate once had a lower level."""
        z = np.random.default_rng(6).normal(size=4_000)
        z[: dirt * 7 : 7] = 30.0
        got = tails.fit_tail(z, np.arange(4_000) // 24, 4_000.0)
        rates = np.geomspace(1e-6, 0.3, 400)
        assert np.all(np.diff(got.levels_for(rates)) <= 1e-12)
        near = got.rates_at(np.array([got.start - 1e-6, got.start + 1e-6]))
        assert near[1] <= near[0] <= 1.05 * near[1]

    def test_odds_and_findings_a_week_do_not_contradict_one_another(self):
        """A tide gauge at one finding in ten weeks was told that one sample in 29 is flagged."""
        rng = np.random.default_rng(7)
        z = lfilter([1.0], [1.0, -0.97], rng.normal(size=1_008 * 10)) * 0.25
        ten = 600 * 10**9
        n = len(z)
        evidence = promises.Held(
            watches.alone(z), np.ones(n, bool), np.arange(n, dtype=np.int64) * ten, ten, added=5.0
        )
        got = flagging.resolve_level("per-week", 0.1, evidence, "both", Group())
        assert got.odds > 29 * 10


class TestRegimes:
    def test_an_episode_of_two_days_is_no_new_normal_for_a_week(self):
        rng = np.random.default_rng(8)
        week, settle = 168, 72
        y = rng.normal(0, 1, 24 * 60)
        y[600:650] += 8
        changes = regimes.find_steps(y, week)
        steps, _ = regimes.regimes(y, changes, settle)
        assert not steps.any()
        assert regimes.unsettled(changes, len(y), settle)[605:645].all()
        # Nor are its begin and end lasting shifts; a level that has not lasted yet is one.
        assert not len(regimes.lasting(steps, changes, settle))
        late = np.r_[y[:1_000], y[1_000:1_040] + 8]
        changes = regimes.find_steps(late, week)
        [at] = regimes.lasting(regimes.regimes(late, changes, settle)[0], changes, settle)
        assert abs(at - 1_000) <= 2

    def test_a_level_that_lasts_is_one_however_long_the_season(self):
        rng = np.random.default_rng(9)
        y = rng.normal(0, 1, 24 * 60)
        y[700:] += 5
        changes = regimes.find_steps(y, 168)
        steps, delayed = regimes.regimes(y, changes, 72)
        assert steps[690] == 0 and steps[-1] == pytest.approx(5, abs=0.6)
        assert not delayed[: 700 + 70].any() and delayed[-1] == steps[-1]

    def test_a_step_behind_an_outage_is_found(self):
        """The samples on either side were counted with the missing ones among them."""
        rng = np.random.default_rng(10)
        y = rng.normal(0, 1, 1_200)
        y[600:] += 6
        y[560:640] = np.nan
        assert any(abs(at - 640) <= 80 for at in regimes.find_steps(y, 24))

    @pytest.mark.parametrize("phi", [0.98, 0.995, 0.999])
    def test_a_level_that_wanders_takes_no_steps_but_a_sudden_one(self, phi):
        seen = found = 0
        for seed in range(12):
            rng = np.random.default_rng(seed)
            y = lfilter([1.0], [1.0, -phi], rng.normal(0, 1, 2_700))
            seen += len(regimes.find_steps(y, 168))
            y[1_200:] += 15
            found += any(abs(at - 1_200) <= 3 for at in regimes.find_steps(y, 168))
        # The less a level returns, the more like its wander a step is.
        assert seen <= 3 and found >= (8 if phi < 0.99 else 5)

    def test_the_way_back_from_a_ramp_is_no_new_level(self):
        rng = np.random.default_rng(3)
        y = rng.normal(0, 1, 4_000)
        y[1_800:2_150] += np.linspace(0, 12, 350)
        steps, delayed = regimes.regimes(y, np.array([2_150]), 430)
        assert not steps.any() and not delayed.any()
        # What stays away from the level before the ramp is one.
        y[2_150:] -= 12
        steps, _ = regimes.regimes(y, np.array([2_150]), 430)
        assert steps[2_150:].mean() < -9

    def test_a_moving_mean_keeps_its_digits_at_any_level(self):
        y = np.random.default_rng(11).normal(0, 1, 2_000)
        far = regimes.moving_mean(y + 1e9, 48) - 1e9
        # What 1e9 itself leaves of a value is 1e-7.
        assert np.allclose(far, regimes.moving_mean(y, 48), atol=3e-7)


class TestOnlineShifts:
    def test_the_test_still_sees_after_a_long_shift(self):
        """Its scale was taken around zero over all the past, so that a stream that had shifted was wide for ever."""
        rng = np.random.default_rng(12)
        z = rng.normal(0, 1, 6_000)
        z[1_000:] += 4.0
        z[4_000:] -= 2.6
        found = shifts.online(z, run_length=20_000.0)
        assert [
            (f.direction, abs(f.index - at) < 60) for f, at in zip(found, (1_000, 4_000), strict=True)
        ] == [
            (1, True),
            (-1, True),
        ]


class TestWindows:
    def test_a_stuck_run_goes_on_through_what_is_missing_and_through_rounding(self):
        values = np.array([1.0, 0.3, 0.1 + 0.2, np.nan, 0.3, 0.30000000000000004, 0.7])
        run, first = runs.surprises(values, np.full(7, 0.1))
        assert run[5] == pytest.approx(-3 * np.log(0.1)) and first[5] == 1
        assert run[6] == 0 and first[6] == 6 and run[3] == run[2]

    @pytest.mark.parametrize("is_causal", [False, True])
    def test_a_blackout_lies_below(self, is_causal):
        rng = np.random.default_rng(13)
        n = 24 * 70
        season = 50 + 20 * np.sin(2 * np.pi * np.arange(n) / 24)
        y = season + rng.normal(0, 1, n)
        past = rng.normal(0, 1, n)
        groups = np.arange(n) % 24
        values = np.where((np.arange(n) >= 800) & (np.arange(n) < 860), 0.0, y)
        watch = windows.calibrate(
            past, np.ones(n, bool), Beside(season + past, groups, 24), HOUR, is_causal=is_causal
        )
        got = combining.combine(watch, values - season, Beside(values, groups), is_causal=is_causal)
        assert np.all(got.side[806:860] == -1) and np.all(got.score[806:860] > 10)


def test_totals_drawn_by_blocks_are_right_on_average():
    """Of a span that is no whole number of blocks the rest was never drawn: 10.9 blocks gave 10/10.9 of the total."""
    block, length = 1_000, 10_900
    at = np.arange(0, length, 7)
    starts = intervals.draw_blocks((0, length - 1), block, 3)
    sums = intervals.drawn_sums(starts, (0, length - 1), block, at, np.ones(len(at)))
    assert sums.mean() == pytest.approx(len(at), rel=0.005)
    # By hand for one draw: every moment counts as often as a block covers it.
    own = starts[:1]
    lengths = [block] * (own.shape[1] - 1) + [900]
    by_hand = sum(
        int(np.sum((at - s) % length < size)) for s, size in zip(own[0].tolist(), lengths, strict=True)
    )
    assert intervals.drawn_sums(own, (0, length - 1), block, at, np.ones(len(at)))[0] == by_hand
