"""Commands on waveforms, each unit judged as a whole: scan, apply and threshold of tables where a row is a unit."""

import json
import math
import sys
from dataclasses import dataclass
from typing import Any

import numpy as np
import pyarrow as pa
import typer

from watchtide.cli import taking
from watchtide.cli.exits import fail
from watchtide.core import units
from watchtide.core.baselines.networks import Progress
from watchtide.core.scoring.choice import Constraint
from watchtide.core.scoring.rows import Finding
from watchtide.core.series import Floats, Strings
from watchtide.engine import saved_units
from watchtide.plan import Plan
from watchtide.tables import clock, read, results, waves
from watchtide.tables.waves import Layout, Waves


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


def layout_of(stated: Stated, table: dict[str, Any]) -> Layout:
    """Where the units of a table stand, by the options."""
    common = {"name": stated.name or "", "of_class": stated.of_class or "", "time": table["time"] or ""}
    if stated.wave is not None:
        if stated.by or stated.at:
            fail("--wave and --wave-id: give one of the two; a unit is a row, or the rows of one name")
        first, dots, last = stated.wave.partition("..")
        if not (dots and first and last):
            fail(f"--wave {stated.wave}: write FIRST..LAST, two names of columns")
        return Layout(first=first, last=last, **common)
    values = table["value"] or []
    if not (stated.by and stated.at and len(values) == 1):
        fail(
            "--wave-id, --wave-at and one --value go together: whose sample it is, its place, and what it is"
        )
    return Layout(by=stated.by, at=stated.at, value=values[0], **common)


def read_units(source: str, stated: Stated, table: dict[str, Any]) -> Waves:
    clock.zone(table["tz"])
    raw = read.read(taking.source_of(source), taking.name_of(source), **taking.shape_options(table))
    if raw.broken and not table["skip_broken"]:
        raise taking.first_broken(source, raw.broken, len(raw.broken))
    found = waves.waves_of(raw, layout_of(stated, table), table["tz"])
    print(f"took {len(found.names)} units of {found.values.shape[1]} samples", file=sys.stderr)
    return found


def scan(
    source: str, plan: Plan, stated: Stated, *, train_share: float | None, points: str | None, findings: str | None,
    summary: str | None, save: str | None, table: dict[str, Any],
) -> None:  # fmt: skip
    """Learn from the first units what is usual, and judge all of them."""
    kind = "reconstruction" if plan.baseline.kind == "auto" else plan.baseline.kind
    found = read_units(source, stated, table)
    normal = units.is_normal(found.classes)
    parts = units.split(normal, _shares(plan, train_share))
    options = {
        k: v for k, v in plan.baseline.options.items() if k in ("epochs", "bottleneck", "patience", "trees", "subsample", "seed")
    }  # fmt: skip
    if unused := sorted(set(plan.baseline.options) - set(options)):
        fail(f"baseline.options.{unused[0]}: units have no use for it; they are as long as they are")
    ((reading, amount),) = plan.flag.level.items()
    try:
        model = units.fit(found.values, parts, kind, (reading, amount), progress=_progress(), **options)
    except ValueError as error:
        fail(f"{source}: {error}")
    scores = units.score(model, found.values)
    if save:
        results.write_whole(save, saved_units.write(model, plan))
    confusion = units.confusion(scores[parts == units.TEST], normal[parts == units.TEST], model.level)
    if summary:
        results.write_whole(
            summary, json.dumps(_summary(model, plan, parts, confusion), indent=1, allow_nan=False) + "\n"
        )
    _write(found, parts, scores, model, points=points, findings=findings, is_quiet=bool(summary or save))


def _shares(plan: Plan, train_share: float | None) -> tuple[float, float]:
    """Shares of the units that train, and that show when to stop."""
    validation, locked = plan.baseline.split.validation, plan.baseline.split.locked
    for name, share in (("validation", validation), ("locked", locked)):
        if isinstance(share, str):
            fail(f"baseline.split.{name}: {share}: units have an order and no span; give a share such as 0.2")
    if train_share is None and validation is None and locked is None:
        return units.SHARES
    before = 1 - float(locked or 0.2) if train_share is None else train_share
    own = before / 4 if validation is None else float(validation)
    if not 0 < own < before < 1:
        fail(
            "the shares leave nothing to train on, to stop by, or to test on: take for example --train-share 0.8"
        )
    return before - own, own


