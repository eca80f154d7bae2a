"""A table to the streams of a scan: columns found or stated, rows read, streams linked to what stands beside them."""

from collections.abc import Callable, Sequence
from typing import Any

import numpy as np

from watchtide.core.scoring.rows import Label
from watchtide.core.series import keys
from watchtide.engine.prepare import preparing
from watchtide.engine.prepare.preparing import Beside, Input, KnownDay
from watchtide.plan import Plan
from watchtide.tables import calendars, clock, extract, layout, read, remote
from watchtide.tables.extract import StreamRows, without_doubles
from watchtide.tables.layout import Layout
from watchtide.tables.problems import BrokenRow, TableError
from watchtide.tables.read import Raw
from watchtide.tables.shape import Source

Chooser = Callable[[Raw], Layout]


def shape_options(table: dict[str, Any]) -> dict[str, Any]:
    """What the options say about how the file is written."""
    delimiter = table.get("delimiter")
    return {
        "encoding": table.get("encoding"),
        "delimiter": "\t" if delimiter == "tab" else delimiter,
        "decimal": table.get("decimal"),
        "has_header": table.get("header"),
        "pattern": table.get("pattern"),
    }


def guess_of(table: dict[str, Any], **more: Any) -> Chooser:
    """How the layout is made of a table's first rows: guessed, with what the options state."""
    stated = {
        "zone": table["tz"],
        "time": table.get("time"),
        "values": tuple(table.get("value") or ()),
        "series": tuple(table["series"]) if table.get("series") else None,
        "label": table.get("label"),
        "denominator": table.get("denominator"),
        "covariates": tuple(table.get("covariate") or ()),
        "missing_words": tuple(table.get("missing") or ()),
        "keep": table.get("keep"),
        "wide_name": table.get("wide"),
        "time_form": table.get("time_form"),
        "duplicates": table.get("duplicates"),
        **more,
    }
    return lambda raw: layout.guess(raw, **stated)


def take(
    source: Source, name: str, table: dict[str, Any], choose: Chooser | None = None
) -> tuple[extract.Extracted, Layout]:
    """The streams of a whole table; a broken row ends it unless such rows are to be left out. Raises TableError."""
    clock.zone(table["tz"])
    raw = read.read(source, name, **shape_options(table))
    chosen = (choose or guess_of(table))(raw)
    taken = extract.extract(raw, chosen)
    if taken.broken and not table["skip_broken"]:
        raise first_broken(name, taken.broken, len(taken.broken))
    return taken, chosen


def first_broken(name: str, broken: Sequence[BrokenRow], count: int) -> TableError:
    first = broken[0]
    return TableError(
        name,
        f"line {first.line}" + (f", column {first.column}" if first.column else ""),
        f"{first.problem} ({count} broken row{'s' if count > 1 else ''} in all)",
        "correct it, or leave broken rows out with --skip-broken",
    )


def streams_of(
    source: Source, name: str, table: dict[str, Any], choose: Chooser | None = None
) -> tuple[extract.Extracted, Layout, list[Input], list[Label]]:
    """What was taken of a table and how, its streams, and the known spans of a stated label column. Raises TableError."""
    taken, chosen = take(source, name, table, choose)
    if not taken.streams:
        raise TableError(name, "the rows", "not one row can be used", "check the time and value columns")
    known = [span for s in taken.streams if s.labelled is not None for span in _known_spans(s)]
    return taken, chosen, link(taken.streams, chosen.zone, chosen.duplicates), known


def link(streams: Sequence[StreamRows], zone: str, duplicates: str) -> list[Input]:
    """Inputs of the value streams; covariates and denominators go to those whose attributes they share."""
    others = [s for s in streams if s.role != "value"]
    # The metric is part of a key only where there are several value columns.
    is_alone = bool(others) and len({s.metric for s in streams if s.role == "value"}) == 1
    inputs = []
    for s in streams:
        if s.role != "value":
            continue
        mates = [o for o in others if dict(o.attributes) == dict(s.attributes)]
        beside = tuple(Beside(o.metric, o.times, o.values) for o in mates if o.role == "covariate")
        below = next((o for o in mates if o.role == "denominator"), None)
        key = keys.encode(s.attributes) if is_alone else s.key
        times, values = s.times, s.values
        if duplicates != "mean" and below is None:
            # The grid averages equal stamps by itself.
            times, values, _ = without_doubles(times, values, duplicates)
        inputs.append(Input(key, times, values, zone, below.values if below is not None else None, beside))
    return inputs


def known_days(
    plan: Plan,
    streams: Sequence[Input],
    zone: str,
    load: Callable[[str], bytes] = remote.bytes_of,
) -> tuple[KnownDay, ...]:
    """Occurrences of the plan's calendars over the span of the streams and a year ahead, widened by lead and lag. load : the bytes of a
    calendar by its name."""
    ends = [(int(s.times.min()), int(s.times.max())) for s in streams if len(s.times)]
    if not ends:
        return ()

    def days(name: str, first: int, last: int) -> list[calendars.Day]:
        try:
            data = load(name)
        except OSError as error:
            raise TableError(name, "", "there is no such calendar", "check the path") from error
        return calendars.days(calendars.read(data, name), first, last, zone, name=name)

    return preparing.known_days(plan, min(a for a, _ in ends), max(b for _, b in ends), days)


def _known_spans(stream: StreamRows) -> list[Label]:
    """True rows of a label column as incidents, one a run of rows."""
    assert stream.labelled is not None
    order = np.argsort(stream.times, kind="stable")
    mask = stream.labelled[order].astype(np.int8)
    edges = np.flatnonzero(np.diff(np.r_[0, mask, 0]))
    times = stream.times[order]
    return [
        Label(int(times[a]), int(times[b - 1]), stream.key)
        for a, b in zip(edges[::2], edges[1::2], strict=True)
    ]
