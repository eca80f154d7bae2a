"""Ordinary cadences through a whole scan: months, working days, rows, jitter, changes on the way; fitted, replayed, kept, forecast."""

import datetime as dt

import numpy as np
import pytest

from watchtide.core.expect.baselines import KINDS
from watchtide.core.series import SECOND_NS
from watchtide.core.series.calendar import month_start
from watchtide.core.series.steps import DAY_NS, YEAR_NS
from watchtide.engine.keep import cache, saved
from watchtide.engine.keep.files import Store
from watchtide.engine.scan import ahead, outcome, stages
from watchtide.engine.scan.stages import Input
from watchtide.plan import durations, text
from watchtide.tables import clock

RNG = np.random.default_rng


def plan_of(**baseline):
    flag = baseline.pop("flag", {"level": {"sigmas": 5}})
    prepare = baseline.pop("prepare", {})
    return text.from_data({"baseline": baseline, "flag": flag, "prepare": prepare})


def months(n=240, first=408, seed=0):
    """A year's swing of 20 over noise of 2 and a slow trend; one month 25 too high."""
    y = 100 + 20 * np.sin(2 * np.pi * np.arange(n) / 12) + 0.1 * np.arange(n) + RNG(seed).normal(0, 2, n)
    y[150] += 25
    return Input("", month_start(np.arange(n) + first), y)


def days(first, n, keep=lambda d: True):
    return [d for d in (first + dt.timedelta(i) for i in range(n)) if keep(d)]


def stamps_of(dates, zone="UTC"):
    local = np.array([np.datetime64(d, "ns").astype(np.int64) for d in dates])
    return clock.localise(local, zone).times


def working(n_days=900, seed=1, zone="UTC", lost=()):
    """Daily prices without weekends: a weekly pattern over noise; two holidays."""
    dates = days(dt.date(2022, 1, 3), n_days, lambda d: d.weekday() < 5)
    dates = [d for i, d in enumerate(dates) if i not in lost]
    y = 50 + 4 * np.array([d.weekday() for d in dates]) + RNG(seed).normal(0, 1, len(dates))
    return Input("", stamps_of(dates, zone), y, zone)


class TestMonths:
    def test_a_year_is_twelve_samples_stated_either_way_or_found(self):
        for seasons in ("auto", ["12mo"], ["1y"]):
            scanned = stages.scan(months(), plan_of(seasons=seasons))
            assert len(scanned.base.series) == 240 and not np.isnan(scanned.base.series.values).any()
            assert [round(p, 6) for p, _ in scanned.base.found_seasons] == [12.0]
            assert scanned.resolved["prepare"]["every"] == "1mo"
            assert scanned.resolved["baseline"]["seasons"] == ["1y"]
            found = [f for f in scanned.findings if f.kind == "outlier"]
            assert [f.start for f in found] == [int(months().times[150])]

    def test_quarters_and_years_count_as_they_are(self):
        quarters = Input("", month_start(np.arange(218) * 3 - 132), RNG(0).normal(100, 3, 218))
        assert stages.prepare(quarters, plan_of()).cadence.months == 3
        assert stages.prepare(quarters, plan_of()).series.step_ns * 4 == YEAR_NS
        old = Input("", month_start(np.arange(100) * 12 - 1188), RNG(0).normal(1000, 150, 100))
        scanned = stages.scan(old, plan_of(seasons=["1y"]))
        assert len(scanned.base.series) == 100
        assert clock.format_time(int(scanned.base.series.times[0])) == "1871-01-01T00:00:00Z"
        assert "a season of one sample" in " ".join(scanned.base.notes)

    def test_days_are_put_into_months_on_request_by_the_wall_clock(self):
        dates = days(dt.date(2024, 1, 1), 366)
        stream = Input("", stamps_of(dates, "Europe/Dublin"), np.ones(366), "Europe/Dublin")
        prepared = stages.prepare(stream, plan_of(prepare={"every": "1mo", "combine": "sum"}))
        assert prepared.series.values.tolist() == [31, 29, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31]
        local = prepared.series.times + prepared.series.offsets_ns
        assert np.array_equal(local, month_start(np.arange(648, 660)))

    def test_a_forecast_names_the_next_months_and_is_near(self):
        stream = months()
        whole = ahead.forecast(Input("", stream.times[:228], stream.values[:228]), plan_of(), 12)
        assert np.array_equal(whole.times, stream.times[228:])
        assert np.mean(np.abs(whole.expected - stream.values[228:])) < 4
        inside = (stream.values[228:] >= whole.lower) & (stream.values[228:] <= whole.upper)
        assert inside.mean() >= 0.75

    def test_replay_knows_a_month_at_its_end_and_nothing_later(self):
        stream = months(seed=3)
        plan = text.from_data({"baseline": {"seasons": ["12mo"]}, "flag": {"level": {"sigmas": 5}}})
        whole = stages.scan(stream, plan, mode="replay")
        [found] = [f for f in whole.findings if f.kind == "outlier" and f.start == stream.times[150]]
        assert found.raised == stream.times[151]
        cut = stages.scan(Input("", stream.times[:160], stream.values[:160]), plan, mode="replay")
        for name in ("expected", "spread", "score"):
            assert np.array_equal(getattr(cut.base, name), getattr(whole.base, name)[:160], equal_nan=True), (
                name
            )

    def test_a_kept_model_judges_the_months_that_follow(self, tmp_path):
        stream = months()
        plan = plan_of(seasons=["12mo"])
        scanned = stages.scan(Input("", stream.times[:120], stream.values[:120]), plan, is_kept=True)
        (tmp_path / "m").write_bytes(saved.write([saved.saved_of(scanned, plan)]))
        [model] = saved.read(str(tmp_path / "m"))
        applied = saved.apply(model, Input("", stream.times[120:], stream.values[120:]))
        assert len(applied.base.series) == 120 and np.abs(applied.z[30]) > 5
        assert np.median(np.abs(applied.z)) < 2.5