def _summary(model: units.UnitModel, plan: Plan, parts: Strings, confusion: dict[str, Any]) -> dict[str, Any]:
    losses = model.arrays.get("losses", np.zeros((0, 2))).tolist()
    told = {k: v for k, v in model.facts.items() if k != "kind"}
    return {
        "plan": plan.as_data(),
        "kind": model.kind,
        "samples": model.length,
        "level": model.level if math.isfinite(model.level) else None,
        "level_note": model.note,
        "units": {name: int(np.sum(parts == name)) for name in (units.TRAINING, units.VALIDATION, units.TEST, units.LABELLED)}
        | {"confusion": confusion},
        "losses": [{"epoch": i, "training": a, "validation": b} for i, (a, b) in enumerate(losses, start=1)],
        "best_epoch": model.facts.get("best_epoch"),
        "facts": told,
    }  # fmt: skip


def apply(
    path: str, source: str, stated: Stated, *, points: str | None, findings: str | None, summary: str | None, table: dict[str, Any]
) -> None:  # fmt: skip
    """Judge new units by a kept model, without fitting."""
    model, plan = saved_units.read(path)
    found = read_units(source, stated, table)
    try:
        scores = units.score(model, found.values)
    except ValueError as error:
        fail(f"{source}: {error}")
    parts = np.full(len(found.names), "", dtype="U10")
    if summary:
        normal = units.is_normal(found.classes)
        told = _summary(model, plan, parts, units.confusion(scores, normal, model.level))
        results.write_whole(summary, json.dumps(told, indent=1, allow_nan=False) + "\n")
    _write(found, parts, scores, model, points=points, findings=findings, is_quiet=bool(summary))


def _write(
    found: Waves, parts: Strings, scores: Floats, model: units.UnitModel, *, points: str | None, findings: str | None, is_quiet: bool
) -> None:  # fmt: skip
    flags = units.flagged(model, scores)
    if findings:
        if not all(found.times):
            fail(
                "--findings: a finding has a time; name the column of the units' times with --time, or write --points"
            )
        rows = [
            _finding(clock.parse_one(t, "UTC"), s)
            for t, s, f in zip(found.times, scores, flags, strict=True)
            if f
        ]
        results.write_whole(findings, results.findings_text(sorted(rows, key=lambda f: f.start), findings))
    if points or not (findings or is_quiet):
        path = points or "-"
        results.write_whole(
            path, results.table_bytes(waves.points_table(found, parts, scores, flags.tolist()), path)
        )
    print(
        f"{int(flags.sum())} of {len(flags)} units flagged from {model.level:.3g} sigmas on", file=sys.stderr
    )


def _finding(at: int, score: float) -> Finding:
    return Finding(start=at, end=at, series="", kind="discord", direction="", score=float(score), points=1)


def _progress() -> Progress | None:
    if not sys.stderr.isatty():
        return None

    def tell(epoch: int, training: float, validation: float) -> None:
        print(
            f"\repoch {epoch}: training {training:.4g}, validation {validation:.4g} ",
            end="",
            file=sys.stderr,
            flush=True,
        )

    return tell


def threshold(points: str, json_out: str, constraint: dict[str, float | None]) -> None:
    """The best level by units, from the points of a scan of waveforms."""
    try:
        stated = Constraint(**constraint)
        found, parts, scores = waves.read_points(points)
        told = units.best_level(scores, units.is_normal(found.classes), parts, stated)
    except ValueError as error:
        fail(f"{points}: {error}")
    results.write_whole(json_out, json.dumps(told, indent=1, allow_nan=False) + "\n")
    if not told["is_met"]:
        print(
            f"watchtide: no level meets the constraint; the nearest is {told['level']:g} sigmas",
            file=sys.stderr,
        )
        raise typer.Exit(1)


def losses(path: str, out: str) -> None:
    """The error of each epoch of the learned models of a file."""
    saved_head = list(saved_units.losses_of(path))
    if not saved_head:
        fail(f"{path}: holds no learned model; scan with kind next-step or reconstruction, and --save")
    key, epoch, training, validation, best = zip(*saved_head, strict=True)
    table = pa.table(
        {
            "series": pa.array(key, pa.string()), "epoch": pa.array(epoch, pa.int64()), "training": pa.array(training, pa.float64()),
            "validation": pa.array(validation, pa.float64(), from_pandas=True), "best": pa.array([str(b).lower() for b in best], pa.string()),
        }
    )  # fmt: skip
    results.write_whole(out, results.table_bytes(table, out))
