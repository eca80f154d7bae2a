"""A replay that goes on from its state says what it says when run from the start: to the last bit, wherever it is cut."""

import json
import zipfile
from io import BytesIO

import numpy as np
import pytest

from watchtide.core.scoring.rows import Label
from watchtide.core.series import SECOND_NS
from watchtide.engine.live import upkeep
from watchtide.engine.prepare.preparing import Input
from watchtide.engine.scan import stages
from watchtide.plan.text import from_data

STEP = 3_600 * SECOND_NS
START = 1_700_006_400 * SECOND_NS
SHORT = {"replay": {"refit": "1d", "window": "14d"}}
KINDS = {
    "auto": {},
    "slot": {"baseline": {"kind": "slot", "seasons": ["24h"]}},
    "harmonic": {"baseline": {"kind": "harmonic", "seasons": ["24h", "7d"]}},
    "loess": {"baseline": {"kind": "loess", "seasons": ["24h"]}},
    "rolling": {"baseline": {"kind": "rolling"}},
    "trailing": {"baseline": {"kind": "trailing"}},
    "spectrum": {"baseline": {"kind": "spectrum"}},
    "isolation": {"baseline": {"kind": "isolation"}, "flag": {"level": {"per-week": 0.1}}},
    "next-step": {
        "baseline": {"kind": "next-step", "options": {"epochs": 3, "hidden": 8}},
        "replay": {"refit": "7d"},
    },
    "reconstruction": {
        "baseline": {"kind": "reconstruction", "options": {"epochs": 3, "bottleneck": 3}},
        "replay": {"refit": "7d"},
    },
    "fixed": {"baseline": {"kind": "fixed"}},
}


