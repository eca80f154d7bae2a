"""When a forecast reaches a limit: against closed forms, and drawn in blocks."""

import numpy as np
import pytest
from scipy.stats import norm

from watchtide.core.expect.passage import first_passage

FLAT = np.zeros(40)
ONE = np.ones(40)
NONE = np.full(3, np.nan)


def test_independent_samples_reach_a_limit_as_the_product_says():
    """P(reached by k) = 1 - Φ(2)^k for independent Gaussian samples."""
    got = first_passage(FLAT, ONE, ONE, NONE, 2.0, is_above=True, block=1, draws=20_000)
    truth = 1 - norm.cdf(2.0) ** np.arange(1, 41)
    assert np.max(np.abs(got.by - truth)) < 0.015
    assert got.at(0.5) == pytest.approx(int(np.argmax(truth >= 0.5)), abs=1)


def test_a_drift_alone_is_one_chance_and_not_one_a_sample():
    """Without noise a future at growth √2 is a constant level g: P = 1 - Φ(limit), however long the horizon."""
    got = first_passage(FLAT, ONE, ONE * np.sqrt(2), np.zeros(100), 1.0, is_above=True, block=1, draws=20_000)
    assert got.by[0] == got.by[-1] == pytest.approx(1 - norm.cdf(1.0), abs=0.01)


def test_blocks_keep_what_hangs_together():
    """Scores that are +3 for a whole block in every ten reach 2.5 in one horizon of a block about as often, not nearly always."""
    noise = np.repeat((np.arange(400) % 10 == 0) * 3.0, 20)
    whole = first_passage(np.zeros(20), np.ones(20), np.ones(20), noise, 2.5, is_above=True, block=20)
    torn = first_passage(np.zeros(20), np.ones(20), np.ones(20), noise, 2.5, is_above=True, block=1)
    assert whole.by[-1] == pytest.approx(0.195, abs=0.03) and torn.by[-1] > 0.8


def test_below_is_above_turned_round_and_a_certain_limit_is_reached_at_once():
    noise = np.random.default_rng(0).standard_t(4, 500)
    line = np.linspace(0, 3, 40)
    up = first_passage(line, ONE, ONE * 1.2, noise, 4.0, is_above=True, block=5)
    down = first_passage(-line, ONE, ONE * 1.2, -noise, -4.0, is_above=False, block=5)
    assert up.by[-1] == pytest.approx(down.by[-1], abs=0.03)
    sure = first_passage(line, ONE * 1e-9, ONE, noise, 1.99, is_above=True, block=5)
    assert sure.at(0.9) == sure.at(0.1) == int(np.argmax(line >= 1.99)) and up.at(1.1) is None
    again = first_passage(line, ONE, ONE * 1.2, noise, 4.0, is_above=True, block=5)
    assert np.array_equal(up.first, again.first)
