"""Change points against brute force over all partitions."""

import itertools

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.signal import lfilter

from watchtide.core import robust, shifts
from watchtide.core.shifts import raising


def naive_cost(y, changes, cost):
    """The objective written out with plain NumPy, on observed samples only."""
    seen = np.flatnonzero(~np.isnan(y))
    floor = 1e-8 * np.var(y[seen]) or 1e-300
    edges = [0, *np.searchsorted(seen, changes), len(seen)]
    total = 0.0
    for a, b in itertools.pairwise(edges):
        x, z = seen[a:b].astype(float), y[seen[a:b]]
        if cost == "step":
            total += np.sum((z - z.mean()) ** 2)
        elif cost == "step+spread":
            total += len(z) * np.log(max(np.var(z), floor))
        elif len(z) > 2:
            total += np.sum((z - np.polyval(np.polyfit(x - x.mean(), z, 1), x - x.mean())) ** 2)
    return total


def brute_force(y, cost, penalty, shortest):
    seen = np.flatnonzero(~np.isnan(y))
    best = (np.inf, ())
    n = len(seen)
    for k in range(n // shortest):
        for cut in itertools.combinations(range(shortest, n - shortest + 1), k):
            if np.all(np.diff([0, *cut, n]) >= shortest):
                value = naive_cost(y, seen[list(cut)], cost) + k * penalty
                best = min(best, (value, tuple(seen[list(cut)])), key=lambda b: b[0])
    return best


@pytest.mark.parametrize("cost", shifts.COSTS)
@pytest.mark.parametrize("shortest", [2, 3])
def test_search_equals_brute_force_on_small_series(cost, shortest):
    rng = np.random.default_rng(7)
    for trial in range(60):
        y = rng.normal(size=12) + np.repeat(rng.normal(0, 3, 3), 4)
        if trial % 3 == 0:
            y[rng.integers(0, 12, 2)] = np.nan
        if trial % 5 == 0:
            y[:5] = 1.0  # a constant run meets the variance floor
        penalty = float(rng.choice([0.5, 3.0, 12.0]))
        found = shifts.search(y, cost=cost, penalty=penalty, shortest=shortest)
        value, _ = brute_force(y, cost, penalty, shortest)
        mine = naive_cost(y, found, cost) + len(found) * penalty
        assert mine == pytest.approx(value, rel=1e-7, abs=1e-7)


def least_objective(y, penalty, shortest):
    """The optimum by plain dynamic programming: every start is tried for every end, nothing is pruned."""
    n = len(y)
    s, q = np.r_[0.0, np.cumsum(y)], np.r_[0.0, np.cumsum(y * y)]
    best = np.full(n + 1, np.inf)
    best[0] = -penalty
    for t in range(shortest, n + 1):
        a = np.arange(t - shortest + 1)
        best[t] = np.min(best[a] + q[t] - q[a] - (s[t] - s[a]) ** 2 / (t - a)) + penalty
    return best[n]


@pytest.mark.parametrize("kind", ["still", "steps", "wander", "whole numbers", "constant"])
def test_what_is_passed_over_in_a_long_search_never_hides_the_optimum(kind):
    rng = np.random.default_rng(11)
    for trial in range(12):
        n = int(rng.integers(200, 900))
        y = rng.normal(size=n)
        if kind == "steps":
            for at in rng.integers(0, n, 6):
                y[at:] += rng.normal(0, 3)
        if kind == "wander":
            y += rng.normal(0, 0.2, n).cumsum()
        if kind == "whole numbers":
            y = np.round(2 * y)
        if kind == "constant":
            y[: n - 40] = 4.0
        shortest, penalty = int(rng.integers(1, n // 6)), float(rng.choice([0.05, 2.0, 20.0, 80.0]))
        found = shifts.search(y, penalty=penalty, shortest=shortest)
        assert np.all(np.diff([0, *found, n]) >= shortest)
        mine = naive_cost(y, found, "step") + len(found) * penalty
        assert mine == pytest.approx(least_objective(y, penalty, shortest), rel=1e-7, abs=1e-7), trial


@given(st.floats(-1e6, 1e6), st.floats(1e-3, 1e3))
@settings(max_examples=40, deadline=None)
def test_search_ignores_shift_and_scale(shift, scale):
    rng = np.random.default_rng(1)
    y = rng.normal(size=200) + np.repeat([0, 4], 100)
    assert np.array_equal(shifts.search(y), shifts.search(y * scale + shift))


def test_cost_agrees_with_the_plain_objective():
    rng = np.random.default_rng(3)
    y = rng.normal(50, 3, 60)
    y[7] = np.nan
    for cost in shifts.COSTS:
        expected = naive_cost(y, np.array([20, 41]), cost)
        assert shifts.cost(y, np.array([20, 41]), cost) == pytest.approx(expected, rel=1e-9)


def test_autocorrelated_noise_is_not_cut_to_pieces():
    rng = np.random.default_rng(11)
    counts = []
    for _ in range(10):
        noise = rng.normal(size=2000)
        for i in range(1, 2000):
            noise[i] += 0.7 * noise[i - 1]
        counts.append(len(shifts.search(noise, shortest=24)))
    assert np.mean(counts) < 0.5


def test_a_step_is_found_where_it_is_and_a_constant_series_has_none():
    rng = np.random.default_rng(5)
    y = rng.normal(size=300)
    y[180:] += 5
    assert shifts.search(y, shortest=10).tolist() == [180]
    [shift] = shifts.describe(y, np.array([180]))
    assert shift.size == pytest.approx(5, abs=0.4) and shift.confidence > 0.99
    assert shifts.search(np.full(50, 3.0)).size == 0


@pytest.mark.parametrize(
    ("call", "message"),
    [
        (lambda: shifts.search(np.zeros(3)), "needs 4 observed samples"),
        (lambda: shifts.search(np.zeros(9), cost="median"), "one of step"),
        (lambda: shifts.search(np.zeros(9), penalty=-1.0), "penalty must be 0 or more"),
        (lambda: shifts.search(np.zeros(9), shortest=0), "at least 1 sample"),
    ],
)
def test_bad_arguments_name_the_value_and_the_remedy(call, message):
    with pytest.raises(ValueError, match=message):
        call()


def test_the_penalty_path_holds_every_optimum_and_its_elbow_is_the_truth():
    rng = np.random.default_rng(0)
    y = np.repeat([0.0, 5.0, 2.0, 9.0], 100) + rng.normal(size=400)
    path = shifts.path(y, shortest=5)
    assert [len(p.changes) for p in path] == sorted({len(p.changes) for p in path}) and len(
        path[0].changes
    ) == 0
    (elbow,) = (p for p in path if p.is_elbow)
    assert len(elbow.changes) == 3 and np.all(np.abs(elbow.changes - [100, 200, 300]) <= 2)
    above = [np.inf, *(p.penalty for p in path[:-1])]
    for p, upper in zip(path, above, strict=True):
        # Within its stretch the search finds just this; that is what "every optimum" means.
        for penalty in (p.penalty * 1.001, min(p.penalty * 1.5, upper * 0.999)):
            if p.penalty * 1.001 < penalty < upper or penalty == p.penalty * 1.001:
                again = shifts.search(y, penalty=penalty, shortest=5)
                assert np.isclose(
                    shifts.cost(y, again) + penalty * len(again), p.cost + penalty * len(p.changes)
                )
    assert path == sorted(path, key=lambda p: -p.penalty)


@pytest.mark.parametrize("phi", [0.0, 0.5])
def test_the_interval_of_a_size_holds_it_about_as_often_as_it_says(phi):
    rng = np.random.default_rng(3)
    held = 0
    for _ in range(200):
        noise = rng.normal(size=600)
        for i in range(1, 600):
            noise[i] += phi * noise[i - 1]
        noise[300:] += 4
        (found,) = shifts.describe(noise, np.array([300]), reach=150)
        held += found.size_ci[0] <= 4 <= found.size_ci[1]
    assert 0.9 <= held / 200 <= 1.0


@pytest.mark.parametrize("size", [2.5, 3.0, 5.0])
def test_a_shift_known_online_begins_where_the_level_changed(size):
    """There and back after four days, in white noise: the sums alone begin some samples off, in two of five streams."""
    errors = []
    for seed in range(20):
        z = np.random.default_rng(seed).normal(size=3_000)
        z[1_500:1_900] += size
        up, down = shifts.online(z, run_length=5_760, shortest=96)
        errors += [abs(up.index - 1_500), abs(down.index - 1_900)]
    assert np.mean(errors) < 0.5 and np.mean(np.equal(errors, 0)) > 0.65


def online_plainly(z, run_length, shortest):
    """The same test written out sample by sample."""
    found, seen = [], np.flatnonzero(~np.isnan(z))
    plain = z[seen]
    y = np.clip(plain, -shifts.CLIP, shifts.CLIP)
    level = up = down = wander = 0.0
    up_from = down_from = last = 0
    for i in range(len(y)):
        if i % shifts.WARM_UP == 0 and i > 0:
            past = y[:i]
            if not found:
                level = float(np.median(past[: 4 * shifts.WARM_UP]))
            scale = max(robust.mad_sigma(past, centre=0.0), 1e-6)
            inflated = max(robust.long_run_variance(past), scale**2)
            slack = shifts.SHARPEST * np.sqrt(inflated) / 2
            threshold = raising._threshold(run_length, slack, inflated)
            stretches = range(0, i - shortest + 1, shortest)
            about = [np.median(past[k : k + shortest]) for k in stretches]
            change = np.diff([np.median(plain[k : k + shortest]) for k in stretches])
            if len(about) >= 8:
                moved = robust.mad_sigma(change, centre=0.0) / np.sqrt(2)
                wander = max(wander, robust.mad_sigma(np.array(about)), moved)
            least = max(2 * scale, 3 * wander)
        if i < shifts.WARM_UP:
            continue
        base = 0.0 if found else level
        move = y[i] - base
        up, up_from = (up + move - slack, up_from) if up > 0 else (move - slack, i)
        down, down_from = (down - move - slack, down_from) if down > 0 else (-move - slack, i)
        up, down = max(up, 0.0), max(down, 0.0)
        if max(up, down) <= threshold:
            continue
        start, sign = (up_from, 1) if up > threshold else (down_from, -1)
        recent = float(np.median(y[max(start, i - shortest // 2) : i + 1]))
        if sign * (recent - base) < scale / 2:
            up = down = 0.0
        elif i - start + 1 >= shortest:
            whole = sign * (float(np.median(y[start : i + 1])) - base)
            if min(whole, sign * (recent - base)) >= least:
                first = max(start - shortest, last)
                moves = plain[first : i + 1] - level
                most = max(shifts.CLIP, abs(np.median(moves[-(shortest // 2) :])))
                moves = np.clip(moves, -most, most)
                explained = [len(m) * m.mean() ** 2 for m in (moves[s:] for s in range(len(moves)))]
                start = first + int(np.argmax(explained))
                if i - start + 1 < shortest:
                    continue
                last = start + 1
                found.append((int(seen[start]), int(seen[i]), sign))
                level = float(np.median(plain[start : i + 1]))
                y[start:] = np.clip(plain[start:] - level, -shifts.CLIP, shifts.CLIP)
                up = down = 0.0
    return found


@pytest.mark.parametrize("seed", range(6))
def test_the_compiled_walk_is_the_plain_one_to_the_last_bit(seed):
    rng = np.random.default_rng(seed)
    z = rng.normal(size=3_000)
    for at in rng.integers(300, 2_700, 3):
        z[at : at + int(rng.integers(5, 900))] += 4 * rng.normal()
    z[rng.random(len(z)) < 0.05] = np.nan
    got = shifts.online(z, run_length=5_000, shortest=48)
    assert [(f.index, f.raised, f.direction) for f in got] == online_plainly(z, 5_000, 48)


def test_a_level_that_wanders_has_no_shift_and_a_real_one_is_still_raised():
    """Of 24 samples a day it came two deviations off twice as often as promised, and each time back."""
    wandered = raised = 0
    for seed in range(10):
        rng = np.random.default_rng(seed)
        z = lfilter([1.0], [1.0, -0.99], rng.normal(0, np.sqrt(1 - 0.99**2), 6_000))
        wandered += len(shifts.online(z, run_length=1_440, shortest=24))
        white = rng.normal(size=2_000)
        white[1_500:] += 2.5
        raised += any(1_490 <= f.index <= 1_515 for f in shifts.online(white, run_length=1_440, shortest=24))
    assert wandered <= 60_000 / 1_440
    assert raised == 10


@pytest.mark.parametrize("seed", range(8))
def test_an_online_test_goes_on_from_where_it_stood(seed):
    """Gone on with at random places, gaps and several shifts included: what is found is the same, and nothing is gone over twice."""
    rng = np.random.default_rng(seed)
    z = rng.normal(0, 1, 6_000) + 4 * np.repeat(rng.integers(-1, 2, 6), 1_000)
    z[rng.integers(0, 6_000, 300)] = np.nan
    whole = shifts.online(z, run_length=5_000, shortest=48)
    course = None
    for stop in sorted({*rng.integers(1, 6_000, 12).tolist(), 6_000}):
        got, course, _ = shifts.online_on(z[:stop], run_length=5_000, shortest=48, course=course)
        assert got == shifts.online(z[:stop], run_length=5_000, shortest=48)
    assert got == whole and course.done >= 5_400
    # From wherever it stood: after a shift the level in force comes with it.
    for stop in range(400, 6_000, 400):
        _, course, _ = shifts.online_on(z[:stop], run_length=5_000, shortest=48)
        assert shifts.online_on(z, run_length=5_000, shortest=48, course=course)[0] == whole, stop
    # What may still change is not counted on.
    _, part, _ = shifts.online_on(z, run_length=5_000, shortest=48, most=3_000)
    assert 2_600 <= part.done <= 3_000
    again, *_ = shifts.online_on(z, run_length=5_000, shortest=48, course=part)
    assert again == whole
