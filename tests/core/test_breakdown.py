"""A card cut finer, by hand and against counting anew; and promises beside what was seen."""

import numpy as np
import pytest
from scipy.stats import poisson

from watchtide.core.judge.grouping import Group
from watchtide.core.scoring import breakdown, compare
from watchtide.core.scoring.card import score
from watchtide.core.scoring.curve import Scored, curve
from watchtide.core.scoring.outcomes import Setting
from watchtide.core.scoring.rows import Finding, Label, Points
from watchtide.core.series import WEEK_S

H = 3_600 * 10**9
A, B = "metric=tide,place=a", "metric=tide,place=b"


def found(series, a, b, kind="outlier"):
    return Finding(series, a * H, b * H, kind, raised=a * H)


@pytest.fixture
def card():
    """Two streams over 400 hours: one incident over both found on a only, one on b missed, two false findings."""
    labels = [
        Label(10 * H, 20 * H, "metric=tide", cause="storm"),
        Label(300 * H, 310 * H, B, cause="seal"),
        Label(0, 350 * H, "", "reviewed"),
    ]
    findings = [
        found(A, 12, 13), found(A, 100, 101), found(B, 200, 201), found(B, 202, 210, "shift"), found(A, 380, 381),
    ]  # fmt: skip
    times = np.arange(400) * H
    z = np.ones(400)
    points = {s: Points(times, z, np.zeros(400, bool)) for s in (A, B)}
    return score(findings, labels, points, Setting(step_ns=H)), labels


def test_by_stream_by_hand(card):
    rows = breakdown.by_stream(*card, step_ns=H)
    a, b = rows[A], rows[B]
    assert (a["tp_findings"], a["fp_findings"], a["unjudged"], a["tp_labels"], a["fn_labels"]) == (
        1, 1, 1, 1, 0,
    )  # fmt: skip
    # The storm covers b too, but nothing on b met it.
    assert (b["tp_findings"], b["fp_findings"], b["tp_labels"], b["fn_labels"]) == (0, 2, 0, 2)
    assert b["precision"] == 0 and b["recall"] == 0 and a["f1"] == 1 * 0.5 * 2 / 1.5
    # 351 hours of each were looked through.
    assert a["weeks"] == pytest.approx(351 * 3600 / WEEK_S)
    assert a["false_per_week"] == pytest.approx(1 / a["weeks"])
    assert b["false_per_week"] == pytest.approx(2 / b["weeks"])
    assert a["delay_s"] == 2 * 3600 and b["delay_s"] is None


def test_by_family_an_incident_over_several_streams_counts_once(card):
    (row,) = breakdown.by_family(*card, lambda s: s.partition(",")[0]).values()
    assert (row["tp_labels"], row["fn_labels"], row["tp_findings"], row["fp_findings"]) == (1, 1, 1, 3)
    assert row["precision"] == 0.25 and row["recall"] == 0.5


def test_by_cause_counts_incidents_and_the_findings_that_met_them(card):
    rows = breakdown.by_cause(*card)
    assert set(rows) == {"storm", "seal"}
    assert (rows["storm"]["tp_labels"], rows["seal"]["fn_labels"]) == (1, 1)
    assert rows["storm"]["tp_findings"] == 1 and rows["storm"]["fp_findings"] == 0


def test_by_period_sums_to_the_whole(card):
    rows = breakdown.by_period(*card, lambda ns: "early" if ns < 150 * H else "late")
    e = card[0].figures["events"]
    for name in ("tp_findings", "fp_findings", "tp_labels", "fn_labels"):
        assert sum(r[name] for r in rows.values()) == e[name]
    assert rows["early"]["recall"] == 1 and rows["late"]["recall"] == 0


def test_an_incident_found_only_in_the_next_period_is_found():
    labels = [Label(10 * H, 60 * H)]
    card = score([found("s=1", 55, 56)], labels, setting=Setting(step_ns=H, span=(0, 100 * H)))
    rows = breakdown.by_period(card, labels, lambda ns: "one" if ns < 50 * H else "two")
    assert rows["one"]["recall"] == 1 and rows["two"]["recall"] is None


