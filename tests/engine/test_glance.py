"""Calm samples judged at a glance: never calm where a replay of the whole finds, ends or chooses something, and alike in figures."""

from dataclasses import replace

import numpy as np
import pytest

from watchtide.core import shifts
from watchtide.core.scoring.rows import Label
from watchtide.engine.live import upkeep, watching
from watchtide.engine.live.watching import Followed
from watchtide.engine.prepare.preparing import Input, KnownDay
from watchtide.plan.text import from_data

STEP = 900 * 10**9
START = 1_760_000_400 * 10**9
DAY = 96
KEY = "metric=taps,place=quay"


def taps(days, seed=0, *, law="gauss"):
    rng = np.random.default_rng(seed)
    n = int(days * DAY)
    times = START + STEP * np.arange(n, dtype=np.int64)
    usual = 60 + 40 * np.sin(2 * np.pi * np.arange(n) / DAY)
    if law == "counts":
        return times, rng.poisson(usual / 4).astype(float)
    return times, usual + rng.normal(0, 3, n)


def plan(kind="harmonic", level=None, **parts):
    options = {"options": {"upper": 140.0}} if kind == "fixed" else {"seasons": ["24h"]}
    return from_data(
        {"baseline": {"kind": kind, **options}, "flag": {"level": level or {"sigmas": 5}}, **parts}
    )


class Both:
    """One stream, each tick judged at a glance where that will do, and as a whole; the two must agree."""

    def __init__(self, plan, *, labels=(), zone="UTC", wait_ns=0, skip_last=0, days=()):
        self.plan, self.labels, self.zone, self.days = plan, labels, zone, days
        self.wait_ns, self.skip_last = wait_ns, skip_last
        self.now, self.glance = Followed(), None
        self.calm = self.whole = 0
        self.given = np.empty(0, np.int64), np.empty(0)

    def tick(self, times, values, now_ns):
        order = np.argsort(times, kind="stable")
        fresh = times[order], values[order]
        together = [np.concatenate(both) for both in zip(self.given, fresh, strict=True)]
        keep = np.unique(together[0][::-1], return_index=True)[1]
        self.given = tuple(x[::-1][keep] for x in together)
        seen = self.glance.look(*fresh, now_ns, self.wait_ns, self.skip_last) if self.glance else None
        whole = self._whole(now_ns)
        if seen is None:
            self.whole += whole is not None
            self.glance = None if whole is None else whole.glance
            if self.glance is not None:
                # What has come for bins that are not complete yet.
                later = self.given[0] >= self.glance.until_ns
                self.glance = replace(self.glance, times=self.given[0][later], values=self.given[1][later])
        else:
            self.glance, judged = seen
            self.calm += judged > 0
            if whole is None:
                assert judged == 0
            else:
                assert whole.now.findings == self.now.findings and not whole.began and not whole.ended
                assert whole.now.judged == self.now.judged + judged
                assert self.glance.until_ns == whole.now.through_ns
                m = min(len(self.glance.tail.z), 50)
                z = self.glance.tail.z[-m:], whole.scanned.base.own_score[-m:]
                assert m == 0 or np.allclose(*z, rtol=1e-9, atol=1e-9, equal_nan=True)
        if whole is not None:
            self.now = whole.now

    def _whole(self, now_ns):
        stream = Input(KEY, *self.given, self.zone, days=self.days)
        reach = upkeep.complete(stream, self.plan, now_ns, self.wait_ns, self.skip_last)
        if reach is None or (self.now.through_ns is not None and reach.until_ns <= self.now.through_ns):
            return None
        k = int(np.searchsorted(self.given[0], reach.until_ns))
        cut = replace(stream, times=self.given[0][:k], values=self.given[1][:k])
        return watching.step(self.now, cut, self.plan, self.labels, reach)


def follow(both, times, values, since, batch=1):
    both.tick(times[:since], values[:since], int(times[since - 1]) + STEP)
    for i in range(since, len(times), batch):
        j = min(i + batch, len(times))
        both.tick(times[i:j], values[i:j], int(times[j - 1]) + STEP)
    return both


@pytest.mark.parametrize("kind", ["harmonic", "slot", "fixed", "loess", "classical"])
def test_clean_streams_are_judged_at_a_glance_but_for_fits(kind):
    both = follow(Both(plan(kind, {"sigmas": 12})), *taps(9, 1), 7 * DAY)
    assert both.calm >= 100 and both.calm > both.whole


@pytest.mark.parametrize("law", ["gauss", "counts"])
@pytest.mark.parametrize("seed", range(4))
def test_what_stands_out_is_left_to_the_whole(law, seed):
    rng = np.random.default_rng(seed)
    times, values = taps(9, seed, law=law)
    odd = rng.choice(np.arange(7 * DAY, 9 * DAY), 6, replace=False)
    values[odd] *= rng.choice([0.2, 2.5], 6)
    values[7 * DAY + 40 : 7 * DAY + 60] *= 0.8
    values[rng.choice(np.arange(7 * DAY, 9 * DAY), 5)] = np.nan
    both = follow(Both(plan(level={"sigmas": 4.5})), times, values, 7 * DAY, batch=1 + seed)
    assert both.calm > 10 and (both.now.findings or law == "counts")


def test_a_level_read_off_the_past_is_the_one_in_force():
    both = follow(Both(plan(level={"per-week": 2})), *taps(10, 5), 7 * DAY)
    assert both.calm > 200


def test_a_lasting_change_is_found_at_the_same_tick():
    times, values = taps(10, 2)
    values[8 * DAY :] += 12
    both = follow(Both(plan(level={"sigmas": 14}, shifts={"of": "spread"})), times, values, 7 * DAY)
    assert any(f.kind == "shift" for f in both.now.findings) and both.calm > 60


