"""Every baseline by the same checks; steps that become normal, spreads, seasons, and odd inputs."""

from dataclasses import replace

import numpy as np
import pytest
from scipy.signal import lfilter

from watchtide.core import robust
from watchtide.core.expect import applying, baselines, choosing, expectation, fitting, seasons, spread
from watchtide.core.expect.baselines import KINDS, fixed, following, isolation
from watchtide.core.expect.fitting import choose_periods
from watchtide.core.expect.frame import Frame, frame_of, period_of, slots
from watchtide.core.expect.quantile import Counted
from watchtide.core.expect.records import Choice
from watchtide.core.judge import replay, standing
from watchtide.core.judge.flagging import flag
from watchtide.core.judge.grouping import Group, find_runs
from watchtide.core.series import SECOND_NS, Series, regrid, wall_clock

STEP = 3_600 * SECOND_NS
DAY = 24
PERIODS = choose_periods([DAY], STEP)
FOLLOWS = ("harmonic", "loess", "classical", "slot", "rolling", "spectrum")
# Small enough for a test; what is not named has its defaults.
OPTIONS = {
    "isolation": {"trees": 30, "lags": 4},
    "rolling": {"window_ns": 3 * 24 * STEP},
    "spectrum": {"window_ns": 48 * STEP},
}


def series_of(y, offsets=None):
    times = np.arange(len(y), dtype=np.int64) * STEP
    return Series(
        times, np.asarray(y, float), STEP, np.zeros(len(y), np.int64) if offsets is None else offsets
    )


def frame(y, **more):
    return frame_of(series_of(y), **more)


def daily(days, noise=0.3, seed=0):
    t = np.arange(days * DAY)
    return 10 + 4 * np.sin(2 * np.pi * t / DAY) + np.random.default_rng(seed).normal(0, noise, len(t))


def expect(y, kind="harmonic", *, stop=None, periods=PERIODS, settle=0, **more):
    choice = Choice(kind, periods, OPTIONS.get(kind, {}), settle_samples=settle, **more)
    return expectation.expect(frame(y), choice, stop=stop)


def scores(y, got):
    return (y - got.expected) / got.spread


