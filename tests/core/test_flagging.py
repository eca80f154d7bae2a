"""Levels in all their readings, against what is seen out of sample."""

from dataclasses import replace

import numpy as np
import pytest

from tests import world
from watchtide.core.expect import sliding
from watchtide.core.judge import flagging, promises, tails, watches
from watchtide.core.judge.grouping import Group, mark

HOUR = 3_600 * 10**9
N = 24 * 7 * 30
TIMES = np.arange(N, dtype=np.int64) * HOUR
CLEAN = np.ones(N, bool)


def held(z):
    n = len(z)
    return promises.Held(watches.alone(z), np.ones(n, bool), TIMES[:n], HOUR)


def flag(z, got):
    return flagging.flag(watches.alone(z), got.above, got.below, got.odd)


def test_a_threshold_among_ties_leaves_what_is_larger_in():
    """Maxima of most days are one rare event, 2.576 sigmas but for the last digits; some are larger by chance."""
    rng = np.random.default_rng(4)
    peaks = 2.576 + 1e-5 * rng.random(300)
    larger = rng.random(300) < 0.25
    peaks[larger] += rng.exponential(0.3, larger.sum())
    blocks = np.arange(300)
    tail = tails.fit_tail(peaks, blocks, 43.0, settings=replace(tails.MAXIMA, blocks=7.0))
    for x in (2.8, 3.1, 3.5):
        assert 0.5 < tail.rate_at(x) / (np.sum(peaks >= x) / 43.0) < 2.5


def test_two_events_at_once_do_not_hide_the_pile_of_one():
    """A share whose nights expect next to nothing: most days' maxima are one event, 2.58 sigmas, some are two, 4.06 sigmas."""
    rng = np.random.default_rng(1)
    one = 2.5758 + 0.004 * (rng.random(30) < 0.3)
    between = np.sort(2.63 + rng.exponential(0.3, 10))
    peaks = rng.permutation(np.r_[rng.normal(2.2, 0.1, 12), one, between, 4.063 + 0.006 * rng.random(8)])
    tail = tails.fit_tail(
        peaks, np.arange(60), 60 / 7, settings=replace(tails.MAXIMA, blocks=7.0, is_local=True)
    )
    # Among the ties the scale was next to nothing, and what eight days had was taken for once in ages.
    assert tail.rate_at(4.0) > 0.3 * 8 / (60 / 7)
    assert tail.level_for(0.25) > 4.0


def level(kind, amount, z, side="both", group=Group()):
    return flagging.resolve_level(kind, amount, held(z), side, group)


def test_sigmas_share_and_sides():
    z = np.random.default_rng(0).normal(size=N)
    got = level("sigmas", 4, z)
    assert (got.above, got.below, got.note) == (4, 4, "as stated")
    assert level("sigmas", 4, z, "below").above == np.inf
    got = level("share", 0.01, z)
    assert np.mean(flag(z, got) != 0) == pytest.approx(0.01, rel=0.02)


@pytest.mark.parametrize(
    "draw", [lambda r: r.normal(size=N), lambda r: r.laplace(size=N)], ids=["gaussian", "laplace"]
)
def test_odds_out_of_sample_keep_within_a_factor_of_two_of_the_promise(draw):
    seen = []
    for seed in range(24):
        rng = np.random.default_rng(seed)
        got = level("odds", 1000, draw(rng))
        seen.append(np.mean(flag(draw(rng), got) != 0))
    assert 0.5 / 1000 < np.mean(seen) < 2 / 1000


def test_with_both_sides_each_gets_half():
    z = np.random.default_rng(1).laplace(size=N)
    both, above = level("odds", 500, z), level("odds", 250, -np.abs(z) * 0 + z, "above")
    one_side = level("odds", 1000, z, "above")
    assert both.above == pytest.approx(one_side.above)
    assert above.above < both.above


