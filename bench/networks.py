"""Learned baselines: how long training and judging take beside a harmonic fit, a family in one network, and how well waveforms are judged."""

import resource
import subprocess
import sys
import time
from typing import Any

import numpy as np

SAMPLES, WINDOW, EPOCHS = 10_000, "24h", 30
QUARTER = 900 * 10**9
START = 1_785_110_400 * 10**9
SEEDS = (41, 42, 43)

FAMILY = """
import numpy as np
from bench.networks import stream
from watchtide.engine.many import families
from watchtide.plan.text import from_data
plan = from_data({"baseline": {"kind": "next-step", "seasons": ["24h"], "options": {"window": "24h", "per": "family", "patience": 30}}})
families.with_shared([stream(k) for k in range(100)], plan)
"""


def stream(seed: int) -> Any:
    from bench.measures import taps
    from watchtide.engine.scan.stages import Input

    times = START + np.arange(SAMPLES, dtype=np.int64) * QUARTER
    values = taps(SAMPLES, seed) + np.random.default_rng(seed).normal(0, 4, SAMPLES)
    return Input(f"metric=taps,place=p{seed}", times, values, "UTC")


def measure() -> dict[str, Any]:
    return _streams() | _family() | _waveforms() | _labels()


def _streams() -> dict[str, Any]:
    from watchtide.core.expect import baselines
    from watchtide.core.expect.fitting import choose_periods
    from watchtide.engine.scan import stages
    from watchtide.plan.text import from_data

    out: dict[str, Any] = {}
    given = stream(1)
    plain = from_data({"baseline": {"seasons": ["24h"]}})
    frame = stages.ready(given, plain).frame
    periods = choose_periods([96.0], QUARTER)
    begin = time.perf_counter()
    baselines.fit("harmonic", frame, periods)
    harmonic = time.perf_counter() - begin
    for kind in baselines.LEARNED:
        # The compiled kernel is loaded by a first, short one.
        baselines.fit(kind, frame, periods, {"epochs": 1})
        begin = time.perf_counter()
        fitted = baselines.fit(kind, frame, periods, {"epochs": EPOCHS, "patience": EPOCHS})
        took = time.perf_counter() - begin
        out[f"{kind}: {SAMPLES:,} samples, window 96, {EPOCHS} epochs, s"] = took
        out[f"{kind}: times a harmonic fit"] = took / harmonic
        begin = time.perf_counter()
        for _ in range(10):
            fitted.expect(frame)
        out[f"{kind}: judged samples/s"] = 10 * SAMPLES / (time.perf_counter() - begin)
        begin = time.perf_counter()
        stages.scan(given, from_data({"baseline": {"kind": kind, "seasons": ["24h"]}}))
        out[f"{kind}: whole scan, s"] = time.perf_counter() - begin
    return out


def _family() -> dict[str, Any]:
    begin = time.perf_counter()
    subprocess.run([sys.executable, "-c", FAMILY], check=True)
    took = time.perf_counter() - begin
    most = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss / 1024
    return {"family of 100 streams in one network, s": took, "largest process so far, MB": most}


def _waveforms() -> dict[str, Any]:
    from tests.core.test_units import world

    from bench.quality import average_precision
    from watchtide.core import units
    from watchtide.core.scoring.choice import Constraint

    out: dict[str, Any] = {}
    big, normal = world(5_000, SEEDS[0], length=140)
    parts = units.split(normal)
    begin = time.perf_counter()
    units.fit(big, parts, "reconstruction", ("sigmas", 4.0))
    out["5,000 waveforms of 140 samples, trained, s"] = time.perf_counter() - begin
    for kind in units.KINDS:
        precision, recall, specificity = [], [], []
        for seed in SEEDS:
            waves, normal = world(1_500, seed)
            parts = units.split(normal)
            scores = units.score(units.fit(waves, parts, kind, ("sigmas", 4.0)), waves)
            test = parts == units.TEST
            precision.append(average_precision(scores[test], ~normal[test]))
            best = units.best_level(scores, normal, parts, Constraint(max_gap=0.1))["test"]
            recall.append(best["recall"])
            specificity.append(best["specificity"])
        out[f"{kind}: average precision of units, test"] = float(np.mean(precision))
        out[f"{kind}: recall at the level with a gap of 0.1"] = float(np.mean(recall))
        out[f"{kind}: specificity there"] = float(np.mean(specificity))
    return out


def _labels() -> dict[str, Any]:
    """What it brings to label the trouble in the history that trains: average precision with and without.

    Streams: the families of the quality bench, fitted in-sample. Waveforms: of the test, where an eighth of the training units
    has a fault.
    """
    from tests.core.test_units import world as waves_of

    from bench import quality, quality_world
    from watchtide.core import units
    from watchtide.core.scoring.rows import inside_any
    from watchtide.engine.scan import stages

    out: dict[str, Any] = {}
    for kind in ("next-step", "reconstruction"):
        found: dict[str, list[float]] = {"labelled": [], "unlabelled": []}
        for family in quality_world.FAMILIES:
            for seed in SEEDS:
                made = quality_world.make(family, seed, troubled=True)
                given = stages.Input(made.key, made.times, made.values, quality_world.ZONE, made.denominators)
                plan = quality.plan_for(kind, {"baseline": {"kind": kind}}, made, "fit")
                for name, labels in (("labelled", made.labels), ("unlabelled", ())):
                    base = stages.scan(given, plan, labels, "fit").base
                    truth = inside_any(base.series.times, [(x.start, x.end) for x in made.labels])
                    seen = ~np.isnan(base.score)
                    found[name].append(quality.average_precision(base.score[seen], truth[seen]))
        for name, figures in found.items():
            out[f"{kind}: average precision in-sample, trouble {name}"] = float(np.mean(figures))
    by_labels: dict[str, list[float]] = {"labelled": [], "unlabelled": []}
    for seed in SEEDS:
        waves, normal = waves_of(1_500, seed)
        for name, usual in (("labelled", normal), ("unlabelled", np.ones(len(normal), np.bool_))):
            parts = units.split(usual)
            scores = units.score(units.fit(waves, parts, "reconstruction", ("sigmas", 4.0)), waves)
            test = parts == units.TEST
            by_labels[name].append(quality.average_precision(scores[test], ~normal[test]))
    for name, figures in by_labels.items():
        out[f"waveforms: average precision of the test, faults {name}"] = float(np.mean(figures))
    return out
