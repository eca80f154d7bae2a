"""Cadence from stamps as they come: late, jittered, drifting, lost and doubled; months, working days; changes on the way."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from watchtide.core.series import cadence, calendar, gridding, steps
from watchtide.core.series.calendar import MONDAY_NS
from watchtide.core.series.steps import DAY_NS, MONTH_NS, YEAR_NS

SECOND = 10**9
START = 1_772_323_200 * SECOND  # 2026-03-01T00:00Z, a Sunday


def stamps(n, step_s=60.0, *, late=0.0, either=0.0, drift=0.0, lost=0.0, doubled=0.0, seed=0):
    """Stamps of n ticks, and the ticks that are there. late, either : share of a step; drift : a clock's rate error."""
    rng = np.random.default_rng(seed)
    ticks = np.arange(n)[rng.random(n) >= lost]
    at = ticks * step_s * (1 + drift) + step_s * (
        rng.uniform(0, late, len(ticks)) + rng.uniform(-either, either, len(ticks))
    )
    again = at[rng.random(len(at)) < doubled] + 0.02 * step_s
    return START + (np.sort(np.r_[at, again]) * SECOND).astype(np.int64), ticks


def placed(times):
    found = cadence.find(times)
    assert not found.is_exact
    return found, gridding.lay_jittered(times, found)


@pytest.mark.parametrize("step_s", [1.0, 60.0, 900.0, 3_600.0])
@pytest.mark.parametrize(
    "how",
    [
        {"late": 0.025}, {"late": 0.4}, {"either": 0.4}, {"late": 0.1, "drift": 2e-5}, {"either": 0.1, "drift": -1e-4},
        {"late": 0.2, "lost": 0.3}, {"late": 0.4, "lost": 0.1, "doubled": 0.05}, {"either": 0.25, "lost": 0.1},
    ],
)  # fmt: skip
def test_stamps_that_stray_give_the_round_cadence_and_one_bin_a_sample(step_s, how):
    times, ticks = stamps(4_000, step_s, **how, seed=7)
    found, grid = placed(times)
    assert found.cadence == steps.fixed(int(step_s * SECOND)) and found.is_regular
    # Labels are the ticks themselves, as far as the clock that drifts has not left them by half a step.
    assert np.all(grid.labels % int(step_s * SECOND) == 0)
    filled = np.bincount(grid.bins, minlength=len(grid)) > 0
    filled[grid.held[:, 0]] = True
    missing = int(ticks[-1] - ticks[0] + 1 - len(ticks))
    # 40 % to either side leaves the estimate of the phase a tenth of a step; now and then a sample is on the edge.
    assert abs(int((~filled).sum()) - missing) <= (4 if how.get("either", 0) == 0.4 else 1)


def test_minutes_late_by_up_to_a_second_and_a_half_are_minutes():
    times, _ = stamps(20_160, 60.0, late=0.025, seed=3)
    found, grid = placed(times)
    assert found.cadence.step_ns == 60 * SECOND and found.share == 1.0
    assert np.array_equal(grid.labels, START + np.arange(20_160) * 60 * SECOND)
    assert np.array_equal(grid.bins, np.arange(20_160)) and len(grid.held) == 0


def test_fifty_stamps_are_enough_for_a_live_stream():
    for seed in range(40):
        times, _ = stamps(50, 60.0, late=0.4, seed=seed)
        assert cadence.find(times).cadence == steps.fixed(60 * SECOND), seed


def test_a_clock_that_loses_a_step_leaves_no_hole():
    # 2 ms a second: after 500 samples one bin has no sample, although none is missing.
    times, _ = stamps(1_800, 1.0, late=0.02, drift=2e-3, seed=5)
    found, grid = placed(times)
    assert found.cadence == steps.fixed(SECOND) and 3 <= len(grid.held) <= 4
    values = np.arange(1_800.0)
    got = gridding.combined(grid, times, values, "mean")
    assert not np.isnan(got).any() and len(got) == 1_800 + len(grid.held)
    assert (
        np.isnan(gridding.combined(grid, times, np.where(values == 900, np.nan, values), "mean")).sum() <= 1
    )


