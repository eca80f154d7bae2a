"""Which seasons are taken, where a stream's own samples leave it open."""

import numpy as np

from watchtide.core import choosing, expectation, frame
from watchtide.core.series import Series


def test_a_tide_seen_for_three_weeks_is_told_as_moon_and_sun():
    # Apart they need 14.8 days to drift once through one another: found by themselves they blur into one.
    step = 600 * 10**9
    t = np.arange(21 * 144) / 6
    rng = np.random.default_rng(1)
    y = (
        2 * np.cos(2 * np.pi * t / 12.4206012)
        + 0.7 * np.cos(2 * np.pi * t / 12 + 1)
        + rng.normal(0, 0.05, len(t))
    )
    times = 1_700_000_000 * 10**9 + np.arange(len(t), dtype=np.int64) * step
    part = frame.frame_of(Series(times, y, step, np.zeros(len(y), np.int64)))
    blurred = (frame.Period(round(12.43 * 3600e9), False),)
    got, _ = choosing.choose(part, blurred, expectation.Choice("harmonic"))
    hours = sorted(p.ns / 3600e9 for p in got.periods)
    assert len(hours) == 2 and hours[0] == 12 and abs(hours[1] - 12.4206) < 1e-3
    stated, _ = choosing.choose(part, blurred, expectation.Choice("harmonic"), are_found=False)
    assert stated.periods == blurred


def test_a_day_among_rare_counts_is_tried_though_none_was_found():
    step = 900 * 10**9
    t = np.arange(28 * 96)
    rng = np.random.default_rng(2)
    y = rng.poisson(1.2 * (1 + np.sin(2 * np.pi * t / 96))).astype(float)
    part = frame.frame_of(Series(1_700_006_400 * 10**9 + t * step, y, step, np.zeros(len(y), np.int64)))
    like = expectation.Choice("harmonic", law="count")
    got, _ = choosing.choose(part, (), like)
    assert [p.ns / 3600e9 for p in got.periods][:1] == [24.0]
    flat = part.with_values(rng.poisson(1.2, len(t)).astype(float))
    assert choosing.choose(flat, (), like)[0].periods == ()
