"""The work behind harmonic baselines: sums over distinct phases, factors, and fits that begin where an earlier one ended."""

import numpy as np
import pytest

from tests.core.test_expectation import DAY, STEP, frame, series_of
from watchtide.core.expect import baselines
from watchtide.core.expect.baselines import harmonic, waves
from watchtide.core.expect.fitting import choose_periods
from watchtide.core.expect.frame import Frame, frame_of
from watchtide.core.expect.quantile import Counted

WEEK = choose_periods([DAY, 7 * DAY], STEP)
RIDGE = {"season": 1e-3, "shared": 1e-2, "bends": 1.0}


def design(n, periods=WEEK):
    f = frame(np.zeros(n))
    layout = waves.harmonics(periods, STEP, 24, n)
    return waves.design_of(f, periods, layout, 0, int(f.times[-1]), np.array([1.0, 2.0]))


def dense(x):
    return np.column_stack([x.slow, x.seasons[x.at]])


@pytest.mark.parametrize("share", [0.0, 0.02, 0.4, 1.0])
def test_sums_over_phases_are_those_over_samples(share):
    """Equal weights but for a share of the samples, down to none alike."""
    rng = np.random.default_rng(1)
    x = design(7 * DAY * 6 + 31)
    w = np.ones(len(x.at))
    odd = rng.random(len(w)) < share
    w[odd] = rng.random(odd.sum()) * (rng.random(odd.sum()) < 0.5)
    whole = dense(x)
    assert np.allclose(x.gram(w), whole.T @ (w[:, None] * whole), rtol=1e-9, atol=1e-9)
    assert np.allclose(x.moment(w), whole.T @ w, rtol=1e-9, atol=1e-9)
    for rows in (np.arange(len(w)) % 4 == 0, np.arange(len(w)) < 300):
        part = x.rows(rows)
        own = whole[rows]
        assert np.allclose(part.gram(w[rows]), own.T @ (w[rows, None] * own), rtol=1e-9, atol=1e-9)


def test_a_factor_solves_and_counts_parameters():
    rng = np.random.default_rng(2)
    a = rng.normal(size=(60, 12))
    gram, penalty, right = a.T @ a, rng.random(12) * 10, rng.normal(size=12)
    factor = harmonic._factor(gram, penalty)
    whole = gram + np.diag(penalty)
    assert np.allclose(harmonic._solved(factor, right), np.linalg.solve(whole, right))
    assert harmonic._effective(factor, penalty) == pytest.approx(np.trace(np.linalg.solve(whole, gram)))
    with pytest.raises(np.linalg.LinAlgError):
        harmonic._factor(-gram, penalty)


def counts_of(mean, rng):
    n = len(mean)
    t = np.arange(n)
    y = rng.poisson(mean).astype(float)
    plain = (np.zeros(n, np.int64), STEP, y, np.ones(n, bool), np.ones(n), np.zeros((0, n)), ())
    return Frame(t * STEP, *plain, Counted(np.ones(n), np.full(n, np.inf)))


@pytest.mark.parametrize("link", ["identity", "log"])
@pytest.mark.parametrize("seed", range(3))
def test_a_fit_that_begins_at_yesterdays_ends_where_one_from_nothing_does(link, seed):
    """With outliers, a step within the window, a gap and a far-off level; ten windows of eight weeks, each a day later."""
    rng = np.random.default_rng(seed)
    t = np.arange(24 * 70)
    mean = np.exp(
        3 + 0.8 * np.sin(2 * np.pi * t / DAY) + 0.2 * np.sin(2 * np.pi * t / (7 * DAY)) + 0.1 * (t > 1_100)
    )
    if link == "log":
        whole = counts_of(mean, rng)
        whole.values[rng.choice(len(t), 20)] += 200
    else:
        y = 1e6 + mean + rng.standard_t(4, len(t))
        y[rng.choice(len(t), 20)] += 60
        y[400:430] = np.nan
        whole = frame_of(series_of(y))
    before = None
    for day in range(10):
        part = whole.part(day * DAY, day * DAY + 56 * DAY)
        plain = baselines.fit("harmonic", part, WEEK, {"link": link, "ridge": RIDGE})
        warm = baselines.fit("harmonic", part, WEEK, {"link": link, "ridge": RIDGE, "start": before})
        off = np.abs(warm.expect(part).expected - plain.expect(part).expected)
        noise = np.sqrt(mean) if link == "log" else np.ones(len(mean))
        # Both end near the same place: what they may differ by is small beside the noise.
        off /= noise[day * DAY :][: len(off)]
        assert np.nanmean(off) < 0.01 and np.nanmax(off) < 0.2
        before = warm


def test_a_start_with_other_columns_is_none():
    f = frame(np.sin(np.arange(24 * 40) * 2 * np.pi / DAY))
    day = baselines.fit("harmonic", f, choose_periods([DAY], STEP), {"ridge": RIDGE})
    week = baselines.fit("harmonic", f, WEEK, {"ridge": RIDGE, "start": day})
    plain = baselines.fit("harmonic", f, WEEK, {"ridge": RIDGE})
    assert np.array_equal(week.arrays["beta"], plain.arrays["beta"])
