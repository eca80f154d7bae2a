"""Counting takes no more memory for more streams: each is read when it is needed, and let go."""

import weakref
from collections.abc import Mapping
from dataclasses import asdict

import numpy as np

from watchtide.core.judge.grouping import Group
from watchtide.core.scoring import compare
from watchtide.core.scoring.card import score
from watchtide.core.scoring.choice import Constraint, best_level
from watchtide.core.scoring.clustered import MOST_APART, _Moments
from watchtide.core.scoring.curve import Scored, curve
from watchtide.core.scoring.outcomes import Setting
from watchtide.core.scoring.rows import Finding, Label, Points, Viewed

MINUTE = 60 * 10**9
STREAMS, SAMPLES = 40, 3_000
KEYS = [f"metric=m,host=h{i:02d}" for i in range(STREAMS)]


def made(key):
    """Every third stream has another cadence; spikes of 9 sigmas here and there."""
    rng = np.random.default_rng(KEYS.index(key))
    step = MINUTE * (5 if KEYS.index(key) % 3 else 4)
    z = rng.normal(size=SAMPLES)
    z[rng.integers(0, SAMPLES, 6)] = 9.0
    z[rng.integers(0, SAMPLES, 20)] = np.nan
    return Scored(key, step * np.arange(SAMPLES, dtype=np.int64), z)


class Read(Mapping):
    """Streams made anew on each access; counts how many of their arrays are alive at once."""

    def __init__(self):
        self.alive = self.most = 0

    def __getitem__(self, key):
        one = made(key)
        self.alive += 1
        self.most = max(self.most, self.alive)
        # The array, not the stream: arrays are what takes memory.
        weakref.finalize(one.z, self._let_go)
        return one

    def _let_go(self):
        self.alive -= 1

    def __iter__(self):
        return iter(KEYS)

    def __len__(self):
        return len(KEYS)


def points_of(s):
    return Points(s.times, np.abs(s.z), np.abs(s.z) >= 8)


def labels_and_findings():
    rng = np.random.default_rng(5)
    labels, findings = [], []
    for i in range(60):
        key, a = KEYS[i % STREAMS], int(rng.integers(0, SAMPLES - 40)) * 5 * MINUTE
        series = "" if i % 20 == 0 else key
        labels.append(Label(a, a + 60 * MINUTE, series, verdict="unsure" if i % 9 == 0 else "incident"))
        findings.append(Finding(key, a + 5 * MINUTE, a + 20 * MINUTE, score=9.0))
    for key in KEYS:
        s = made(key)
        findings += [
            Finding(key, int(s.times[j]), int(s.times[j]), score=9.0) for j in np.flatnonzero(s.z == 9.0)
        ]
    return labels, findings


def test_a_card_and_its_curve_are_the_same_read_stream_by_stream_and_few_live_at_once():
    labels, findings = labels_and_findings()
    setting = Setting(step_ns=5 * MINUTE, longest_season_ns=6 * 60 * MINUTE)
    whole = {key: made(key) for key in KEYS}
    read = Read()
    expected = score(findings, labels, {k: points_of(s) for k, s in whole.items()}, setting)
    card = score(findings, labels, Viewed(read, points_of), setting)
    assert card.figures == expected.figures and card.delays == expected.delays
    assert card.figures["points"]["tn"] > 50_000 and card.figures["points"]["precision_ci_clustered"]
    lines, plain = (curve(x, labels, group=Group(), setting=setting) for x in (read, list(whole.values())))
    for name, value in asdict(plain).items():
        np.testing.assert_array_equal(getattr(lines, name), value)
    stated = Constraint(min_recall=0.2)
    assert best_level(read, labels, stated, setting=setting) == best_level(
        list(whole.values()), labels, stated, setting=setting
    )
    assert compare.judged_by_all([read.values(), read.values()]) == compare.judged_by_all(
        [list(whole.values())]
    )
    assert read.most <= 4


def test_samples_of_streams_with_times_of_their_own_are_counted_as_those_of_one_grid():
    """By hand: every block holds what lies in it, whichever grid it came from."""
    rng = np.random.default_rng(3)
    moments, every = _Moments(), []
    for _ in range(3 * MOST_APART):
        times = np.sort(rng.choice(500, 40, replace=False)).astype(np.int64)
        mask = rng.random(40) < 0.7
        moments.add(times, mask)
        every.append(times[mask])
    at, counts = moments.counted()
    expected = np.bincount(np.concatenate(every), minlength=500)
    np.testing.assert_array_equal(np.bincount(at, counts, minlength=500), expected)
    assert len(at) <= 500 + 40 * (MOST_APART + 1)
