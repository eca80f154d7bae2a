"""Levels under a constraint, comparison in pairs, and samples to judge: by hand, by brute force, by simulation."""

import numpy as np
import pytest

from tests import world
from watchtide.core.judge.grouping import Group
from watchtide.core.scoring import choice, compare, curve, sampling
from watchtide.core.scoring.agreement import agreement
from watchtide.core.scoring.card import score
from watchtide.core.scoring.intervals import wilson
from watchtide.core.scoring.outcomes import Setting
from watchtide.core.scoring.rows import Finding, Label, Points

H = 3_600 * 10**9
N = 24 * 70


def scored(seed=0, series="place=a"):
    """Noise with twelve incidents of three hours, half of them faint."""
    rng = np.random.default_rng(seed)
    z = rng.normal(size=N)
    labels = []
    for k, at in enumerate(range(60, N - 60, 135)):
        z[at : at + 3] += 8 if k % 2 else 3.5
        labels.append(Label(at * H, (at + 2) * H, series))
    return curve.Scored(series, np.arange(N, dtype=np.int64) * H, z), labels


def test_the_best_level_is_what_brute_force_over_all_levels_finds():
    stream, labels = scored()
    setting = Setting(step_ns=H)
    lines = curve.curve([stream], labels, group=Group(), setting=setting)
    told = choice.best_level([stream], labels, choice.Constraint(min_recall=0.9), setting=setting)
    meets = [i for i in range(201) if lines.recall[i] >= 0.9]
    best = max(meets, key=lambda i: (lines.precision[i], i))
    assert told["level"] == lines.levels[best] and told["apparent"]["recall"] == lines.recall[best]
    quiet = choice.best_level([stream], labels, choice.Constraint(max_false_per_week=0.2), setting=setting)
    at = int(np.flatnonzero(lines.levels == quiet["level"])[0])
    assert lines.false_per_week[at] <= 0.2
    assert quiet["apparent"]["recall"] == max(
        lines.recall[i] for i in range(201) if lines.false_per_week[i] <= 0.2
    )
    cheap = choice.best_level([stream], labels, choice.Constraint(cost_miss=5, cost_false=1), setting=setting)
    costs = 5 * lines.fn_labels + lines.fp_findings
    assert 5 * cheap["apparent"]["misses"] + cheap["apparent"]["fp"] == costs.min()


def test_cross_validated_figures_are_those_of_levels_chosen_elsewhere():
    stream, labels = scored(1)
    told = choice.best_level([stream], labels, choice.Constraint(min_recall=0.8), setting=Setting(step_ns=H))
    assert len(told["block_levels"]) == 5
    spans = choice._blocks((int(stream.times[0]), int(stream.times[-1])), 5)
    hits = misses = 0
    for level, (a, b) in zip(told["block_levels"], spans, strict=True):
        part = slice(*np.searchsorted(stream.times, [a, b + 1]))
        own = curve.Scored(stream.series, stream.times[part], stream.z[part])
        one = curve.curve(
            [own], labels, group=Group(), setting=Setting(step_ns=H, span=(a, b)), levels=np.array([level])
        )
        hits, misses = hits + int(one.tp_labels[0]), misses + int(one.fn_labels[0])
    assert (told["cross_validated"]["hits"], told["cross_validated"]["misses"]) == (hits, misses)


def test_a_locked_span_changes_nothing_of_the_choice():
    stream, labels = scored(2)
    locked = (1200 * H, 1500 * H)
    loud = stream.z.copy()
    loud[1200:1501] = 50
    constraint = choice.Constraint(max_false_per_week=0.3)
    one, other = (
        choice.best_level(
            [curve.Scored("place=a", stream.times, z)],
            labels,
            constraint,
            setting=Setting(step_ns=H),
            locked=locked,
        )
        for z in (stream.z, loud)
    )
    assert (
        one["level"] == other["level"]
        and one["apparent"] == other["apparent"]
        and one["curve"] == other["curve"]
    )
    assert one["locked"] != other["locked"]
    with pytest.raises(ValueError, match="covers all of the data"):
        choice.best_level([stream], labels, constraint, locked=(0, N * H))