def history(n=24 * 40, seed=3, counts=False):
    rng = np.random.default_rng(seed)
    k = np.arange(n)
    middle = 60 + 20 * np.sin(2 * np.pi * k / 24) + 6 * np.sin(2 * np.pi * k / 168)
    values = rng.poisson(middle).astype(float) if counts else middle + rng.normal(0, 3, n)
    values[n // 2 : n // 2 + 5] += 60
    values[3 * n // 4 :] += 12
    values[[50, 51, n - 40]] = np.nan
    return START + k * STEP, values


def part(times, values, stop):
    return Input("metric=a", times[:stop], values[:stop], "Europe/Dublin")


def ticked(times, values, plan, cuts, labels=()):
    state = None
    for stop in cuts:
        got, state, _ = upkeep.tick(part(times, values, stop), plan, labels, state)
    return got, state


def same(one, other):
    for name in ("expected", "spread", "trend", "seasons", "clean"):
        np.testing.assert_array_equal(getattr(one.base, name), getattr(other.base, name))
    for name in ("above", "below", "odd", "lacking"):
        np.testing.assert_array_equal(getattr(one.base.in_force, name), getattr(other.base.in_force, name))
    np.testing.assert_array_equal(one.z, other.z)
    np.testing.assert_array_equal(one.flags, other.flags)
    assert one.findings == other.findings and one.resolved == other.resolved
    assert one.base.notes == other.base.notes and one.level == other.level


@pytest.mark.parametrize("kind", KINDS)
def test_every_kind_goes_on_to_the_last_bit(kind):
    times, values = history()
    plan = from_data(KINDS[kind] | SHORT)
    whole = stages.scan(part(times, values, len(times)), plan, (), "replay")
    rng = np.random.default_rng(len(kind))
    cuts = sorted({*rng.integers(5, len(times), 6).tolist(), 336, 337, len(times)})
    got, state = ticked(times, values, plan, cuts)
    same(whole, got)
    # Nothing new: nothing changes, the state neither.
    again, still, _ = upkeep.tick(part(times, values, len(times)), plan, (), state)
    same(whole, again)
    assert still == state


def test_counts_go_on_every_seven_hours_through_a_clock_change():
    """The stream's zone changes its clock within the history."""
    times, values = history(24 * 24, counts=True)
    times = times - times[0] + 1_792_281_600 * SECOND_NS
    plan = from_data(KINDS["slot"] | SHORT)
    whole = stages.scan(part(times, values, len(times)), plan, (), "replay")
    assert len(set(whole.base.series.offsets_ns.tolist())) == 2
    got, _ = ticked(times, values, plan, [*range(400, len(times), 7), len(times)])
    same(whole, got)


@pytest.mark.parametrize("jitter_s", [0, 600])
def test_bins_are_complete_when_their_wait_is_over(jitter_s):
    """Worked out by hand for exact stamps; with jitter no sample of a complete bin comes after its end and the wait."""
    times, values = history(400)
    rng = np.random.default_rng(8)
    times = times + rng.integers(-jitter_s, jitter_s + 1, len(times)) * SECOND_NS
    plan, stream = from_data(SHORT), part(times, values, len(times))
    end = int(times[-1]) + STEP
    if jitter_s == 0:
        assert upkeep.complete(stream, plan, end, 0) == upkeep.Complete(end, STEP)
        assert upkeep.complete(stream, plan, end - 1, 0) == upkeep.Complete(end - STEP, STEP)
        assert upkeep.complete(stream, plan, end + 10**15, 0) == upkeep.Complete(end, STEP)
        assert upkeep.complete(stream, plan, end + 10**15, 0, skip_last=3).until_ns == end - 3 * STEP
        assert upkeep.complete(stream, plan, end, 2 * STEP).until_ns == end - 2 * STEP
    assert upkeep.complete(stream, plan, int(times[0]), 0) is None
    wait = 2 * jitter_s * SECOND_NS
    for now in range(int(times[300]), int(times[310]), STEP // 7):
        seen = part(times, values, int(np.searchsorted(times, now, side="right")))
        found = upkeep.complete(seen, plan, now, wait)
        late = (times > now) & (times < found.until_ns)
        assert not late.any()


def test_the_state_is_read_back_bit_for_bit_and_runs_nothing():
    times, values = history()
    _, state = ticked(times, values, from_data(KINDS["harmonic"] | SHORT), [700])
    standing, key = upkeep.read(state)
    assert upkeep.write(standing, key) == state
    kept, again = standing.kept, upkeep.read(state)[0].kept
    for name, array in kept.judged.items():
        np.testing.assert_array_equal(array, again.judged[name])
        assert array.dtype == again.judged[name].dtype
    assert again.level == kept.level and again.choice == kept.choice and again.at == kept.at
    for name, array in kept.model.fitted.arrays.items():
        np.testing.assert_array_equal(array, again.model.fitted.arrays[name])


@pytest.mark.parametrize("changed", ["value", "late", "plan", "label"])
def test_what_the_state_does_not_rest_on_is_not_gone_on_from(changed):
    times, values = history()
    plan, labels = from_data(KINDS["slot"] | SHORT), []
    _, state = ticked(times, values, plan, [700])
    if changed == "value":
        values[100] += 40
    elif changed == "late":
        values[50] = 60.0
    elif changed == "plan":
        plan = from_data(KINDS["slot"] | SHORT | {"flag": {"level": {"sigmas": 4}}})
    else:
        labels = [Label(int(times[470]), int(times[490]))]
    got, *_ = upkeep.tick(part(times, values, 760), plan, labels, state)
    same(stages.scan(part(times, values, 760), plan, labels, "replay"), got)


def test_what_comes_after_the_state_leaves_it_usable():
    """A verdict that ends after the last fit, and samples beyond it, change nothing of what the state rests on."""
    times, values = history()
    plan = from_data(KINDS["slot"] | SHORT)
    _, state = ticked(times, values, plan, [700])
    kept, key = upkeep.read(state)
    labels = [Label(kept.until_ns + STEP, kept.until_ns + 2 * STEP)]
    assert upkeep.key_of(part(times, values, 760), plan, labels, kept.until_ns) == key


def test_before_the_first_fit_there_is_no_state():
    times, values = history(100)
    got, state, _ = upkeep.tick(part(times, values, 100), from_data(SHORT), ())
    assert state is None and not got.findings and np.isnan(got.z).all()


@pytest.mark.parametrize("damage", ["no zip", "another format", "an unknown class", "cut short"])
def test_a_state_that_cannot_be_read_says_so(damage):
    times, values = history()
    plan = from_data(KINDS["slot"] | SHORT)
    _, state = ticked(times, values, plan, [400])
    if damage == "no zip":
        broken = b"nothing of the kind"
    elif damage == "cut short":
        broken = state[: len(state) // 2]
    else:
        out = BytesIO()
        with zipfile.ZipFile(BytesIO(state)) as old, zipfile.ZipFile(out, "w") as new:
            for name in old.namelist():
                body = old.read(name)
                if name == "state.json":
                    head = json.loads(body)
                    if damage == "another format":
                        head["format"] = "watchtide model 1"
                    else:
                        head["kept"]["class"] = "os.system"
                    body = json.dumps(head).encode()
                new.writestr(name, body)
        broken = out.getvalue()
    with pytest.raises(ValueError, match="kept state|no watchtide upkeep"):
        upkeep.read(broken)