@pytest.mark.parametrize("kind", KINDS)
class TestEveryBaseline:
    """The same checks for every kind, by one protocol."""

    def test_sees_a_spike_and_little_else(self, kind):
        y = daily(28)
        y[300] += 25
        got = expect(y, kind)
        size = np.abs(scores(y, got))
        if kind == "isolation":
            assert got.isolated is not None and np.nanargmax(got.isolated) in range(300, 304)
            return
        assert size[300] > 4 and np.nanargmax(size) == 300
        # One spike touches what is expected of the samples after it, where a kind looks back.
        assert np.nanmean(np.delete(size, np.arange(300, 380)) > 4) < 0.015

    def test_follows_shift_and_scale(self, kind):
        y = daily(21)
        one, other = expect(y, kind), expect(y * 7 - 1000, kind)
        assert np.allclose(other.expected, one.expected * 7 - 1000, atol=1e-5, equal_nan=True)
        assert np.allclose(other.spread, one.spread * 7, rtol=1e-3, equal_nan=True)

    def test_the_future_of_the_training_part_changes_nothing_before_it(self, kind):
        y = daily(28)
        changed = y.copy()
        changed[500:] = 1e6
        one, other = (expect(v, kind, stop=500) for v in (y, changed))
        assert np.array_equal(one.expected[:500], other.expected[:500], equal_nan=True)
        assert np.array_equal(one.spread[:500], other.spread[:500], equal_nan=True)
        assert one.expected[500] == other.expected[500], (
            "the first sample after it is expected by what came before"
        )

    def test_a_kept_fit_says_the_same_of_the_same_samples(self, kind):
        y = daily(28)
        fitted = baselines.fit(kind, frame(y), PERIODS, OPTIONS.get(kind))
        again = baselines.Fitted(
            kind, fitted.periods, {k: v.copy() for k, v in fitted.arrays.items()}, dict(fitted.facts)
        )
        one, other = fitted.expect(frame(y)).expected, again.expect(frame(y)).expected
        assert np.array_equal(one, other, equal_nan=True)

    @pytest.mark.parametrize(
        "y",
        [
            np.full(200, 3.0),
            np.full(200, np.nan),
            np.array([1.0] + [np.nan] * 99),
            daily(10) * 1e9,
            np.zeros(200),
        ],
        ids=["constant", "all missing", "one sample", "huge", "zero"],
    )
    def test_odd_series_give_no_error_and_no_infinity(self, kind, y):
        try:
            got = expect(y, kind, settle=72)
        except ValueError as error:
            # One sample and a season of 24: what needs two of them says so.
            assert np.sum(~np.isnan(y)) == 1 and any(
                w in str(error) for w in ("history", "shorter", "take kind")
            )
            return
        assert not np.isinf(got.expected).any()
        assert np.all(np.isnan(got.spread) | (got.spread > 0))

    def test_gaps_are_expected_through(self, kind):
        y = daily(28)
        y[200:212] = np.nan
        got = expect(y, kind)
        late = slice(96, None)
        assert np.isfinite(got.expected[late]).mean() > 0.95

    def test_replay_on_cut_data_says_the_same_to_the_last_bit(self, kind):
        y = daily(24, seed=3)
        y[400:404] += 6
        y[450:470] = np.nan
        whole, cut = (replayed(v, kind) for v in (y, y[:461]))
        for name in ("expected", "spread", "above", "below", "odd"):
            assert np.array_equal(getattr(whole, name)[:461], getattr(cut, name), equal_nan=True), name
        for name in ("score", "side", "window", "first"):
            assert np.array_equal(
                getattr(whole.evidence, name)[:461], getattr(cut.evidence, name), equal_nan=True
            ), name
        assert findings(whole, y, until=461) == findings(cut, y[:461])

    def test_what_is_expected_of_a_sample_in_replay_does_not_look_at_it(self, kind):
        y = daily(24, seed=4)
        changed = y.copy()
        changed[430] += 40
        one, other = replayed(y, kind), replayed(changed, kind)
        assert np.array_equal(one.expected[:431], other.expected[:431], equal_nan=True)
        assert np.array_equal(one.spread[:431], other.spread[:431], equal_nan=True)
        assert not np.isnan(one.expected[430])


def replayed(y, kind):
    rules = standing.Rules("per-week", 0.5, "both", Group(), True)
    choose = lambda part: Choice(kind, PERIODS, OPTIONS.get(kind, {}), settle_samples=72)
    return replay.replay(frame(y), standing.Cadence(14 * DAY, DAY, 14 * DAY), choose, rules)


def findings(got, y, until=None):
    """(start, raised) of what was raised within the first `until` samples."""
    flags = flag(got.evidence, *(np.nan_to_num(x, nan=np.inf) for x in (got.above, got.below, got.odd)))
    runs = find_runs(flags, got.evidence.score, np.arange(len(y)), Group(2, 3), got.evidence.first)
    return [
        (int(a), int(r)) for a, r in zip(runs.first, runs.raised, strict=True) if until is None or r < until
    ]


@pytest.mark.parametrize("kind", FOLLOWS)
def test_kinds_that_know_the_season_expect_it(kind):
    y = daily(28)
    got = expect(y, kind)
    away = np.abs(y - got.expected)[4 * DAY : -DAY]
    assert np.nanmedian(away) < 0.45 and 0.2 < np.nanmedian(got.spread) < 0.6


def test_a_tide_of_no_whole_samples_is_fitted_by_harmonics_and_refused_by_loess():
    t = np.arange(24 * 40)
    y = 3 * np.cos(2 * np.pi * t / 12.42) + np.random.default_rng(0).normal(0, 0.1, len(t))
    periods = choose_periods([12.42], STEP)
    assert np.std(y - expect(y, periods=periods).expected) < 0.12
    with pytest.raises(
        ValueError, match=r"12.42 h is 12.42 samples, not a whole number; take kind: harmonic"
    ):
        expect(y, "loess", periods=periods)


