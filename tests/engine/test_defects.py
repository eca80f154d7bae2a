"""Defects that scripts on real and made-up tables showed, each through the whole stage."""

import numpy as np
import pytest

from watchtide.core.expect.frame import DAY_NS
from watchtide.core.explain import diagnostics
from watchtide.engine.keep import saved
from watchtide.engine.prepare import preparing
from watchtide.engine.prepare.preparing import Beside, Input
from watchtide.engine.scan import ahead, examine, stages
from watchtide.plan import Plan
from watchtide.plan.text import from_data

HOUR = 3_600 * 10**9
START = 1_783_900_800 * 10**9


def hourly(values, **more):
    return Input("s", START + np.arange(len(values)) * HOUR, np.asarray(values, float), **more)


def daily_season(n):
    return 50 + 8 * np.sin(2 * np.pi * np.arange(n) / 24)


class TestCovariates:
    @pytest.fixture(scope="class")
    def warm(self):
        """A stream that follows a temperature, with its plan and temperature."""
        rng = np.random.default_rng(1)
        n = 24 * 50
        warmth = 15 + 5 * np.sin(2 * np.pi * np.arange(n) / 200) + rng.normal(0, 1, n)
        y = daily_season(n) + 2.0 * warmth + rng.normal(0, 1, n)
        plan = from_data({"baseline": {"seasons": ["24h"], "covariates": ["warmth"]}})
        return y, warmth, plan

    def stream(self, y, warmth, first=0):
        times = START + (first + np.arange(len(y))) * HOUR
        known = ~np.isnan(warmth)
        return Input("s", times, y, covariates=(Beside("warmth", times[known], warmth[known]),))

    def test_a_kept_model_reads_covariates_by_its_own_scale(self, warm):
        """Standardised by the new batch, ten degrees more looked like none: everything was flagged."""
        y, warmth, plan = warm
        cut = 24 * 40
        model = saved.saved_of(stages.scan(self.stream(y[:cut], warmth[:cut]), plan, is_kept=True), plan)
        later = slice(cut, None)
        hot = warmth[later] + 10
        got = saved.apply(model, self.stream(y[later] + 20, hot, cut))
        assert np.mean(got.flags != 0) < 0.02
        # A batch cut short says the same of the samples it holds.
        part = saved.apply(model, self.stream((y[later] + 20)[:50], hot[:50], cut))
        assert np.allclose(part.base.expected, got.base.expected[:50])

    def test_a_sample_whose_covariate_is_missing_is_judged_by_a_wider_spread(self, warm):
        y, warmth, plan = warm
        holed = warmth.copy()
        holed[500:510] = np.nan
        # Two of its own steps a covariate is held; the rest is unknown.
        got = stages.fit(self.stream(y, holed), plan)
        unknown = slice(503, 509)
        assert np.all(got.spread[unknown] > 3 * np.median(got.spread))
        assert np.nanmax(np.abs(got.own_score[unknown])) < 4

    def test_a_forecast_without_the_covariates_ahead_holds_its_interval(self, warm):
        y, warmth, plan = warm
        steps = 24 * 5
        got = ahead.forecast(self.stream(y, warmth), plan, steps, skip_last=steps)
        inside = np.mean((y[-steps:] >= got.lower) & (y[-steps:] <= got.upper))
        assert inside >= 0.85
        # What is skipped is not read, of the covariate either.
        other = warmth.copy()
        other[-steps:] += 100
        again = ahead.forecast(self.stream(y, other), plan, steps, skip_last=steps)
        assert np.array_equal(got.expected, again.expected) and np.array_equal(got.upper, again.upper)

    def test_kinds_that_cannot_use_a_covariate_say_so(self, warm):
        y, warmth, _ = warm
        plan = from_data({"baseline": {"kind": "slot", "seasons": ["24h"], "covariates": ["warmth"]}})
        assert any(
            "warmth: not used by a slot baseline" in n for n in stages.fit(self.stream(y, warmth), plan).notes
        )


class TestForecasts:
    def test_a_slope_goes_on(self):
        """Held at its last level, 0.05 an hour was 33 too low after 28 days, and a limit was never reached."""
        rng = np.random.default_rng(2)
        n, steps = 24 * 60, 24 * 7
        y = daily_season(n + steps) + 0.05 * np.arange(n + steps) + rng.normal(0, 1, n + steps)
        got = ahead.forecast(hourly(y[:n]), Plan(), steps)
        assert abs(np.mean(y[n:] - got.expected)) < 2
        assert any("damped local trend" in note for note in got.notes)
        limit = 50 + 8 + 0.05 * (n + 24 * 4)
        told = ahead.limit_reached(got, limit)
        assert told["expected_at"] is not None and told["chance_by_end"] > 0.9

    @pytest.mark.parametrize("seed", range(3))
    def test_a_level_that_does_not_move_is_held(self, seed):
        y = daily_season(24 * 60) + np.random.default_rng(seed).normal(0, 1, 24 * 60)
        got = ahead.forecast(hourly(y), Plan(), 24 * 7)
        truth = daily_season(24 * 67)[24 * 60 :]
        assert np.mean(np.abs(got.expected - truth)) < 0.5

    def test_counts_have_a_skewed_interval(self):
        y = np.random.default_rng(4).poisson(3.0, 24 * 60).astype(float)
        got = ahead.forecast(hourly(y), Plan(), 48)
        assert np.all(got.lower >= 0)
        assert np.median(got.upper - got.expected) > 1.2 * np.median(got.expected - got.lower)


