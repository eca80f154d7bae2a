"""Every `auto` filled in: cadence, combination, kind of values, training part, seasons, and the summary of it."""

import numpy as np
import pytest

from tests import world
from watchtide.core.scoring.rows import Label
from watchtide.core.series import SECOND_NS
from watchtide.engine.many import run
from watchtide.engine.prepare import training
from watchtide.engine.scan import outcome, stages
from watchtide.plan import Plan
from watchtide.plan.text import from_data

START = 1_785_715_200 * SECOND_NS
HOUR = 3_600 * SECOND_NS


def hourly(values, key="", zone="UTC"):
    return stages.Input(
        key, START + np.arange(len(values), dtype=np.int64) * HOUR, np.asarray(values, float), zone
    )


def test_counts_are_known_by_their_whole_steps():
    rng = np.random.default_rng(0)
    for values, kind in (
        (rng.poisson(5, 500), "count"), (rng.poisson(5, 500) + 0.5, "value"), (rng.poisson(5, 500) - 20, "value"),
        (rng.poisson(5, 500) * 10, "value"), (rng.normal(size=500), "value"),
    ):  # fmt: skip
        assert stages.prepare(hourly(values), Plan()).resolved["as"] == kind
    assert (
        stages.prepare(hourly(rng.normal(size=50)), from_data({"prepare": {"as": "count"}})).resolved["as"]
        == "count"
    )


@pytest.mark.parametrize(
    ("values", "every", "combine"),
    [
        (np.arange(48) % 7, "auto", "mean"),
        (np.arange(48) % 7, "6h", "sum"),
        (np.arange(48) + 0.5, "6h", "mean"),
        (np.random.default_rng(0).poisson(9, 48), 6, "sum"),
        (1013 + np.round(3 * np.sin(np.arange(48) / 9)), 6, "mean"),
    ],
)
def test_combination_is_chosen_by_what_the_values_are(values, every, combine):
    prepared = stages.prepare(hourly(values), from_data({"prepare": {"every": every}}))
    series, resolved = prepared.series, prepared.resolved
    assert resolved["combine"] == combine
    if every != "auto":
        assert series.step_ns == 6 * HOUR
        expected = values[:6].sum() if combine == "sum" else values[:6].mean()
        assert series.values[0] == pytest.approx(expected)


