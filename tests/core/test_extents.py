"""Where what lies in a window begins and whether it goes on; and seasons as matched filters."""

import numpy as np
import pytest

from watchtide.core.judge import combining, extents, shapes, windows
from watchtide.core.judge.watches import Beside
from watchtide.engine.scan import stages
from watchtide.plan.text import from_data

HOUR = 3_600 * 10**9


def onset_plainly(a, b, z):
    """Every ramp on its own, as stated, for scores above that clipping leaves alone."""
    level = z[a : b + 1].sum() ** 2 / (b - a + 1)
    best, found = level + 6, a
    for s in range(a - 1, max(a - 4 * (b - a + 1), 0) - 1, -1):
        g = np.arange(1, b - s + 2)
        along = z[s : b + 1] @ g
        if along > 0 and along**2 / (g @ g) > best:
            best, found = along**2 / (g @ g), s
    return found


@pytest.mark.parametrize("seed", range(20))
def test_the_begin_of_a_ramp_is_that_of_every_ramp_tried_by_itself(seed):
    rng = np.random.default_rng(seed)
    z = np.clip(rng.normal(size=200), -2.9, 2.9)
    z[100:140] += np.linspace(0, rng.uniform(0, 6), 40)
    b = 139
    a = int(rng.integers(115, 130))
    # Under the bound, which is half as much again as the middle of the window.
    z = np.minimum(z, max(3.0, 1.5 * np.median(np.abs(z[a : b + 1]))))
    assert extents.onset(a, b, 1.0, z) == onset_plainly(a, b, z)
    assert extents.onset(a, b, -1.0, -z) == onset_plainly(a, b, z)


def test_a_level_begins_where_it_does_and_a_gap_is_passed_over():
    rng = np.random.default_rng(0)
    moved = 0
    for _ in range(50):
        z = rng.normal(size=200)
        z[100:120] += 4
        moved += extents.onset(100, 119, 1.0, z) < 98
    assert moved <= 2
    z = np.zeros(200)
    z[60:100] = np.linspace(0, 8, 40)
    z[65:75] = np.nan
    assert 58 <= extents.onset(80, 99, 1.0, z) <= 64
    assert extents.onset(0, 5, 1.0, z) == 0


def test_a_level_goes_on_until_it_is_likelier_over():
    z = np.r_[np.full(10, 2.0), 0.0, 2.0, 0.0, 0.0, 0.0, 0.0]
    # A sample of 0 says by 2 · 2 / 2 that a level of 2 is over, one of 2 as much that it is not.
    assert [extents.goes_on(0, 9, t, 1.0, z) for t in range(10, 16)] == [
        True,
        True,
        True,
        False,
        False,
        False,
    ]
    assert [extents.goes_on(0, 9, t, -1.0, -z) for t in (12, 13)] == [True, False]


def test_samples_within_a_long_episode_are_flagged_in_replay_too():
    """A sample at its usual value in the midst of two days of trouble was calm: the span was trimmed off before it."""
    rng = np.random.default_rng(1)
    past, z = rng.normal(size=3_000), rng.normal(size=3_000)
    z[1_000:1_048] += 1.5
    n, groups = 3_000, np.zeros(3_000, np.int64)
    watch = windows.calibrate(past, np.ones(n, bool), Beside(past, groups), HOUR, is_causal=True)
    got = combining.combine(watch, z, Beside(z, groups), is_causal=True)
    assert np.mean(got.score[1_012:1_048] >= 4) > 0.9
    assert not (got.score[1_060:1_200] >= 4).any()
    # And nothing that comes later moves it.
    z[1_030:] = 9.0
    again = combining.combine(watch, z, Beside(z, groups), is_causal=True)
    np.testing.assert_array_equal(got.score[:1_030], again.score[:1_030])