class TestWorkingDays:
    def test_weekends_are_no_gaps_and_a_week_is_five_samples(self):
        scanned = stages.scan(working(lost=(40, 200)), plan_of())
        series = scanned.base.series
        assert len(series) == len(working().times) and int(np.isnan(series.values).sum()) == 2
        assert [p for p, _ in scanned.base.found_seasons] == [5.0]
        assert scanned.resolved["prepare"]["every"] == "workday"

    def test_mondays_and_days_behind_holidays_keep_their_change(self):
        stream = working(lost=(40, 200))
        for name in ("percent", "difference"):
            plan = text.from_data({"prepare": {"transform": name}})
            scanned = stages.scan(stream, plan)
            judged = ~np.isnan(scanned.z)
            assert judged.sum() == len(stream.times) - 1
            before = np.roll(stream.values, 1)[1:]
            change = (
                (stream.values[1:] / before - 1) * 100 if name == "percent" else stream.values[1:] - before
            )
            seen = ~np.isnan(scanned.base.series.values)
            got = (scanned.base.series.values - scanned.base.expected)[seen][1:]
            assert np.isfinite(got).all() and len(change) == len(got)

    @pytest.mark.parametrize("zone", ["Europe/Dublin", "America/New_York"])
    def test_midnights_stay_midnights_through_clock_changes(self, zone):
        stream = working(zone=zone)
        series = stages.prepare(stream, plan_of()).series
        assert np.array_equal(series.times, stream.times) and not np.isnan(series.values).any()
        assert np.all((series.times + series.offsets_ns) % DAY_NS == 0)

    def test_a_forecast_skips_the_weekend(self):
        stream = working(n_days=810)
        f = ahead.forecast(stream, plan_of(), 5)
        weekdays = (f.times // DAY_NS + 3) % 7
        assert set(weekdays.tolist()) <= {0, 1, 2, 3, 4} and np.all(np.diff(f.times) > 0)

    def test_two_rows_a_day_are_refused_with_day_and_remedy(self):
        stream = working(n_days=60)
        both = Input(
            "", np.r_[stream.times, stream.times[:1] + 8 * 3_600 * SECOND_NS], np.r_[stream.values, 1.0]
        )
        with pytest.raises(ValueError, match=r"2022-01-03 holds 2 samples.*--combine"):
            stages.prepare(both, plan_of(prepare={"every": "workday"}))
        prepared = stages.prepare(both, plan_of(prepare={"every": "workday", "combine": "last"}))
        assert prepared.series.values[0] == 1.0


class TestLongSeasons:
    def two_years(self, n=730):
        t = np.arange(n)
        y = (
            50
            + 15 * np.sin(2 * np.pi * t / 365.2425)
            + 3 * np.sin(2 * np.pi * t / 7)
            + RNG(2).normal(0, 1.5, n)
        )
        y[600:601] += 15
        return Input("", (np.int64(18_993) + t) * DAY_NS, y)

    def test_two_years_carry_a_year_with_a_note_and_auto_finds_it(self):
        for seasons in (["7d", "1y"], "auto"):
            scanned = stages.scan(self.two_years(), plan_of(seasons=seasons))
            assert "1y" in scanned.resolved["baseline"]["seasons"]
            assert scanned.resolved["baseline"]["kind"] == "harmonic"
            hit = [f for f in scanned.findings if f.kind == "outlier"]
            assert [f.peak_time for f in hit] == [int(self.two_years().times[600])]
        assert "is seen 2.0 times" in " ".join(
            stages.scan(self.two_years(), plan_of(seasons=["1y"])).base.notes
        )

    def test_noise_without_a_year_gets_none(self):
        for seed in range(4):
            t = np.arange(800)
            y = 50 + 3 * np.sin(2 * np.pi * t / 7) + RNG(seed).normal(0, 1.5, 800)
            scanned = stages.scan(Input("", (np.int64(18_993) + t) * DAY_NS, y), plan_of())
            assert "1y" not in scanned.resolved["baseline"]["seasons"], seed

    def test_what_was_seen_once_has_a_wider_band_than_what_was_seen_three_times(self):
        """A year and a half: its first half is the only one of its kind that has an equal."""
        t = np.arange(3 * 365)
        y = 50 + 15 * np.sin(2 * np.pi * t / 365.2425) + RNG(5).normal(0, 1.5, len(t))
        spreads = []
        for n in (400, 1095):
            scanned = stages.scan(Input("", t[:n] * DAY_NS, y[:n]), plan_of(seasons=["1y"]))
            spreads.append(float(np.nanmedian(scanned.base.spread)))
        assert spreads[0] > 1.15 * spreads[1]

    @pytest.mark.parametrize("kind", ["loess", "classical", "slot"])
    def test_other_kinds_name_the_remedy_and_none_takes_more_than_there_is(self, kind):
        with pytest.raises(ValueError, match="take kind: harmonic"):
            stages.scan(self.two_years(), plan_of(kind=kind, seasons=["1y"]))
        with pytest.raises(ValueError, match="longer than the 300 samples"):
            stages.scan(self.two_years(300), plan_of(seasons=["1y"]))


def ordinary():
    """One stream of each cadence, none with a strong season."""
    n = 150
    noise = RNG(8).normal(10, 1, n)
    return {
        "seconds": Input("", np.arange(n) * SECOND_NS, noise),
        "days": Input("", (18_000 + np.arange(n)) * DAY_NS, noise),
        "workdays": working(n_days=210),
        "weeks": Input("", (18_000 + 7 * np.arange(n)) * DAY_NS, noise),
        "months": Input("", month_start(np.arange(n)), noise),
        "years": Input("", month_start(np.arange(n) * 12 - 1_200), noise),
    }


@pytest.mark.parametrize("kind", KINDS)
@pytest.mark.parametrize("name", list(ordinary()))
def test_every_kind_runs_with_no_options_on_any_cadence_or_names_what_it_needs(kind, name):
    stream = ordinary()[name]
    for mode in ("fit", "replay"):
        try:
            scanned = stages.scan(stream, plan_of(kind=kind), mode=mode)
        except ValueError as error:
            assert kind in ("classical", "slot") and "needs a season" in str(error)
            continue
        if mode == "fit":
            assert np.mean(~np.isnan(scanned.z)) > 0.4, (kind, name)


class TestRows:
    def test_each_row_follows_the_one_before(self):
        n = 300
        times = np.cumsum(RNG(1).integers(0, 3_000, n)) * SECOND_NS
        y = 20 + 5 * np.sin(2 * np.pi * np.arange(n) / 12) + RNG(2).normal(0, 0.5, n)
        y[200] += 9
        scanned = stages.scan(Input("", times, y), plan_of(seasons=[12], prepare={"every": "rows"}))
        assert len(scanned.base.series) == n and scanned.resolved["prepare"]["every"] == "rows"
        [found] = [f for f in scanned.findings if f.kind == "outlier"]
        assert found.start == times[200]
        plan = plan_of(prepare={"every": "rows", "transform": "difference"})
        assert np.sum(~np.isnan(stages.scan(Input("", times, y), plan).z)) == n - 1


class TestJitter:
    def minutes(self, n=20_160, late=1.5, seed=0):
        t = np.arange(n)
        at = t * 60 + RNG(seed).uniform(0, late, n)
        y = 20 + 5 * np.sin(2 * np.pi * t / 1_440) + RNG(seed + 1).normal(0, 0.4, n)
        return Input("", 1_772_323_200 * SECOND_NS + (at * SECOND_NS).astype(np.int64), y)

    def test_the_day_is_a_day_and_nothing_is_missing(self):
        scanned = stages.scan(self.minutes(), plan_of())
        series = scanned.base.series
        assert series.step_ns == 60 * SECOND_NS and len(series) == 20_160
        assert not np.isnan(series.values).any() and np.all(series.times % (60 * SECOND_NS) == 0)
        assert [p for p, _ in scanned.base.found_seasons] == [1_440.0]

    def test_a_finished_and_a_live_reading_lie_on_one_grid(self):
        stream = self.minutes(3_000, late=20, seed=4)
        plan = plan_of(seasons=[], kind="rolling")
        whole = stages.scan(stream, plan, mode="replay").base
        assert np.array_equal(whole.series.times, stages.scan(stream, plan).base.series.times)
        for cut in (2_000, 2_431):
            part = stages.scan(Input("", stream.times[:cut], stream.values[:cut]), plan, mode="replay").base
            for name in ("expected", "spread", "score"):
                assert np.array_equal(
                    getattr(part, name), getattr(whole, name)[: len(part.series)], equal_nan=True
                ), (name, cut)

    def test_finer_samples_that_are_late_fall_into_their_own_quarter_hour(self):
        stream = self.minutes(1_440, late=20)
        early = Input("", stream.times - 10 * SECOND_NS, stream.values)
        for s in (stream, early):
            prepared = stages.prepare(s, plan_of(prepare={"every": "15m", "combine": "count"}))
            assert np.all(prepared.series.values == 15)


class TestChanges:
    def stream(self, fine=8_000, coarse=1_500):
        """Minutes, then five minutes; a daily season and one burst in either part."""
        t = np.r_[np.arange(fine), fine - 1 + 5 * np.arange(1, coarse + 1)]
        y = 20 + 5 * np.sin(2 * np.pi * t / 1_440) + RNG(3).normal(0, 0.4, len(t))
        y[6_000:6_010] += 6
        y[fine + 1_200 : fine + 1_204] += 6
        return Input("", 1_772_323_200 * SECOND_NS + t * 60 * SECOND_NS, y)

    def test_fitted_the_coarser_rules_and_it_is_said(self):
        scanned = stages.scan(self.stream(), plan_of())
        assert scanned.base.series.step_ns == 300 * SECOND_NS
        assert "changes from 1m to 5m" in " ".join(scanned.base.notes)

    def test_replayed_the_change_is_followed_and_cut_data_say_the_same(self):
        plan = text.from_data(
            {"baseline": {"seasons": ["24h"]}, "flag": {"level": {"sigmas": 5}}, "replay": {"window": "2d"}}
        )
        stream = self.stream()
        whole = stages.scan(stream, plan, mode="replay")
        steps = np.diff(whole.base.series.times) // (60 * SECOND_NS)
        assert steps[:7_990].tolist() == [1] * 7_990 and set(steps[8_600:].tolist()) == {5}
        assert set(steps.tolist()) == {1, 5}
        assert whole.resolved["replay"]["cadences"][0]["after"] == "5m"
        peaks = [f.peak_time for f in whole.findings if f.kind == "outlier" and f.score > 8]
        for first, last in ((6_000, 6_010), (9_200, 9_204)):
            assert any(stream.times[first] <= p <= stream.times[last] for p in peaks)
        for cut in (7_000, 8_050, 8_120, 8_900):
            part = stages.scan(Input("", stream.times[:cut], stream.values[:cut]), plan, mode="replay").base
            ended = part.series.ends <= stream.times[cut - 1]
            at = np.searchsorted(whole.base.series.times, part.series.times[ended])
            for name in ("expected", "spread", "score"):
                ours, theirs = getattr(part, name)[ended], getattr(whole.base, name)[at]
                assert np.array_equal(ours, theirs, equal_nan=True), (name, cut)


def test_a_kept_stage_comes_back_with_its_axis(tmp_path):
    base = stages.scan(months(), plan_of()).base
    cache.keep(Store(str(tmp_path)), "a", base, most_bytes=1 << 24)
    again = cache.load(Store(str(tmp_path)), "a")
    assert np.array_equal(again.series.axis, base.series.axis) and np.array_equal(
        again.series.ends, base.series.ends
    )
    assert outcome.seasons_of(again) == outcome.seasons_of(base)


@pytest.mark.parametrize(
    ("every", "message"),
    [
        ("0m", "must be positive"),
        ("soon", "no cadence"),
        ("workday xyz", "no weekday"),
        ("workday mon", "2 to 6"),
    ],
)
def test_a_cadence_that_cannot_be_is_refused_with_what_may_stand_there(every, message):
    with pytest.raises((ValueError, text.PlanError), match=message):
        stages.prepare(months(), plan_of(prepare={"every": every}))


def test_cadences_are_written_as_they_are_read():
    own = stages.prepare(months(), plan_of()).cadence
    for words in ("1mo", "3mo", "1y", "workday", "workday mon wed", "rows", "15m", "7d"):
        made = durations.parse_every(words, own, lambda: np.empty(0, np.int64))
        assert durations.format_every(made) == words
