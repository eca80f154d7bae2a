"""Commands on waveforms, each unit judged as a whole: scan, apply and threshold of tables where a row is a unit."""

import json
import math
import sys
from dataclasses import dataclass
from typing import Any

import numpy as np
import pyarrow as pa

from watchtide.cli import taking
from watchtide.cli.exits import fail
from watchtide.core import units
from watchtide.core.expect.baselines import networks
from watchtide.core.expect.baselines.networks import Progress
from watchtide.core.scoring.rows import Finding
from watchtide.core.series import Bools, Floats, Strings
from watchtide.door import reading
from watchtide.engine.keep import saved_units
from watchtide.engine.scan import by_unit
from watchtide.plan import Plan
from watchtide.tables import clock, read, results, waves
from watchtide.tables.waves import Places, Waves


@dataclass(frozen=True)
class Stated:
    """The options that say where units stand, as given."""

    wave: str | None = None
    name: str | None = None
    of_class: str | None = None
    by: str | None = None
    at: str | None = None

    def __bool__(self) -> bool:
        return self.wave is not None or self.by is not None or self.at is not None


def places_of(stated: Stated, table: dict[str, Any]) -> Places:
    """Where the units of a table stand, by the options."""
    common = {"name": stated.name or "", "of_class": stated.of_class or "", "time": table["time"] or ""}
    if stated.wave is not None:
        if stated.by or stated.at:
            fail("--wave and --wave-id: give one of the two; a unit is a row, or the rows of one name")
        first, dots, last = stated.wave.partition("..")
        if not (dots and first and last):
            fail(f"--wave {stated.wave}: write FIRST..LAST, two names of columns")
        return Places(first=first, last=last, **common)
    values = table["value"] or []
    if not (stated.by and stated.at and len(values) == 1):
        fail(
            "--wave-id, --wave-at and one --value go together: whose sample it is, its place, and what it is"
        )
    return Places(by=stated.by, at=stated.at, value=values[0], **common)


def read_units(source: str, stated: Stated, table: dict[str, Any]) -> Waves:
    clock.zone(table["tz"])
    raw = read.read(taking.source_of(source), taking.name_of(source), **reading.shape_options(table))
    if raw.broken and not table["skip_broken"]:
        raise reading.first_broken(source, raw.broken, len(raw.broken))
    found = waves.waves_of(raw, places_of(stated, table), table["tz"])
    print(f"took {len(found.names)} units of {found.values.shape[1]} samples", file=sys.stderr)
    return found


@dataclass(frozen=True)
class Out:
    """The files that a command writes, as given; None for one that was not requested."""

    points: str | None
    findings: str | None
    summary: str | None
    save: str | None = None


def scan(
    source: str, plan: Plan, stated: Stated, out: Out, *, train_share: float | None, table: dict[str, Any]
) -> None:
    """Learn from the first units what is usual, and judge all of them."""
    found = read_units(source, stated, table)
    normal = units.is_normal(found.classes)
    ((reading, amount),) = plan.flag.level.items()
    try:
        parts = units.split(normal, by_unit.shares(plan, train_share))
        kind = by_unit.kind_of(plan)
        with networks.watched(_progress()):
            model = units.fit(found.values, parts, kind, (reading, amount), **by_unit.options_of(plan, kind))
    except ValueError as error:
        fail(f"{source}: {error}")
    if out.save:
        results.write_whole(out.save, saved_units.write(model, plan))
    _write(_Judged(found, parts, units.score(model, found.values), model, plan), out)


def apply(path: str, source: str, stated: Stated, out: Out, *, table: dict[str, Any]) -> None:
    """Judge new units by a kept model, without fitting."""
    model, plan = saved_units.read(path)
    found = read_units(source, stated, table)
    try:
        scores = units.score(model, found.values)
    except ValueError as error:
        fail(f"{source}: {error}")
    _write(_Judged(found, np.full(len(found.names), "", dtype="U10"), scores, model, plan), out)


@dataclass(frozen=True)
class _Judged:
    """Units with their part and score, (n,) each, and what judged them."""

    waves: Waves
    parts: Strings
    scores: Floats
    model: units.UnitModel
    plan: Plan


def _write(judged: _Judged, out: Out) -> None:
    """The files requested; points to standard output where there is none."""
    flags = units.flagged(judged.model, judged.scores)
    if out.summary:
        text = json.dumps(_summary(judged), indent=1, allow_nan=False) + "\n"
        results.write_whole(out.summary, text)
    if out.findings:
        results.write_whole(out.findings, results.findings_text(_findings(judged, flags), out.findings))
    if out.points or not (out.findings or out.summary or out.save):
        path = out.points or "-"
        rows = waves.points_table(judged.waves, judged.parts, judged.scores, flags.tolist())
        results.write_whole(path, results.table_bytes(rows, path))
    count = f"{int(flags.sum())} of {len(flags)} units flagged"
    print(f"{count} from {judged.model.level:.3g} sigmas on", file=sys.stderr)


def _summary(judged: _Judged) -> dict[str, Any]:
    """The summary of a scan, whose confusion matrix is that of the test; of `apply`, that of all units."""
    model, parts = judged.model, judged.parts
    counts = {name: int(np.sum(parts == name)) for name in units.PARTS}
    counted = parts == units.TEST if counts[units.TEST] else np.ones(len(parts), np.bool_)
    normal = units.is_normal(judged.waves.classes)
    confusion = units.confusion(judged.scores[counted], normal[counted], model.level)
    losses = enumerate(model.facts.get("epoch_losses", ()), start=1)
    return {
        "plan": judged.plan.as_data(),
        "kind": model.kind,
        "samples": model.length,
        "level": model.level if math.isfinite(model.level) else None,
        "level_note": model.note,
        "units": {**counts, "confusion": confusion},
        "losses": [{"epoch": i, "training": a, "validation": b} for i, (a, b) in losses],
        "best_epoch": model.facts.get("best_epoch"),
        "facts": {name: fact for name, fact in model.facts.items() if name != "epoch_losses"},
    }


def _findings(judged: _Judged, flags: Bools) -> list[Finding]:
    times = judged.waves.times
    if not all(times):
        fail(
            "--findings: a finding has a time; name the column of the units' times with --time, or write --points"
        )
    at = [clock.parse_one(times[i], "UTC") for i in np.flatnonzero(flags)]
    found = [
        Finding("", t, t, "discord", score=float(score))
        for t, score in zip(at, judged.scores[flags], strict=True)
    ]
    return sorted(found, key=lambda f: f.start)


def _progress() -> Progress | None:
    """Progress on standard error, and only on a terminal."""
    if not sys.stderr.isatty():
        return None

    def report(epoch: int, training: float, validation: float) -> None:
        words = f"epoch {epoch}: training {training:.4g}, validation {validation:.4g} "
        print(f"\r{words}", end="", file=sys.stderr, flush=True)

    return report


def losses(path: str, out: str) -> None:
    """The error of each epoch of the learned models of a file."""
    rows = list(saved_units.losses_of(path))
    if not rows:
        fail(f"{path}: holds no learned model; scan with kind next-step or reconstruction, and --save")
    table = pa.table(
        {
            "series": [row.series for row in rows],
            "epoch": [row.epoch for row in rows],
            "training": [row.training for row in rows],
            "validation": [row.validation for row in rows],
            "best": [str(row.is_best).lower() for row in rows],
        }
    )
    results.write_whole(out, results.table_bytes(table, out))
