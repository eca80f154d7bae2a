"""Discords and transforms against brute force and by hand."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from watchtide.core import decompose
from watchtide.core.explain import diagnostics, discords
from watchtide.core.series import transforms


def brute(y, window):
    m = len(y) - window + 1
    out = np.full(m, np.nan)
    rows = [y[i : i + window] for i in range(m)]

    def z(row):
        s = row.std()
        return (row - row.mean()) / s if s > 1e-9 * max(np.nanstd(y), 1e-300) else None

    shapes = [z(row) for row in rows]
    gone = [bool(np.isnan(row).any()) for row in rows]
    for i in range(m):
        if gone[i]:
            continue
        best = np.inf
        for j in range(m):
            if abs(i - j) < max(window // 2, 1) or gone[j]:
                continue
            a, b = shapes[i], shapes[j]
            if a is None or b is None:
                d = 0.0 if a is None and b is None else np.sqrt(window)
            else:
                d = np.sqrt(np.sum((a - b) ** 2))
            best = min(best, d)
        out[i] = best if np.isfinite(best) else np.nan
    return out


@given(st.integers(0, 10_000), st.integers(4, 12), st.booleans())
@settings(max_examples=25, deadline=None)
def test_distances_equal_brute_force(seed, window, has_gaps):
    rng = np.random.default_rng(seed)
    y = rng.normal(size=90) * 10.0 ** rng.integers(-3, 4) + rng.integers(-5, 5) * 100
    if has_gaps:
        y[rng.choice(90, 4, replace=False)] = np.nan
        # A jump of up to half a million times the scatter, behind which no digit may be lost.
        y[20:40] = 1.0
    got, where = discords.nearest(y, window)
    assert np.allclose(got, brute(y, window), atol=1e-7, equal_nan=True)
    seen = ~np.isnan(got)
    assert np.all(np.abs(where[seen] - np.flatnonzero(seen)) >= window // 2)


def test_the_odd_day_is_the_strongest_discord():
    t = np.arange(24 * 30)
    y = np.sin(2 * np.pi * t / 24) + np.random.default_rng(0).normal(0, 0.05, len(t))
    y[240:264] = np.sin(4 * np.pi * t[240:264] / 24)
    found = discords.strongest(y, 24, 2)
    assert 230 <= found[0].index <= 264 and abs(found[0].index - found[1].index) >= 24
    for wrong in (3, 400):
        with pytest.raises(ValueError, match="4 samples to half"):
            discords.nearest(y, wrong)
    assert np.isnan(discords.nearest(np.full(50, np.nan), 8)[0]).all()


@given(st.integers(0, 10_000), st.integers(4, 9))
@settings(max_examples=6, deadline=None)
def test_neighbours_in_the_past_equal_brute_force(seed, window):
    y = np.random.default_rng(seed).normal(size=70)
    y[30:33] = np.nan
    got, where = discords.nearest(y, window, known=40)
    for i in (0, window // 2, 20, 28, 36, 50, len(got) - 1):
        # The last window that an earlier one may be: the brute force over what is there by its end.
        past = brute(y[: i + window], window)[i] if i >= max(window // 2, 1) else np.nan
        assert np.isnan(got[i]) == np.isnan(past) and (np.isnan(past) or abs(got[i] - past) < 1e-5)
        assert np.isnan(past) or where[i] <= i - window // 2


def daily(days, odd, seed=0):
    """Hourly sines with one day that has two waves."""
    t = np.arange(24 * days)
    y = np.sin(2 * np.pi * t / 24) + np.random.default_rng(seed).normal(0, 0.05, len(t))
    y[24 * odd : 24 * odd + 24] = np.sin(4 * np.pi * t[:24] / 24)
    return y


def told(y, **more):
    options = {"first": 24 * 20, "refit": 24, "reach": 24 * 40, "most": 2, **more}
    return list(discords.online(y, 24, **options))


def test_an_odd_day_is_told_when_it_ends_and_its_like_is_not():
    y = daily(60, 30)
    first = told(y)[0]
    assert 24 * 30 - 23 <= first.index <= 24 * 31 and first.score >= 4
    # The same day again has a neighbour now.
    y[24 * 45 : 24 * 46] = y[24 * 30 : 24 * 31]
    assert not [d for d in told(y) if 24 * 45 - 12 <= d.index <= 24 * 45 + 12]


def test_discords_as_if_live_do_not_know_the_future():
    y = daily(60, 30)
    for cut in (24 * 30 + 7, 24 * 31 + 2, 24 * 50):
        known = [d for d in told(y) if d.index + 24 <= cut]
        assert told(y[:cut]) == known
        changed = np.r_[y[:cut], 50 * np.random.default_rng(1).normal(size=len(y) - cut)]
        assert [d for d in told(changed) if d.index + 24 <= cut] == known


def test_noise_alone_hardly_ever_tells_a_discord():
    found = [told(np.random.default_rng(k).normal(size=24 * 60)) for k in range(8)]
    assert sum(map(len, found)) <= 3
    assert told(np.zeros(24 * 60)) == [] and told(np.full(24 * 60, np.nan)) == []
    assert told(np.zeros(24 * 10)) == []


@pytest.mark.parametrize(
    ("name", "lag"),
    [("none", 1), ("log", 1), ("box-cox", 1), ("z-score", 1), ("min-max", 1), ("difference", 1), ("difference", 24),
     ("percent", 1), ("rolling mean", 4), ("rolling median", 5)],
)  # fmt: skip
def test_a_transform_and_its_way_back_leave_the_score_as_it_was(name, lag):
    rng = np.random.default_rng(0)
    y = np.exp(rng.normal(2, 0.3, 300))
    y[50:53] = np.nan
    t = transforms.learn(name, y[:200], lag)
    moved = transforms.forward(t, y)
    expected, spread = np.full(300, np.nanmedian(moved)), np.full(300, np.nanstd(moved))
    back, wide = transforms.back(t, y, expected, spread)
    ok = ~np.isnan(moved) & ~np.isnan(back)
    assert ok.sum() > 250 and np.all(wide[ok] > 0)
    one, other = ((y - back) / wide)[ok], ((moved - expected) / spread)[ok]
    if name in ("log", "box-cox"):
        # Judged on the original scale, by the slope there: the same sign, and the same for small deviations.
        apart = np.abs(other) > 1e-6
        assert np.all(np.sign(one) == np.sign(other), where=apart) and np.corrcoef(one, other)[0, 1] > 0.95
    else:
        assert np.allclose(one, other, atol=1e-9)


def test_transforms_learn_from_training_alone_and_refuse_what_they_cannot_take():
    y = np.arange(1.0, 101)
    assert transforms.learn("min-max", y[:50])["range"] == 49
    assert transforms.forward(transforms.learn("percent", y), np.array([10.0, 11.0]))[1] == pytest.approx(10)
    with pytest.raises(ValueError, match="values above 0"):
        transforms.learn("log", y - 50)
    with pytest.raises(ValueError, match="transform must be one of"):
        transforms.learn("square", y)
    with pytest.raises(ValueError, match="lag of at least 1"):
        transforms.learn("difference", y, 0)


def test_classical_decomposition_by_hand():
    """Even period, trend 0, 1, 2 …, season +3, -1, -1, -1: known in closed form inside the half windows."""
    y = np.arange(16.0) + np.tile([3.0, -1, -1, -1], 4)
    got = decompose.classical(y, 4)
    assert np.isnan(got.trend[:2]).all() and np.allclose(got.trend[2:14], np.arange(2.0, 14))
    assert np.allclose(got.season[:4], [3, -1, -1, -1]) and np.allclose(got.remainder[2:14], 0)
    ratio = decompose.classical(
        np.exp(0.1 * np.arange(12.0)) * np.tile([2.0, 0.5, 1.0], 4), 3, "multiplicative"
    )
    assert ratio.season[:3].mean() == pytest.approx(1) and np.nanstd(ratio.remainder) < 0.02
    for wrong, words in (
        ((y, 9), "between 2 and n/2"),
        ((y - 20, 4, "multiplicative"), "above 0"),
        ((y, 4, "cubic"), "form must be"),
    ):
        with pytest.raises(ValueError, match=words):
            decompose.classical(*wrong)


def test_errors_by_hand_and_without_a_percentage_of_nothing():
    got = diagnostics.errors(
        np.array([1.0, 2, 4, np.nan]), np.array([2.0, 2, 2, 5]), np.zeros(4), np.full(4, 3.0)
    )
    assert (got.mae, got.samples) == (1.0, 3) and got.rmse == pytest.approx(np.sqrt(5 / 3))
    assert got.mape == pytest.approx(100 * (1 + 0 + 0.5) / 3) and got.median_ape == 50
    assert got.smape == pytest.approx(100 * (2 / 3 + 0 + 4 / 6) / 3) and got.coverage == pytest.approx(2 / 3)
    zero = diagnostics.errors(np.array([0.0, 1.0]), np.array([1.0, 1.0]))
    assert zero.mape is None and "values are 0" in zero.why["mape"] and zero.mae == 0.5
    assert diagnostics.errors(np.array([np.nan]), np.array([1.0])).mae is None


def diagnoses(y, expected, periods=(), **more):
    r = y - expected
    z = r / np.std(r)
    options = {"is_multiplied": False, "kind": "harmonic"} | more
    found = diagnostics.diagnose(
        y, expected, z, options.pop("held", z), np.ones(len(y), bool), 3_600 * 10**9, periods, **options
    )
    return {d.name: d for d in found}


def test_every_diagnosis_names_its_remedy():
    rng = np.random.default_rng(0)
    t = np.arange(24 * 42)
    noise = rng.normal(0, 1, len(t))
    season = 3 * np.sin(2 * np.pi * t / 24)
    assert diagnoses(50 + noise, np.full(len(t), 50.0)) == {}
    left = diagnoses(50 + season + noise, np.full(len(t), 50.0))["leftover season"]
    assert left.remedy == {"baseline.seasons": ["24h"]} and "still explains" in left.words
    slow = diagnoses(50 + t / 200 + noise, np.full(len(t), 52.5), kind="slot")
    assert slow["leftover trend"].remedy == {"baseline.kind": "harmonic"}
    level = 20 + 15 * np.sin(2 * np.pi * t / 24)
    wrong = diagnoses(level + noise * level / 15, level, (24.0,))
    assert wrong["wrong form"].remedy == {"baseline.form": "multiplicative"}
    fitted = diagnoses(50 + noise, np.full(len(t), 50.0), held=noise * 2, kind="loess")
    assert fitted["overfit"].remedy == {"baseline.kind": "harmonic"}
    assert "more days" in diagnoses(50 + noise[:80], np.full(80, 50.0), (24.0,))["too little history"].words
    sparse = np.where(t % 5 == 0, 50 + noise, np.nan)
    assert diagnoses(sparse, np.full(len(t), 50.0))["too fine a cadence"].remedy == {"prepare.every": "6h"}
