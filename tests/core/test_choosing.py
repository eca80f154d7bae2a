"""Which seasons are taken, where a stream's own samples leave it open."""

import numpy as np

from watchtide.core.expect import choosing, frame, records
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
    got, _ = choosing.choose(part, blurred, records.Choice("harmonic"))
    hours = sorted(p.ns / 3600e9 for p in got.periods)
    assert len(hours) == 2 and hours[0] == 12 and abs(hours[1] - 12.4206) < 1e-3
    stated, _ = choosing.choose(part, blurred, records.Choice("harmonic"), are_found=False)
    assert stated.periods == blurred


def test_a_day_among_rare_counts_is_tried_though_none_was_found():
    step = 900 * 10**9
    t = np.arange(28 * 96)
    rng = np.random.default_rng(2)
    y = rng.poisson(1.2 * (1 + np.sin(2 * np.pi * t / 96))).astype(float)
    part = frame.frame_of(Series(1_700_006_400 * 10**9 + t * step, y, step, np.zeros(len(y), np.int64)))
    like = records.Choice("harmonic", law="count")
    got, _ = choosing.choose(part, (), like)
    assert [p.ns / 3600e9 for p in got.periods][:1] == [24.0]
    flat = part.with_values(rng.poisson(1.2, len(t)).astype(float))
    assert choosing.choose(flat, (), like)[0].periods == ()


def test_a_week_is_told_where_weekends_look_like_trouble():
    # Without a week quiet weekends are outliers and steps: judged only on what it calls clean, that reading would win.
    step = 900 * 10**9
    t = np.arange(21 * 96)
    day = 240 * (0.15 + np.clip(np.sin(2 * np.pi * (t % 96) / 96 - 1.3), 0, None) ** 2)
    daily = (frame.Period(frame.DAY_NS, True),)
    like = records.Choice("harmonic", law="count")

    def has_week(mean, rng):
        y = rng.negative_binomial(12, 12 / (12 + mean)).astype(float)
        y[700:760] = 0
        y[1300:1310] *= 4
        series = Series(1_783_900_800 * 10**9 + t * step, y, step, np.zeros(len(y), np.int64))
        got, _ = choosing.choose(frame.frame_of(series), daily, like)
        return any(p.ns == 7 * frame.DAY_NS for p in got.periods)

    weekend = np.isin(t // 96 % 7, (5, 6))
    for seed in (5, 10, 11, 12):
        assert has_week(day * np.where(weekend, 0.7, 1.0), np.random.default_rng(seed))
    assert not any(has_week(day, np.random.default_rng(seed)) for seed in (5, 10, 11, 12))
