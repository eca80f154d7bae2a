"""Levels in all their readings, against what is seen out of sample."""

import numpy as np
import pytest
from tests import world

from watchtide.core import flagging, windows
from watchtide.core.grouping import Group, mark

HOUR = 3_600 * 10**9
N = 24 * 7 * 30
TIMES = np.arange(N, dtype=np.int64) * HOUR
CLEAN = np.ones(N, bool)


def held(z):
    n = len(z)
    return flagging.Held(windows.alone(z), np.ones(n, bool), TIMES[:n], HOUR)


def flag(z, got):
    return flagging.flag(windows.alone(z), got.above, got.below, got.odd)


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
    flags = flagging.flag(windows.alone(z), 4, 4, 4)
    assert flags.tolist() == [0, 1, 0, 1, 0, -1]
    runs = world.runs_at(z, 4, 4, np.arange(6), Group(merge_ns=2))
    assert list(zip(runs.first, runs.last, runs.side, strict=True)) == [(1, 3, 1), (5, 5, -1)]
    assert mark(runs, z).tolist() == [False, True, False, True, False, True]


def test_a_higher_level_never_flags_more():
    z = np.random.default_rng(9).standard_t(3, N)
    counts = [np.sum(flagging.flag(windows.alone(z), x, x, x) != 0) for x in np.arange(2, 12, 0.5)]
    assert counts == sorted(counts, reverse=True)
