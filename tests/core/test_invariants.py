"""What must hold whatever the data: shift, scale, time, missing samples; and hand-worked corners."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import ndimage

from tests import world
from watchtide.core import robust, series, shifts
from watchtide.core.expect import expectation, records, regimes, seasons
from watchtide.core.expect.frame import frame_of
from watchtide.core.judge import flagging, grouping, promises, watches
from watchtide.core.scoring import intervals
from watchtide.core.series import SECOND_NS, Series, regrid

HOUR = 3_600 * SECOND_NS
moderate = st.floats(-1e6, 1e6, allow_nan=False)


def noise(seed, n=300):
    return np.random.default_rng(seed).standard_t(4, n)


@given(st.integers(0, 999), st.integers(1, 200), st.sampled_from(["wide", "few", "rising", "falling", "one"]))
@settings(max_examples=200, deadline=None)
def test_the_quick_median_is_the_median(seed, n, how):
    rng = np.random.default_rng(seed)
    y = {
        "wide": rng.standard_cauchy(n),
        "few": rng.integers(0, 3, n).astype(float),
        "rising": np.arange(n) * 1.5,
        "falling": -np.arange(n) * 1.5,
        "one": np.full(n, np.inf),
    }[how]
    kept = y.copy()
    assert robust.middle(y) == np.median(kept) and np.array_equal(np.sort(y), np.sort(kept))


def test_the_quick_median_ends_where_nothing_is_a_number():
    assert np.isnan(robust.middle(np.full(100, np.nan)))


@given(st.integers(0, 999), moderate, st.floats(0.001, 1e3))
@settings(max_examples=40, deadline=None)
def test_scales_follow_scale_and_ignore_shift(seed, shift, scale):
    y = noise(seed)
    for measure, power in ((robust.mad_sigma, 1), (robust.noise_variance, 2), (robust.long_run_variance, 2)):
        assert measure(y * scale + shift) == pytest.approx(measure(y) * scale**power, rel=1e-4, abs=1e-12)
    assert robust.lag_one(y * scale + shift) == pytest.approx(robust.lag_one(y), abs=1e-4)


def test_mad_of_gaussian_noise_is_its_standard_deviation():
    assert robust.mad_sigma(np.random.default_rng(0).normal(5, 3, 200_000)) == pytest.approx(3, rel=0.01)
    assert robust.mad_sigma(np.array([np.nan, np.nan])) == 0
    # Over half equal: the mean deviation speaks instead of 0.
    assert robust.mad_sigma(np.array([0.0] * 9 + [10.0])) == pytest.approx(1.2533 * 1.0, rel=1e-4)


@pytest.mark.parametrize("phi", [0.0, 0.3, 0.6, 0.9])
def test_autocorrelation_is_read_off_differences(phi):
    rng = np.random.default_rng(1)
    y = np.zeros(20_000)
    for i in range(1, len(y)):
        y[i] = phi * y[i - 1] + rng.normal()
    stepped = y + np.repeat(rng.normal(0, 50, 10), 2_000)
    assert robust.lag_one(stepped) == pytest.approx(phi, abs=0.1)


@pytest.mark.parametrize(
    ("values", "expected"),
    [([1.0, 2, 3, 2, 1, 2, 3], 1.0), ([0.1, 0.2, 0.3, 0.2, 0.1], 0.1), ([5.0, 5, 5], 5e-9), ([], 0.0)],
)
def test_resolution_is_the_quantum_of_the_data(values, expected):
    assert robust.resolution(np.array(values)) == pytest.approx(expected, rel=1e-6)
    assert robust.resolution(np.random.default_rng(0).normal(size=500)) == 0


@given(st.integers(0, 999), st.integers(1, 48))
@settings(max_examples=25, deadline=None)
def test_a_later_start_of_the_clock_moves_the_grid_and_nothing_else(seed, hours):
    y = noise(seed, 120)
    times = np.arange(120, dtype=np.int64) * HOUR
    one = regrid(times, y, 2 * HOUR, combine="mean")
    other = regrid(times + hours * 2 * HOUR, y, 2 * HOUR, combine="mean")
    assert np.array_equal(one.values, other.values)
    assert np.array_equal(one.times + hours * 2 * HOUR, other.times)


@given(st.integers(0, 999))
@settings(max_examples=30, deadline=None)
def test_sums_over_a_coarser_grid_keep_the_total(seed):
    rng = np.random.default_rng(seed)
    times = np.sort(rng.integers(0, 10**6, 200)) * SECOND_NS
    y = rng.normal(size=200)
    y[rng.random(200) < 0.1] = np.nan
    grid = regrid(times, y, HOUR, combine="sum")
    assert np.nansum(grid.values) == pytest.approx(np.nansum(y))
    assert np.nansum(regrid(times, y, HOUR, combine="count").values) == np.sum(~np.isnan(y))


@given(st.integers(0, 999))
@settings(max_examples=20, deadline=None)
def test_a_missing_sample_takes_no_part_in_a_change_point(seed):
    rng = np.random.default_rng(seed)
    y = np.r_[rng.normal(0, 1, 60), rng.normal(6, 1, 60)]
    holes = rng.choice(120, 15, replace=False)
    gappy = y.copy()
    gappy[holes] = np.nan
    kept = np.setdiff1d(np.arange(120), holes)
    assert np.array_equal(shifts.search(gappy, penalty=9.0), kept[shifts.search(y[kept], penalty=9.0)])


def test_a_higher_penalty_never_finds_more():
    y = noise(3, 400) + np.repeat([0, 3, -2, 1], 100)
    counts = [len(shifts.search(y, penalty=p)) for p in (1, 4, 16, 64, 256, 1e9)]
    assert counts == sorted(counts, reverse=True) and counts[-1] == 0


def test_a_shift_up_then_down_is_described_by_hand():
    y = np.r_[np.zeros(50), np.full(50, 4.0), np.ones(50)] + np.tile([0.1, -0.1], 75)
    up, down = shifts.describe(y, np.array([50, 100]))
    assert (up.index, down.index) == (50, 100)
    assert up.size == pytest.approx(4, abs=0.2) and down.size == pytest.approx(-3, abs=0.2)
    assert up.before == pytest.approx(0, abs=0.11) and down.after == pytest.approx(1, abs=0.11)
    near = shifts.describe(np.r_[np.linspace(0, 10, 100), np.full(100, 12.0)], np.array([100]), reach=5)
    assert near[0].size == pytest.approx(2.2, abs=0.1), "a trend before it does not add to a shift's size"


def test_calming_draws_in_outliers_and_leaves_steps():
    y = np.r_[np.zeros(60), np.full(60, 5.0)] + noise(1, 120) * 0.1
    y[30] = 99
    y[80] = np.nan
    calm = regimes.calm_outliers(y)
    assert calm[30] < 2 and np.isnan(calm[80])
    assert calm[60:].min() > 4 or np.nanmin(calm[62:]) > 4


@pytest.mark.parametrize("n", [1, 7, 24, 25, 26, 400])
def test_calming_goes_by_the_running_median_of_25_samples(n):
    y = np.round(noise(3, n), 1)
    y[n // 2] = 50.0
    middle = ndimage.median_filter(y, size=25, mode="nearest")
    width = 3 * max(robust.mad_sigma(y - middle, centre=0.0), 1e-300)
    assert np.array_equal(regimes.calm_outliers(y), np.clip(y, middle - width, middle + width))


def test_regimes_by_hand():
    level = np.r_[np.zeros(50), np.full(10, 9.0), np.zeros(50), np.full(60, 4.0), np.zeros(40)]
    level = level + np.tile([0.05, -0.05], 105)
    steps, delayed = regimes.regimes(level, np.array([50, 60, 110, 170]), 20)
    assert np.allclose(steps[:110], 0, atol=0.2), "ten samples are an episode"
    assert np.allclose(steps[110:170], 4, atol=0.2) and np.allclose(steps[170:], 0, atol=0.2)
    assert np.allclose(delayed[110:130], 0, atol=0.2) and np.allclose(delayed[130:170], 4, atol=0.2)
    assert np.allclose(delayed[170:], 0, atol=0.2), "back to a level held before: at once"
    nothing, same = regimes.regimes(level, np.array([110]), 0)
    assert not nothing.any() and not same.any()


@given(st.integers(0, 500), st.integers(1, 3), st.integers(0, 3), st.integers(0, 5))
@settings(max_examples=60, deadline=None)
def test_findings_of_a_higher_level_lie_within_those_of_a_lower(seed, need, more, merge):
    z = noise(seed, 150)
    group = grouping.Group(need, need + more, merge)
    times = np.arange(150)
    low, high = (grouping.find_side(z, level, times, group) for level in (1.0, 1.7))
    for first, last, _ in high:
        assert any(a <= first and last <= b for a, b, _ in low)


def test_groups_that_cannot_be_are_refused():
    for wrong in ({"need": 3, "of": 2}, {"need": 0}, {"merge_ns": -1}, {"shortest": 0}):
        with pytest.raises(ValueError, match="group:"):
            grouping.Group(**wrong)


def test_the_peak_of_a_finding_is_its_strongest_sample_on_its_side():
    z = np.array([0, 5, 9, np.nan, 6, 0, -7, -5.0])
    runs = world.runs_at(z, 4, 4, np.arange(8), grouping.Group(merge_ns=2))
    assert runs.peak.tolist() == [2, 6] and runs.samples.tolist() == [3, 2]


@given(st.integers(0, 400), st.integers(1, 400))
@settings(max_examples=80, deadline=None)
def test_wilson_holds_the_ratio_and_narrows_with_the_count(hits, more):
    n = hits + more
    low, high = intervals.wilson(hits, n)
    assert 0 <= low <= hits / n <= high <= 1
    wide, narrow = intervals.wilson(hits, n), intervals.wilson(hits * 10, n * 10)
    assert narrow[1] - narrow[0] <= wide[1] - wide[0]


def test_medians_are_drawn_from_what_the_blocks_hold():
    span, block = (0, 99), 10
    starts = np.array([[0, 50], [95, 20]])
    got = intervals.drawn_medians(starts, span, block, np.array([2, 55, 97]), np.array([1.0, 3.0, 7.0]), 0.5)
    assert got.tolist() == [2.0, 4.0]  # 1 and 3; then 7 and, round the end, 1


def test_percentile_intervals_drop_and_count_empty_draws():
    pair, dropped = intervals.percentile(np.r_[np.linspace(0, 1, 999), np.nan])
    assert dropped == 1 and pair == pytest.approx([0.025, 0.975], abs=0.002)
    assert intervals.percentile(np.full(5, np.nan)) == (None, 5)


def test_levels_of_a_side_that_is_not_watched_flag_nothing():
    z = np.array([9.0, -9.0])
    assert flagging.flag(watches.alone(z), 4, np.inf, 4).tolist() == [1, 0]
    with pytest.raises(ValueError, match="side must be one of"):
        held = promises.Held(watches.alone(z), np.ones(2, bool), np.arange(2), HOUR)
        flagging.resolve_level("sigmas", 4, held, "left", grouping.Group())


@pytest.mark.parametrize("days", [1, 2, 3, 20])
def test_a_short_history_is_judged_without_a_season_it_cannot_show(days):
    y = 10 + np.random.default_rng(0).normal(0, 1, 24 * days)
    found = seasons.detect(y, HOUR)
    assert found == []
    series = Series(np.arange(len(y), dtype=np.int64) * HOUR, y, HOUR, np.zeros(len(y), np.int64))
    got = expectation.expect(frame_of(series), records.Choice("harmonic"))
    z = (y - got.expected) / got.spread
    assert np.isfinite(z).all() and np.mean(np.abs(z) > 4) < 0.05


def test_values_are_found_at_their_own_stamps_and_nowhere_else():
    times, values = np.array([10, 20, 40]), np.array([1.0, 2.0, 4.0])
    got = series.at_stamps(times, values, np.array([0, 10, 30, 40, 50]))
    assert np.array_equal(got, [np.nan, 1.0, np.nan, 4.0, np.nan], equal_nan=True)
    assert np.isnan(series.at_stamps(times[:0], values[:0], times)).all()


def test_groups_hold_their_values_in_order():
    at, values = np.array([2, 0, 2, 2]), np.array([5.0, 1.0, -3.0, 4.0])
    ranked, edges = robust.in_groups(at, values, 4)
    assert ranked.tolist() == [1.0, -3.0, 4.0, 5.0] and edges.tolist() == [0, 1, 1, 4, 4]
