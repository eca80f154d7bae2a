"""Robust loess decomposition against a twin that solves every local fit by itself."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from watchtide.core import decompose
from watchtide.core.decompose import smoothing


def twin_fit(y, w, window, degree, x):
    """One local fit by weighted least squares, widened until degree + 1 samples speak."""
    n = len(y)
    reach = window
    while True:
        left = max(0, min(x - reach // 2, n - reach))
        right = min(n - 1, left + reach - 1)
        h = max(x - left, right - x) + ((reach - n) // 2 if reach > n else 0) or 1
        j = np.arange(left, right + 1)
        k = np.clip(1 - (np.abs(j - x) / h) ** 3, 0, None) ** 3 * w[left : right + 1]
        if np.sum(k > 0) >= degree + 1 or reach > 3 * n + 2:
            break
        reach += 2
    if k.sum() <= 0:
        return np.nan
    root = np.sqrt(k)
    design = np.vander((j - x) / h, degree + 1, increasing=True)
    if np.sum(k > 0) < degree + 1:
        design = design[:, :1]
    return np.linalg.lstsq(design * root[:, None], np.nan_to_num(y[left : right + 1]) * root, rcond=None)[0][
        0
    ]


def twin_smooth(y, w, window, degree):
    return np.array([twin_fit(y, w, window, degree, x) for x in range(len(y))])


def twin_decompose(y, period, season_window, trend_window, lowpass_window, degrees, inner, outer, prior=1.0):
    n = len(y)
    seen = ~np.isnan(y) * prior
    trend, weights = np.zeros(n), np.ones(n)
    for sweep in range(outer + 1):
        w = seen * weights
        for _ in range(inner):
            cycles = np.empty(n + 2 * period)
            for slot in range(period):
                sub, sub_w = (y - trend)[slot::period], w[slot::period]
                cycles[slot::period][: len(sub) + 2] = [
                    twin_fit(sub, sub_w, season_window, degrees[0], i) for i in range(-1, len(sub) + 1)
                ]
            low = cycles
            for m in (period, period, 3):
                low = np.convolve(low, np.ones(m) / m, "valid")
            season = cycles[period : period + n] - twin_smooth(low, np.ones(n), lowpass_window, degrees[2])
            trend = twin_smooth(y - season, w, trend_window, degrees[1])
        if sweep < outer:
            size = np.abs(y - trend - season) * np.sqrt(prior)
            size[seen == 0] = np.nan
            h = 6 * np.nanmedian(size)
            weights = np.where(np.isnan(size), 1, np.clip(1 - (size / h) ** 2, 0, None) ** 2)
    return trend, season


@pytest.mark.parametrize(
    ("period", "n", "season_window", "trend_window", "degrees", "robust", "gaps"),
    [
        (7, 90, 7, None, (1, 1, 1), False, False),
        (12, 150, 9, 21, (0, 1, 1), True, False),
        (12, 150, 7, None, (1, 1, 0), True, True),
        (24, 420, 7, 61, (1, 0, 1), False, True),
        (24, 420, 11, None, (1, 1, 1), True, True),
    ],
)
def test_loess_equals_the_twin_to_1e_8(period, n, season_window, trend_window, degrees, robust, gaps):
    rng = np.random.default_rng(n)
    y = 40 + np.arange(n) * 0.02 + 5 * np.sin(2 * np.pi * np.arange(n) / period) + rng.standard_t(3, n)
    if gaps:
        y[rng.random(n) < 0.05] = np.nan
        y[n // 2 : n // 2 + period // 2] = np.nan
    got = decompose.loess(
        y, period, season_window=season_window, trend_window=trend_window, season_degree=degrees[0],
        trend_degree=degrees[1], lowpass_degree=degrees[2], robust=robust, sweeps_robust=3 if robust else 0,
    )  # fmt: skip
    rule = int(np.ceil(1.5 * period / (1 - 1.5 / season_window)))
    trend, season = twin_decompose(
        y, period, season_window, trend_window or rule + 1 - rule % 2, period + 1 - period % 2, degrees,
        1 if robust else 2, 3 if robust else 0,
    )  # fmt: skip
    largest = np.nanmax(np.abs(y))
    assert np.max(np.abs(got.trend - trend)) < 1e-8 * largest
    assert np.max(np.abs(got.season - season)) < 1e-8 * largest


@given(st.integers(0, 10_000), st.sampled_from([49, 97, 181]), st.sampled_from([0, 1]), st.floats(0, 0.6))
@settings(max_examples=30, deadline=None)
def test_convolved_loess_equals_direct_fits(seed, window, degree, gone):
    rng = np.random.default_rng(seed)
    n = 900
    y = np.cumsum(rng.normal(size=n))
    w = rng.random(n) * (rng.random(n) >= gone)
    w[300:520] = 0
    direct = smoothing.fit_points(y, w, window, degree, 0, n)
    assert np.allclose(smoothing.loess(y, w, window, degree), direct, atol=1e-7 * np.abs(y).max())


@given(st.floats(-1e5, 1e5), st.floats(0.01, 1e3))
@settings(max_examples=25, deadline=None)
def test_loess_follows_shift_and_scale(shift, scale):
    rng = np.random.default_rng(2)
    y = rng.normal(size=200) + np.tile(rng.normal(0, 3, 10), 20)
    y[50:55] = np.nan
    one, other = decompose.loess(y, 10, robust=True), decompose.loess(y * scale + shift, 10, robust=True)
    size = scale * 10 + abs(shift)
    assert np.allclose(other.season, one.season * scale, atol=1e-9 * size)
    assert np.allclose(other.trend, one.trend * scale + shift, atol=1e-9 * size)
    assert np.allclose(other.weights, one.weights, atol=1e-6)


def test_a_line_with_a_season_is_taken_apart_exactly():
    n = 240
    season = np.tile([3.0, -1, -4, 2], 60)
    line = 10 + 0.05 * np.arange(n)
    got = decompose.loess(line + season, 4)
    assert np.allclose(got.season, season, atol=1e-6) and np.allclose(got.trend, line, atol=1e-6)


def test_robust_fit_lets_an_outlier_go_by():
    y = np.tile(np.sin(2 * np.pi * np.arange(24) / 24), 20) + np.random.default_rng(0).normal(0, 0.05, 480)
    hit = y.copy()
    hit[240:246] += 8
    got = decompose.loess(hit, 24, robust=True)
    assert np.abs(got.remainder[240:246] - 8).max() < 0.4
    assert got.weights[240:246].max() == 0


def test_gaps_constants_and_emptiness():
    y = np.tile(np.arange(6.0), 10)
    y[7::6] = np.nan  # a slot seen once only
    got = decompose.loess(y, 6)
    assert np.isfinite(got.trend).all() and np.isfinite(got.season).all()
    flat = decompose.loess(np.full(40, 7.0), 5, robust=True)
    assert np.allclose(flat.trend, 7) and np.allclose(flat.season, 0) and np.all(flat.weights == 1)
    assert np.isnan(decompose.loess(np.full(40, np.nan), 5).trend).all()


def test_prior_weights_stand_for_samples_seen_so_often():
    """A weight of 0 is a missing sample, all weights four times as large change nothing; the twin weighs likewise."""
    rng = np.random.default_rng(3)
    y = np.tile([3.0, -1, -4, 2], 30) + rng.normal(0, 0.3, 120)
    weights = rng.uniform(0.2, 3, 120)
    weights[[30, 31, 77]] = 0.0
    blank = np.where(weights > 0, y, np.nan)
    got = decompose.loess(y, 4, robust=True, weights=weights)
    for other in (
        decompose.loess(blank, 4, robust=True, weights=weights),
        decompose.loess(y, 4, robust=True, weights=4 * weights),
    ):
        assert np.allclose(got.trend, other.trend, atol=1e-9) and np.allclose(
            got.season, other.season, atol=1e-9
        )
    trend, season = twin_decompose(y, 4, 7, 9, 5, (1, 1, 1), 1, 3, weights)
    got = decompose.loess(y, 4, robust=True, sweeps_robust=3, weights=weights)
    assert np.max(np.abs(got.trend - trend)) < 1e-8 and np.max(np.abs(got.season - season)) < 1e-8


def test_rare_events_of_small_denominators_are_not_wild():
    """By day 2 % of 400, at night 2 % of 20: there most are 0 and one in three is 5 %. The season has to be the mean of both."""
    rng = np.random.default_rng(8)
    trials = np.tile(np.r_[np.full(12, 400.0), np.full(12, 20.0)], 60)
    y = 100 * rng.binomial(trials.astype(int), 0.02) / trials
    plain = decompose.loess(y, 24, season_window=31, robust=True)
    got = decompose.loess(y, 24, season_window=31, robust=True, weights=trials / 400, event=100 / trials)
    night = (np.arange(len(y)) % 24) >= 12
    seen = y[night].mean()
    assert abs((got.trend + got.season)[night].mean() - seen) < 0.1 * seen
    assert (plain.trend + plain.season)[night].mean() < 0.6 * seen


def test_two_seasons_in_the_order_given():
    n = 24 * 7 * 8
    t = np.arange(n)
    day, week = np.sin(2 * np.pi * t / 24), np.where((t // 24) % 7 >= 5, -2.0, 0.8)
    got = decompose.loess_seasons(day * 3 + week + 20, [168, 24])
    assert got.seasons.shape == (2, n)
    assert np.corrcoef(got.seasons[1], day)[0, 1] > 0.99
    assert np.std(got.remainder[200:-200]) < 0.15


def twin_seasons(y, periods, windows, inner, outer):
    """Each season in turn from what the others leave, twice over, shortest first: Bandara et al. (2021), section 3."""
    seasons = {p: np.zeros(len(y)) for p in periods}
    trend = np.zeros(len(y))
    for _ in range(2):
        for p in sorted(periods):
            rest = y - sum(other for q, other in seasons.items() if q != p)
            window = windows[periods.index(p)]
            slow = int(np.ceil(1.5 * p / (1 - 1.5 / window)))
            odd = p + 1 - p % 2
            trend, seasons[p] = twin_decompose(
                rest, p, window, slow + 1 - slow % 2, odd, (1, 1, 1), inner, outer
            )
    return trend, np.array([seasons[p] for p in periods])


@pytest.mark.parametrize(("robust", "inner", "outer"), [(False, 2, 0), (False, 5, 0), (True, 1, 3)])
def test_two_seasons_equal_the_twin_to_1e_8(robust, inner, outer):
    rng = np.random.default_rng(12)
    t = np.arange(180)
    y = 20 + 0.01 * t + 3 * np.sin(2 * np.pi * t / 6) + np.cos(2 * np.pi * t / 30) + rng.normal(0, 0.5, 180)
    y[[40, 41, 97]] = np.nan
    got = decompose.loess_seasons(
        y, [30, 6], season_windows=[7, 11], robust=robust, sweeps_inner=inner, sweeps_robust=outer
    )
    trend, seasons = twin_seasons(y, [30, 6], [7, 11], inner, outer)
    assert np.max(np.abs(got.trend - trend)) < 1e-8
    assert np.max(np.abs(got.seasons - seasons)) < 1e-8


def test_more_inner_sweeps_move_two_seasons_by_less_than_a_hundredth_of_the_deviation():
    """The whole of what programs with five inner sweeps differ by: plain fits take the paper's two."""
    t = np.arange(24 * 7 * 8)
    rng = np.random.default_rng(5)
    y = 3 * np.sin(2 * np.pi * t / 24) + np.where((t // 24) % 7 >= 5, -2.0, 0.8) + rng.normal(0, 0.5, len(t))
    two, five = (decompose.loess_seasons(y, [24, 168], sweeps_inner=sweeps) for sweeps in (2, 5))
    apart = np.max(np.abs(two.seasons - five.seasons)) / np.std(y)
    assert 1e-3 < apart < 1e-2


@pytest.mark.parametrize(
    ("call", "message"),
    [
        (lambda: decompose.loess(np.zeros(20), 11), "between 2 and n/2"),
        (lambda: decompose.loess(np.zeros(20), 4.5), "whole number"),
        (lambda: decompose.loess(np.zeros(20), 4, season_window=6), "season_window must be odd"),
        (lambda: decompose.loess(np.zeros(20), 4, trend_degree=2), "trend_degree must be 0 or 1"),
        (lambda: decompose.loess_seasons(np.zeros(20), []), "at least one period"),
    ],
)
def test_bad_arguments_name_the_value_and_the_remedy(call, message):
    with pytest.raises(ValueError, match=message):
        call()


def test_the_wrong_form_leaves_season_in_the_remainder():
    t = np.arange(24 * 30)
    level = np.linspace(10, 60, len(t))
    season = 1 + 0.5 * np.sin(2 * np.pi * t / 24)
    noise = np.random.default_rng(1).normal(0, 0.03, len(t))
    form, evidence = decompose.choose_form(level * season * np.exp(noise), 24, "auto")
    assert form == "multiplicative" and evidence["multiplicative"] < evidence["additive"]
    with pytest.raises(ValueError, match="above 0"):
        decompose.choose_form(np.array([1.0, 0, 2, 3]), 2, "multiplicative")


@pytest.mark.parametrize("kind", ["even", "uneven", "sparse", "empty ends"])
@pytest.mark.parametrize("degree", [0, 1])
def test_convolved_and_carried_fits_equal_the_direct_ones_at_every_point(kind, degree):
    rng = np.random.default_rng(0)
    n, window = 2400, 601
    y, w = rng.normal(size=n) * 10 + np.linspace(0, 1000, n), rng.random(n)
    if kind == "even":
        w = np.ones(n)
    elif kind == "sparse":
        w[rng.random(n) < 0.95] = 0
    elif kind == "empty ends":
        w[:500] = w[-400:] = 0
    got = smoothing.loess(y, w, window, degree)
    plain = smoothing.fit_points(np.where(w > 0, y, 0), w, window, degree, 0, n)
    assert np.array_equal(np.isnan(got), np.isnan(plain))
    assert np.nanmax(np.abs(got - plain)) < 1e-8 * np.max(np.abs(y))
