"""Commands that take tables in: look, rollup, regrid, days; and how a table is opened by its options."""

import json
import sys
from collections.abc import Sequence
from typing import Any

import numpy as np
import pyarrow as pa

from watchtide.cli.exits import fail
from watchtide.core.series import COMBINES, SeriesError, keys
from watchtide.core.series.cadence import step_of
from watchtide.door import reading
from watchtide.plan import durations
from watchtide.tables import (
    calendars,
    chunks,
    clock,
    expressions,
    extract,
    formulas,
    layout,
    read,
    remote,
    results,
    rollup,
    safe,
    shape,
    survey,
    views,
)
from watchtide.tables.extract import StreamRows
from watchtide.tables.layout import Layout
from watchtide.tables.problems import BrokenRow, TableError
from watchtide.tables.read import Raw
from watchtide.tables.shape import Source


def source_of(source: str) -> Source:
    return sys.stdin.buffer.read() if source == "-" else remote.fetched(source)


def name_of(source: str) -> str:
    return "standard input" if source == "-" else source


def chooser(table: dict[str, Any], **more: Any) -> Any:
    """How the layout is made of a file's first rows: a kept one, or the guess with what the options state."""
    if table.get("layout"):
        kept = kept_layout(str(table["layout"]))

        def by_layout(raw: Raw) -> Layout:
            if not layout.fits(kept, list(raw.columns)):
                there = ", ".join(raw.columns)
                raise TableError(
                    raw.name,
                    "columns",
                    f"do not fit {table['layout']} (columns: {there})",
                    "look the table through anew",
                )
            return kept

        return by_layout
    return reading.guess_of(table, **more)


def kept_layout(path: str) -> Layout:
    try:
        return layout.from_data(json.loads(remote.text_of(path)))
    except (OSError, UnicodeDecodeError) as error:
        fail(f"{path}: cannot be read ({error}); check the path")
    except json.JSONDecodeError as error:
        fail(f"{path}, line {error.lineno}: no JSON; write it anew with look --save-layout")


def open_table(source: str, table: dict[str, Any], **more: Any) -> tuple[Raw, Layout]:
    """A whole table and its layout."""
    clock.zone(table["tz"])
    raw = read.read(source_of(source), name_of(source), **reading.shape_options(table))
    return raw, chooser(table, **more)(raw)


def take_table(source: str, table: dict[str, Any]) -> tuple[extract.Extracted, Layout]:
    """The streams of a whole table; a broken row ends it unless such rows are to be left out."""
    return reading.take(source_of(source), name_of(source), table, chooser(table))


def look(
    source: str, json_out: str | None, save_layout: str | None, *, whole: bool, table: dict[str, Any]
) -> None:
    seen = survey.survey(
        source_of(source), name_of(source), chooser(table), stated=reading.shape_options(table),
        most_bytes=1 << 62 if whole else survey.MOST_LOOKED_AT,
    )  # fmt: skip
    told = _told(seen)
    if save_layout:
        results.write_whole(save_layout, json.dumps(layout.to_data(seen.layout), indent=1) + "\n")
    if json_out:
        results.write_whole(json_out, json.dumps(told, indent=1, ensure_ascii=False) + "\n")
    if json_out == "-":
        return
    part = "" if seen.is_whole else f"the first {seen.rows:,} of about {seen.about_rows:,} rows: "
    print(
        f"{part}{len(seen.streams):,} streams, {seen.rows_fit:,} rows fit, {seen.rows_aside:,} do not"
        + (f", {seen.dropped:,} left out by --keep" if seen.dropped else "")
    )
    print(f"every {told['cadence']} ({seen.found.share:.1%} of the steps), {told['first']} to {told['last']}")
    for c in seen.columns:
        print(f"  {c.name}: {c.role} ({c.reason}; {c.missing:.1%} missing, {c.distinct:,} different)")
    for p in seen.problems:
        where = f"column {p.column}: " if p.column else ""
        first = f", first in line {p.first_line}" if p.first_line else ""
        print(f"  {p.count:,} rows: {where}{p.message}{first}; {p.remedy if p.sets_aside else 'fine'}")


def _told(seen: survey.Survey) -> dict[str, Any]:
    moment = lambda ns: None if ns is None else clock.format_time(ns)  # noqa: E731
    return {
        "shape": vars(seen.shape),
        "layout": layout.to_data(seen.layout),
        "columns": [vars(c) | {"picture": vars(c.picture)} for c in seen.columns],
        "first_rows": [vars(r) for r in seen.first_rows],
        "random_rows": [vars(r) for r in seen.random_rows],
        "problems": [vars(p) for p in seen.problems],
        "streams": [{"key": s.key, "samples": len(s.times)} for s in seen.streams[:1000]],
        "count": len(seen.streams),
        "rows": seen.rows,
        "rows_fit": seen.rows_fit,
        "rows_aside": seen.rows_aside,
        "rows_dropped": seen.dropped,
        "is_whole": seen.is_whole,
        "about_rows": seen.about_rows,
        "cadence": durations.format_every(seen.found.cadence),
        "cadence_share": seen.found.share,
        "first": moment(seen.first_ns),
        "last": moment(seen.last_ns),
    }


