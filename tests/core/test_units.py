"""Waveforms judged as wholes: shapes tell what levels do not, and the test part has no say in what is kept."""

import numpy as np
import pytest
from bench.quality import average_precision

from watchtide.core import units
from watchtide.core.scoring.choice import Constraint

LENGTH = 100
FAULTS = ("inverted", "missing", "stretched", "bump", "noise")
SIGMAS = ("sigmas", 4.0)
QUICK = {"reconstruction": {"epochs": 3}, "isolation": {"trees": 40}}


def world(count: int, seed: int, share: float = 0.12, length: int = LENGTH):
    """Quasi-periodic waves, some with a fault of shape but the mean and the spread of a usual one; (waves, normal)."""
    rng = np.random.default_rng(seed)
    t = np.linspace(0, 1, length)
    waves, normal = np.zeros((count, length)), np.ones(count, bool)
    for i in range(count):
        late, quick, tall = rng.normal(0, 0.015), 1 + rng.normal(0, 0.04), 1 + rng.normal(0, 0.06)

        def peak(at, wide, high, late=late, quick=quick):
            return high * np.exp(-0.5 * ((t * quick - at - late) / wide) ** 2)

        y = tall * (
            peak(0.25, 0.03, 0.25) + peak(0.43, 0.02, 1.4) + peak(0.47, 0.02, -0.4) + peak(0.7, 0.05, 0.4)
        )
        if rng.random() < share:
            normal[i] = False
            mean, spread = y.mean(), y.std()
            fault = FAULTS[rng.integers(len(FAULTS))]
            if fault == "inverted":
                y = 2 * mean - y
            elif fault == "missing":
                a, b = int(0.36 * length), int(0.52 * length)
                y[a:b] = np.linspace(y[a - 1], y[b], b - a)
            elif fault == "stretched":
                y = np.interp(np.clip((t - 0.43) / 1.8 + 0.43, 0, 1), t, y)
            elif fault == "bump":
                y = y + 0.5 * np.exp(-0.5 * ((t - rng.uniform(0.1, 0.9)) / 0.04) ** 2)
            else:
                y = y + rng.normal(0, 0.18, length)
            y = (y - y.mean()) / y.std() * spread + mean
        waves[i] = y + rng.normal(0, 0.03, length)
    return waves, normal


@pytest.fixture(scope="module")
def judged():
    waves, normal = world(900, 3)
    parts = units.split(normal)
    model = units.fit(waves, parts, "reconstruction", SIGMAS)
    return waves, normal, parts, model


def test_faults_of_shape_are_found_where_mean_and_spread_tell_nothing(judged):
    waves, normal, parts, model = judged
    scores = units.score(model, waves)
    test = parts == units.TEST
    assert average_precision(scores[test], ~normal[test]) >= 0.95
    by_mean = np.abs(waves.mean(axis=1) - np.median(waves.mean(axis=1)))
    assert average_precision(by_mean[test], ~normal[test]) < 0.5
    found = units.best_level(scores, normal, parts, Constraint(max_gap=0.1))
    assert found["is_met"] and found["test"]["recall"] >= 0.9 and found["test"]["specificity"] >= 0.9


def test_parts_follow_the_order_and_what_is_not_usual_never_trains():
    normal = np.array([True] * 5 + [False] + [True] * 4)
    parts = units.split(normal)
    assert parts.tolist() == ["training"] * 5 + ["labelled"] + ["validation"] * 2 + ["test"] * 2
    assert units.split(~normal)[:8].tolist() == ["labelled"] * 5 + ["training"] + ["labelled"] * 2


@pytest.mark.parametrize("kind", units.KINDS)
def test_nothing_that_is_kept_knows_the_test_or_the_labelled(kind):
    waves, normal = world(300, 8)
    parts = units.split(normal)
    changed = waves.copy()
    unseen = np.isin(parts, (units.TEST, units.LABELLED))
    changed[unseen] = np.random.default_rng(1).normal(50, 9, (int(unseen.sum()), LENGTH))
    one, two = (units.fit(w, parts, kind, ("odds", 50.0), **QUICK[kind]) for w in (waves, changed))
    assert one.facts == two.facts and one.level == two.level
    assert all(one.arrays[k].tobytes() == two.arrays[k].tobytes() for k in one.arrays)