@settings(max_examples=60, deadline=None)
@given(st.integers(0, 10_000), st.floats(0, 0.4), st.floats(-1e-3, 1e-3), st.integers(60, 400))
def test_no_sample_lies_past_the_end_of_its_bin_and_a_later_one_moves_none(seed, late, drift, n):
    times, _ = stamps(n, 60.0, late=late, drift=drift, lost=0.1, seed=seed)
    found = cadence.find(times[:50])
    if found.is_exact:
        return
    grid = gridding.lay_jittered(times, found)
    assert np.all(times < grid.ends[grid.bins])
    part = gridding.lay_jittered(times[: n // 2], found)
    assert np.array_equal(part.labels[part.bins], grid.labels[grid.bins][: len(times[: n // 2])])


def test_exact_stamps_keep_their_phase_and_gaps_stay_gaps():
    times = START + np.array([7, 67, 127, 307, 367, 427, 487]) * SECOND
    found = cadence.find(times)
    assert found.is_exact and found.cadence == steps.fixed(60 * SECOND)
    assert found.share == pytest.approx(5 / 6)
    assert cadence.step_of(np.array([0, 900, 1800, 4500]) * SECOND) == 900 * SECOND
    assert cadence.find(times[:1]).cadence == steps.fixed(DAY_NS)


def test_events_without_a_cadence_are_told_from_jitter():
    rng = np.random.default_rng(2)
    times = START + np.cumsum(rng.exponential(400 * SECOND, 600)).astype(np.int64)
    assert not cadence.find(times).is_regular


@pytest.mark.parametrize(("count", "size"), [(1, 240), (3, 218), (12, 100), (6, 9)])
def test_months_quarters_and_years_are_counted_and_not_measured(count, size):
    local = calendar.month_start(np.arange(size) * count + 408)
    found = cadence.find(local)
    assert found.cadence == steps.months(count) and found.share == 1.0
    grid = gridding.lay_months(local, found.cadence)
    assert len(grid) == size and np.array_equal(grid.labels, local)
    assert YEAR_NS / found.cadence.step_ns == 12 / count
    assert np.all(np.diff(grid.axis) == count * MONTH_NS)
    # Last days, and last working days, of months are months too, and so is one that is missing.
    last = calendar.month_start(np.arange(size) * count + 408 + count) - DAY_NS
    working = last - np.maximum((last - MONDAY_NS) // DAY_NS % 7 - 4, 0) * DAY_NS
    for stamps_ in (last, working, np.delete(last, 4)):
        assert cadence.find(stamps_).cadence == steps.months(count)
    holed = gridding.lay_months(np.delete(last, 4), found.cadence)
    assert len(holed) == size and holed.labels[4] == last[4]


def test_thirty_days_are_thirty_days_and_not_a_month():
    assert cadence.find(START + np.arange(20) * 30 * DAY_NS).cadence == steps.fixed(30 * DAY_NS)
    assert cadence.find(START + np.arange(20) * 7 * DAY_NS).cadence == steps.fixed(7 * DAY_NS)


def test_working_days_are_those_that_occur_and_holidays_are_gaps():
    days = MONDAY_NS + (2_900 * 7 + np.arange(7 * 40)) * DAY_NS
    weekday = np.arange(7 * 40) % 7
    work = days[weekday < 5]
    found = cadence.find(np.delete(work, [17, 60]))
    assert found.cadence.weekdays == (0, 1, 2, 3, 4) and found.cadence.kind == "workday"
    grid = gridding.lay_workdays(np.delete(work, [17, 60]), found.cadence)
    assert len(grid) == 200 and np.flatnonzero(np.bincount(grid.bins, minlength=200) == 0).tolist() == [
        17,
        60,
    ]
    # A week is five of them, and a Monday is always the same part of it.
    assert 7 * DAY_NS / found.cadence.step_ns == 5
    assert np.all((grid.axis[::5] - MONDAY_NS) % (7 * DAY_NS) == 0)
    three = days[np.isin(weekday, (0, 2, 4))]
    assert cadence.find(three).cadence.weekdays == (0, 2, 4)
    assert len(gridding.lay_workdays(three, cadence.find(three).cadence)) == len(three)
    # Ten days without a weekend yet seen twice, and days lost by chance, are days.
    assert cadence.find(days[:10]).cadence == steps.fixed(DAY_NS)
    assert cadence.find(days[np.random.default_rng(1).random(280) > 0.4]).cadence == steps.fixed(DAY_NS)


def test_the_next_months_and_working_days_follow():
    months = calendar.month_start(np.arange(12)) + 14 * DAY_NS
    labels, ends = gridding.ahead(steps.months(1), months, 3)
    assert np.array_equal(labels, calendar.month_start(np.arange(12, 15)) + 14 * DAY_NS)
    assert np.array_equal(ends, calendar.month_start(np.arange(13, 16)))
    friday = MONDAY_NS + 4 * DAY_NS
    labels, _ = gridding.ahead(steps.workday((0, 1, 2, 3, 4)), np.array([friday]), 2)
    assert labels.tolist() == [MONDAY_NS + 7 * DAY_NS, MONDAY_NS + 8 * DAY_NS]


class TestChanges:
    def series(self, *parts):
        """Stamps of stretches (samples, step in seconds) one behind the other."""
        steps = np.concatenate([np.full(n, s) for n, s in parts])
        return START + np.r_[0, np.cumsum(steps)] * SECOND

    def test_the_coarser_cadence_rules_a_finished_history_and_is_reported(self):
        times = self.series((5_000, 60), (800, 300))
        found = cadence.find(times)
        assert found.cadence == steps.fixed(300 * SECOND)
        assert found.change.before == steps.fixed(60 * SECOND) and found.change.begins_ns == times[5_000]

    def test_a_short_stretch_in_the_middle_does_not_rule(self):
        found = cadence.find(self.series((5_000, 60), (70, 300), (5_000, 60)))
        assert found.cadence == steps.fixed(60 * SECOND) and found.change is None

    def test_loss_is_no_change(self):
        times, _ = stamps(6_000, 60.0, late=0.1, seed=4)
        kept = np.r_[times[:3_000], times[3_000:][np.random.default_rng(3).random(3_000) > 0.5]]
        assert cadence.follow(kept) == [] and cadence.find(kept).cadence == steps.fixed(60 * SECOND)

    @settings(max_examples=25, deadline=None)
    @given(st.integers(100, 400), st.integers(96, 300), st.integers(0, 1_000))
    def test_what_is_followed_is_known_from_the_past_alone(self, fine, coarse, seed):
        times = self.series((fine, 60), (coarse, 300))
        [change] = cadence.follow(times)
        assert change.after == steps.fixed(300 * SECOND) and change.begins_ns == times[fine]
        cut = times[: int(np.searchsorted(times, change.known_ns)) + 1]
        assert cadence.follow(cut) == [change] and cadence.follow(cut[:-1]) == []