def measure_of(text: str) -> layout.Measure:
    """`count`, or `p95 ms`: what, of which column."""
    how, _, column = text.strip().partition(" ")
    return layout.Measure(how, column.strip().removeprefix("of ") or None)


def roll_up(
    source: str, out: str, every: str, measures: list[str], metric: str | None, *, table: dict[str, Any]
) -> None:
    try:
        every_ns = durations.parse_ns(every)
    except ValueError as error:
        fail(f"--every: {error}")
    spec = layout.RollUp(every_ns, tuple(measure_of(m) for m in measures))
    data, name = source_of(source), name_of(source)
    how = shape.sniff(data, name, **reading.shape_options(table))
    extractor: extract.Extractor | None = None
    roller: rollup.Roller | None = None
    broken: list[BrokenRow] = []
    for chunk in chunks.read_chunks(data, how, name):
        if extractor is None or roller is None:
            raw = Raw(name, how, chunk.columns, chunk.rows, chunk.lines, chunks.size_of(data), chunk.broken)
            extractor = extract.Extractor(chooser(table, rollup=spec, metric=metric)(raw), name)
            roller = rollup.Roller(extractor)
        events, aside = extractor.take_events(chunk)
        broken += aside[:1]
        roller.add(events)
    assert extractor is not None and roller is not None
    if broken and not table["skip_broken"]:
        raise reading.first_broken(source, broken, extractor.aside)
    streams = roller.streams()
    results.write_whole(out, results.table_bytes(_streams_table(streams), out))
    print(f"{extractor.rows:,} events in {len(streams):,} streams", file=sys.stderr)


def _streams_table(streams: Sequence[StreamRows]) -> pa.Table:
    """series, time, value: what every command reads again."""
    return pa.table(
        {
            "series": pa.array([s.key for s in streams for _ in range(len(s.times))], pa.string()),
            "time": pa.array([t for s in streams for t in clock.format_times(s.times).tolist()], pa.string()),
            "value": pa.array(
                np.concatenate([s.values for s in streams]) if streams else [], from_pandas=True
            ),
        }
    )


def regrid(source: str, out: str, every: str, combine: str, *, table: dict[str, Any]) -> None:
    if combine not in COMBINES:
        fail(f"--combine {combine}: must be one of {', '.join(COMBINES)}")
    taken, guessed = take_table(source, table)
    streams = []
    for s in taken.streams:
        times, values, _ = extract.without_doubles(s.times, s.values, guessed.duplicates)
        try:
            step: int | str = every if every in ("month", "year") else durations.parse_ns(every)
            bins, combined = views.coarser(
                times, values, step, combine, guessed.zone, fill=isinstance(step, int)
            )
        except (ValueError, SeriesError) as error:
            fail(f"--every {every}, stream {s.key or '(the only one)'}: {error}")
        streams.append(StreamRows(s.key, s.attributes, s.metric, bins, combined))
    results.write_whole(out, results.table_bytes(_streams_table(streams), out))
    print(f"{sum(len(s.times) for s in streams):,} bins of {len(streams):,} streams", file=sys.stderr)


def derive(
    source: str,
    out: str,
    formula: str,
    by: list[str],
    metric: str,
    every: str | None,
    *,
    table: dict[str, Any],
) -> None:
    taken, guessed = take_table(source, table)
    members = [formulas.Member(i, s.metric, s.attributes) for i, s in enumerate(taken.streams)]
    samples = [extract.without_doubles(s.times, s.values, guessed.duplicates)[:2] for s in taken.streams]
    try:
        tree = expressions.parse_formula(formula)
        groups = formulas.groups_of(tree, by, lambda m: [x for x in members if x.metric == m])
    except expressions.ExpressionError as error:
        fail(f"--formula: {error}")
    streams = []
    for group in groups:
        own = [step_of(samples[n][0]) for n in group.numbers if len(samples[n][0]) > 1]
        step = durations.parse_ns(every) if every else max(own, default=1)
        result = formulas.evaluate(
            tree, group, {n: views.at_cadence(*samples[n], step, guessed.zone) for n in group.numbers}
        )
        for name, values in ((metric, result.values), (f"{metric} denominator", result.amounts)):
            if values is not None:
                key = keys.encode((("metric", name), *group.attributes))
                streams.append(StreamRows(key, group.attributes, name, result.times, values))
    results.write_whole(out, results.table_bytes(_streams_table(streams), out))
    print(f"{len(streams):,} streams by {formula}", file=sys.stderr)


def days(source: str, from_: str, to: str, zone: str, out: str) -> None:
    try:
        data = sys.stdin.buffer.read() if source == "-" else remote.bytes_of(source)
    except OSError:
        fail(f"{source}: there is no such file; check the path")
    first, last = clock.parse_one(from_, zone), clock.parse_one(to, zone)
    found = calendars.days(calendars.read(data, source), first, last, zone, name=source)
    rows = {
        "start": [clock.format_time(d.start_ns) for d in found],
        "stop": [clock.format_time(d.stop_ns) for d in found],
        "name": [safe.spreadsheet_safe(d.name) for d in found],
        "all_day": [str(d.is_all_day).lower() for d in found],
        "place": [safe.spreadsheet_safe(d.place) for d in found],
    }
    table = pa.table({k: pa.array(v, pa.string()) for k, v in rows.items()})
    results.write_whole(out, results.table_bytes(table, "days.csv" if out == "-" else out))