def test_harmonics_equal_least_squares_where_nothing_is_penalised():
    """Closed form: two weeks of a noisy sinusoid, one harmonic, against numpy's own least squares."""
    y = daily(14, seed=5)
    t = np.arange(len(y))
    fitted = baselines.fit(
        "harmonic", frame(y), PERIODS,
        {"harmonics_most": 1, "is_robust": False, "ridge": {"season": 1e-14, "shared": 1e-14, "bends": 1e-14}},
    )  # fmt: skip
    x = np.column_stack([np.ones(len(t)), t, np.cos(2 * np.pi * t / DAY), np.sin(2 * np.pi * t / DAY)])
    plain = x @ np.linalg.lstsq(x, y, rcond=None)[0]
    assert np.allclose(fitted.expect(frame(y)).expected, plain, atol=2e-3)


def test_a_log_link_fits_counts_whose_parts_multiply():
    rng = np.random.default_rng(0)
    t = np.arange(24 * 42)
    mean = np.exp(0.5 + 1.2 * np.sin(2 * np.pi * t / DAY) + 0.4 * (t > 500))
    y = rng.poisson(mean).astype(float)
    f = Frame(
        t * STEP,
        np.zeros(len(t), np.int64),
        STEP,
        y,
        np.ones(len(t), bool),
        np.ones(len(t)),
        np.zeros((0, len(t))),
        (),
        Counted(np.ones(len(t)), np.full(len(t), np.inf)),
    )
    got = expectation.expect(f, Choice("harmonic", PERIODS, {}, "count", True))
    assert np.mean(np.abs(got.expected - mean) / mean) < 0.16
    # Flags at 4 sigmas are about as rare as those of a Gaussian, however small the mean.
    z = applying.score_of(got.model, f, got.expected, got.spread)
    assert np.mean(z > 4) < 0.002 and np.mean(z > 2) < 0.035


def test_counts_of_almost_nothing_are_not_flagged_for_coming_at_all():
    y = np.random.default_rng(1).poisson(0.02, 4000).astype(float)
    f = Frame(
        np.arange(4000) * STEP,
        np.zeros(4000, np.int64),
        STEP,
        y,
        np.ones(4000, bool),
        np.ones(4000),
        np.zeros((0, 4000)),
        (),
        Counted(np.ones(4000), np.full(4000, np.inf)),
    )
    got = expectation.expect(f, Choice("harmonic", (), {}, "count"))
    z = applying.score_of(got.model, f, got.expected, got.spread)
    # One event has a chance of about 0.02, so that its mid-probability is about 0.01; two have one of 0.0002.
    assert np.all(np.abs(z[y == 1] - 2.4) < 0.3) and np.mean(z >= 3) < 0.001


def test_a_ratio_narrows_as_its_denominator_grows():
    rng = np.random.default_rng(2)
    d = np.where(np.arange(3000) % 2, 20.0, 2000.0)
    y = rng.binomial(d.astype(int), 0.1) / d * 1000
    got = expectation.expect(
        frame(y, weights=d / d.mean()), Choice("harmonic", (), {}, "ratio", unit=1000.0), denominator=d
    )
    few, many = np.median(got.spread[1::2]), np.median(got.spread[::2])
    # Binomial: sqrt(p (1 - p) / d), in per mille.
    assert few == pytest.approx(67, rel=0.1) and many == pytest.approx(6.7, rel=0.1)
    assert got.model.spread.has_trials
    assert spread.counting_unit(y, d) == 1000.0 and spread.counting_unit(rng.normal(50, 1, 3000), d) == 0.0