def test_a_kept_rolling_model_judges_from_the_first_sample_on(tmp_path):
    rng = np.random.default_rng(5)
    y = daily_season(24 * 40) + rng.normal(0, 1, 24 * 40)
    plan = from_data({"baseline": {"kind": "rolling", "seasons": ["24h"]}})
    cut = 24 * 30
    model = saved.saved_of(stages.scan(hourly(y[:cut]), plan, is_kept=True), plan)
    (tmp_path / "m").write_bytes(saved.write([model]))
    [again] = saved.read(str(tmp_path / "m"))
    part = Input("s", START + np.arange(cut, len(y)) * HOUR, y[cut:])
    got = saved.apply(again, part)
    assert not np.isnan(got.base.expected[0])
    whole = saved.apply(again, hourly(y))
    assert np.allclose(got.base.expected[:24], whole.base.expected[cut : cut + 24])


@pytest.mark.parametrize("of", ["spread", "slope"])
def test_shifts_of_spread_and_slope_are_raised_in_replay(of):
    """They were dropped without a word."""
    rng = np.random.default_rng(6)
    n = 24 * 80
    y = daily_season(n) + rng.normal(0, 1, n) * np.where(np.arange(n) < 24 * 50, 1.0, 3.0)
    if of == "slope":
        y = daily_season(n) + rng.normal(0, 1, n) + 0.03 * np.maximum(np.arange(n) - 24 * 50, 0)
    plan = from_data({"baseline": {"kind": "slot", "seasons": ["24h"]}, "shifts": {"of": of}})
    found = [f for f in stages.scan(hourly(y), plan, (), "replay").findings if f.kind == "shift"]
    at = START + 24 * 50 * HOUR
    assert any(at - DAY_NS <= f.start <= at + 6 * DAY_NS for f in found)


@pytest.mark.parametrize(("level", "scale"), [(0.0, 1e-15), (1e15, 100.0)])
def test_a_spike_shows_at_any_size_and_level(level, scale):
    """A floor of 1e-12 hid small values, one of 1e-9 of the level what lies on a large one."""
    rng = np.random.default_rng(7)
    y = level + scale * (daily_season(24 * 40) - 50 + rng.normal(0, 1, 24 * 40))
    y[600] += 12 * scale
    got = stages.scan(hourly(y), Plan())
    assert got.flags[600] == 1 and np.mean(got.flags != 0) < 0.01


def test_a_constant_stream_is_still_never_flagged():
    for value in (0.0, 0.1, 5.0, 1e15):
        assert not stages.scan(hourly(np.full(24 * 40, value)), Plan()).flags.any()


class TestDiagnoses:
    def test_autocorrelated_remainders_are_named(self):
        rng = np.random.default_rng(8)
        z = np.zeros(2_000)
        for i in range(1, 2_000):
            z[i] = 0.6 * z[i - 1] + rng.normal(0, 0.8)
        told = diagnostics.autocorrelated(z)
        assert told is not None and "correlation of 0." in told.words
        assert diagnostics.autocorrelated(rng.normal(size=2_000)) is None
        assert diagnostics.autocorrelated(np.full(500, np.nan)) is None

    def test_the_q_is_that_of_ljung_and_box(self):
        rng = np.random.default_rng(9)
        z = np.convolve(rng.normal(size=400), [1, 0.9])[:400] * 0.5
        y = np.clip(z, -3, 3) - np.clip(z, -3, 3).mean()
        r = [np.sum(y[k:] * y[:-k]) / np.sum(y**2) for k in range(1, 25)]
        q = 400 * 402 * sum(x**2 / (400 - k) for k, x in enumerate(r, 1))
        assert f"Q {q:.0f}" in diagnostics.autocorrelated(z).words

    def test_a_remainder_that_follows_from_the_samples_before_it_may_be_learned(self):
        rng = np.random.default_rng(11)
        z = np.zeros(20_000)
        for i in range(1, 20_000):
            z[i] = 0.8 * z[i - 1] + rng.normal(0, 0.6)
        found = diagnostics.structured(z)
        # Of a first-order process the past foretells the square of its correlation.
        assert found is not None and found.remedy == {"baseline.kind": "auto+learned"}
        share = int(found.words.split("foretell ")[1].split("%")[0])
        assert share == pytest.approx(64, abs=4)
        assert diagnostics.structured(rng.normal(size=20_000)) is None
        assert diagnostics.structured(z[:900]) is None
        assert diagnostics.structured(np.full(20_000, np.nan)) is None
        assert diagnostics.structured(np.zeros(20_000)) is None
        assert diagnostics.structured(np.zeros(10)) is None
        # A gap every 20 samples leaves no row whole.
        holes = np.where(np.arange(20_000) % 20 == 0, np.nan, z)
        assert diagnostics.structured(holes) is None

    def test_the_smallest_deviation_that_is_flagged_is_the_level_times_the_spread(self):
        rng = np.random.default_rng(10)
        got = stages.scan(hourly(daily_season(24 * 40) + rng.normal(0, 2, 24 * 40)), Plan())
        told = examine.smallest(got)
        assert told["above"] == pytest.approx(got.level.above * np.median(got.base.spread), rel=1e-6)
        one_sided = from_data({"flag": {"side": "above"}})
        assert examine.smallest(stages.scan(hourly(daily_season(24 * 40)), one_sided))["below"] is None


def test_gauges_and_counts_are_told_apart_by_their_dispersion_in_replay_too():
    rng = np.random.default_rng(11)
    assert preparing.are_counts(rng.poisson(1_000, 500).astype(float))
    assert not preparing.are_counts(np.round(1_000 + rng.normal(0, 3, 500)))
