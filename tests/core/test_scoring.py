"""Scoring against hand-worked cases, brute force, and the curve against the card."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests import world
from watchtide.core.judge import grouping
from watchtide.core.scoring import events, intervals
from watchtide.core.scoring.card import score
from watchtide.core.scoring.curve import LEVELS, Scored, curve
from watchtide.core.scoring.outcomes import Setting
from watchtide.core.scoring.rows import Finding, Label, Points
from watchtide.core.series import keys

H = 3_600 * 10**9


def findings(*spans, series="s=a", kind="outlier"):
    return [Finding(series, a * H, b * H, kind) for a, b in spans]


def test_events_by_hand():
    # Findings: one inside an incident, one touching its end, one alone. Incidents: one hit twice, one missed.
    got = events([(5, 6), (10, 12), (30, 31)], [(4, 10), (20, 21)])
    assert (got.tp_findings, got.fp_findings, got.tp_labels, got.fn_labels) == (2, 1, 1, 1)
    assert got.precision == pytest.approx(2 / 3) and got.recall == 0.5
    assert got.f1 == pytest.approx(2 * (2 / 3) * 0.5 / (2 / 3 + 0.5))


def test_closed_spans_meet_at_one_instant_and_the_tolerance_widens_the_label():
    assert events([(5, 9)], [(9, 10)]).tp_findings == 1
    assert events([(5, 8)], [(9, 10)]).tp_findings == 0
    assert events([(5, 8)], [(9, 10)], tolerance=1).tp_findings == 1


def test_nothing_found_is_no_precision_and_no_incident_no_recall():
    nothing = events(np.empty((0, 2)), [(1, 2)])
    assert nothing.precision is None and nothing.recall == 0 and nothing.f1 is None
    assert events([(1, 2)], np.empty((0, 2))).recall is None


def test_an_end_before_its_start_is_refused():
    with pytest.raises(ValueError, match="finding 1 ends before"):
        events([(1, 2), (5, 4)], [])


# Wilson (1927) intervals as printed in common tables, to four places.
@pytest.mark.parametrize(
    ("hits", "n", "low", "high"),
    [(0, 10, 0.0, 0.2775), (5, 10, 0.2366, 0.7634), (10, 10, 0.7225, 1.0), (81, 263, 0.2553, 0.3662)],
)
def test_wilson_matches_published_values(hits, n, low, high):
    got = intervals.wilson(hits, n)
    assert got == (pytest.approx(low, abs=5e-5), pytest.approx(high, abs=5e-5))
    assert intervals.wilson(0, 0) is None


def test_precedence_of_verdicts():
    rows = [
        Label(0, 2 * H),
        Label(H, 3 * H, verdict="unsure"),
        Label(5 * H, 6 * H, verdict="unsure"),
        Label(5 * H, 6 * H, verdict="false-alarm"),
        Label(8 * H, 9 * H, verdict="foreseen"),
    ]
    card = score(findings((1, 2), (5, 5), (8, 8), (12, 12)), rows)
    assert [o.state for o in card.outcomes] == ["true", "unsure", "false", "false"]
    assert card.figures["events"]["precision"] == pytest.approx(1 / 3)
    assert card.figures["excluded"]["unsure"] == 1


def test_only_what_was_looked_through_counts_and_bounds_stand_beside_it():
    rows = [
        Label(0, 10 * H, verdict="reviewed"),
        Label(1 * H, 2 * H),
        Label(20 * H, 21 * H),  # outside the reviewed span: precision only
        Label(30 * H, 31 * H, verdict="false-alarm"),
    ]
    card = score(findings((1, 1), (5, 5), (20, 20), (30, 30), (40, 40)), rows)
    assert [o.state for o in card.outcomes] == ["true", "false", "true", "false", "unjudged"]
    e = card.figures["events"]
    assert (e["tp_findings"], e["fp_findings"], e["tp_labels"], e["fn_labels"]) == (2, 2, 1, 0)
    assert e["precision_bounds"] == [2 / 5, 3 / 5]
    assert card.figures["excluded"]["unjudged"] == 1


def test_a_shift_may_sit_one_sample_after_the_labels_end():
    rows = [Label(0, 10 * H)]
    after = [Finding("s=a", 11 * H, 11 * H, "shift")]
    assert score(after, rows, setting=Setting(step_ns=H)).outcomes[0].state == "true"
    assert score(after, rows, setting=Setting(step_ns=H // 2)).outcomes[0].state == "false"
    assert score(after, rows).outcomes[0].state == "false"


def test_a_label_over_several_streams_counts_once_in_the_total_and_once_a_stream():
    times = np.arange(20) * H
    points = {k: Points(times, np.ones(20), np.zeros(20, bool)) for k in ("place=a", "place=b")}
    rows = [Label(3 * H, 5 * H)]
    card = score(findings((4, 4), series="place=a"), rows, points)
    assert card.figures["events"]["tp_labels"] == 1 and card.figures["events"]["fn_labels"] == 0
    assert card.figures["by_series"]["place=b"]["fn_labels"] == 1


def test_recall_is_of_independent_incidents_while_there_are_any():
    rows = [Label(0, H), Label(5 * H, 6 * H, origin="finding")]
    e = score(findings((5, 5)), rows).figures["events"]
    assert (e["precision"], e["recall"], e["recall_of"]) == (1.0, 0.0, "incidents")
    e = score(findings((5, 5)), rows[1:]).figures["events"]
    assert (e["recall"], e["recall_of"]) == (1.0, "known incidents")


def test_point_level_leaves_out_missing_and_unsure_samples():
    times = np.arange(8) * H
    z = np.array([0, 9, 9, np.nan, 0, 9, 0, 0.0])
    points = {"": Points(times, np.abs(z), np.array([0, 1, 1, 0, 0, 1, 0, 0], bool))}
    rows = [Label(H, 4 * H), Label(5 * H, 5 * H, verdict="unsure")]
    got = score([Finding("", H, 2 * H)], rows, points, Setting(step_ns=H)).figures["points"]
    # incident samples 1, 2, 4 (3 is missing): two flagged; normal samples 0, 6, 7; 5 is unsure.
    assert (got["tp"], got["fp"], got["fn"], got["tn"]) == (2, 0, 1, 3)
    assert got["specificity"] == 1.0 and got["accuracy"] == pytest.approx(5 / 6)


def test_range_level_by_hand():
    # One incident of 4 samples, of which two separate flagged runs cover 1 and 2: recall (3/4) / 2.
    times = np.arange(10) * H
    flagged = np.array([0, 0, 1, 0, 1, 1, 1, 0, 0, 0], bool)
    card = score([], [Label(2 * H, 5 * H)], {"": Points(times, np.ones(10), flagged)}, Setting(step_ns=H))
    ranges = card.figures["ranges"]
    assert ranges["recall"] == pytest.approx(3 / 4 / 2)
    assert ranges["precision"] == pytest.approx((1 + 2 / 3) / 2)


def test_findings_of_one_incident_make_one_group():
    spans = [Finding(f"place=a,fare={i}", 5 * H, 8 * H) for i in range(4)] + [
        Finding("place=b", 5 * H, 8 * H)
    ]
    e = score(spans, []).figures["events"]
    assert e["incident_precision_counts"] == [0, 2]


def test_an_incident_without_a_judged_sample_is_left_out():
    points = {"": Points(np.arange(4) * H, np.array([1, np.nan, np.nan, 1]), np.zeros(4, bool))}
    card = score([], [Label(H, 2 * H)], points, Setting(step_ns=H))
    assert card.figures["events"]["recall"] is None and card.figures["excluded"]["unscored"] == 1


def random_world(seed):
    rng = np.random.default_rng(seed)
    streams, labels = [], []
    for name in ("place=a,fare=x", "place=a,fare=y", "place=b,fare=x"):
        z = rng.standard_t(3, 600)
        z[rng.random(600) < 0.05] = np.nan
        streams.append(Scored(name, np.arange(600) * H, z))
    for _ in range(12):
        a = int(rng.integers(0, 590))
        scope = rng.choice(["", "place=a", "fare=x", "place=b,fare=x"])
        verdict = rng.choice(["incident", "incident", "foreseen", "unsure", "false-alarm"])
        origin = rng.choice(["independent", "independent", "finding", "sampled"])
        labels.append(
            Label(a * H, (a + int(rng.integers(0, 9))) * H, str(scope), str(verdict), origin=str(origin))
        )
    if seed % 2:
        labels.append(Label(100 * H, 400 * H, "place=a", "reviewed"))
    return streams, labels


@given(st.integers(0, 10_000), st.integers(1, 3), st.integers(0, 5))
@settings(max_examples=25, deadline=None)
def test_the_curve_equals_the_card_at_every_level(seed, need, merge):
    streams, labels = random_world(seed)
    group = grouping.Group(need, 3, merge * H, 1 + merge % 2)
    setting = Setting(step_ns=H, tolerance_ns=H)
    shifts = [Finding("place=b,fare=x", 300 * H, 300 * H, "shift", "up")]
    lines = curve(streams, labels, group=group, shifts=shifts, setting=setting, levels=LEVELS[::40])
    for i, level in enumerate(lines.levels):
        found, points = list(shifts), {}
        for s in streams:
            runs = world.runs_at(s.z, level, level, s.times, group)
            found += [
                Finding(s.series, int(s.times[a]), int(s.times[b]))
                for a, b in zip(runs.first, runs.last, strict=True)
            ]
            points[s.series] = Points(s.times, np.abs(s.z), grouping.mark(runs, s.z))
        figures = score(found, labels, points, setting).figures
        e, p = figures["events"], figures["points"]
        assert lines.findings[i] == len(found)
        assert (lines.tp_findings[i], lines.fp_findings[i]) == (e["tp_findings"], e["fp_findings"])
        assert (lines.tp_labels[i], lines.fn_labels[i]) == (e["tp_labels"], e["fn_labels"])
        assert (lines.point_tp[i], lines.point_fp[i], lines.point_fn[i]) == (p["tp"], p["fp"], p["fn"])
        assert lines.flagged_share[i] == pytest.approx(figures["flagged_share"])
        assert lines.false_per_week[i] == pytest.approx(figures["false_per_week"]["per_stream"])
        if e["precision"] is not None:
            assert [lines.precision_low[i], lines.precision_high[i]] == pytest.approx(e["precision_ci"])


def naive_findings(z, level, need, of, merge, shortest):
    """m of n written out: every window of `of` positions, every flagged sample in it."""
    flagged = z >= level
    member = np.zeros(len(z), bool)
    links = set()
    for i in range(len(z)):
        window = [j for j in range(max(0, i - of + 1), i + 1) if flagged[j]]
        if len(window) >= need:
            member[window] = True
            links |= {(window[0], j) for j in window} | set(zip(window[:-1], window[1:], strict=True))
    at = np.flatnonzero(member)
    groups = []
    for j in at:
        if groups and (
            (groups[-1][-1], j) in links or j - groups[-1][-1] == 1 or j - groups[-1][-1] <= merge
        ):
            groups[-1].append(int(j))
        else:
            groups.append([int(j)])
    return [(g[0], g[-1], len(g)) for g in groups if g[-1] - g[0] + 1 >= shortest]


@given(st.integers(0, 10_000), st.integers(1, 4), st.integers(0, 3), st.integers(0, 6), st.integers(1, 4))
@settings(max_examples=150, deadline=None)
def test_grouping_equals_brute_force(seed, need, more, merge, shortest):
    z = np.random.default_rng(seed).normal(size=80)
    z[::17] = np.nan
    group = grouping.Group(need, need + more, merge, shortest)
    got = grouping.find_side(z, 0.6, np.arange(80), group)
    assert [tuple(r) for r in got.tolist()] == naive_findings(z, 0.6, need, need + more, merge, shortest)


def test_clustered_intervals_need_ten_blocks_and_are_the_same_every_time():
    rows = [Label(i * 100 * H, i * 100 * H + H) for i in range(40)]
    found = findings(
        *[(i * 100, i * 100) for i in range(0, 40, 2)], *[(i * 100 + 50, i * 100 + 50) for i in range(10)]
    )
    wide = Setting(step_ns=H, longest_season_ns=24 * H)
    once, again = (score(found, rows, setting=wide).figures["events"] for _ in range(2))
    low, high = once["precision_ci_clustered"]
    assert low < once["precision"] < high and once == again
    short = score(found, rows, setting=Setting(step_ns=H, longest_season_ns=24 * 40 * H)).figures
    assert short["events"]["precision_ci_clustered"] is None and "blocks" in short["notes"]["clustered"]


def test_circular_blocks_count_every_item_equally_often():
    # Over all starts of a circle every item falls into block_ns starts: brute force over each start.
    span, block = (0, 99), 10
    at = np.array([0, 3, 50, 99])
    starts = np.arange(100)[:, None]
    sums = intervals.drawn_sums(starts, span, block, at, np.ones(4))
    naive = [sum((t - s) % 100 < block for t in at) for s in range(100)]
    assert sums.tolist() == naive


def test_keys_round_trip_and_cover_in_any_order():
    pairs = (("place", "Old=Pier, 50%"), ("fare", "adult"))
    assert keys.decode(keys.encode(pairs)) == pairs
    assert keys.covers("fare=adult", keys.encode(pairs)) and not keys.covers("fare=child", keys.encode(pairs))
    assert keys.covers("b=2,a=1", "a=1,b=2,c=3")
    with pytest.raises(ValueError, match="no name=value"):
        keys.decode("place")


def test_a_stream_of_bursts_is_watched_between_them():
    # A week of bursts of ten samples a millisecond apart, six a day.
    day, ms = 24 * H, 1_000_000
    starts = np.arange(42) * day // 6
    times = (starts[:, None] + np.arange(10) * ms).ravel().astype(np.int64)
    points = {"s=a": Points(times, np.zeros(len(times)), np.zeros(len(times), np.bool_))}
    false = [Finding("s=a", int(starts[5]), int(starts[5]) + 9 * ms, "outlier")]
    got = score(false, [], points=points).figures["false_per_week"]
    assert got["stream_weeks"] == pytest.approx(int(times[-1]) / (7 * day))
    assert got["per_stream"] == pytest.approx(1 / got["stream_weeks"])
    # Of what was looked through only the part counts that lies within.
    looked = [Label(0, 2 * day, "s=a", "reviewed")]
    part = score(false, looked, points=points).figures["false_per_week"]
    assert part["stream_weeks"] == pytest.approx(2 / 7)