def test_known_days_and_covariates_explain_what_they_cause():
    y = daily(42, seed=6)
    holiday = np.zeros(len(y))
    for day in (5, 19, 33):
        holiday[day * DAY : (day + 1) * DAY] = 1
    wind = np.random.default_rng(0).normal(size=len(y))
    hurt = y - 5 * holiday + 2 * wind
    f = frame(hurt)
    beside = Frame(
        f.times,
        f.offsets_ns,
        STEP,
        hurt,
        f.usable,
        f.weights,
        np.stack([holiday, wind]),
        ("known day", "wind"),
    )
    fitted = baselines.fit("harmonic", beside, PERIODS)
    parts = fitted.expect(beside)
    assert np.std(hurt - parts.expected) < 0.35
    assert np.median(parts.more["known day"][holiday > 0]) == pytest.approx(-5, abs=0.3)
    assert np.polyfit(wind, parts.more["wind"], 1)[0] == pytest.approx(2, abs=0.1)


def test_limits_are_proposed_from_history_with_a_reason():
    y = np.r_[daily(20), 500.0]
    got = fixed.propose(y)
    assert (
        14 < got.upper < 18 and 2 < got.lower < 7 and got.beyond == 1 and "samples lie between" in got.reason
    )
    assert np.isnan(fixed.propose(np.abs(np.random.default_rng(0).normal(size=300))).lower), (
        "0 is usual: no limit below"
    )
    with pytest.raises(ValueError, match="must be under the upper one"):
        baselines.fit("fixed", frame(y), (), {"lower": 3.0, "upper": 1.0})
    fitted = baselines.fit("fixed", frame(y), (), {"upper": 20.0, "lower": 0.0})
    parts = fitted.expect(frame(y))
    assert parts.expected[0] + 4 * parts.spread[0] == 20 and parts.expected[0] - 4 * parts.spread[0] == 0


def test_isolation_trees_find_the_row_set_apart():
    rng = np.random.default_rng(0)
    y = rng.normal(size=600)
    y[300:304] = [4, -4, 4, -4]
    fitted = baselines.fit("isolation", frame(y), (), {"lags": 4, "trees": 60, "share": 0.01})
    strength = isolation.strength(fitted, frame(y))
    assert np.nanargmax(strength) in range(300, 306) and np.isnan(strength[:3]).all()
    assert np.mean(strength[~np.isnan(strength)] >= 4) == pytest.approx(0.01, abs=0.004), (
        "the expected share reaches 4"
    )


@pytest.mark.parametrize(
    ("kind", "options", "words"),
    [
        ("magic", {}, "must be one of auto, loess"), ("next-step", {"window_ns": 1}, "it needs 2 at least"),
        ("reconstruction", {"per": "family"}, "take per: stream"),
        ("slot", {"centre": "top"}, "centre must be one of"), ("slot", {"previous": 0}, "at least 1 season"),
        ("rolling", {"window_ns": 1}, "it needs at least 2"), ("spectrum", {"rank": 999}, "rank must be between"),
        ("spectrum", {"method": "guess"}, "reconstruction or forecast"), ("trailing", {"share": 2.0}, "under 1"),
        ("isolation", {"trees": 0}, "trees must be between"), ("isolation", {"share": 0.9}, "under 0.5"),
    ],
)  # fmt: skip
def test_what_a_kind_cannot_use_is_refused_with_the_range(kind, options, words):
    with pytest.raises(ValueError, match=words):
        baselines.fit(kind, frame(daily(14)), PERIODS, options)


def test_a_spectrum_keeps_no_swing_of_coloured_noise():
    t = np.arange(DAY * 110)
    true = 8 * np.sin(2 * np.pi * t / DAY) + 3 * np.cos(4 * np.pi * t / DAY)
    ranks, after = [], []
    for seed in range(12):
        y = true + lfilter([1.0], [1.0, -0.6], np.random.default_rng(seed).normal(size=len(t)))
        fitted = baselines.fit("spectrum", frame(y).part(0, DAY * 90), PERIODS, {"window_ns": 48 * STEP})
        ranks.append(fitted.facts["rank"])
        after.append(np.std(fitted.expect(frame(y)).expected[DAY * 90 :] - true[DAY * 90 :]))
    # Two oscillations are four vectors, the level is a fifth; by the threshold alone five of these streams keep seven.
    assert max(ranks) <= 6 and np.mean(np.array(ranks) == 5) > 0.8
    assert np.median(after) < 0.6


