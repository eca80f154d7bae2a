"""What is promised is kept: tails, levels, windows, fleet, online shifts, on noise nobody tuned for."""

import numpy as np
import pytest
from scipy import stats
from scipy.signal import lfilter

from watchtide.core import shifts
from watchtide.core.expect import trouble
from watchtide.core.judge import combining, flagging, fleet, promises, tails, watches, windows
from watchtide.core.judge.grouping import Group, find_runs
from watchtide.core.judge.watches import Beside

HOUR = 3_600 * 10**9
N = 24 * 7 * 12
TIMES = np.arange(N, dtype=np.int64) * HOUR
STREAMS = 24


def gaussian(rng, n=N):
    return rng.normal(size=n)


def heavy(rng, n=N):
    return rng.standard_t(4, n)


def wandering(rng, n=N):
    return lfilter([1.0], [1.0, -0.6], rng.normal(size=n)) * 0.8


def heavy_wandering(rng, n=N):
    return lfilter([1.0], [1.0, -0.5], rng.standard_t(5, n)) * 0.7


NOISE = [gaussian, heavy, wandering, heavy_wandering]


def held(z):
    return promises.Held(watches.alone(z), np.ones(len(z), bool), TIMES[: len(z)], HOUR)


def count_findings(z, level):
    evidence = watches.alone(z)
    flags = flagging.flag(evidence, level.above, level.below, level.odd)
    return len(find_runs(flags, evidence.score, TIMES[: len(z)], Group(merge_ns=2 * HOUR)).first), np.sum(
        flags != 0
    )


@pytest.mark.parametrize("noise", NOISE, ids=lambda f: f.__name__)
def test_seen_rates_keep_within_a_factor_of_two_of_the_promise(noise):
    weekly, odds = [], []
    for seed in range(STREAMS):
        rng = np.random.default_rng(seed)
        past, future = held(noise(rng)), noise(rng)
        level = flagging.resolve_level("per-week", 0.5, past, "both", Group(merge_ns=2 * HOUR))
        weekly.append(count_findings(future, level)[0] / 12)
        level = flagging.resolve_level("odds", 500, past, "both", Group())
        odds.append(count_findings(future, level)[1] / N)
    assert 0.25 < np.mean(weekly) < 1.0, np.mean(weekly)
    assert 0.5 / 500 < np.mean(odds) < 2 / 500, np.mean(odds) * 500


@pytest.mark.parametrize("noise", NOISE, ids=lambda f: f.__name__)
@pytest.mark.parametrize("is_causal", [False, True])
def test_odds_hold_for_samples_of_windows_too(noise, is_causal):
    """A window flags dozens of samples at once: the mean over many streams, since most have none and some a long one."""
    groups, past_n, future_n = np.zeros(8 * N, np.int64), N, 8 * N
    seen = []
    for seed in range(STREAMS):
        rng = np.random.default_rng(seed)
        past = noise(rng, past_n)
        scale = 1.4826 * np.median(np.abs(past))
        past, future = past / scale, noise(rng, future_n) / scale
        clean = np.ones(past_n, bool)
        watch = windows.calibrate(past, clean, Beside(past, groups[:past_n]), HOUR, is_causal=is_causal)
        heard = combining.combine(watch, past, Beside(past, groups[:past_n]), is_causal=is_causal)
        own = promises.Held(heard, clean, TIMES, HOUR, added=watch.added(is_causal=is_causal))
        level = flagging.resolve_level("odds", 500, own, "both", Group())
        evidence = combining.combine(watch, future, Beside(future, groups), is_causal=is_causal)
        seen.append(np.mean(flagging.flag(evidence, level.above, level.below, level.odd) != 0) * 500)
    assert 0.4 < np.mean(seen) < 2.0, np.mean(seen)