def test_one_constraint_is_stated_and_a_gap_needs_points():
    for wrong in ({}, {"min_recall": 0.5, "max_gap": 0.1}, {"cost_miss": 1.0}):
        with pytest.raises(ValueError, match="state one constraint"):
            choice.Constraint(**wrong)
    stream, labels = scored()
    with pytest.raises(ValueError, match="needs --by points"):
        choice.best_level([stream], labels, choice.Constraint(max_gap=0.1))


def test_what_has_no_side_is_counted_on_the_curve_whatever_the_side():
    z = np.zeros(50)
    z[10:14] = 6.0
    odd = np.zeros(50, bool)
    odd[10:14] = True
    times = np.arange(50, dtype=np.int64) * H
    labels = [Label(11 * H, 12 * H, "")]
    for side in ("both", "above", "below"):
        got = curve.curve(
            [curve.Scored("", times, z, odd)], labels, group=Group(), side=side, levels=np.array([5.0])
        )
        assert got.tp_findings[0] == 1 and got.tp_labels[0] == 1
    plain = curve.curve(
        [curve.Scored("", times, z)], labels, group=Group(), side="below", levels=np.array([5.0])
    )
    assert plain.findings[0] == 0


def card_of(times, labels, false=()):
    found = [Finding("", t * H, t * H) for t in (*times, *false)]
    points = {"": Points(np.arange(N, dtype=np.int64) * H, np.ones(N), np.zeros(N, bool))}
    return score(found, labels, points, Setting(step_ns=H))