def explained(z, shape, cycle, t):
    """What a least squares fit on a shape and its derivative explains, both about their means (orthogonal but at the ends of the data), and what the
    best level between any two of twelve cuts does."""
    part = slice(t - cycle + 1, t + 1)
    rows = np.column_stack([shape[part], np.gradient(shape)[part]])
    rows -= rows.mean(axis=0)
    fitted = rows @ np.linalg.lstsq(rows, z[part] - z[part].mean(), rcond=None)[0]
    y, cuts = z[part], [k * cycle // 12 for k in range(13)]
    level = max(y[i:j].sum() ** 2 / (j - i) for i in cuts for j in cuts if i < j)
    return np.linalg.norm(fitted), np.sqrt(level)


def test_the_strength_of_a_shape_is_what_it_explains_if_a_level_does_not():
    rng = np.random.default_rng(2)
    n, cycle = 960, 96
    shape = 2 * np.sin(2 * np.pi * np.arange(n) / cycle)
    z = np.clip(rng.normal(size=n) + np.where(np.arange(n) < 480, 0.7, 0) * shape, -2.9, 2.9)
    got, first = shapes.strongest(z, shapes.Shapes(shape[None], (cycle,)), 192)
    assert np.isnan(got[: cycle - 1]).all()
    assert got[300] > 5
    plain, _ = shapes.strongest(z, shapes.Shapes(shape[None], (cycle,)), 192, is_sure=False)
    for t in (95, 300, 400, 520, 959):
        own, level = explained(z, shape, cycle, t)
        assert plain[t] == pytest.approx(own, rel=1e-3)
        assert got[t] == (plain[t] if own**2 >= level**2 + 6 else 0)
        assert first[t] == t - cycle + 1
    assert np.any(got == 0)


def test_a_step_within_a_cycle_is_no_shape():
    cycle, n = 96, 960
    shape = 4 * np.sin(2 * np.pi * np.arange(n) / cycle)
    z = np.random.default_rng(3).normal(size=n)
    z[500:] += 3.0
    got, _ = shapes.strongest(z, shapes.Shapes(shape[None], (cycle,)), 192)
    assert np.nanmax(got) < 4


def test_weak_short_and_unknown_seasons_are_no_filters():
    n = 480
    season = np.sin(2 * np.pi * np.arange(n) / 48)
    spread = np.ones(n)
    # Over a cycle of 48 samples a sine of this size is √24 of it long.
    assert shapes.shapes_of(1.1 * season[None], spread, (48,)) is not None
    assert shapes.shapes_of(0.9 * season[None], spread, (48,)) is None
    assert shapes.shapes_of(9 * season[None], spread, (7,)) is None
    assert shapes.shapes_of(9 * season[None], spread, (960,)) is None
    assert shapes.shapes_of(np.zeros((0, n)), spread, ()) is None
    assert shapes.shapes_of(9 * season[None], np.full(n, np.nan), (48,)) is None
    blank = shapes.strongest(np.full(n, np.nan), shapes.Shapes(season[None], (48,)), 96)[0]
    assert np.isnan(blank).all()


@pytest.mark.parametrize("kind", ["missing", "late"])
def test_a_day_without_its_season_is_found_whole(kind):
    rng = np.random.default_rng(5)
    n, day = 96 * 42, 96
    at = np.arange(n)
    season = 6 * np.sin(2 * np.pi * at / day)
    y = 100 + season + rng.normal(0, 1.5, n)
    part = slice(20 * day, 21 * day)
    y[part] -= season[part] if kind == "missing" else season[part] - np.roll(season, 20)[part]
    plan = from_data({"baseline": {"kind": "harmonic", "seasons": ["24h"]}})
    got = stages.scan(stages.Input("s", at * 900 * 10**9, y), plan, (), "fit")
    inside = got.in_finding[part]
    # Of one that is late, windows of its high and low parts come first, and are trimmed.
    assert np.mean(inside) > (0.9 if kind == "missing" else 0.75)
    beside = np.r_[got.in_finding[18 * day : 20 * day - 10], got.in_finding[21 * day + 10 : 23 * day]]
    assert np.mean(beside) < 0.05


def test_a_cycle_of_another_shape_is_found_whole_where_a_part_is_stronger():
    """A quarter of it was lost where its strongest hours were claimed first."""
    rng = np.random.default_rng(11)
    n, day = 96 * 28, 96
    season = shapes.Shapes(3 * np.sin(2 * np.pi * np.arange(n) / day)[None], (day,))
    beside = Beside(rng.normal(size=n), np.zeros(n, np.int64), shapes=season)
    watch = windows.calibrate(rng.normal(size=n), np.ones(n, bool), beside, HOUR // 4, is_causal=False)
    z = rng.normal(size=n)
    z[960:1_056] -= 0.45 * season.filters[0][960:1_056]
    z[1_024:1_036] += 6.0
    got = combining.combine(watch, z, beside, is_causal=False)
    assert got.score[1_024:1_036].min() > np.median(got.score[960:1_020])
    assert np.mean(got.score[960:1_056] >= 4) > 0.95 and np.mean(got.score[1_080:1_200] >= 4) < 0.05


def test_past_the_end_of_a_fit_neither_ramps_nor_shapes_are_looked_for():
    """A season that is off by a little is so in every cycle, and a level strays: all of it would be flagged."""
    rng = np.random.default_rng(7)
    n, day = 96 * 28, 96
    season = shapes.Shapes(9 * np.sin(2 * np.pi * np.arange(n) / day)[None], (day,))
    beside = Beside(rng.normal(size=n), np.zeros(n, np.int64), shapes=season)
    watch = windows.calibrate(rng.normal(size=n), np.ones(n, bool), beside, HOUR // 4, is_causal=False)
    assert "shape" in watch.scale
    z = rng.normal(size=n) + 0.1 * season.filters[0]
    z[1_000:1_096] += np.linspace(0, 3, 96)
    within, after = (
        combining.combine(watch, z, beside, is_causal=False, past_end=np.full(n, is_after)).score >= 4
        for is_after in (False, True)
    )
    assert np.mean(within) > 0.5
    assert np.mean(after) < 0.1
