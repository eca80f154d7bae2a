"""What it costs to carry a fit past the end of its history."""

from dataclasses import replace

import numpy as np
import pytest

from tests.core.test_expectation import frame
from watchtide.core.expect import applying, carrying, fitting
from watchtide.core.expect.carrying import Carry
from watchtide.core.expect.frame import period_of
from watchtide.core.expect.records import Choice
from watchtide.core.judge import combining, watches, windows
from watchtide.core.judge.watches import Beside
from watchtide.core.series import SECOND_NS

HOUR = 3_600 * SECOND_NS
DAY = period_of(24, HOUR)
N = 24 * 70


def carried(noise, kind="harmonic", steps=400):
    y = 50 + 6 * np.sin(2 * np.pi * np.arange(len(noise)) / 24) + noise
    part = frame(y)
    model, training = fitting.fit(part, Choice(kind, (DAY,)))
    scale = model.spread.at(training.held, applying.spread_groups(part, model))
    return carrying.measure(part, model, (part.values - training.held) / scale, steps)


@pytest.mark.parametrize("kind", ["harmonic", "slot", "loess"])
def test_independent_noise_hardly_grows(kind):
    got = [carried(np.random.default_rng(k).normal(size=N), kind) for k in range(4)]
    assert np.mean([c.growth_at(np.array([300]))[0] for c in got]) < 1.12
    assert np.mean([c.drift[-1] for c in got]) < 0.25 and np.mean([c.drift[0] for c in got]) < 0.25


def test_a_level_that_walks_grows_with_the_distance_and_beyond_what_was_tried():
    rng = np.random.default_rng(0)
    got = carried(np.cumsum(rng.normal(0, 0.3, N)) + rng.normal(size=N))
    far = got.growth_at(np.array([1, 100, 400, 4000]))
    assert np.all(np.diff(far) > 0) and far[2] > 1.5 and got.slope > 0
    # Variance goes on as it did: linear in the distance.
    assert far[3] ** 2 == pytest.approx(got.growth[-1] ** 2 + got.slope * (4000 - got.tried))


def test_nothing_grows_before_the_end():
    c = Carry(
        np.array([1.0, 10.0]), np.array([1.2, 2.0]), 10, 0.1, np.array([6.0, 12.0]), np.array([0.3, 0.1])
    )
    assert c.growth_at(np.array([-5, 0])).tolist() == [1, 1]
    assert c.drift_at(np.array([0, 1]), np.array([6, 9, 48])) == pytest.approx(
        np.array([[0, 0.3], [0, 0.2], [0, 0.1]])
    )
    assert c.growth_at(np.array([10]))[0] == 2.0
    back = Carry.from_data(c.as_data())
    assert np.array_equal(back.growth, c.growth) and back.tried == 10 and np.array_equal(back.drift, c.drift)
    older = {k: v for k, v in c.as_data().items() if k != "lengths"} | {"drift": 0.3}
    assert Carry.from_data(older).drift_at(np.array([1]), np.array([6, 96])).tolist() == [[0.3], [0.3]]
    with pytest.raises(ValueError, match="one figure a length"):
        Carry.from_data({**c.as_data(), "drift": [0.3]})
    with pytest.raises(ValueError, match="at least 1"):
        Carry.from_data({**c.as_data(), "growth": [0.5, 1]})


def test_a_history_too_short_to_try_takes_the_usual_walk():
    got = carried(np.random.default_rng(0).normal(size=60))
    assert got.drift_at(np.array([9]), np.array([6])) == 0.0 and 1 < got.growth_at(np.array([48]))[0] < 1.05


def test_kinds_that_follow_by_themselves_are_not_carried():
    part = frame(np.random.default_rng(0).normal(size=400))
    model, _ = fitting.fit(part, Choice("rolling", (DAY,)))
    assert carrying.follows_by_itself(model)
    other, _ = fitting.fit(part, Choice("slot", (DAY,)))
    assert not carrying.follows_by_itself(other)