def test_a_stuck_stream_is_left_to_the_whole():
    times, values = taps(9, 3)
    values[7 * DAY + 30 : 7 * DAY + 80] = 61.0
    both = follow(Both(plan(level={"sigmas": 8})), times, values, 7 * DAY)
    assert both.calm > 50


def test_samples_out_of_order_within_the_wait_and_left_out_at_the_end():
    rng = np.random.default_rng(8)
    times, values = taps(8.5, 4)
    since, both = 7 * DAY, Both(plan(level={"sigmas": 12}), wait_ns=4 * STEP, skip_last=1)
    both.tick(times[:since], values[:since], int(times[since - 1]) + STEP)
    comes = times[since:] + rng.integers(1, 4, len(times) - since) * STEP
    for now in np.unique(comes):
        here = since + np.flatnonzero(comes == now)
        both.tick(times[here], values[here], int(now))
    assert both.calm > 60


def test_a_sample_that_is_late_is_left_to_the_whole():
    times, values = taps(8, 6)
    kept = np.ones(len(times), bool)
    kept[7 * DAY + 20] = False
    both = Both(plan(level={"sigmas": 12}))
    follow(both, times[kept][: 7 * DAY + 30], values[kept][: 7 * DAY + 30], 7 * DAY)
    late = both.whole
    both.tick(
        times[7 * DAY + 20 : 7 * DAY + 21], values[7 * DAY + 20 : 7 * DAY + 21], int(times[7 * DAY + 30])
    )
    both.tick(
        times[7 * DAY + 31 : 7 * DAY + 32], values[7 * DAY + 31 : 7 * DAY + 32], int(times[7 * DAY + 32])
    )
    assert both.whole == late + 1 and both.now.late == 1


def test_bins_of_several_samples_on_a_clock_that_changes():
    """Four samples a bin through the end of summer time."""
    times = (1_761_350_400 - 8 * 86_400) * 10**9 + 15 * 60 * 10**9 * np.arange(10 * 96, dtype=np.int64)
    rng = np.random.default_rng(0)
    values = 50 + 20 * np.sin(2 * np.pi * np.arange(len(times)) / 96) + rng.normal(0, 2, len(times))
    both = Both(plan(level={"sigmas": 12}, prepare={"every": "1h"}), zone="Europe/Berlin")
    follow(both, times, values, 8 * 96, batch=3)
    assert both.calm > 30


@pytest.mark.parametrize("late_s", [20.0, 400.0])
@pytest.mark.parametrize("drift", [0.0, 2e-4])
def test_stamps_that_stray_are_placed_as_all_of_them_are(late_s, drift):
    """An exporter that samples some seconds after the round time, with jitter, and whose clock may run on."""
    rng = np.random.default_rng(11)
    times, values = taps(9, 3)
    k = np.arange(len(times))
    strays = late_s + rng.normal(0, 4, len(times)) + drift * k * 900
    times = times + np.round(strays * 10**9).astype(np.int64)
    both = Both(plan(level={"sigmas": 12}))
    both.tick(times[: 7 * DAY], values[: 7 * DAY], int(times[7 * DAY - 1]) + STEP)
    for i in range(7 * DAY, len(times)):
        both.tick(times[i : i + 1], values[i : i + 1], int(times[i]) + STEP)
    assert both.calm > both.whole


def test_a_cadence_that_becomes_coarser_is_left_to_the_whole():
    times, values = taps(14, 7)
    kept = np.r_[np.arange(7 * DAY), np.arange(7 * DAY, 14 * DAY, 4)]
    both = follow(Both(plan(level={"sigmas": 14})), times[kept], values[kept], 7 * DAY)
    assert both.now.upkeep is None, "judged anew on the coarser grid"


@pytest.mark.parametrize(
    "parts",
    [
        {"prepare": {"transform": "log"}},
        {"prepare": {"filter": "value < 90"}},
        {"discords": {"window": "6h"}},
        {"shifts": {"of": "slope"}},
    ],
)
def test_what_a_glance_does_not_know_has_none(parts):
    both = follow(Both(plan(**parts)), *taps(5, 1), 5 * DAY - 2)
    assert both.glance is None and both.calm == 0


def test_known_days_and_kinds_that_read_the_samples_before_have_none():
    days = (KnownDay("feast", START, START + DAY * STEP),)
    assert follow(Both(plan(), days=days), *taps(5, 1), 5 * DAY - 2).glance is None
    assert follow(Both(plan("trailing")), *taps(5, 1), 5 * DAY - 2).glance is None


def test_labels_leave_training_alike():
    times, values = taps(8, 9)
    labels = (Label(int(times[3 * DAY]), int(times[3 * DAY + 40])),)
    both = follow(Both(plan(level={"sigmas": 12}), labels=labels), times, values, 7 * DAY)
    assert both.calm > 80


@pytest.mark.parametrize("seed", range(3))
def test_an_online_test_sample_by_sample_never_misses(seed):
    """Wherever the whole test raises something, going on sample by sample has left it to the whole."""
    rng = np.random.default_rng(seed)
    z = rng.normal(0, 1, 6_000) + 4 * np.repeat([0, *rng.permutation([-1, 1, 0, 1, -1])], 1_000)
    running, found, left = None, 0, 0
    for n in range(1, len(z) + 1):
        running = running and running.after(z[n - 1])
        if running is None or n == 1:
            got, _, running = shifts.online_on(z[:n], run_length=800, shortest=24)
            left, found = left + 1, len(got)
    assert found == len(shifts.online(z, run_length=800, shortest=24)) > 0
    assert left < 1_500