def test_same_slot_and_classical_need_a_season():
    for kind in ("slot", "classical"):
        with pytest.raises(ValueError, match="needs a season"):
            baselines.fit(kind, frame(daily(14)), ())


def followed(levels, last=None):
    return following.followed(
        np.asarray(levels, float)[:, None], np.array([levels[-1] if last is None else last], float)
    )[0]


def test_the_cycle_expected_next_is_the_one_that_foretold_best():
    # By hand: means 0, 4, 0, 4, 0, 4 foretell one another worst by the last (4 each time), best by the mean of all so far.
    to_and_fro = np.array([0.0, 4, 0, 4, 0, 4])
    assert followed(to_and_fro) == pytest.approx(2.0)
    assert followed(to_and_fro[1:]) == 4.0  # five cycles show nothing yet: the last
    assert followed(np.arange(20.0)) == 19.0  # a level that goes on its way is followed
    levels = np.array([8.0, 0, 8, 8, 0, 8, 8, 0])
    ways = {}
    for share in (1, 0.5, 0.25, 0.125, 0.06):
        level, errors = 8.0, []
        for i in range(1, len(levels)):
            errors += [abs(levels[i] - level)] if i > 1 else []
            level = level + max(share, 1 / (i + 1)) * (levels[i] - level)
        ways[share] = (sum(errors), level)
    assert followed(levels) == pytest.approx(min(ways.values(), key=lambda w: w[0])[1])
    # A gap is no news, and a place seen too seldom keeps what it is given.
    assert followed([0.0, 4, np.nan, 0, 4, np.nan, 0, 4]) == pytest.approx(2.0)
    assert followed([np.nan] * 5 + [1.0, 1, 1], last=7.0) == 7.0


@pytest.mark.parametrize("kind", ["loess", "classical"])
def test_a_season_is_carried_by_all_that_was_seen_of_it(kind):
    """The last smoothed cycle errs by the chance of the last few: in 60 days of one shape the error ahead is that of their mean."""
    wrong = []
    for seed in range(8):
        y = daily(60, noise=1.5, seed=seed)
        got = baselines.fit(kind, frame(y).part(0, 50 * 24), PERIODS).expect(frame(y)).seasons[0]
        true = daily(60, noise=0.0) - 10
        wrong.append(np.sqrt(np.mean((got - true)[50 * 24 :] ** 2)))
    assert np.median(wrong) < 1.6 * 1.5 / np.sqrt(50)
    # A shape that changes for good is followed.
    y = np.r_[daily(40), daily(40)[::-1]]
    got = baselines.fit("loess", frame(y).part(0, 78 * 24), PERIODS).expect(frame(y))
    assert np.abs(got.expected - y)[78 * 24 :].mean() < 1.5


def test_a_carried_classical_level_errs_less_than_one_season_does():
    errors, by_the_last = [], []
    for seed in range(20):
        y = daily(40) + np.random.default_rng(seed).normal(0, 2, len(daily(40)))
        fitted = baselines.fit("classical", frame(y).part(0, 30 * 24), PERIODS)
        got = fitted.expect(frame(y))
        assert np.allclose(got.expected, got.trend + got.seasons.sum(axis=0))
        errors.append(got.trend[-1] - np.mean(y[: 30 * 24]))
        by_the_last.append(fitted.arrays["trend"][-1] - np.mean(y[: 30 * 24]))
        # Within training nothing of it is seen, and a model kept before it had a level says what it said.
        older = replace(fitted, arrays={k: v for k, v in fitted.arrays.items() if k != "level"}).expect(
            frame(y)
        )
        assert np.array_equal(older.trend[: 30 * 24], got.trend[: 30 * 24])
        assert older.trend[-1] == fitted.arrays["trend"][-1]
    assert np.std(errors) < 0.5 * np.std(by_the_last)


