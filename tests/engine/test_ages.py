"""A young stream: judged from its first hours on, better with age, and no point judged twice."""

import numpy as np
import pytest

from watchtide.core.scoring.rows import Label
from watchtide.core.series import SECOND_NS
from watchtide.engine.live import ages, replaying, upkeep
from watchtide.engine.many import run
from watchtide.engine.prepare.preparing import Input
from watchtide.engine.scan import outcome, stages
from watchtide.plan import Plan
from watchtide.plan.text import from_data

QUARTER = 900 * SECOND_NS
HOUR = 4 * QUARTER
DAY = 24 * HOUR
START = 1_700_006_400 * SECOND_NS
KEPT = ("expected", "spread", "lower", "upper", "score", "window", "flag")


def taps(days, step=QUARTER, seed=5, spikes=()):
    """Counts with a day and a week, doubled on some hours."""
    rng = np.random.default_rng(seed)
    times = START + np.arange(days * DAY // step) * step
    hour = (times / HOUR) % 24
    middle = (60 + 40 * np.cos(2 * np.pi * (hour - 15) / 24)) * np.where(times // DAY % 7 > 4, 0.6, 1.0)
    values = rng.poisson(middle).astype(float)
    for at in spikes:
        values[at : at + 4] += 400
    return times, values


def given(times, values, until=None):
    return Input("metric=taps", times[:until], values[:until], "Europe/Dublin")


def replayed(times, values, plan=None, until=None, labels=()):
    return stages.scan(given(times, values, until), plan or Plan(), labels, "replay")


class TestWhatIsKnownAtEachAge:
    def test_the_first_hours_the_first_days_and_three_weeks(self):
        times, values = taps(24)
        got = replayed(times, values)
        judged = ~np.isnan(got.z)
        assert not judged[:24].any() and judged[24:].all()
        marks = got.resolved["replay"]["provisional"]
        assert marks["from"] == "2023-11-15T06:00:00Z"
        assert marks["until"] == marks["full"] == "2023-12-06T00:00:00Z"
        # A season is carried once some days were seen; before that it is in the spread.
        hours, days, full = slice(24, 384), slice(384, 2016), slice(2016, None)
        assert not got.base.seasons[:, hours].any() and got.base.seasons[:, days].any()
        wide = [np.median(got.base.spread[s]) for s in (hours, days, full)]
        assert wide[0] > 1.5 * wide[1] >= wide[2]

    def test_the_plans_own_age_is_what_it_was_before_there_were_others(self):
        times, values = taps(26)
        got = replayed(times, values).base
        own, *_ = replaying.replayed(given(times, values), Plan(), ())
        for name in ("expected", "spread", "trend", "seasons", "level_series"):
            np.testing.assert_array_equal(getattr(got, name)[..., 2016:], getattr(own, name)[..., 2016:])
        np.testing.assert_array_equal(got.evidence.score[2016:], own.evidence.score[2016:])
        np.testing.assert_array_equal(got.in_force.above[2016:], own.in_force.above[2016:])
        np.testing.assert_array_equal(got.held_out.score, own.held_out.score)
        assert got.train_stop == own.train_stop == 2016

    def test_what_went_wrong_is_found_at_every_age(self):
        spikes = (3 * 96 + 60, 9 * 96 + 30)
        found = [f for f in replayed(*taps(20, spikes=spikes)).findings if f.kind == "outlier"]
        times = taps(20)[0]
        for at in spikes:
            assert any(
                f.start <= times[at + 3] and f.end >= times[at] and f.direction == "above" for f in found
            )
        assert len(found) <= 4

    def test_a_limit_is_watched_from_the_first_hours_on(self):
        plan = from_data({"baseline": {"kind": "fixed", "options": {"upper": 200}}})
        found = replayed(*taps(3, spikes=(150,)), plan).findings
        assert [f.start for f in found] == [taps(3)[0][150]]

    def test_the_summary_has_until_when_it_is_provisional(self):
        young, old = replayed(*taps(6)), replayed(*taps(26))
        streams = [run.summarise([s], Plan(), "replay")["streams"]["metric=taps"] for s in (young, old)]
        assert streams[0]["provisional"] == {
            "from": "2023-11-15T06:00:00Z", "until": None, "full": "2023-12-06T00:00:00Z",
        }  # fmt: skip
        assert streams[1]["provisional"]["until"] == "2023-12-06T00:00:00Z"
        assert any(n.startswith("provisional: judged by") for n in streams[0]["notes"])
        assert not any("provisional" in n for n in streams[1]["notes"])
        fitted = run.summarise([stages.scan(given(*taps(6)), Plan())], Plan())
        assert fitted["streams"]["metric=taps"]["provisional"] is None


class TestNothingIsSaidTwice:
    @pytest.mark.parametrize("step", [QUARTER, HOUR, 7 * 60 * SECOND_NS])
    @pytest.mark.parametrize("level", [{"per-week": 0.5}, {"sigmas": 3}, {"odds": 200}])
    def test_a_cut_changes_nothing_before_it(self, step, level):
        plan = from_data({"flag": {"level": level}})
        n = 23 * DAY // step
        times, values = taps(23, step, spikes=(n // 5, n // 2, n - 60))
        whole = replayed(times, values, plan)
        points = outcome.points_of(whole)
        rng = np.random.default_rng(step % 1009)
        for until in [*rng.integers(3, n, 9).tolist(), 24, 25, 4 * DAY // step, 4 * DAY // step + 1, n - 1]:
            cut = replayed(times, values, plan, until)
            mine = outcome.points_of(cut)
            for name in KEPT:
                np.testing.assert_array_equal(mine[name], points[name][:until], err_msg=f"{name} at {until}")
            known = int(times[until - 1]) + step
            raised = {(f.kind, f.start, f.raised) for f in whole.findings if f.raised <= known}
            assert {(f.kind, f.start, f.raised) for f in cut.findings} == raised

    def test_the_future_may_be_anything(self):
        times, values = taps(8)
        until = 500
        other = values.copy()
        other[until:] = np.random.default_rng(0).normal(-5e3, 700, len(values) - until)
        one, two = (outcome.points_of(replayed(times, v)) for v in (values, other))
        for name in KEPT:
            np.testing.assert_array_equal(one[name][:until], two[name][:until])

    def test_it_goes_on_tick_by_tick_through_all_ages(self):
        times, values = taps(23, HOUR, spikes=(70, 300, 530))
        labels = [Label(int(times[70]), int(times[75]))]
        plan, state = from_data({"flag": {"level": {"odds": 300}}}), None
        rng = np.random.default_rng(8)
        for until in sorted({*rng.integers(2, len(times), 25).tolist(), len(times)}):
            got, state, _ = upkeep.tick(given(times, values, until), plan, labels, state)
            whole = replayed(times, values, plan, until, labels)
            for name, mine in outcome.points_of(got).items():
                np.testing.assert_array_equal(mine, outcome.points_of(whole)[name])
            assert got.findings == whole.findings and got.resolved == whole.resolved
        assert upkeep.read(state)[0].age == 2


class TestAllAlikeAtFirst:
    """Streams that begin with one and the same value, as errors of a quiet night do."""

    @staticmethod
    def quiet(hours, days=23, step=HOUR):
        times, values = taps(days, step, spikes=(int(hours * HOUR // step) + 60,))
        values[: int(hours * HOUR // step)] = 0.0
        return times, values

    @pytest.mark.parametrize(
        ("hours", "first"), [(0, 24), (30, 36), (5 * 24, 5 * 24 + 6), (22 * 24, 21 * 24)]
    )
    def test_nothing_is_judged_until_a_second_value_has_come(self, hours, first):
        times, values = self.quiet(hours)
        judged = np.flatnonzero(~np.isnan(replayed(times, values).z))
        assert judged[0] == first

    @pytest.mark.parametrize("hours", [30, 5 * 24, 22 * 24])
    def test_it_goes_on_tick_by_tick_and_a_cut_changes_nothing(self, hours):
        times, values = self.quiet(hours)
        plan, state = Plan(), None
        points = outcome.points_of(replayed(times, values, plan))
        rng = np.random.default_rng(hours)
        for until in sorted({*rng.integers(2, len(times), 20).tolist(), hours, hours + 1, len(times)}):
            got, state, _ = upkeep.tick(given(times, values, until), plan, [], state)
            mine = outcome.points_of(got)
            for name in KEPT:
                np.testing.assert_array_equal(mine[name], points[name][:until], err_msg=f"{name} at {until}")

    def test_an_error_rate_of_a_quiet_night_knows_what_it_counts(self):
        rng = np.random.default_rng(3)
        times, pages = taps(3)
        errors = rng.binomial(pages.astype(int), 0.006).astype(float)
        errors[:34] = 0.0
        stream = Input("metric=errors", times, 1000 * errors / pages, "UTC", pages)
        got = stages.scan(stream, from_data({"prepare": {"as": "ratio"}}), (), "replay")
        assert not np.isnan(got.z[-100:]).any()
        # Three errors where hardly any is expected: two events in a hundred are 4 sigmas, not 10^11.
        assert np.nanmax(np.abs(got.z)) < 8

    def test_stated_limits_need_no_second_value(self):
        times, values = self.quiet(5 * 24)
        fixed = from_data({"baseline": {"kind": "fixed", "options": {"upper": 9.0}}})
        assert np.isfinite(replayed(times, values, fixed).z[24]).all()


class TestWhereThereIsNoYouth:
    @pytest.mark.parametrize(
        "plan",
        [
            {"replay": {"window": "14d"}},
            {"baseline": {"train": {"share": 0.6}}},
            {"prepare": {"transform": "difference 24h"}},
        ],
    )
    def test_a_stated_first_window_stands(self, plan):
        times, values = taps(26, HOUR)
        assert len(ages.ages_of(given(times, values), from_data(plan))) == 1

    def test_daily_rows_and_uneven_stamps_wait(self):
        times, values = taps(60, DAY)
        assert len(ages.ages_of(given(times, values), Plan())) == 1
        uneven = START + np.cumsum(np.random.default_rng(1).exponential(HOUR, 400)).astype(np.int64)
        got = stages.scan(Input("a", uneven, np.arange(400.0), "UTC"), Plan(), (), "replay")
        assert len(got.z)

    def test_a_week_alone_is_not_taken_for_a_day(self):
        times, values = taps(26, HOUR)
        stated = from_data({"baseline": {"seasons": ["7d"]}})
        assert [a.name for a in ages.ages_of(given(times, values), stated)] == ["hours", "the plan"]
        assert np.isfinite(replayed(times, values, stated).z[24:]).all()


@pytest.mark.parametrize("kind", ["constant", "missing", "gap", "two values", "few"])
def test_poor_data_neither_fail_nor_cry(kind):
    times, values = taps(9, HOUR)
    if kind == "constant":
        values[:] = 7.0
    elif kind == "missing":
        values[:] = np.nan
    elif kind == "gap":
        keep = (np.arange(len(times)) < 40) | (np.arange(len(times)) > 150)
        times, values = times[keep], values[keep]
    elif kind == "two values":
        values = np.where(values > np.median(values), 1.0, 0.0)
    else:
        times, values = times[:23], values[:23]
    got = replayed(times, values)
    assert len(got.findings) <= 1
    if kind in ("missing", "few"):
        assert np.isnan(got.z).all()
