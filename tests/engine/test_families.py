"""One network for a family: each stream scaled by itself, and one with little history judged by what the others showed."""

import numpy as np
import pytest

from watchtide.core.scoring.rows import Label
from watchtide.engine.many import families, run, together
from watchtide.engine.scan import stages
from watchtide.plan.text import from_data

HOUR = 3_600 * 10**9
START = 1_704_067_200 * 10**9


def stream(place, n, seed, scale=1.0, metric="taps", step=HOUR):
    t = np.arange(n)
    wave = np.where(t % 24 < 6, 0.0, 10 * np.sin(2 * np.pi * (t % 24) / 24))
    values = scale * (50 + wave + np.random.default_rng(seed).normal(size=n))
    return stages.Input(f"metric={metric},place={place}", START + t.astype(np.int64) * step, values, "UTC")


def plan_of(**options):
    baseline = {
        "kind": "next-step",
        "seasons": ["24h"],
        "options": {"per": "family", "epochs": 10, **options},
    }
    return from_data(
        {"baseline": baseline, "flag": {"level": {"sigmas": 6}, "windows": "none"}, "shifts": {"of": "none"}}
    )


def test_a_family_shares_one_network_and_each_stream_its_own_scale():
    given = [stream("a", 900, 1), stream("b", 900, 2, scale=40.0), stream("c", 900, 3, metric="other")]
    a, b, c = run.scan_many(given, plan_of(), is_kept=True)
    nets = [s.base.model.fitted.arrays["weights_0"].tobytes() for s in (a, b, c)]
    assert nets[0] == nets[1] != nets[2]
    for s, size in ((a, 1.0), (b, 40.0)):
        off = s.base.series.values - s.base.expected
        assert np.sqrt(np.nanmean(off**2)) < 1.8 * size
        assert s.base.resolved["facts"]["windows"]["training"] > 1_300


def test_a_stream_of_the_family_with_two_days_is_judged_where_alone_it_could_not_be():
    young = stream("young", 50, 9, scale=3.0)
    young.values[40] += 60
    alone = from_data({"baseline": {"kind": "next-step", "seasons": ["24h"]}})
    with pytest.raises(ValueError, match="too few"):
        stages.scan(young, alone)
    *_, judged = run.scan_many([stream("a", 900, 1), stream("b", 900, 2), young], plan_of())
    assert [f.start for f in judged.findings] == [int(young.times[40])]


def test_what_is_labelled_in_one_stream_teaches_none():
    given = [stream("a", 600, 1), stream("b", 600, 2)]
    hurt = [stream("a", 600, 1), stream("b", 600, 2)]
    hurt[0].values[200:230] = 1e4
    label = Label(int(given[0].times[200]), int(given[0].times[229]), given[0].key)
    one, two = (families.with_shared(s, plan_of(), [label])[0].shared.trained.net for s in (given, hurt))
    assert all(x.tobytes() == y.tobytes() for x, y in zip(one.weights, two.weights, strict=True))


def test_processes_change_nothing():
    given = [stream("a", 500, 1), stream("b", 500, 2)]
    plan = plan_of(epochs=3)
    alone, spread = (list(run.scan_many(given, plan, jobs=jobs)) for jobs in (1, 2))
    for x, y in zip(alone, spread, strict=True):
        assert np.array_equal(x.base.expected, y.base.expected, equal_nan=True)


@pytest.mark.parametrize(
    ("change", "words"),
    [
        (lambda plan: {**plan, "baseline": {**plan["baseline"], "seasons": "auto"}}, "needs stated seasons"),
        (
            lambda plan: {**plan, "baseline": {**plan["baseline"], "form": "multiplicative"}},
            "takes values as they are",
        ),
    ],
)
def test_a_plan_that_cannot_be_shared_says_what_to_change(change, words):
    plan = from_data(change(plan_of().as_data()))
    with pytest.raises(ValueError, match=words):
        run.scan_many([stream("a", 400, 1)], plan)


def test_streams_that_cannot_share_and_modes_that_judge_each_alone_are_refused():
    with pytest.raises(ValueError, match="cadences of 1h, 2h; state one"):
        run.scan_many([stream("a", 400, 1), stream("b", 400, 2, step=2 * HOUR)], plan_of())
    with pytest.raises(ValueError, match="none of the 1 streams"):
        run.scan_many([stream("a", 30, 1)], plan_of())
    with pytest.raises(ValueError, match="take per: stream"):
        list(run.scan_many([stream("a", 1_200, 1)], plan_of(), mode="replay"))


def test_at_most_256_of_a_family_lend_and_their_order_changes_nothing():
    keys = [f"k{i:04d}" for i in range(700)]
    some = together.lenders(keys, str)
    assert len(some) <= together.MOST_LENDERS and some == together.lenders(keys[::-1], str)
    assert some[:3] == ["k0000", "k0003", "k0006"]
    assert together.lenders(keys[:256], str) == keys[:256]