def test_previous_seasons_are_compared_by_hand():
    y = np.tile(np.arange(24.0), 5) + np.repeat([0, 10, 20, 60, 0], 24)
    fitted = baselines.fit("slot", frame(y), PERIODS, {"previous": 2, "centre": "mean"})
    got = fitted.expect(frame(y)).expected
    assert got[3 * 24 + 5] == 5 + 15 and got[4 * 24 + 5] == 5 + 40  # means of 10, 20 and of 20, 60


@pytest.mark.parametrize("kind", ["harmonic", "loess"])
def test_what_is_held_out_of_ratios_keeps_their_rare_events(kind):
    """At night 2 % of 20: one event is 5 %. By one scale for day and night it would be left out of the folds as wild."""
    rng = np.random.default_rng(2)
    trials = np.tile(np.r_[np.full(12, 2_000.0), np.full(12, 20.0)], 80)
    y = 100 * rng.binomial(trials.astype(int), 0.02) / trials
    part = frame(y, weights=np.minimum(trials / 1_000, 20.0))
    _, training = fitting.fit(part, Choice(kind, PERIODS))
    night = np.arange(len(y)) % 24 >= 12
    assert np.mean(training.held[night]) == pytest.approx(np.mean(y[night]), rel=0.15)


def test_form_and_week_are_chosen_by_what_was_held_out():
    rng = np.random.default_rng(0)
    t = np.arange(24 * 56)
    shape = np.exp(1.3 * np.sin(2 * np.pi * t / DAY)) * np.where((t // 24) % 7 >= 5, 0.4, 1.0)
    y = 50 * shape * np.exp(rng.normal(0, 0.08, len(t)))
    got, _ = choosing.choose(frame(y), PERIODS, Choice("harmonic"))
    assert got.is_multiplied and got.kind == "harmonic" and len(got.evidence) >= 3
    assert any(p.ns == 7 * 24 * STEP for p in got.periods) and any(
        "a week beside the day" in r for r in got.reasons
    )
    plain, first = choosing.choose(frame(daily(42)), PERIODS, Choice("harmonic"))
    assert not plain.is_multiplied
    # The fit that choosing made is the one that would be made again.
    again, taken = (expectation.expect(frame(daily(42)), plain, first=x) for x in (None, first))
    for name in ("expected", "spread", "held", "trend"):
        assert np.array_equal(getattr(again, name), getattr(taken, name), equal_nan=True), name
    with pytest.raises(ValueError, match="values above 0"):
        choosing.choose(frame(daily(42) - 50), PERIODS, Choice("harmonic"), form="multiplicative")


def test_trouble_in_training_teaches_nothing():
    y = daily(42, seed=8)
    hurt = y.copy()
    hurt[500:530] += 2.0
    hurt[700:712] += np.random.default_rng(0).normal(0, 5, 12)
    clean, got = expect(y, settle=72), expect(hurt, settle=72)
    assert got.clean[500:530].mean() < 0.2 and got.clean[:480].mean() > 0.97
    assert np.median(got.spread) == pytest.approx(np.median(clean.spread), rel=0.1)
    assert any("look like trouble and are left out" in n for n in got.notes)


def test_a_lasting_step_becomes_the_new_normal_after_it_has_settled():
    y = daily(42)
    y[500:] += 5
    got = expect(y, settle=72)
    z = np.abs(scores(y, got))
    assert np.median(z[500:570]) > 8, "judged by the old level at first"
    assert np.median(z[580:]) < 1.5 and np.median(z[:500]) < 1.5
    assert got.settling[500:572].all() and not got.settling[600:].any()
    assert list(got.shift_candidates) == [500]


def test_an_episode_shorter_than_settle_is_never_the_normal():
    y = daily(42)
    y[500:540] += 5
    got = expect(y, settle=72)
    z = np.abs(scores(y, got))
    assert np.median(z[500:540]) > 8 and np.median(z[545:620]) < 1.5


def test_a_slow_trend_is_no_row_of_steps():
    y = daily(60) + np.linspace(0, 6, 60 * DAY)
    assert len(expect(y, settle=72).shift_candidates) == 0


def scattered(residual, slots, count, expected=None):
    """Residuals around nothing, all on one day."""
    expected = np.zeros(len(residual)) if expected is None else expected
    return spread.Scatter(residual, expected, slots, count, np.zeros(len(residual), np.int64))


def test_spread_is_shrunk_to_the_streams_and_floored_by_the_resolution():
    rng = np.random.default_rng(0)
    zeros = np.zeros(600)
    flat = spread.fit_spread(scattered(zeros, np.arange(600) % 3, 3), quantum=1.0)
    assert flat.at(zeros, np.arange(600) % 3).min() == pytest.approx(1 / np.sqrt(12))
    assert "resolution sets the spread" in flat.reason
    few = spread.fit_spread(scattered(rng.normal(size=24), np.arange(24) % 12, 12))
    # Two samples a slot say little: all slots lie near the stream's spread.
    assert few.factor.max() / few.factor.min() < 2.5
    wide = rng.normal(size=6000) * np.where(np.arange(6000) % 12 < 6, 1, 4)
    many = spread.fit_spread(scattered(wide, np.arange(6000) % 12, 12))
    assert many.factor[3] == pytest.approx(1, rel=0.1) and many.factor[9] == pytest.approx(4, rel=0.1)


@pytest.mark.parametrize("has_days", [False, True])
def test_slots_of_slow_noise_have_one_spread(has_days):
    """Eight weeks of hours of a first-order autoregression of 0.995, of one variance: a slot's samples are hardly more than one."""
    rng = np.random.default_rng(4)
    n = 56 * 24
    for _ in range(5):
        z = lfilter([1.0], [1.0, -0.995], rng.normal(0, np.sqrt(1 - 0.995**2), n + 2_000))[2_000:]
        at = np.arange(n)
        days = at // 24 % 7 if has_days else np.zeros(n, np.int64)
        known = spread.Scatter(z, np.zeros(n), at % 24, 24, days, 7 if has_days else 1)
        factor = spread.fit_spread(known).factor
        assert factor.max() / factor.min() < 1.3
    # White noise of two sizes still has two.
    wide = rng.normal(size=n) * np.where(at % 24 < 12, 1, 3)
    found = spread.fit_spread(spread.Scatter(wide, np.zeros(n), at % 24, 24, np.zeros(n, np.int64))).factor
    assert found[17] / found[6] == pytest.approx(3, rel=0.2)


def test_noise_estimates_are_blind_to_steps_and_see_slow_wander():
    rng = np.random.default_rng(0)
    noise = rng.normal(0, 2, 4000)
    stepped = noise + np.repeat([0, 50, -20, 90], 1000)
    assert robust.noise_variance(stepped) == pytest.approx(4, rel=0.15)
    assert robust.long_run_variance(stepped) == pytest.approx(4, rel=0.6)
    ar = np.zeros(4000)
    for i in range(1, 4000):
        ar[i] = 0.6 * ar[i - 1] + rng.normal()
    # Closed form: sigma² / (1 - phi)².
    assert robust.long_run_variance(ar) == pytest.approx(1 / 0.16, rel=0.4)


def test_seasons_are_found_told_apart_and_not_made_up():
    rng = np.random.default_rng(5)
    t = np.arange(24 * 70)
    week = np.where((t // 24) % 7 >= 5, 0.4, 1.0)
    y = (5 + 3 * np.sin(2 * np.pi * t / 24)) * week + rng.normal(0, 0.3, len(t))
    assert sorted(s.samples for s in seasons.detect(y, STEP)) == [24, 168]
    assert seasons.detect(rng.normal(size=2000), STEP) == []
    assert seasons.detect(np.cumsum(rng.normal(size=2000)), STEP) == []
    tide = np.cos(2 * np.pi * np.arange(4000) / 74.52) + rng.normal(0, 0.1, 4000)
    [season] = seasons.detect(tide, 600 * SECOND_NS)
    assert season.samples == pytest.approx(74.52, abs=0.05) and season.strength > 0.9
    assert seasons.whole_period(74.52, 4000) == 149
    assert period_of(74.52, 600 * SECOND_NS).is_local is False and period_of(144, 600 * SECOND_NS).is_local


def test_a_season_longer_than_half_the_data_says_how_much_is_missing():
    with pytest.raises(ValueError, match="36 more samples are needed"):
        seasons.check_periods([168], 300, STEP)
    with pytest.raises(ValueError, match="not a whole number.*kind: harmonic takes any length"):
        seasons.check_periods([12.42], 300, STEP)


def test_regrid_combines_and_keeps_gaps():
    times = np.array([5, 65, 66, 300, 300]) * SECOND_NS
    values = np.array([1.0, 2, 4, 7, 9])
    minute = 60 * SECOND_NS
    for combine, expected in [
        ("mean", [1, 3, np.nan, np.nan, np.nan, 8]), ("sum", [1, 6, np.nan, np.nan, np.nan, 16]),
        ("count", [1, 2, 0, 0, 0, 2]), ("last", [1, 4, np.nan, np.nan, np.nan, 9]),
        ("max", [1, 4, np.nan, np.nan, np.nan, 9]), ("p50", [1, 3, np.nan, np.nan, np.nan, 8]),
    ]:  # fmt: skip
        shuffled = np.random.default_rng(0).permutation(3).tolist() + [3, 4]
        got = regrid(times[shuffled], values[shuffled], minute, combine=combine)
        assert np.array_equal(got.values, expected, equal_nan=True), combine
    with pytest.raises(ValueError, match="stray stamp"):
        regrid(np.array([0, 10**18]), np.zeros(2), SECOND_NS)


def test_the_wall_clock_grid_keeps_the_hour_through_a_clock_change():
    n = 24 * 6
    offsets = np.where(np.arange(n) < 72, 3600, 0) * SECOND_NS  # clocks go back on the fourth day
    clock = wall_clock(series_of(np.arange(n, dtype=float), offsets))
    by_hour = slots(frame_of(series_of(np.arange(n, dtype=float), offsets)), period_of(24, STEP), 24)
    # 1970 began on a Thursday at midnight UTC.
    local_hour = (np.arange(n) + np.where(np.arange(n) < 72, 1, 0)) % 24
    assert np.array_equal(by_hour, local_hour)
    assert clock.length == n - 1  # the repeated hour shares its place
    assert clock.spread_out(np.arange(n, dtype=float))[71] == pytest.approx((71 + 72) / 2)
    # A year with both changes has as many places as samples, and is no plain copy all the same.
    both = np.where((np.arange(n) >= 30) & (np.arange(n) < 100), 3600, 0) * SECOND_NS
    clock = wall_clock(series_of(np.arange(n, dtype=float), both))
    assert clock.length == n and np.isnan(clock.spread_out(np.arange(n, dtype=float))[30])


@pytest.mark.parametrize("phase", [0.0, 3.0])
def test_a_spectrum_keeps_the_day_beside_a_swing_of_a_year(phase):
    """The swing's error drowned what the day's vectors foretell: a mean error of 51 where the noise has 9."""
    n = 24 * 200
    t = np.arange(n)
    rng = np.random.default_rng(0)
    swing = 150 * np.sin(2 * np.pi * t / (24 * 365.25) + phase)
    y = 2_000 + swing + 80 * np.sin(2 * np.pi * t / 24) + rng.normal(0, 11, n)
    got = expectation.expect(frame(y), Choice("spectrum", PERIODS, {"window_ns": 90 * STEP}))
    assert np.nanmean(np.abs(y - got.expected)) < 12