def test_delays_come_quickest_first(card):
    assert breakdown.delays(card[0]) == [(2 * 3600.0, 0)]


@pytest.mark.parametrize("count", [0, 1, 7, 100])
def test_poisson_interval_has_its_tails(count):
    low, high = breakdown.poisson_interval(count)
    # The ends are where a count as far out has a chance of 2.5 %.
    assert poisson.cdf(count, high) == pytest.approx(0.025)
    assert (low == 0) if count == 0 else poisson.sf(count - 1, low) == pytest.approx(0.025)


def test_calibration_by_hand(card):
    labels = card[1]
    times = np.arange(400) * H
    rng = np.random.default_rng(4)
    streams = [Scored(s, times, rng.normal(size=400) * 2) for s in (A, B)]
    lines = curve(streams, labels, group=Group(), setting=Setting(step_ns=H))
    levels = np.linspace(1, 0, len(lines.levels))
    got = breakdown.calibration(
        card[0], [breakdown.Promise(A, 0.2, levels), breakdown.Promise(B, 0.4, levels)], lines, H
    )
    weeks = 2 * 351 * 3600 / WEEK_S
    # The false shift is promised by nothing; both streams were looked through as long.
    assert got["false"] == 2 and got["weeks"] == pytest.approx(weeks)
    assert got["promised"] == pytest.approx(0.3) and got["seen"] == pytest.approx(2 / weeks)
    assert got["seen_ci"][0] < got["seen"] < got["seen_ci"][1]
    assert got["levels"]["promised"] == pytest.approx(levels)
    # One shift is counted at every level of the card, none in the curve here.
    assert got["levels"]["seen"] == pytest.approx(lines.false_per_week - 1 / lines.stream_weeks)


def test_calibration_without_promises_says_nothing(card):
    lines = curve([Scored(A, np.arange(5) * H, np.ones(5))], card[1], group=Group())
    assert breakdown.calibration(card[0], [], lines, H)["promised"] is None


def test_streams_of_different_cadence_count_their_own_time():
    """An hourly stream beside one of ten minutes, a week each: the scan's finest step is not everybody's."""
    week = 7 * 24 * H
    times = {A: np.arange(0, week, H), B: np.arange(0, week, H // 6)}
    points = {s: Points(t, np.ones(len(t)), np.zeros(len(t), bool)) for s, t in times.items()}
    setting = Setting(step_ns=H // 6)
    card = score([found(A, 5, 6)], [], points, setting)
    assert card.figures["false_per_week"]["stream_weeks"] == pytest.approx(2)
    assert card.figures["false_per_week"]["per_stream"] == pytest.approx(0.5)
    assert card.observed.judged_seconds(setting.step_ns) == pytest.approx(2 * WEEK_S)
    lines = curve(
        [Scored(s, t, np.ones(len(t))) for s, t in times.items()], [], group=Group(), setting=setting
    )
    assert lines.stream_weeks == pytest.approx(2)


def test_what_stands_apart_what_moved_and_what_all_judged():
    one, other = [found(A, 1, 3), found(A, 10, 11)], [found(A, 3, 4), found(B, 10, 11)]
    assert compare.apart(one, other) == [one[1]] and compare.apart(other, one) == [other[1]]
    expected, spread = np.array([1.0, 2.0, np.nan]), np.array([0.5, 0.5, 0.5])
    assert compare.moved(expected, spread, expected + 1, spread * 3) == (2.0, 3.0)
    nothing = np.full(3, np.nan)
    assert compare.moved(nothing, nothing, nothing, nothing) == (None, None)
    times = np.arange(6) * H
    z = np.array([np.nan, 1, 1, 1, 1, np.nan])
    early, late = Scored(A, times, z), Scored(A, times + 2 * H, z)
    assert compare.judged_by_all([[early], [late]]) == (3 * H, 4 * H)
    assert compare.judged_by_all([[early], [Scored(A, times, z * np.nan)]]) is None
    assert compare.judged_by_all([[early], [Scored(A, times + 9 * H, z)]]) is None
