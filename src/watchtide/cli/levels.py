"""Commands that weigh levels and scans against labels: threshold, compare, sample, convert."""

import json
import sys
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import typer

from watchtide.cli import scanning
from watchtide.cli.exits import fail
from watchtide.core import units
from watchtide.core.scoring import choice, sampling
from watchtide.core.scoring import compare as comparing
from watchtide.core.scoring.card import score
from watchtide.core.scoring.outcomes import Setting, default_span
from watchtide.core.scoring.rows import Finding, Label
from watchtide.core.series.cadence import step_of
from watchtide.engine.many.together import family_of
from watchtide.engine.prepare import training
from watchtide.plan import durations
from watchtide.tables import clock, labels, results, waves


@dataclass(frozen=True)
class Weighing:
    """What levels are weighed by, as given. by : events, points or units; locked : FROM..TO, never used to choose."""

    points: str
    labels: str | None
    by: str
    plan: str | None
    locked: str | None
    tolerance: str
    zone: str


def threshold(given: Weighing, constraint: dict[str, float | None], json_out: str) -> None:
    try:
        stated = choice.Constraint(**constraint)
    except ValueError as error:
        options = "--min-recall, --max-false-per-week, --max-gap, or --cost-miss with --cost-false"
        fail(f"{error} ({options})")
    try:
        best = _of_units(given, stated) if given.by == "units" else _of_streams(given, stated)
    except ValueError as error:
        fail(str(error))
    results.write_whole(json_out, json.dumps(best, indent=1, allow_nan=False) + "\n")
    if not best["is_met"]:
        nearest = f"the nearest is {best['level']:g} sigmas"
        print(f"watchtide: no level meets the constraint; {nearest}", file=sys.stderr)
        raise typer.Exit(1)


def _of_units(given: Weighing, stated: choice.Constraint) -> dict[str, Any]:
    """The best level from the points of a scan of waveforms."""
    if given.labels or given.locked or given.plan:
        fail("--by units takes classes and parts from the points: leave out --labels, --locked and --plan")
    judged = waves.read_points(given.points)
    return units.best_level(judged.scores, units.is_normal(judged.classes), judged.parts, stated)


def _of_streams(given: Weighing, stated: choice.Constraint) -> dict[str, Any]:
    """The best level from the points of a scan of streams, against labels."""
    if given.labels is None:
        fail("--labels: name the labels to weigh levels by; only --by units needs none")
    plan = scanning.load_plan(given.plan)
    streams = results.read_scored(given.points)
    if not streams:
        fail(f"{given.points}: holds no sample; give the points that scan wrote")
    step = min((step_of(s.times) for s in streams if len(s.times) > 1), default=None)
    span = None
    if given.locked:
        a, dots, b = given.locked.partition("..")
        if not dots:
            fail(f"--locked {given.locked}: write FROM..TO")
        span = clock.parse_one(a, given.zone), clock.parse_one(b, given.zone)
    return choice.best_level(
        streams,
        labels.read_labels(given.labels, zone=given.zone),
        stated,
        by=given.by,
        group=training.group_of(plan, step or 1),
        side=plan.flag.side,
        setting=Setting(durations.parse_ns(given.tolerance, step_ns=step), step),
        locked=span,
    )


def compare(
    findings: Sequence[str],
    labels_path: str,
    points: Sequence[str],
    *,
    block: str,
    tolerance: str,
    json_out: str,
    zone: str,
) -> None:
    if len(findings) != 2 or len(points) not in (0, 2):
        fail("compare takes two --findings, and either two --points or none")
    known = labels.read_labels(labels_path, zone=zone)
    found = [results.read_findings(path) for path in findings]
    judged = [results.read_points(path) for path in points]
    spans = [default_span(f, known, judged[i] if judged else None) for i, f in enumerate(found)]
    whole = [s for s in spans if s is not None]
    span = (min(a for a, _ in whole), max(b for _, b in whole)) if whole else None
    steps = [int(np.median(np.diff(p.times))) for one in judged for p in one.values() if len(p.times) > 1]
    step = min(steps, default=None)
    try:
        tolerance_ns, block_ns = durations.parse_ns(tolerance, step_ns=step), durations.parse_ns(block)
    except ValueError as error:
        fail(str(error))
    setting = Setting(tolerance_ns, step, span=span)
    one, other = (score(f, known, judged[i] if judged else None, setting) for i, f in enumerate(found))
    told = comparing.paired(one, other, known, block_ns=block_ns)
    results.write_whole(json_out, json.dumps(told, indent=1, allow_nan=False) + "\n")
    if json_out != "-":
        for name in ("precision", "recall"):
            print(told[name]["words"])


def sample(
    findings: str,
    out: str,
    n: int,
    *,
    points_path: str | None,
    spans: int,
    length: str,
    judged: str | None,
    seed: int,
) -> None:
    found = results.read_findings(findings)
    strata = sampling.strata_of(found, [family_of(f.series) for f in found])
    known = labels.read_labels(judged) if judged else []
    drawn_before = {(x.series, x.start, x.end) for x in known}
    left = [i for i, f in enumerate(found) if (f.series, f.start, f.end) not in drawn_before]
    rows: list[Label] = []
    if left:
        spread = _spread_by_stratum(known) if known else None
        drawn = sampling.draw([strata[i] for i in left], n, seed=seed, spread=spread)
        for index, stratum, chance in zip(drawn.index, drawn.stratum, drawn.probability, strict=True):
            f = found[left[int(index)]]
            rows.append(_to_judge(f, stratum, float(chance)))
    if spans:
        if points_path is None:
            fail("--spans needs --points: they say what was looked at")
        scanned = results.read_points(points_path)
        times = [(key, int(p.times[0]), int(p.times[-1])) for key, p in scanned.items() if len(p.times)]
        rows += sampling.unflagged_spans(times, found, durations.parse_ns(length), spans, seed=seed)
    results.write_whole(out, labels.to_text(rows, out))
    print(f"{len(rows)} to judge: replace the verdict `unsure`, and score with these labels", file=sys.stderr)


def _to_judge(f: Finding, stratum: str, chance: float) -> Label:
    return Label(
        f.start, f.end, f.series, "unsure", f.kind, origin="sampled", stratum=stratum, probability=chance
    )


def _spread_by_stratum(known: Sequence[Label]) -> dict[str, float]:
    """Standard deviation of the verdicts given so far, by stratum."""
    out = {}
    for name in {x.stratum for x in known if x.origin == "sampled"}:
        told = [x.verdict == "incident" for x in known if x.stratum == name and x.verdict != "unsure"]
        # With few verdicts the deviation is drawn to that of an even chance.
        share = (sum(told) + 1) / (len(told) + 2)
        out[name] = float(np.sqrt(share * (1 - share)))
    return out


def convert(source: str, out: str, zone: str) -> None:
    known = labels.read_labels(source, zone=zone)
    results.write_whole(out, labels.to_text(known, out))
    print(f"{len(known)} labels", file=sys.stderr)
