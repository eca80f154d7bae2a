"""A stream of bursts judged unit by unit: what is found, what is kept from training, and what is refused."""

import numpy as np
import pytest

from watchtide.core.scoring.rows import Label
from watchtide.engine.keep import cache
from watchtide.engine.keep.files import Store
from watchtide.engine.many import run
from watchtide.engine.scan import examine, stages
from watchtide.plan.text import from_data

MS = 1_000_000
HOUR = 3_600 * 10**9
SAMPLES = 64
KEY = "metric=ramp"


def bursts(count=200, odd=(150, 171, 188, 195), seed=3):
    """A burst an hour: a wave that dies away; those named ring on beside it."""
    rng = np.random.default_rng(seed)
    at = np.arange(SAMPLES)
    times, values = [], []
    for k in range(count):
        wave = 3 * np.exp(-at / 15) * np.sin(at / 3) + rng.normal(0, 0.1, SAMPLES)
        if k in odd:
            wave += 0.8 * np.sin(at * 1.3 + k)
        times.append(k * HOUR + at * MS)
        values.append(wave)
    return np.concatenate(times).astype(np.int64), np.concatenate(values)


def plan(**changes):
    data = {
        "prepare": {"unit": {"gap": "1s"}},
        "baseline": {"kind": "reconstruction", "options": {"epochs": 20}},
        "flag": {"level": {"sigmas": 6}},
    }
    for part, keys in changes.items():
        data[part] = {**data.get(part, {}), **keys}
    return from_data(data)


def scan(stream, chosen, labels=()):
    return stages.scan(stages.Input(KEY, *stream), chosen, labels)


@pytest.mark.parametrize("kind", ["reconstruction", "isolation"])
def test_the_odd_bursts_are_the_findings_each_from_its_first_to_its_last_sample(kind):
    odd = (150, 171, 188, 195)
    level = {"reconstruction": 6, "isolation": 3}[kind]
    chosen = plan(baseline={"kind": kind, "options": {}}, flag={"level": {"sigmas": level}})
    s = scan(bursts(odd=odd), chosen)
    assert [f.start // HOUR for f in s.findings] == list(odd)
    for f in s.findings:
        assert f.end - f.start == (SAMPLES - 1) * MS
        assert (f.kind, f.direction, f.window) == ("outlier", "", SAMPLES)
        assert f.start <= f.peak_time <= f.end


def test_every_sample_has_what_its_burst_was_rebuilt_as_and_the_score_of_the_whole():
    s = scan(bursts(), plan())
    base = s.base
    seen = ~np.isnan(base.series.values)
    assert seen.sum() == 200 * SAMPLES and np.isnan(base.series.values).sum() == 199
    usual = seen & (base.score < 3)
    off = (base.series.values - base.expected)[usual]
    assert np.sqrt(np.mean(off**2)) < 0.15
    own = base.score[seen].reshape(200, SAMPLES)
    assert np.array_equal(own, np.repeat(base.units.score[:, None], SAMPLES, axis=1))


def test_a_labelled_burst_never_trains_and_the_test_changes_nothing_that_is_kept():
    label = [Label(30 * HOUR, 30 * HOUR + SAMPLES * MS, KEY, "incident")]
    one = scan(bursts(odd=(30,)), plan(), label)
    assert one.base.units.part[30] == "labelled"
    assert [f.start // HOUR for f in one.findings] == [30]
    times, values = bursts(odd=(30,))
    changed = np.where(np.arange(len(values)) >= 160 * SAMPLES, -values[::-1], values)
    two = scan((times, changed), plan(), label)
    before = np.flatnonzero(one.base.units.part != "test")
    assert np.array_equal(one.base.units.score[before], two.base.units.score[before])
    assert one.resolved["facts"] == two.resolved["facts"]
    assert one.level == two.level
    assert not np.array_equal(one.base.units.score, two.base.units.score)


@pytest.mark.parametrize("reading", [{"odds": 50}, {"odds": 1_000}, {"per-week": 1}, {"interval": 0.99}])
def test_an_odd_burst_that_nobody_labelled_does_not_set_the_level(reading):
    # Numbers 120 to 159 are validation.
    s = scan(bursts(odd=(130, 140, 180)), plan(flag={"level": reading}))
    assert s.level.above < 6
    assert {130, 140, 180} <= {f.start // HOUR for f in s.findings}
    assert "2 that are odd themselves" in s.level.note


def test_a_stretch_of_one_length_is_a_unit_as_well():
    hours = np.arange(24 * 120)
    rng = np.random.default_rng(1)
    values = 50 + 20 * np.sin(2 * np.pi * hours / 24) + rng.normal(0, 1, len(hours))
    # One day upside down: its mean and its range are those of any other.
    values[24 * 110 : 24 * 111] = 100 - values[24 * 110 : 24 * 111]
    chosen = plan(prepare={"unit": {"length": "24h"}})
    s = scan((hours * HOUR, values), chosen)
    assert [(f.start // HOUR, f.end // HOUR) for f in s.findings] == [(24 * 110, 24 * 111 - 1)]


def test_a_kept_stage_comes_back_with_its_units(tmp_path):
    base = scan(bursts(), plan()).base
    cache.keep(Store(str(tmp_path)), "a", base, most_bytes=10**9)
    again = cache.load(Store(str(tmp_path)), "a")
    assert again is not None
    for name in ("start", "end", "part", "score"):
        assert np.array_equal(getattr(again.units, name), getattr(base.units, name))
    assert stages.flag(again, plan()).findings == stages.flag(base, plan()).findings


def test_the_summary_and_the_examination_speak_of_what_there_is():
    s = scan(bursts(), plan())
    of = run.summarise([s], plan())["streams"][KEY]
    assert of["resolved"]["prepare"]["unit"] == {"samples": SAMPLES, "count": 200}
    assert list(of["resolved"]["split"]) == ["validation", "test"]
    assert examine.examine(s)["diagnoses"] == []


@pytest.mark.parametrize(
    ("changes", "words"),
    [
        ({"prepare": {"unit": {"gap": "1s"}, "transform": "log"}}, "scaled by those that train"),
        ({"baseline": {"kind": "reconstruction", "options": {"window": "24h"}}}, "no use for it"),
        ({"baseline": {"split": {"locked": "2026-01-01..2026-02-01"}}}, "give a share"),
        ({"prepare": {"unit": {"gap": "2h"}}}, "0 usual units|1 usual units"),
    ],
)
def test_what_does_not_go_with_units_is_refused_by_its_name(changes, words):
    with pytest.raises(ValueError, match=words):
        scan(bursts(), plan(**changes))


def test_too_few_bursts_and_a_replay_are_refused():
    with pytest.raises(ValueError, match="usual units to train on"):
        scan(bursts(count=20), plan())
    with pytest.raises(ValueError, match="not judged as if live"):
        stages.scan(stages.Input(KEY, *bursts()), plan(), mode="replay")
    with pytest.raises(ValueError, match="judges no units"):
        plan(baseline={"kind": "harmonic", "options": {}})
    with pytest.raises(ValueError, match="gap or length"):
        plan(prepare={"unit": {"gap": "1s", "length": "1h"}})