def test_a_window_is_worth_less_where_its_mean_may_stray():
    rng = np.random.default_rng(1)
    past, z = rng.normal(size=3000), rng.normal(size=3000)
    z[1000:1048] += 1.0
    groups = np.zeros(3000, np.int64)
    watch = windows.calibrate(past, np.ones(3000, bool), Beside(past, groups), HOUR, is_causal=False)
    plain, wide = (
        combining.combine(watch, z, Beside(z, groups), is_causal=False, drift=d)
        for d in (None, np.full(3000, 0.4))
    )
    assert wide.score[1000:1048].max() < plain.score[1000:1048].max()


def test_a_mean_that_strays_once_carried_is_told_by_the_length_of_its_window():
    """A season of 1.5 sigmas that the fit misses strays over a part of its cycle, and not at all over whole ones."""
    t = np.arange(24 * 20)
    off = np.tile(1.5 * np.sin(2 * np.pi * t / 24), (4, 1))
    rng = np.random.default_rng(2)
    held = rng.normal(size=24 * 60)
    got = carrying._drift(off + rng.normal(size=off.shape), held, np.array([6, 12, 24, 48]))
    assert got[0] > 0.9 and got[1] > 0.6 and got[2] < 0.15 and got[3] < 0.15


def test_limits_that_trail_stray_as_their_reference_allows():
    """Of limits at the 0.5 and 99.5 % quantiles of 672 samples the middle strays by 0.13 of a spread, and so does what it is compared with."""
    rng = np.random.default_rng(3)
    y = rng.normal(size=(400, 672))
    low, high = np.quantile(y, [0.005, 0.995], axis=1)
    truth = np.sqrt(2) * np.std((low + high) / 2)
    part = frame(rng.normal(size=672))
    model, training = fitting.fit(part, Choice("trailing", (DAY,)))
    told = [
        carrying.measure(frame(row), model, training.held, 100).drift_at(np.array([1]), np.array([6]))[0, 0]
        for row in y[:40]
    ]
    assert np.mean(told) == pytest.approx(truth, rel=0.35)


def test_a_spectrum_stays_in_step_weeks_past_its_end():
    t = np.arange(48 * 98)
    true = 8 * np.sin(2 * np.pi * t / 48) + 3 * np.cos(4 * np.pi * t / 48)
    y = 50 + true + np.random.default_rng(0).normal(size=len(t))
    past = frame(y[: 48 * 56])
    model, _ = fitting.fit(past, Choice("spectrum", (period_of(48, HOUR),)))
    _, expected = applying.judge(model, frame(y))
    assert np.sqrt(np.mean((expected - 50 - true)[-48 * 7 :] ** 2)) < 0.15


def test_a_spectrum_kept_without_swings_goes_on_by_its_recurrence():
    t = np.arange(24 * 40)
    past = frame(8 * np.sin(2 * np.pi * t[: 24 * 20] / 24))
    model, _ = fitting.fit(past, Choice("spectrum", (DAY,)))
    arrays = {k: v for k, v in model.fitted.arrays.items() if k != "swings"}
    older = replace(model, fitted=replace(model.fitted, arrays=arrays))
    whole = frame(8 * np.sin(2 * np.pi * t / 24))
    assert np.allclose(applying.judge(older, whole)[1], applying.judge(model, whole)[1], atol=1e-3)


def test_a_spread_a_little_off_past_the_end_is_no_rough_window():
    """With shares and bursty counts one such window in 34 weeks made the odds 34 times what was promised."""
    rng = np.random.default_rng(3)
    n = 48 * 7 * 8
    groups, step = np.zeros(n, np.int64), 1_800 * 10**9
    past = rng.normal(size=n)
    watch = windows.calibrate(past, np.ones(n, bool), Beside(past, groups), step, is_causal=False)
    strays = []
    for seed in range(12):
        z = np.random.default_rng(100 + seed).normal(0, 1.1, n)
        plain, carried = (
            combining.combine(watch, z, Beside(z, groups), is_causal=False, past_end=p)
            for p in (None, np.ones(n, bool))
        )
        strays.append([np.mean((e.side == watches.ODD) & (e.score > 3.5)) for e in (plain, carried)])
        loud = z.copy()
        loud[500:596] *= 3
        heard = combining.combine(
            watch, loud, Beside(loud, groups), is_causal=False, past_end=np.ones(n, bool)
        )
        assert np.mean(heard.side[505:590] == watches.ODD) > 0.8
    plain, carried = np.mean(strays, axis=0)
    assert carried < 0.1 * plain and carried < 1e-3