@pytest.mark.parametrize("shape", [-0.1, 0.0, 0.2])
def test_a_tail_gives_back_the_distribution_it_was_drawn_from(shape):
    levels = []
    for seed in range(20):
        x = stats.genpareto.rvs(shape, size=4000, random_state=seed)
        got = tails.fit_tail(x, np.arange(4000) // 24, 4000.0)
        levels.append(got.level_for(1e-4))
    # Independent: the closed form of the distribution itself.
    assert np.median(levels) == pytest.approx(stats.genpareto.isf(1e-4, shape), rel=0.25)


def test_a_tail_reads_back_its_own_levels_and_never_rises():
    x = np.random.default_rng(0).normal(size=5000)
    got = tails.fit_tail(x, np.arange(5000) // 24, 5000.0)
    rates = [got.rate_at(level) for level in np.linspace(0, 8, 100)]
    assert all(a >= b for a, b in zip(rates, rates[1:], strict=False))
    for rate in (0.05, 0.01, 1e-3, 1e-5):
        assert got.rate_at(got.level_for(rate)) == pytest.approx(rate, rel=0.15)
    assert tails.fit_tail(x[:30], np.arange(30), 30.0) is None
    assert tails.fit_tail(np.zeros(500), np.arange(500), 500.0).level_for(1e-4) < 1


def test_rounded_scores_have_a_tail_no_shorter_than_their_step():
    x = np.round(np.abs(np.random.default_rng(0).normal(size=5000)) / 0.7) * 0.7
    fine = tails.fit_tail(x, np.arange(5000) // 24, 5000.0, grain=0.7)
    assert fine.level_for(1e-5) > x.max()


def watch_of(past, values=None, *, is_causal=False):
    """Windows calibrated on clean hourly scores, which are their own values unless others are given."""
    n = len(past)
    return windows.calibrate(
        past,
        np.ones(n, bool),
        Beside(past if values is None else values, np.zeros(n, np.int64)),
        HOUR,
        is_causal=is_causal,
    )


def test_windows_hear_what_no_sample_tells():
    rng = np.random.default_rng(0)
    z = rng.normal(size=3000)
    past = rng.normal(size=3000)
    groups = np.zeros(3000, np.int64)
    z[1000:1048] += 1.2
    z[2000:2036] *= 2.6
    values = z.copy()
    values[2500:2512] = values[2500]
    watch = watch_of(past)
    got = combining.combine(
        watch,
        np.where(np.arange(3000) >= 2500, rng.normal(size=3000), z),
        Beside(values, groups),
        is_causal=False,
    )
    assert got.score[1000:1048].mean() > 4.5 and np.median(got.side[1005:1040]) == 1 and got.window[1020] > 20
    assert got.score[2000:2036].mean() > 4 and (got.side[2005:2030] == watches.ODD).mean() > 0.8
    assert got.score[2506] > 4 and got.side[2506] == watches.ODD
    assert np.mean(got.score[:900] > 4.5) < 0.002


def test_a_window_that_ends_at_a_sample_never_hears_a_later_one():
    rng = np.random.default_rng(1)
    past, z = rng.normal(size=2000), rng.normal(size=2000)
    z[1500:1600] += 1
    watch = watch_of(past, is_causal=True)
    whole = combining.combine(watch, z, Beside(z, np.zeros(2000, np.int64)), is_causal=True)
    for cut in (1530, 1555, 1599):
        part = combining.combine(watch, z[:cut], Beside(z[:cut], np.zeros(cut, np.int64)), is_causal=True)
        assert np.array_equal(part.score, whole.score[:cut]) and np.array_equal(part.first, whole.first[:cut])
    assert np.all(whole.first <= np.arange(2000))


def test_trouble_is_told_from_noise_and_lone_samples():
    rng = np.random.default_rng(2)
    z = rng.normal(size=4000)
    z[100] = 40
    z[1000:1030] += 3
    z[2000:2040] *= 5
    got = trouble.trouble(z, HOUR)
    assert got[1003:1027].all() and got[2010:2030].mean() > 0.5 and not got[90:120].any()
    assert got.sum() < 110 and not trouble.trouble(rng.standard_t(4, 4000), HOUR).sum() > 40


def test_steps_up_to_rejection_equal_the_papers_worked_example():
    """Benjamini and Hochberg (1995), section 3.3: fifteen p-values, four rejected at 0.05."""
    p = np.array(
        [
            0.0001,
            0.0004,
            0.0019,
            0.0095,
            0.0201,
            0.0278,
            0.0298,
            0.0344,
            0.0459,
            0.3240,
            0.4262,
            0.5719,
            0.6528,
            0.7590,
            1.0,
        ]
    )
    assert fleet.reject(p, 0.05).tolist() == [True] * 4 + [False] * 11
    # Under any dependence the rate is divided by 1 + 1/2 … + 1/15 = 3.318: three are left.
    assert fleet.reject(p, 0.05, is_strict=True).sum() == 3
    assert not fleet.reject(np.ones(5), 0.1).any() and len(fleet.reject(np.empty(0), 0.1)) == 0
    with pytest.raises(ValueError, match="between 0 and 1"):
        fleet.reject(p, 1.5)


def test_a_fleet_of_noise_keeps_its_share_of_false_ones():
    rng = np.random.default_rng(0)
    false, kept = 0, 0
    for day in range(60):
        p = np.r_[rng.uniform(size=190), rng.uniform(size=10) * 1e-4]
        hit = fleet.reject(p, 0.1)
        false, kept = false + hit[:190].sum(), kept + hit.sum()
        del day
    assert false / kept < 0.15


def test_blocks_take_their_strongest_and_are_clean_only_as_a_whole():
    times = np.arange(6, dtype=np.int64) * HOUR
    got = fleet.block_maxima(
        times, np.array([1, 5, np.nan, 2, 3, np.nan]), np.array([1, 1, 0, 1, 0, 1], bool), 2 * HOUR
    )
    assert (
        got.number.tolist() == [0, 1, 2]
        and got.strongest.tolist() == [5, 2, 3]
        and got.clean.tolist() == [True, True, False]
    )


def test_an_online_shift_is_known_late_and_only_once():
    rng = np.random.default_rng(0)
    z = rng.normal(size=3000)
    z[1500:] += 3
    [found] = shifts.online(z, run_length=5000)
    assert abs(found.index - 1500) < 12 and 1523 <= found.raised < 1560 and found.direction == 1
    assert shifts.online(z[: found.raised + 1], run_length=5000) == [found], "nothing of the future was used"
    episode = rng.normal(size=3000)
    episode[1500:1512] += 6
    assert shifts.online(episode, run_length=5000) == []


def test_a_level_that_wanders_does_not_look_calmer_with_every_shift_raised():
    """Ten weeks of quarter hours whose level has a memory of two days: one stream had 17 shifts, as each made the next one likelier."""
    counts = []
    for seed in range(20):
        z = lfilter([1.0], [1.0, -0.995], np.random.default_rng(seed).normal(0, 0.1, 6_720))
        counts.append(len(shifts.online(z, run_length=5_760, shortest=96)))
    assert np.mean(counts) < 3 and max(counts) < 10


def test_online_false_alarms_are_as_rare_as_stated():
    alarms = samples = 0
    for seed in range(20):
        z = wandering(np.random.default_rng(seed), 4000)
        alarms += len(shifts.online(z, run_length=2000))
        samples += 4000
    assert alarms / samples < 2 / 2000


def test_autocorrelated_noise_without_a_shift_hardly_ever_gets_one():
    """AR(1) with phi = 0.5: at most one stream in twenty."""
    found = 0
    for seed in range(100):
        rng = np.random.default_rng(seed)
        y = lfilter([1.0], [1.0, -0.5], rng.normal(size=1500))
        found += len(shifts.search(y, shortest=24)) > 0
    assert found <= 5


def test_rare_events_are_heard_one_by_one_and_not_by_windows():
    rng = np.random.default_rng(0)
    z = np.where(rng.uniform(size=4000) < 0.02, 3.0, -0.1)
    values = np.where(z > 0, 1.0, 0.0)
    watch = watch_of(z, values)
    assert watch is None, "most values are the same one"
