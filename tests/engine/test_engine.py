"""Stages kept and taken up again, fan-out, cancel, reduction for charts."""

import numpy as np
import pytest

from tests import world
from watchtide.core.scoring.rows import Label
from watchtide.core.series import SECOND_NS
from watchtide.engine.keep import cache, kept
from watchtide.engine.keep.files import Store
from watchtide.engine.many import run
from watchtide.engine.scan import reduce, stages
from watchtide.plan import Plan
from watchtide.plan.text import from_data

START = 1_785_715_200 * SECOND_NS


def stream(values, key="place=quay", zone="UTC", step_s=3_600):
    times = START + np.arange(len(values), dtype=np.int64) * step_s * SECOND_NS
    return stages.Input(key, times, values, zone)


def task(values, plan, folder, labels=()):
    return kept.Task(stream(values), plan, tuple(labels), f"digest {values.sum()}", Store(str(folder)), 2**30)


def test_a_new_level_takes_the_kept_stage_and_a_new_season_does_not(tmp_path, monkeypatch):
    fits = []
    based = stages.based
    monkeypatch.setattr(stages, "based", lambda *a: fits.append(1) or based(*a))
    y = world.hourly(spikes=(300,))
    first, _ = kept.scan_task(task(y, from_data({"flag": {"level": {"sigmas": 6}}}), tmp_path))
    again, _ = kept.scan_task(
        task(y, from_data({"flag": {"level": {"sigmas": 3}}, "group": {"need": 2, "of": 3}}), tmp_path)
    )
    assert len(fits) == 1 and len(again.findings) >= len(first.findings) == 1
    assert np.array_equal(first.base.expected, again.base.expected)
    kept.scan_task(task(y, from_data({"baseline": {"seasons": ["24h"]}}), tmp_path))
    kept.scan_task(task(y, Plan(), tmp_path, [Label(START, START + SECOND_NS, "")]))
    kept.scan_task(task(y + 1, Plan(), tmp_path))
    assert len(fits) == 4
    kept.scan_task(task(y, Plan(), tmp_path, [Label(START, START + SECOND_NS, "", "foreseen")]))
    assert len(fits) == 4, "a label that leaves nothing out of training is no reason to fit"


def test_a_kept_stage_comes_back_whole_and_a_damaged_one_is_made_again(tmp_path):
    base = stages.fit(stream(world.hourly()), Plan())
    cache.keep(Store(str(tmp_path)), "k", base, most_bytes=2**30)
    again = cache.load(Store(str(tmp_path)), "k")
    assert np.array_equal(again.z, base.z) and again.notes == base.notes and again.resolved == base.resolved
    (tmp_path / "k.npz").write_bytes(b"damaged")
    assert cache.load(Store(str(tmp_path)), "k") is None and cache.load(Store(str(tmp_path)), "none") is None


def test_the_cache_keeps_to_its_cap(tmp_path):
    base = stages.fit(stream(world.hourly(days=10)), Plan())
    cache.keep(Store(str(tmp_path)), "k0", base, most_bytes=2**30)
    cap = 3 * (tmp_path / "k0.npz").stat().st_size
    for i in range(1, 6):
        cache.keep(Store(str(tmp_path)), f"k{i}", base, most_bytes=cap)
    assert sum(p.stat().st_size for p in tmp_path.glob("*.npz")) <= cap
    assert (
        cache.load(Store(str(tmp_path)), "k5") is not None and cache.load(Store(str(tmp_path)), "k0") is None
    )


def test_a_pool_gives_the_same_results_in_the_same_order():
    streams = [stream(world.hourly(spikes=(100 + 10 * i,), seed=i), f"place=p{i}") for i in range(5)]
    alone = [s.findings for s in run.scan_many(streams, Plan())]
    told = []
    pooled = [
        s.findings for s in run.scan_many(streams, Plan(), jobs=2, progress=lambda d, n: told.append((d, n)))
    ]
    assert repr(alone) == repr(pooled) and told[-1] == (5, 5)


