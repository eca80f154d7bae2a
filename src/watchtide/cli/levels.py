"""Commands that weigh levels and scans against labels: threshold, compare, sample, convert."""

import json
import sys
from collections.abc import Sequence
from dataclasses import dataclass

import typer

from watchtide.cli import scanning
from watchtide.cli.exits import fail
from watchtide.core import units
from watchtide.door import weighing
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
    best = _of_units(given, constraint) if given.by == "units" else _of_streams(given, constraint)
    results.write_whole(json_out, json.dumps(best.figures, indent=1, allow_nan=False) + "\n")
    if not best.is_met:
        print(f"watchtide: {best}", file=sys.stderr)
        raise typer.Exit(1)


def _of_units(given: Weighing, constraint: dict[str, float | None]) -> weighing.Threshold:
    """The best level from the points of a scan of waveforms."""
    if given.labels or given.locked or given.plan:
        fail("--by units takes classes and parts from the points: leave out --labels, --locked and --plan")
    judged = waves.read_points(given.points)
    stated = weighing.constraint_of(constraint)
    try:
        best = units.best_level(judged.scores, units.is_normal(judged.classes), judged.parts, stated)
    except ValueError as error:
        fail(str(error))
    return weighing.Threshold(best)


def _of_streams(given: Weighing, constraint: dict[str, float | None]) -> weighing.Threshold:
    """The best level from the points of a scan of streams, against labels."""
    stated = weighing.constraint_of(constraint)
    if given.labels is None:
        fail("--labels: name the labels to weigh levels by; only --by units needs none")
    plan = scanning.load_plan(given.plan)
    streams = results.read_scored(given.points)
    if not streams:
        fail(f"{given.points}: holds no sample; give the points that scan wrote")
    span = None
    if given.locked:
        a, dots, b = given.locked.partition("..")
        if not dots:
            fail(f"--locked {given.locked}: write FROM..TO")
        span = clock.parse_one(a, given.zone), clock.parse_one(b, given.zone)
    known = labels.read_labels(given.labels, zone=given.zone)
    return weighing.best_level(streams, known, weighing.Terms(stated, given.by, plan, span, given.tolerance))


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
    judged = [results.read_points(path) for path in points] or [None, None]
    compared = weighing.compared(found, judged, known, block, tolerance)
    results.write_whole(json_out, json.dumps(compared.figures, indent=1, allow_nan=False) + "\n")
    if json_out != "-":
        for name in ("precision", "recall"):
            print(compared.figures[name]["words"])


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
    known = labels.read_labels(judged) if judged else []
    if spans and points_path is None:
        fail("--spans needs --points: they state what was looked at")
    scanned = results.read_points(points_path) if points_path else None
    rows = weighing.drawn(found, scanned, known, weighing.Draw(n, spans, length, seed))
    results.write_whole(out, labels.to_text(rows, out))
    print(f"{len(rows)} to judge: replace the verdict `unsure`, and score with these labels", file=sys.stderr)


def convert(source: str, out: str, zone: str) -> None:
    known = labels.read_labels(source, zone=zone)
    results.write_whole(out, labels.to_text(known, out))
    print(f"{len(known)} labels", file=sys.stderr)