def test_a_missing_sample_is_drawn_across_and_a_unit_mostly_missing_is_not_judged(judged):
    waves, _, _, model = judged
    few = waves[:3].copy()
    few[0, 10:13] = np.nan
    few[1, : LENGTH * 2 // 3] = np.nan
    scores = units.score(model, few)
    assert np.isfinite(scores[[0, 2]]).all() and np.isnan(scores[1])
    assert not units.flagged(model, scores)[1]


def test_levels_are_read_as_they_are_stated(judged):
    waves, normal, parts, _ = judged
    validation = parts == units.VALIDATION

    def model(level):
        return units.fit(waves, parts, "isolation", level, trees=40)

    assert model(SIGMAS).level == 4.0
    share = model(("share", 0.1))
    seen = np.isin(parts, (units.TRAINING, units.VALIDATION))
    assert np.mean(units.score(share, waves)[seen] >= share.level) == pytest.approx(0.1, abs=0.01)
    one_in_fifty = model(("odds", 50.0))
    assert np.mean(units.score(one_in_fifty, waves)[validation] >= one_in_fifty.level) == pytest.approx(
        0.02, abs=0.01
    )
    assert model(("interval", 0.98)).level == pytest.approx(one_in_fifty.level)
    rare = model(("odds", 1e6))
    assert rare.level >= units.score(rare, waves)[validation].max() and "too few" in rare.note
    assert "no week" in model(("per-week", 0.1)).note and normal.any()


def test_a_confusion_matrix_by_hand():
    scores = np.array([9.0, 7.0, 5.0, 3.0, np.nan])
    normal = np.array([False, True, False, True, False])
    found = units.confusion(scores, normal, 6.0)
    assert (found["tp"], found["fp"], found["fn"], found["tn"]) == (1, 1, 1, 1)
    assert found["specificity"] == 0.5 and found["f1"] == 0.5


def test_a_level_for_units_meets_its_constraint_or_says_the_nearest():
    scores = np.array([1.0, 2.0, 3.0, 6.0, 2.5, 7.0, 8.0, 4.0, 5.0])
    normal = np.array([True, True, True, True, False, False, False, True, False])
    parts = np.array(["validation"] * 4 + ["labelled"] * 3 + ["test"] * 2)
    recall = units.best_level(scores, normal, parts, Constraint(min_recall=1.0))
    assert 2.0 < recall["level"] <= 2.5 and recall["chosen_on"]["specificity"] == 0.5
    assert recall["test"]["tp"] == 1 and recall["test"]["fp"] == 1, "the test is counted, never chosen by"
    costs = units.best_level(scores, normal, parts, Constraint(cost_miss=1.0, cost_false=50.0))
    assert costs["chosen_on"]["fp"] == 0
    apart = np.array([1.0, 1.0, 1.0, 1.0, 1.0, 1.0, 1.0, 4.0, 5.0])
    nearest = units.best_level(apart, normal, parts, Constraint(max_gap=0.1))
    assert not nearest["is_met"]
    with pytest.raises(ValueError, match="no week"):
        units.best_level(scores, normal, parts, Constraint(max_false_per_week=1.0))
    with pytest.raises(ValueError, match="0 labelled ones to choose"):
        units.best_level(scores, np.ones(9, bool), parts, Constraint(min_recall=1.0))


@pytest.mark.parametrize(
    ("waves", "normal", "kind", "words"),
    [
        (np.zeros((60, 20)), np.zeros(60, bool), "reconstruction", "0 usual units to train on"),
        (np.zeros((20, 20)), np.ones(20, bool), "reconstruction", "12 usual units to train on"),
        (np.zeros((60, 20)), np.ones(60, bool), "loess", "judges no units: take reconstruction or isolation"),
        (np.full((60, 20), np.nan), np.ones(60, bool), "isolation", "0 usual units"),
    ],
)
def test_what_cannot_be_learned_from_says_why(waves, normal, kind, words):
    with pytest.raises(ValueError, match=words):
        units.fit(waves, units.split(normal), kind, SIGMAS)


def test_units_of_another_length_are_refused(judged):
    waves, _, _, model = judged
    with pytest.raises(ValueError, match="units of 99 samples; the model judges units of 100"):
        units.score(model, waves[:, :99])


def test_constant_units_are_usual_among_their_like():
    waves, normal = np.full((80, 12), 3.0), np.ones(80, bool)
    for kind in units.KINDS:
        model = units.fit(waves, units.split(normal), kind, SIGMAS, **QUICK[kind])
        assert not units.flagged(model, units.score(model, waves)).any(), kind
