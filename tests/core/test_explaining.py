"""What stands behind a finding: by hand, and by properties that must hold."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from watchtide.core.expect.frame import MONDAY_NS
from watchtide.core.explain import explaining

H = 3_600 * 10**9


def test_pushes_lead_from_expected_to_observed_by_hand():
    observed = np.array([[10.0, 12.0], [5.0, np.nan], [0.0, 1.0]])
    expected = np.array([[6.0, 6.0], [6.0, 6.0], [1.0, 1.0]])
    whole = np.array([16.0, 20.0]), np.array([13.0, 13.0])
    got = explaining.pushes(["a", "b", "c"], observed, expected, whole)
    assert (got.observed, got.expected) == (36.0, 26.0)
    assert [(p.name, p.push, p.missing) for p in got.parts] == [
        ("a", 10.0, 0),
        ("b", -1.0, 1),
        ("c", -1.0, 0),
    ]
    assert [p.share for p in got.parts] == [1.0, -0.1, -0.1]
    # 36 - 26 = 10 = 10 - 1 - 1 + 2: the rest stands in a row of its own.
    assert got.unaccounted == 2.0


def test_parts_of_one_name_are_one_part_and_a_calm_whole_has_no_shares():
    got = explaining.pushes(["x", "y", "x"], np.array([[3.0], [1.0], [2.0]]), np.array([[2.0], [4.0], [0.0]]))
    assert [(p.name, p.push) for p in got.parts] == [("x", 3.0), ("y", -3.0)]
    assert got.unaccounted == 0.0 and all(p.share is None for p in got.parts)


@given(st.integers(0, 10_000), st.integers(1, 6), st.integers(1, 9), st.booleans())
@settings(max_examples=60, deadline=None)
def test_the_sum_is_exact_whatever_is_missing(seed, parts, n, has_whole):
    rng = np.random.default_rng(seed)
    observed, expected = rng.normal(100, 30, (2, parts, n))
    observed[rng.random((parts, n)) < 0.2] = np.nan
    whole = (np.nansum(observed, axis=0), expected.sum(axis=0)) if has_whole else None
    got = explaining.pushes([str(i % 3) for i in range(parts)], observed, expected, whole)
    total = got.expected + sum(p.push for p in got.parts) + got.unaccounted
    assert total == pytest.approx(got.observed, abs=1e-9)
    assert has_whole or got.unaccounted == pytest.approx(0.0, abs=1e-9)


def test_likeness_knows_side_length_and_shape():
    score = np.zeros(400)
    bump = np.array([2.0, 6.0, 9.0, 6.0, 2.0])
    score[50:55], score[150:155], score[250:255] = bump, 2 * bump, -bump
    score[300:340] = 6.0
    like = explaining.likeness(score, (50, 54), [(50, 54), (150, 154), (250, 254), (300, 339)])
    assert like[0] == pytest.approx(1.0) and like[1] == pytest.approx(1.0)
    assert like[2] == pytest.approx(-1.0) and 0 < like[3] < 0.5
    assert explaining.likeness(np.full(10, np.nan), (2, 3), [(5, 6)]).tolist() == [0.0]


def test_scores_that_go_together_are_found_at_their_lag():
    rng = np.random.default_rng(0)
    a = rng.normal(size=200)
    b = np.r_[np.full(5, np.nan), a[:-5]]
    assert explaining.together(a, b, 20) == (5, pytest.approx(1.0))
    assert explaining.together(b, a, 20)[0] == -5
    assert explaining.together(a[:6], b[:6], 2) == (0, 0.0)


def test_a_fold_keeps_the_clock_through_a_change_of_it():
    # Two days of hours; on the second the clocks go back, so that 01:00 comes twice.
    times = MONDAY_NS + np.arange(49, dtype=np.int64) * H
    offsets = np.where(np.arange(49) >= 26, 0, H).astype(np.int64)
    numbers, rows = explaining.season_fold(
        times, offsets, np.arange(49.0), 24 * H, MONDAY_NS, H, is_local=True
    )
    assert numbers.tolist() == [0, 1, 2]
    assert np.isnan(rows[0, 0]) and rows[0, 1] == 0.0 and rows[0, 23] == 22.0
    assert rows[1, 2] == 26.0 and rows[1, 3] == 27.0
    flat, rows = explaining.season_fold(times, offsets, np.arange(49.0), 24 * H, MONDAY_NS, H, is_local=False)
    assert flat.tolist() == [0, 1, 2] and rows[1].tolist() == list(np.arange(24.0, 48.0))
    assert explaining.season_fold(times[:0], offsets[:0], np.empty(0), 24 * H, 0, H, is_local=True)[
        1
    ].shape == (0, 24)


def test_the_attribute_that_sets_one_part_most_apart_leads():
    members = [{"place": p, "fare": f} for p in ("quay", "pier") for f in ("adult", "child")]
    name, got = explaining.led_by(members, np.array([30.0, 10, 10, 10]), np.full(4, 10.0))
    assert (got.observed, got.expected) == (60, 40) and got.parts[0].push == 20
    assert name in ("place", "fare") and got.parts[0].name in ("quay", "adult")
    name, got = explaining.led_by(members, np.array([30.0, 30, 10, 10]), np.full(4, 10.0))
    assert name == "place" and [(p.name, p.push) for p in got.parts] == [("quay", 40), ("pier", 0)]
    assert explaining.led_by(members[:1], np.ones(1), np.ones(1)) is None