def test_days_start_at_local_midnight_and_weeks_on_monday():
    day = stages.prepare(
        hourly(np.ones(24 * 21), zone="Europe/Dublin"),
        from_data({"prepare": {"every": "1d", "combine": "sum"}}),
    ).series
    local = (day.times + day.offsets_ns) // HOUR
    assert np.all(local % 24 == 0) and np.all(day.values[1:-1] == 24)
    week = stages.prepare(
        hourly(np.ones(24 * 21), zone="Europe/Dublin"),
        from_data({"prepare": {"every": "7d", "combine": "sum"}}),
    ).series
    weekday = ((week.times + week.offsets_ns) // (24 * HOUR) + 3) % 7  # 1970-01-01 was a Thursday
    assert np.all(weekday == 0)


@pytest.mark.parametrize(
    ("train", "stop"),
    [
        ("all", 240),
        ({"share": 0.5}, 120),
        ({"until": "2026-08-05T00:00:00Z"}, 48),
        ({"until": "2020-01-01T00:00Z"}, 0),
        ({"share": 1.0}, 240),
    ],
)
def test_the_training_part_ends_where_the_plan_says(train, stop):
    series = stages.prepare(hourly(np.arange(240.0)), Plan()).series
    got = training.training_stop(series, from_data({"baseline": {"train": train}}), "UTC")
    assert got == pytest.approx(stop, abs=1)


def test_nothing_to_train_on_judges_nothing_and_says_so():
    got = stages.scan(
        hourly(world.hourly(days=10)), from_data({"baseline": {"train": {"until": "2020-01-01T00:00Z"}}})
    )
    assert (
        np.isnan(got.z).all() and got.findings == () and any("nothing is judged" in n for n in got.base.notes)
    )


def test_only_labels_that_cover_the_stream_leave_samples_out():
    y = world.hourly(days=20)
    label = lambda scope, verdict="incident": Label(START + 100 * HOUR, START + 110 * HOUR, scope, verdict)
    for scope, verdict, out in (
        ("place=quay", "incident", 11),
        ("", "incident", 11),
        ("place=pier", "incident", 0),
        ("place=quay", "foreseen", 0),
    ):
        base = stages.fit(hourly(y, "place=quay"), Plan(), [label(scope, verdict)])
        assert len(y) - base.clean.sum() == out, (scope, verdict)
    plan = from_data({"baseline": {"leave_out": ["foreseen"]}})
    assert len(y) - stages.fit(hourly(y, "place=quay"), plan, [label("", "foreseen")]).clean.sum() == 11


def test_a_history_too_short_for_a_season_says_how_much_is_missing():
    notes = stages.fit(hourly(world.hourly(days=2)), Plan()).notes
    assert any("too little history to see a daily season: 1.0 more days are needed" in n for n in notes)
    notes = stages.fit(hourly(world.hourly(days=14)), Plan()).notes
    assert any("weekly season: 7.0 more days are needed" in n for n in notes)


def test_shifts_are_reported_as_the_plan_asks():
    y = world.hourly(days=42)
    y[500:] += 6
    kinds = {}
    for of in ("step", "slope", "none"):
        found = stages.scan(
            hourly(y), from_data({"shifts": {"of": of}, "flag": {"level": {"sigmas": 50}}})
        ).findings
        kinds[of] = [f for f in found if f.kind == "shift"]
    assert len(kinds["step"]) == 1 and kinds["none"] == [] and len(kinds["slope"]) >= 1
    [shift] = kinds["step"]
    assert (
        (shift.start - START) // HOUR == 500
        and shift.direction == "up"
        and shift.size == pytest.approx(6, abs=0.5)
    )
    assert shift.start == shift.end and shift.confidence > 0.9


def test_a_shift_raised_in_replay_has_the_change_and_so_has_the_return():
    """Six up for two days and back: the way back was *up* by nearly nothing, as it was measured from what is expected."""
    y = world.hourly(days=42)
    y[700:748] += 6
    found = stages.scan(hourly(y), from_data({"baseline": {"kind": "harmonic"}}), (), "replay").findings
    up, down = (f for f in found if f.kind == "shift")
    assert ((up.start - START) // HOUR, (down.start - START) // HOUR) == (700, 748)
    assert (up.direction, down.direction) == ("up", "down")
    # By then two refits had seen some of it.
    assert up.size == pytest.approx(6, abs=0.6) and down.size == pytest.approx(-5.4, abs=0.8)


def test_the_summary_holds_what_was_resolved_for_every_stream():
    streams = [
        hourly(world.hourly(spikes=(300,)), "place=a"),
        hourly(np.full(200, 4.0), "place=b"),
        hourly([np.nan] * 30, "place=c"),
    ]
    scanned = list(run.scan_many(streams, Plan()))
    got = run.summarise(scanned, Plan())
    a, b, c = (got["streams"][f"place={k}"] for k in "abc")
    assert (
        got["step_s"] == 3_600
        and got["longest_season_s"] == 86_400
        and got["findings"] == sum(len(s.findings) for s in scanned)
    )
    assert {"every": "1h", "combine": "mean", "as": "value"}.items() <= a["resolved"]["prepare"].items()
    assert (
        a["resolved"]["baseline"]["kind"] == "harmonic"
        and a["resolved"]["baseline"]["seasons"] == ["1d"]
        and a["judged"] == a["samples"] == 1008
    )
    assert b["seasons"] == [] and b["notes"] and c["missing"] == 30 and c["judged"] == 0
    assert got["plan"] == Plan().as_data() and got["span"]["from"] == "2026-08-03T00:00:00Z"


def test_points_of_a_scan_agree_with_its_level_and_findings():
    scanned = stages.scan(
        hourly(world.hourly(spikes=(300,))), from_data({"flag": {"level": {"sigmas": 6}, "side": "above"}})
    )
    points = outcome.points_of(scanned)
    flagged = points["flag"] == "above"
    assert np.array_equal(flagged, points["score"] * np.sign(points["residual"]) >= 6)
    assert np.all(np.isneginf(points["lower"])) and np.array_equal(points["in_finding"], flagged)
    outliers = [f for f in scanned.findings if f.kind == "outlier"]
    assert flagged.sum() == sum(f.points for f in outliers)
    assert outliers[0].score == pytest.approx(points["score"][flagged].max())


def test_a_stage_key_changes_with_what_shapes_the_fit_and_with_nothing_else():
    key = lambda plan, digest="d", out=(): stages.baseline_digest(digest, from_data(plan), list(out))
    base = key({})
    for same in (
        {"flag": {"level": {"sigmas": 9}}},
        {"flag": {"side": "above"}},
        {"group": {"need": 2, "of": 3}},
        {"shifts": {"of": "slope"}},
    ):
        assert key(same) == base, same
    for other in (
        {"baseline": {"kind": "slot"}},
        {"baseline": {"settle": "5d"}},
        {"prepare": {"every": "1h"}},
        {"flag": {"spread": "sd"}},
    ):
        assert key(other) != base, other
    assert key({}, "e") != base and key({}, "d", [(1, 2)]) != base
    assert key({}, "d", [(1, 2), (3, 4)]) == key({}, "d", [(3, 4), (1, 2)])


def test_a_week_that_shows_in_one_form_only_is_found_though_the_other_is_ahead():
    """Small counts: by the day alone one form is a hair better, with the week the other is much better."""
    t = np.arange(21 * 96)
    mean = 3 * np.clip(np.sin(2 * np.pi * (t % 96 - 30) / 96), 0, None)
    mean = mean * np.array([1, 1, 1, 1, 1.6, 2.2, 0.4])[(t // 96) % 7] + 0.05
    for seed in (0, 3, 4, 8):
        y = np.random.default_rng(seed).poisson(mean).astype(float)
        got = stages.fit(stages.Input("", START + t * HOUR // 4, y), Plan()).resolved
        assert got["baseline"]["seasons"] == ["1d", "7d"]
        assert any("a week beside the day" in name for name in got["facts"]["losses"])


def test_the_peak_of_a_window_is_its_furthest_sample():
    """All samples of a window share its score; the one to show is the one that lies furthest off."""
    rng = np.random.default_rng(6)
    y = 50 + 8 * np.sin(2 * np.pi * np.arange(24 * 60) / 24) + rng.normal(0, 1, 24 * 60)
    y[900:936] += 2.6
    y[920] += 0.3
    got = stages.scan(hourly(y), from_data({"baseline": {"seasons": ["24h"]}, "shifts": {"of": "none"}}))
    [found] = [f for f in got.findings if f.window > 1 and 890 <= (f.start - START) // HOUR <= 930]
    inside = (got.base.series.times >= found.start) & (got.base.series.times <= found.end)
    shared = inside & (got.base.score == found.score)
    far = np.where(shared, np.abs(got.base.series.values - got.base.expected) / got.base.spread, -1)
    assert shared.sum() > 5 and found.peak_time == got.base.series.times[np.argmax(far)]
