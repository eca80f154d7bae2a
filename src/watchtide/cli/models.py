"""Commands around fitted baselines: apply, forecast, diagnose."""

import json
import sys
from typing import Any

import numpy as np
import pyarrow as pa

from watchtide.cli import scanning, waves
from watchtide.cli.exits import fail
from watchtide.door import models
from watchtide.door.found import Scan
from watchtide.engine.keep import saved, saved_units
from watchtide.engine.many import run
from watchtide.engine.scan import ahead, examine, outcome, stages
from watchtide.plan import Plan, dump
from watchtide.tables import clock, results


def apply(
    model: str,
    source: str,
    *,
    units: waves.Stated,
    points: str | None,
    findings: str | None,
    summary: str | None,
    table: dict[str, Any],
) -> None:
    if saved_units.is_of_units(model):
        if not units:
            fail(
                f"{model} judges waveforms: say where they stand with --wave FIRST..LAST, or --wave-id and --wave-at"
            )
        waves.apply(model, source, units, waves.Out(points, findings, summary), table=table)
        return
    if units:
        fail(
            f"{model} judges streams: leave out --wave, or save a model of waveforms with scan --wave --save"
        )
    kept = {s.key: s for s in saved.read(model)}
    _, streams, _ = scanning.read_streams(source, table)
    scanned = models.applied(kept, streams, model)
    plan = next(iter(kept.values())).plan if kept else Plan()
    whole = Scan(plan, "apply", tuple(scanned))
    scanning.write_scan(whole, points=points, findings=findings, summary=summary)


def forecast(
    source: str,
    out: str,
    *,
    plan_path: str | None,
    steps: str,
    skip_last: int,
    interval: float,
    limit: float | None,
    table: dict[str, Any],
) -> None:
    plan = scanning.plan_of(plan_path, table)
    _, streams, _ = scanning.read_streams(source, table)
    streams = scanning.with_days(streams, plan, table)
    rows, told = [], {}
    for stream in streams:
        name = stream.key or "(the only one)"
        f = models.foretold(stream, plan, steps, skip_last=skip_last, interval=interval)
        part = models.forecast_table(stream.key, f)
        rows.append(part.set_column(1, "time", pa.array(clock.format_times(f.times), pa.string())))
        if limit is not None:
            told[stream.key] = ahead.limit_reached(f, limit)
        for note in f.notes:
            print(f"{name}: {note}", file=sys.stderr)
    results.write_whole(out, results.table_bytes(pa.concat_tables(rows), out))
    if limit is not None:
        told_text = json.dumps({"interval": interval, "series": told}, indent=1) + "\n"
        (sys.stderr if out == "-" else sys.stdout).write(told_text)


def diagnose(
    source: str, *, plan_path: str | None, json_out: str | None, remedied: str | None, table: dict[str, Any]
) -> None:
    plan = scanning.plan_of(plan_path, table)
    _, streams, _ = scanning.read_streams(source, table)
    streams = scanning.with_days(streams, plan, table)
    figures: dict[str, Any] = {}
    for scanned in run.scan_many(streams, plan):
        key = scanned.base.key
        figures[key] = examine.examine(scanned)
        name = key or "(the only one)"
        e = figures[key]["training"]
        print(
            f"{name}: MAE {_number(e['mae'])}, RMSE {_number(e['rmse'])}, within the range {_number(e['coverage'])}",
            file=sys.stderr,
        )
        for d in figures[key]["diagnoses"]:
            remedy = ", ".join(f"{k}: {v}" for k, v in d["remedy"].items()) or "more history"
            print(f"  {d['name']}: {d['words']}; remedy: {remedy}", file=sys.stderr)
    changes, kind = models.remedies(figures)
    if json_out or not remedied:
        results.write_whole(
            json_out or "-",
            json.dumps({"series": figures, "remedy": changes}, indent=1, allow_nan=False) + "\n",
        )
    if remedied:
        results.write_whole(remedied, dump(examine.remedied(plan, changes, kind)))


def _number(value: float | None) -> str:
    return "–" if value is None else f"{value:.4g}"


def discords(source: str, out: str, window: str, most: int, *, table: dict[str, Any]) -> None:
    plan = scanning.plan_of(None, table)
    changed = scanning.plan_with_options(
        plan, {"discords": {"window": window, "most": most}, "shifts": {"of": "none"}}
    )
    _, streams, _ = scanning.read_streams(source, table)
    found = []
    for stream in streams:
        series = stages.prepare(stream, changed).series
        blank = np.full(len(series), np.nan)
        try:
            found += outcome.discords_of(stream.key, series, blank, changed)
        except ValueError as error:
            fail(f"--window {window}, stream {stream.key or '(the only one)'}: {error}")
    found.sort(key=lambda f: -f.score)
    results.write_whole(out, results.findings_text(found, out))
    print(f"{len(found)} discords in {len(streams)} streams", file=sys.stderr)