def test_a_third_of_the_tail_being_incidents_hardly_moves_the_level():
    z = np.random.default_rng(2).normal(size=N)
    dirty = z.copy()
    dirty[:: N // 40] = 30
    assert level("per-week", 0.1, dirty).above < 1.6 * level("per-week", 0.1, z).above


def test_few_samples_fall_back_and_say_so():
    short = np.random.default_rng(0).normal(size=100)
    got = flagging.resolve_level("odds", 1000, held(short), "both", Group())
    assert got.above == 4 and "4 sigmas taken" in got.note and got.odds is None


def test_an_interval_is_odds_by_another_name():
    z = np.random.default_rng(4).normal(size=N)
    assert level("interval", 0.99, z).above == pytest.approx(level("odds", 100, z).above)


def test_missing_scores_are_never_flagged_and_findings_mark_observed_samples_only():
    z = np.array([0, 5, np.nan, 5, 0, -5.0])
    flags = flagging.flag(watches.alone(z), 4, 4, 4)
    assert flags.tolist() == [0, 1, 0, 1, 0, -1]
    runs = world.runs_at(z, 4, 4, np.arange(6), Group(merge_ns=2))
    assert list(zip(runs.first, runs.last, runs.side, strict=True)) == [(1, 3, 1), (5, 5, -1)]
    assert mark(runs, z).tolist() == [False, True, False, True, False, True]


def test_a_higher_level_never_flags_more():
    z = np.random.default_rng(9).standard_t(3, N)
    counts = [np.sum(flagging.flag(watches.alone(z), x, x, x) != 0) for x in np.arange(2, 12, 0.5)]
    assert counts == sorted(counts, reverse=True)


def test_samples_of_windows_count_where_the_level_is_one_in_so_many_samples():
    """With 11 samples of windows to each by itself, one in 1,000 is one in 12,000 by itself."""
    own = held(np.random.default_rng(4).normal(size=24 * 7 * 20))
    tails = replace(promises.own_tails(replace(own, added=11.0), "above", 2, Group()), a_finding=None)
    assert tails.sample_level(1e-3) == tails.samples.level_for(1e-3 / 12)
    level = tails.sample_level(1e-3)
    assert tails.sample_rates(np.array([level]))[0] == pytest.approx(1e-3, rel=0.01)
    plain = replace(promises.own_tails(own, "above", 2, Group()), a_finding=None)
    assert plain.sample_level(1e-3) == plain.samples.level_for(1e-3) < level


def test_windows_add_what_their_families_and_lengths_say():
    lengths = np.array([6, 12, 24, 48])
    scale = {name: np.zeros((2, 3)) for name in ("above", "below", "rough")}
    watch = watches.Watch(lengths, np.zeros((4, 2)), np.zeros((4, 2)), np.ones(1), scale, 24)
    # One family of its side and a half of one without, on both sides: (1 + 1) / 4 windows a sample, of 0.4 · 48 samples.
    assert watch.added(is_causal=False) == pytest.approx(0.5 * 19.2) and watch.added(is_causal=True) == 1.0
    # Isolation trees speak of two samples or so, however windows are heard.
    trees = replace(watch, scale=scale | {"isolated": np.zeros((2, 3))})
    assert (
        trees.added(is_causal=False) == pytest.approx(0.5 * 19.2 + 0.5) and trees.added(is_causal=True) == 1.5
    )


def test_a_window_begins_at_the_first_score_at_the_earliest():
    """What is missing within a history is a gap, of which a window may have three tenths; before it there was nothing."""
    lead, gap = np.arange(24.0), np.arange(24.0)
    lead[:4], gap[8] = np.nan, np.nan
    for z, first in ((lead, 9), (gap, 5)):
        mean, _ = sliding.statistics(np.clip(z, 0, 1), np.array([6]))
        assert np.flatnonzero(~np.isnan(mean[0])).tolist() == list(range(first, 24))


def test_a_level_in_sigmas_is_the_same_whether_its_odds_are_told_or_not():
    z = np.random.default_rng(0).normal(size=3000)
    none = dict.fromkeys(("above", "below"), promises.SideTails(None, None))
    told, untold = (
        flagging.resolve_level("sigmas", 3.5, held(z), "both", Group(), own=own) for own in (None, none)
    )
    assert (told.above, told.below, told.odd) == (untold.above, untold.below, untold.odd) == (3.5, 3.5, 3.5)
    assert told.odds is not None and untold.odds is None and untold.per_week is None
    assert not flagging.needs_tails("sigmas") and flagging.needs_tails("odds")


def test_a_promise_at_the_level_in_force_is_the_levels_own():
    z = np.random.default_rng(1).normal(size=5_040)
    own = promises.tails_by_side(held(z), "both", Group())
    level = flagging.resolve_level("sigmas", 4.0, held(z), "both", Group(), own=own)
    samples, findings = promises.promise(own, np.array([3.0, 4.0, 5.0]))
    assert samples[1] == pytest.approx(1 / level.odds) and findings[1] == pytest.approx(level.per_week)
    # The higher the level, the less is promised.
    assert (np.diff(samples) < 0).all() and (np.diff(findings) < 0).all()
    assert promises.promise(dict.fromkeys(own, promises.SideTails(None, None)), np.array([4.0])) == (
        None,
        None,
    )
