"""JSON Lines as pushed over HTTP: one point a line, or several metrics a line."""

import math

import numpy as np

from watchtide.tables import chunks, clock, extract
from watchtide.tables.points import Points, Series, is_sound, name_problem
from watchtide.tables.problems import TableError
from watchtide.tables.shape import Shape

TIME_FIELDS = ("time", "stamp", "timestamp", "ts")


def parse(body: bytes, *, zone: str = "UTC") -> Points:
    """Points of lines such as {"time": …, "metric": "taps", "value": 4, "place": "Northquay"}.

    `time` is any stamp of docs/formats.md; `metric` may be left out, and then every number of the line but `value`
    is a metric of its own. Other fields with text are attributes. A line that cannot be used is refused with its
    number; the others are taken. Raises TableError where there is not one line of JSON.
    """
    out = Points()
    for chunk in chunks.read_chunks(body, Shape("jsonl"), "body"):
        for broken in chunk.broken:
            out.refuse(f"line {broken.line}: {broken.problem}")
        if chunk.rows:
            _chunk(chunk, zone, out)
    return out


def _chunk(chunk: chunks.Chunk, zone: str, out: Points) -> None:
    time = next((name for name in TIME_FIELDS if name in chunk.columns), None)
    if time is None:
        first = int(chunk.lines[0])
        raise TableError("body", f"line {first}", "has no time", f"name it one of {', '.join(TIME_FIELDS)}")
    parsed = clock.parse(chunk.columns[time])
    times = parsed.times
    if parsed.is_local:
        times = clock.localise(times, zone).times
    numbers, texts = {}, {}
    for name, column in chunk.columns.items():
        if name in (time, "metric", "unit"):
            continue
        kind = str(column.type)
        if kind in ("int64", "double"):
            numbers[name] = extract.numbers_of(column)[0].tolist()
        elif kind != "null":
            texts[name] = column.to_pylist()
    metrics = chunk.columns["metric"].to_pylist() if "metric" in chunk.columns else [None] * chunk.rows
    units = chunk.columns["unit"].to_pylist() if "unit" in chunk.columns else [""] * chunk.rows
    if "value" in chunk.columns:
        values, wrong, endless = extract.numbers_of(chunk.columns["value"])
        numbers["value"] = np.where(wrong | endless, math.inf, values).tolist()
        texts.pop("value", None)
    for i, line in enumerate(chunk.lines.tolist()):
        at = int(times[i])
        if parsed.bad[i] or not is_sound(at):
            out.refuse(f"line {line}: {str(chunk.columns[time][i].as_py())[:40]!r} is no time")
            continue
        attributes = tuple((n, str(v[i])) for n, v in texts.items() if v[i] not in (None, ""))
        named = [(str(metrics[i]), "value")] if metrics[i] else [(n, n) for n in numbers if n != "value"]
        taken = 0
        for metric, column in named:
            value = numbers.get(column, [math.inf] * chunk.rows)[i]
            if column != "value" and math.isnan(value):
                continue
            why = name_problem(metric, attributes) or (
                "has no number as value" if math.isinf(value) else None
            )
            if why is not None:
                out.refuse(f"line {line}: {why}")
                taken = -1
                break
            out.add(Series(metric, attributes, str(units[i] or "")), at, value)
            taken += 1
        if taken == 0:
            out.refuse(f"line {line}: holds no number")