def test_cancel_stops_between_streams():
    done = []
    with pytest.raises(run.Cancelled):
        for s in run.scan_many(
            [stream(world.hourly(days=5))] * 50, Plan(), is_cancelled=lambda: len(done) >= 3
        ):
            done.append(s)
    assert len(done) == 3


def test_an_error_names_its_stream():
    with pytest.raises(
        run.StreamFailed, match=r"stream place=quay: a season of 60 d .* more samples are needed"
    ):
        list(run.scan_many([stream(world.hourly())], from_data({"baseline": {"seasons": ["60d"]}})))


def test_left_out_incidents_do_not_widen_the_band():
    y = world.hourly()
    y[400:424] += np.random.default_rng(0).normal(0, 40, 24)
    label = Label(int(START + 400 * 3600 * SECOND_NS), int(START + 423 * 3600 * SECOND_NS), "place=quay")
    plan = from_data({"baseline": {"kind": "loess", "seasons": ["24h"], "options": {"season_window": 15}}})
    with_it, without = stages.fit(stream(y), plan), stages.fit(stream(y), plan, [label])
    assert not without.clean[400:424].any()
    assert np.nanmean(without.spread) <= np.nanmean(with_it.spread)


def test_a_tide_keeps_to_utc_through_a_clock_change_and_a_commute_to_the_wall_clock():
    # Eight weeks around 25 October 2026, when Dublin's clocks go back.
    begin = 1_790_640_000 * SECOND_NS
    hours = np.arange(24 * 56)
    times = begin + hours.astype(np.int64) * 3_600 * SECOND_NS
    from watchtide.tables.clock import utc_offsets

    local = (times + utc_offsets(times, "Europe/Dublin")) // (3_600 * SECOND_NS)
    rng = np.random.default_rng(0)
    commute = 50 + 30 * ((local % 24 == 8) | (local % 24 == 17)) + rng.normal(0, 1, len(hours))
    got = stages.fit(
        stages.Input("", times, commute, "Europe/Dublin"), from_data({"baseline": {"seasons": ["24h"]}})
    )
    assert np.nanmax(np.abs(got.z)) < 9 and np.std(commute - got.expected) < 2
    tide = 3 * np.cos(2 * np.pi * hours / 25) + rng.normal(0, 0.05, len(hours))
    kept_utc = stages.fit(
        stages.Input("", times, tide, "Europe/Dublin"), from_data({"baseline": {"seasons": ["25h"]}})
    )
    assert np.std(tide - kept_utc.expected) < 0.1
    assert kept_utc.resolved["baseline"]["clock"] == "utc"


def test_reduction_keeps_extremes_peaks_and_gaps():
    rng = np.random.default_rng(0)
    y = rng.normal(size=200_000)
    y[123_456], y[77_777] = 90, -80
    y[50_000:60_000] = np.nan
    at = reduce.indices(y, y * 0, np.array([42]), 4000)
    assert len(at) < 5000 and {0, 42, 77_777, 123_456, 199_999} <= set(at.tolist())
    assert np.isnan(y[at]).any() and np.all(np.diff(at) > 0)
    assert reduce.indices(y[:100], None, np.empty(0, int), 4000).tolist() == list(range(100))


def test_workers_that_run_already_give_what_fresh_ones_give():
    streams = [stages.Input(f"s{k}", *world_series(k)) for k in range(4)]
    plan = from_data({"baseline": {"kind": "slot", "seasons": ["24h"]}, "flag": {"level": {"sigmas": 5}}})
    alone = list(run.scan_many(streams, plan))
    with run.workers(2, plan) as crew:
        together = list(run.scan_many(streams, plan, jobs=2, executor=crew, is_told=False))
    # As text: a figure that is missing equals nothing, not even itself.
    assert [repr(s.findings) for s in together] == [repr(s.findings) for s in alone]
    assert all(s.findings for s in alone)
    assert all(s.level.odds is None for s in together) and all(s.level.odds is not None for s in alone)
    with run.workers(1, plan) as nobody:
        assert nobody is None


def world_series(seed):
    y = world.hourly(seed=seed, spikes=(300,))
    return 1_785_715_200 * 10**9 + np.arange(len(y), dtype=np.int64) * 3_600 * 10**9, y
