"""Learned baselines: the network is trained by a library and judged by our own code; nothing of the future gets in."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from watchtide.core.expect import baselines, choosing
from watchtide.core.expect.baselines import networks
from watchtide.core.expect.baselines.networks import Bounds, Examples, Schedule
from watchtide.core.expect.frame import DAY_NS, Frame, Period, frame_of
from watchtide.core.expect.records import Choice
from watchtide.core.series import Series

HOUR = 3_600 * 10**9
START = 1_704_067_200 * 10**9
DAY = (Period(DAY_NS, True),)
KINDS = ("next-step", "reconstruction")


def hourly(values: np.ndarray, first: int = 0) -> Frame:
    n = len(values)
    times = START + (first + np.arange(n, dtype=np.int64)) * HOUR
    return frame_of(Series(times, np.asarray(values, float), HOUR, np.zeros(n, np.int64)))


def daily(n: int, seed: int = 1, noise: float = 1.0) -> np.ndarray:
    t = np.arange(n)
    wave = np.where(t % 24 < 6, 0.0, 10 * np.sin(2 * np.pi * (t % 24) / 24) + 4 * (t % 24 > 18))
    return 50 + wave + noise * np.random.default_rng(seed).normal(size=n)


@pytest.fixture(scope="module", params=KINDS)
def fitted(request):
    return baselines.fit(request.param, hourly(daily(24 * 60)), DAY, {"epochs": 12})


def test_our_forward_pass_is_the_librarys():
    from sklearn.neural_network import MLPRegressor

    rng = np.random.default_rng(3)
    x, y = rng.normal(size=(400, 12)), rng.normal(size=(400, 3))
    net = networks.train(Examples(x, y), None, (16, 5), Schedule(3, seed=7)).net
    same = MLPRegressor(hidden_layer_sizes=(16, 5), random_state=np.random.RandomState(0)).partial_fit(x, y)
    same.coefs_, same.intercepts_ = [w.T for w in net.weights], list(net.biases)
    assert np.allclose(net(x), same.predict(x), atol=1e-6)
    # Along a stream it predicts the same as over rows.
    values = rng.normal(size=200)
    drawn = Examples(rng.normal(size=(300, 8)), rng.normal(size=(300, 1)))
    one = networks.train(drawn, None, (6,), Schedule(2)).net
    walked = networks.walk(one, values, np.zeros((200, 0)), np.full(8, np.nan), Bounds(2.0, np.inf, 1e9))
    rows = np.lib.stride_tricks.sliding_window_view(values, 8)[:-1]
    mean = rows.mean(axis=1, keepdims=True)
    assert np.isnan(walked.expected[:8]).all()
    assert np.allclose(walked.expected[8:], (mean + 2.0 * one((rows - mean) / 2.0))[:, 0], atol=1e-9)


def test_training_stops_where_the_validation_error_was_least_and_keeps_that_epoch():
    rng = np.random.default_rng(1)
    x, y = rng.normal(size=(60, 10)), rng.normal(size=(60, 1))
    validation = Examples(rng.normal(size=(60, 10)), rng.normal(size=(60, 1)))
    found = networks.train(Examples(x, y), validation, (32,), Schedule(200, patience=4))
    # Pure noise: the training error falls on, and the validation error rises.
    errors = np.array(found.losses)[:, 1]
    assert len(errors) < 200 and found.best == int(np.argmin(errors)) + 1
    assert len(errors) - found.best == 4
    error = np.mean((found.net(validation.rows) - validation.targets) ** 2)
    assert error == pytest.approx(errors[found.best - 1], rel=1e-4)


@pytest.mark.parametrize("kind", KINDS)
def test_who_watches_sees_each_epoch_as_it_is_kept_and_may_end_the_training(kind):
    frame = hourly(daily(24 * 40))
    seen: list[list[float]] = []
    with networks.watched(lambda _, *errors: seen.append(list(errors))):
        found = baselines.fit(kind, frame, DAY, {"epochs": 4})
    assert seen == found.facts["epoch_losses"] and len(seen) == 4

    def stop(epoch: int, *_: float) -> None:
        if epoch == 2:
            raise InterruptedError

    with networks.watched(stop), pytest.raises(InterruptedError):
        baselines.fit(kind, frame, DAY, {"epochs": 4})
    # Nobody watches any more.
    baselines.fit(kind, frame, DAY, {"epochs": 4})
    assert len(seen) == 4


def test_the_same_seed_gives_the_same_bytes_and_another_one_another_network():
    frame = hourly(daily(24 * 40))
    one, same = (baselines.fit("next-step", frame, DAY, {"epochs": 4, "seed": 5}) for _ in range(2))
    other = baselines.fit("next-step", frame, DAY, {"epochs": 4, "seed": 6})
    assert all(one.arrays[k].tobytes() == same.arrays[k].tobytes() for k in one.arrays)
    assert one.arrays["weights_0"].tobytes() != other.arrays["weights_0"].tobytes()


def test_it_learns_a_season_to_about_its_noise(fitted):
    fresh = hourly(daily(24 * 20, seed=9), first=24 * 60)
    expected = fitted.expect(fresh).expected
    assert not np.isnan(expected).any(), "the end of training leads in what comes after it"
    # Its season is ten times the noise; what passes a bottleneck is a little blurred.
    most = 1.4 if fitted.kind == "next-step" else 1.8
    assert np.sqrt(np.mean((fresh.values - expected) ** 2)) < most


def test_what_is_expected_depends_on_earlier_samples_alone(fitted):
    values = daily(24 * 10, seed=4)
    frame = hourly(values, first=24 * 60)
    changed = values.copy()
    changed[150:] += 40
    one, two = fitted.expect(frame).expected, fitted.expect(hourly(changed, first=24 * 60)).expected
    assert np.array_equal(one[:151], two[:151], equal_nan=True)
    cut = fitted.expect(frame.part(0, 100)).expected
    assert np.array_equal(one[:100], cut, equal_nan=True)


def test_samples_left_out_teach_nothing():
    values = daily(24 * 40)
    frame = hourly(values)
    usable = np.ones(len(values), bool)
    usable[300:340] = False
    changed = values.copy()
    changed[300:340] = 900.0
    for kind in KINDS:
        one, two = (
            baselines.fit(kind, hourly(v).with_usable(usable), DAY, {"epochs": 2}) for v in (values, changed)
        )
        assert all(one.arrays[k].tobytes() == two.arrays[k].tobytes() for k in one.arrays), kind
    assert frame.usable.all()


def test_an_outage_or_a_spike_does_not_lead_later_samples_astray(fitted):
    values = daily(24 * 12, seed=8, noise=0.5)
    clean = fitted.expect(hourly(values, first=24 * 60)).expected
    hurt = values.copy()
    hurt[100:112] = np.nan
    hurt[200] = 500.0
    expected = fitted.expect(hourly(hurt, first=24 * 60)).expected
    assert not np.isnan(expected).any()
    assert np.max(np.abs(expected[112:200] - clean[112:200])) < 5
    assert np.max(np.abs(expected[201:] - clean[201:])) < 3


def test_a_new_level_is_taken_after_a_window_at_most(fitted):
    values = daily(24 * 12, seed=8, noise=0.5)
    values[100:] += 100
    expected = fitted.expect(hourly(values, first=24 * 60)).expected
    assert np.median(np.abs(values[100:120] - expected[100:120])) > 50
    assert np.median(np.abs(values[180:] - expected[180:])) < 10


def test_a_window_that_is_rebuilt_badly_is_odd_though_its_mean_is_usual():
    model = baselines.fit("reconstruction", hourly(daily(24 * 60)), DAY, {"epochs": 20})
    values = daily(24 * 10, seed=6)
    day = values[120:144].copy()
    values[120:144] = day[::-1]
    odd = baselines.module("reconstruction").strength(model, hourly(values, first=24 * 60))
    assert np.nanmax(odd[126:160]) > 2 * np.nanmax(np.r_[odd[:118], odd[170:]])


@pytest.mark.parametrize("kind", KINDS)
def test_too_little_history_is_refused_with_what_to_change(kind):
    with pytest.raises(ValueError, match="too few .* take"):
        baselines.fit(kind, hourly(daily(50)), DAY)
    with pytest.raises(ValueError, match="parameters: take fewer units"):
        baselines.fit(
            kind, hourly(daily(24 * 4)), DAY, {"hidden" if kind == "next-step" else "bottleneck": 4000}
        )
    nothing = hourly(daily(24 * 30)).with_usable(np.zeros(24 * 30, bool))
    with pytest.raises(ValueError, match="too few"):
        baselines.fit(kind, nothing, DAY)


@pytest.mark.parametrize("kind", KINDS)
def test_a_constant_stream_is_expected_to_stay_so(kind):
    model = baselines.fit(kind, hourly(np.full(24 * 30, 7.0)), DAY, {"epochs": 2})
    assert np.allclose(model.expect(hourly(np.full(48, 7.0), first=24 * 30)).expected, 7.0, atol=0.5)


@given(st.integers(0, 2**31), st.integers(2, 40), st.floats(0, 0.4))
@settings(max_examples=25, deadline=None)
def test_gaps_anywhere_give_a_number_once_a_window_is_there(seed, past, share):
    rng = np.random.default_rng(seed)
    drawn = Examples(rng.normal(size=(40, past)), rng.normal(size=(40, 1)))
    net = networks.train(drawn, None, (4,), Schedule(1)).net
    values = rng.normal(size=120)
    values[rng.random(120) < share] = np.nan
    walked = networks.walk(net, values, np.zeros((120, 0)), np.full(past, np.nan), Bounds(1.0, 6.0, 20.0))
    known = np.flatnonzero(~np.isnan(values))
    if len(known) and known[0] + past < 120:
        assert np.isfinite(walked.expected[known[0] + past :]).all()
    assert np.isnan(walked.expected[:past]).all()


def test_a_training_that_diverges_says_in_which_epoch():
    x = np.full((64, 3), 1e30)
    with pytest.raises(ValueError, match="diverged in epoch 1"):
        networks.train(Examples(x, x[:, :1] * 1e8), None, (4,), Schedule(2))


def test_networks_are_tried_beside_the_others_where_the_plan_says_so():
    t = np.arange(24 * 40)
    # Each value is a bent function of the two before it: no season, and nothing that a line would say.
    rng = np.random.default_rng(2)
    y = np.zeros(len(t))
    for i in range(2, len(t)):
        y[i] = 3.6 * np.sin(y[i - 1]) - 0.4 * y[i - 2] + rng.normal(0, 0.1)
    like = Choice("harmonic", ())
    chosen, _ = choosing.choose(hourly(y), (), like, kind="auto+learned")
    plain, _ = choosing.choose(hourly(y), (), like)
    assert chosen.kind in KINDS and plain.kind == "harmonic"
    assert {name.split(",")[0] for name in chosen.evidence} == {"harmonic", *KINDS}
