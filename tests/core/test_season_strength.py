"""Strength of seasons: one joint fit, one common remainder, nothing for chance."""

import numpy as np
import pytest
from scipy.signal import lfilter

from watchtide.core.expect import seasons
from watchtide.core.series import SECOND_NS

QUARTER = 900 * SECOND_NS
DAY, WEEK = 96, 672
WEEKDAYS = np.array([1.0, -1.0, 0.5, -0.5, 0.3, -0.3, 0.0])


def made(day: float, week: float, noise: float, weeks: int = 10, seed: int = 0) -> np.ndarray:
    """A daily sine and a level of the weekday, each of this standard deviation, and white noise."""
    i = np.arange(weeks * WEEK)
    level = WEEKDAYS / np.sqrt(np.mean(WEEKDAYS**2))
    y = day * np.sqrt(2) * np.sin(2 * np.pi * i / DAY) + week * level[(i // DAY) % 7]
    return y + noise * np.random.default_rng(seed).normal(size=len(i))


@pytest.mark.parametrize(("day", "week", "noise"), [(1, 1, 0.5), (0.5, 2, 0.5), (0.5, 1.5, 0.4), (2, 0.8, 1)])
def test_strength_is_the_share_over_the_common_remainder(day, week, noise):
    """By construction var(season) / (var(season) + var(noise)), also for a day that a louder week drowns."""
    found = {s.samples: s.strength for s in seasons.detect(made(day, week, noise), QUARTER)}
    truth = {
        p: a**2 / (a**2 + noise**2) for p, a in ((DAY, day), (WEEK, week)) if a**2 / (a**2 + noise**2) > 0.35
    }
    assert set(found) == set(truth)
    for period, strength in truth.items():
        assert found[period] == pytest.approx(strength, abs=0.03)


def test_strongest_first():
    found = seasons.detect(made(0.5, 2, 0.5), QUARTER)
    assert [s.samples for s in found] == [WEEK, DAY]


def test_chance_has_no_strength_on_the_mean():
    """Slot means of three cycles of noise take a third of its variance in-sample; none of it is strength."""
    drawn = [
        seasons.joint_strengths(np.random.default_rng(k).normal(size=3 * WEEK), [DAY, WEEK])
        for k in range(20)
    ]
    assert np.max(drawn) < 0.1 and np.mean(drawn) < 0.03


def test_strength_equals_the_definition_worked_out_by_hand():
    """Two cycles of two slots: means 2 and 6 leave remainders of ±1 and ±1; 4 / (4 - 2) over the 4 - 0 for the whole."""
    y = np.array([1.0, 5.0, 3.0, 7.0])
    whole = np.sum((y - 4) ** 2) / 4
    assert seasons.joint_strengths(y, [2.0]) == [pytest.approx(1 - (4 / 2) / whole)]


def test_what_divides_a_longer_season_counts_its_means_once():
    assert seasons._means_fitted([96, 672]) == [96, 576]
    assert seasons._means_fitted([74.52, 144]) == [75, 144]
    assert seasons._means_fitted([24, 96, 672]) == [24, 72, 576]


def test_shift_scale_gaps_and_order_of_the_lengths():
    y = made(1, 1, 0.5)
    first = seasons.strengths(y, [DAY, WEEK])
    assert seasons.strengths(7 - 3 * y, [WEEK, DAY]) == pytest.approx(first[::-1])
    y[np.random.default_rng(1).random(len(y)) < 0.2] = np.nan
    assert seasons.strengths(y, [DAY, WEEK]) == pytest.approx(first, abs=0.03)
    assert seasons.strengths(np.full(50, np.nan), [24]) == [0.0]
    assert seasons.strengths(np.full(300, 5.0), [24]) == [0.0]


def test_side_lobes_of_a_week_are_no_seasons():
    """A day whose size follows the week has lines at 168 / 6 h and beside it, which three weeks cannot tell from 28 h."""
    t = np.arange(21 * 96)
    rng = np.random.default_rng(3)
    shape = 300 * (0.2 + np.clip(np.sin(2 * np.pi * (t % 96) / 96 - 1.3), 0, None))
    y = rng.poisson(shape * np.array([1, 1, 1, 1.1, 1.2, 0.7, 0.5])[(t // 96) % 7]).astype(float)
    assert {s.samples for s in seasons.detect(y, QUARTER)} == {DAY, WEEK}


def test_noise_that_wanders_beside_a_tide_makes_no_season():
    """What a tide leaves is nearly all slow noise: its low peaks are no seasons of two or three days."""
    for seed in range(6):
        rng = np.random.default_rng(seed)
        t = np.arange(21 * 144)
        slow = lfilter([1.0], [1.0, -0.997], rng.normal(0, 0.05 * np.sqrt(1 - 0.997**2), len(t)))
        y = (
            np.cos(2 * np.pi * t / 74.52)
            + 0.2 * np.cos(2 * np.pi * t / 144)
            + slow
            + rng.normal(0, 0.02, len(t))
        )
        found = sorted(s.samples for s in seasons.detect(y, 600 * SECOND_NS))
        assert found[0] == pytest.approx(74.52, abs=0.2) and set(found[1:]) <= {144, 1008}