def test_a_scan_compared_with_itself_differs_in_nothing():
    labels = [Label(t * H, t * H) for t in range(20, N, 40)]
    one = card_of([x.start // H for x in labels[::2]], labels, false=range(5, N, 90))
    told = compare.paired(one, one, labels, block_ns=48 * H)
    assert told["precision"]["difference_ci"] == [0, 0] and told["found_by_both"] == len(labels[::2])
    better = card_of([x.start // H for x in labels], labels)
    told = compare.paired(one, better, labels, block_ns=48 * H)
    assert (
        told["precision"]["difference_ci"][0] > 0
        and "the other has the higher precision" in told["precision"]["words"]
    )
    short = compare.paired(one, better, labels, block_ns=500 * H)
    assert short["recall"]["difference_ci"] is None and "under 10 blocks" in short["notes"]["recall"]


def test_paired_intervals_hold_the_true_difference_as_often_as_stated():
    """Two scans of known recall, 0.8 and 0.6, on the same incidents: the interval holds 0.2 in about 95 of 100 worlds."""
    labels = [Label(t * H, t * H) for t in range(8, N, 16)]
    held = 0
    for seed in range(60):
        rng = np.random.default_rng(seed)
        luck = rng.uniform(size=len(labels))
        one = card_of([x.start // H for x, u in zip(labels, luck, strict=True) if u < 0.8], labels)
        other = card_of([x.start // H for x, u in zip(labels, luck, strict=True) if u < 0.6], labels)
        low, high = compare.paired(one, other, labels, block_ns=48 * H)["recall"]["difference_ci"]
        held += low <= -0.2 <= high
    assert held >= 50


def test_allocation_is_in_proportion_and_never_over_a_stratum():
    assert sampling.allocate(np.array([50.0, 30.0, 20.0]), np.array([50, 30, 20]), 10).tolist() == [5, 3, 2]
    assert sampling.allocate(np.array([50.0, 1.0]), np.array([3, 40]), 10).tolist() == [3, 7]
    assert sampling.allocate(np.array([9.0, 1.0]), np.array([90, 10]), 5).min() >= 1
    # Neyman: sizes 100 and 100, deviations 0.5 and 0.1: five to one.
    got = sampling.draw(["a"] * 100 + ["b"] * 100, 60, seed=1, spread={"a": 0.5, "b": 0.1})
    assert sum(s == "a" for s in got.stratum) == 50 and set(got.probability) == {0.5, 0.1}
    with pytest.raises(ValueError, match="at least 1"):
        sampling.draw(["a"], 0, seed=1)


def test_estimates_from_samples_are_unbiased_and_their_intervals_hold():
    """400 findings in strata of unlike precision; the truth is known, a sixth of them is judged."""
    rng = np.random.default_rng(0)
    scores = rng.uniform(3, 12, 400)
    truth = rng.uniform(size=400) < (scores - 3) / 9
    found = [Finding("", int(i) * H, int(i) * H, score=float(s)) for i, s in enumerate(scores)]
    strata = sampling.strata_of(found, [""] * 400)
    estimates, held = [], 0
    for seed in range(2000):
        drawn = sampling.draw(strata, 66, seed=seed, spread={strata[int(np.argmax(scores))]: 0.2})
        weight = 1 / drawn.probability
        estimates.append(float(np.sum(weight * truth[drawn.index]) / np.sum(weight)))
        if seed < 150:
            value, (low, high) = sampling.weighted_ratio(
                truth[drawn.index].astype(float),
                np.ones(len(drawn.index)),
                drawn.probability,
                drawn.stratum,
                seed=seed,
            )
            assert value == pytest.approx(estimates[-1])
            held += low <= truth.mean() <= high
    # Three standard errors of the mean of 2,000 draws.
    assert np.mean(estimates) == pytest.approx(truth.mean(), abs=3 * np.std(estimates) / 2000**0.5)
    assert held >= 133


def test_unflagged_spans_avoid_findings_and_are_all_as_likely():
    found = [Finding("a", 10 * H, 12 * H)]
    drawn = [sampling.unflagged_spans([("a", 0, 47 * H)], found, 6 * H, 2, seed=s) for s in range(300)]
    starts = [x.start // H for rows in drawn for x in rows]
    assert set(starts) == {0, 18, 24, 30, 36} and all(x.probability == 2 / 5 for rows in drawn for x in rows)
    counts = np.bincount(np.array(starts) // 6)
    assert counts[counts > 0].min() > 60
    assert sampling.unflagged_spans([("a", 0, H)], found, 6 * H, 2, seed=1) == []


def test_the_sampled_block_weighs_verdicts_by_their_chance():
    """Two strata by hand: 2 of 10 judged, both true, and 1 of 2 judged, false: (2 / 0.2) / (2 / 0.2 + 1 / 0.5) = 10 / 12."""
    found = [Finding("", t * H, t * H, score=5.0) for t in (1, 2, 3)]
    labels = [
        Label(1 * H, 1 * H, "", "incident", origin="sampled", stratum="top", probability=0.2),
        Label(2 * H, 2 * H, "", "incident", origin="sampled", stratum="top", probability=0.2),
        Label(3 * H, 3 * H, "", "false-alarm", origin="sampled", stratum="low", probability=0.5),
        Label(40 * H, 45 * H, "", "incident", origin="sampled", stratum="unflagged", probability=0.1),
    ]
    block = score(found, labels).figures["sampled"]
    assert block["precision"] == pytest.approx(10 / 12) and block["n"] == 4
    assert block["recall"] == pytest.approx(10 / 20) and block["strata"] == {
        "low": 1,
        "top": 2,
        "unflagged": 1,
    }
    assert block["precision_ci"][0] <= block["precision"] <= block["precision_ci"][1]


def test_every_ratio_has_an_interval_where_there_are_blocks_enough():
    stream, labels = scored(3)
    runs = world.runs_at(stream.z, 4, 4, stream.times, Group())
    found = [
        Finding("place=a", int(stream.times[a]), int(stream.times[b]))
        for a, b in zip(runs.first, runs.last, strict=True)
    ]
    flagged = np.abs(stream.z) >= 4
    figures = score(
        found,
        labels,
        {"place=a": Points(stream.times, np.abs(stream.z), flagged)},
        Setting(step_ns=H, longest_season_ns=24 * H),
    ).figures
    for where, names in (
        ("events", ("precision_ci_clustered", "recall_ci_clustered", "f1_ci", "fragmentation_ci", "incident_precision_ci")),
        ("points", ("precision_ci_clustered", "recall_ci_clustered", "specificity_ci_clustered", "accuracy_ci", "f1_ci")),
        ("ranges", ("precision_ci", "recall_ci", "f1_ci")), ("delay", ("median_ci", "p90_ci")),
        ("false_per_week", ("per_stream_ci", "total_ci")),
    ):  # fmt: skip
        for name in names:
            low, high = figures[where][name]
            value = figures[where].get(name.split("_ci")[0], figures[where].get(f"{name.split('_ci')[0]}_s"))
            assert low <= value <= high, (where, name)
    assert figures["flagged_share_ci"][0] <= figures["flagged_share"] <= figures["flagged_share_ci"][1]


def test_drawing_more_gives_all_drawn_by_now_the_same_chance():
    strata = ["a"] * 30 + ["b"] * 10
    first = sampling.draw(strata, 8, seed=1)
    more = sampling.draw(strata, 12, seed=2, drawn=first.index)
    assert not set(first.index) & set(more.index) and len(more.index) == 12
    by_now = [strata[i] for i in (*first.index, *more.index)]
    assert more.chances == {name: pytest.approx(by_now.count(name) / strata.count(name)) for name in "ab"}
    assert more.probability.tolist() == [more.chances[s] for s in more.stratum]
    rest = sampling.draw(strata, 99, seed=3, drawn=[*first.index, *more.index])
    assert len(rest.index) == 20 and set(rest.chances.values()) == {1.0}


def test_two_stages_of_drawing_estimate_without_bias():
    rng = np.random.default_rng(5)
    strata = ["a"] * 60 + ["b"] * 20
    true = np.r_[rng.random(60) < 0.9, rng.random(20) < 0.3].astype(float)
    means = []
    for seed in range(400):
        first = sampling.draw(strata, 12, seed=seed)
        more = sampling.draw(strata, 12, seed=1000 + seed, drawn=first.index)
        picked = np.r_[first.index, more.index]
        chance = np.array([more.chances[strata[i]] for i in picked])
        got, _ = sampling.weighted_ratio(true[picked], np.ones(24), chance, [strata[i] for i in picked])
        means.append(got)
    assert abs(np.mean(means) - true.mean()) < 3 * np.std(means) / 20


def test_spans_that_came_near_the_level_get_half_of_the_draws():
    near = lambda series, first, last: first < 10 * 6 * H
    drawn = sampling.unflagged_spans([("a", 0, 600 * H)], [], 6 * H, 16, seed=1, is_near=near)
    parts = {s: [d for d in drawn if d.stratum == s] for s in {d.stratum for d in drawn}}
    assert {s: len(p) for s, p in parts.items()} == {"unflagged, near the level": 8, "unflagged": 8}
    assert {p[0].probability for p in parts.values()} == {8 / 10, 8 / 90}
    assert all(near("a", d.start, d.end) == d.stratum.endswith("level") for d in drawn)
    few = sampling.unflagged_spans([("a", 0, 30 * H)], [], 6 * H, 99, seed=1, is_near=near)
    assert len(few) == 5 and {d.probability for d in few} == {1.0}


@pytest.mark.parametrize(
    "pairs, same, kappa",
    [
        # The classical case of two readers and 50 grants: 20 + 15 agree, 5 and 10 do not.
        ([("y", "y")] * 20 + [("y", "n")] * 5 + [("n", "y")] * 10 + [("n", "n")] * 15, 35, 0.4),
        ([("y", "y")] * 3 + [("n", "n")] * 3, 6, 1.0),
        ([("y", "n")] * 2 + [("n", "y")] * 2, 0, -1.0),
        ([("y", "y")] * 4, 4, None),
        ([], 0, None),
    ],
)
def test_agreement_is_what_chance_does_not_make(pairs, same, kappa):
    got = agreement([a for a, _ in pairs], [b for _, b in pairs])
    assert (got.n, got.same) == (len(pairs), same)
    assert got.kappa == (None if kappa is None else pytest.approx(kappa))


def test_unpaired_verdicts_are_refused():
    with pytest.raises(ValueError, match="pairs"):
        agreement(["y"], [])


def test_a_share_is_never_surer_than_its_count():
    all_real, interval = sampling.share_of([True] * 4, [0.5] * 4, ["a"] * 4)
    assert all_real == 1.0 and interval == list(wilson(4, 4))
    plain, wide = sampling.share_of([True, False], [None, None], ["", ""])
    assert plain == 0.5 and wide == list(wilson(1, 2))
    weighted, _ = sampling.share_of([True, False], [0.1, 0.5], ["a", "b"])
    assert weighted == pytest.approx(10 / 12)
    assert sampling.share_of([], [], []) == (None, None)
    assert sampling.spread_of([("a", True), ("a", False), ("b", True)]) == {"a": 0.5, "b": 0.0}
