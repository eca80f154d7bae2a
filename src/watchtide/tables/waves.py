"""Tables of waveforms: a row is a unit, or the rows of one name are; and the points that are written of units."""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from watchtide.core.series import Floats, Strings
from watchtide.tables import clock, extract, read
from watchtide.tables.problems import TableError

MOST_SAMPLES = 10_000
COLUMNS = ("series", "unit", "time", "class", "split", "score", "flag")


@dataclass(frozen=True)
class Waves:
    """Units of a table in the order of the file. names : (n,); values : (n, length), NaN where missing; classes : (n,) as they
    stand in the file, empty where there are none; times : (n,) written in UTC, empty where there are none."""

    names: tuple[str, ...]
    values: Floats
    classes: tuple[str, ...]
    times: tuple[str, ...]


@dataclass(frozen=True)
class Layout:
    """Where the units stand. first, last : columns of a row that is a unit; or by, at, value : the column whose equal cells make
    one, that of the order within it, and that of its samples."""

    first: str = ""
    last: str = ""
    by: str = ""
    at: str = ""
    value: str = ""
    name: str = ""
    of_class: str = ""
    time: str = ""


def waves_of(raw: read.Raw, layout: Layout, zone: str) -> Waves:
    """The units of a table. Raises TableError for columns that are not there, cells that are no numbers, and units of unlike length."""
    for column in (layout.name, layout.of_class, layout.time, layout.by, layout.at, layout.value):
        if column:
            _column(raw, column)
    return _by_rows(raw, layout, zone) if layout.first else _by_name(raw, layout, zone)


def _column(raw: read.Raw, name: str) -> pa.Array:
    if name not in raw.columns:
        some = ", ".join(list(raw.columns)[:8])
        raise TableError(raw.name, f"column {name}", "is not there", f"it has {some} …")
    return raw.columns[name]


def _by_rows(raw: read.Raw, layout: Layout, zone: str) -> Waves:
    _column(raw, layout.first), _column(raw, layout.last)
    columns = list(raw.columns)
    a, b = columns.index(layout.first), columns.index(layout.last)
    if b < a:
        raise TableError(
            raw.name,
            f"columns {layout.first}..{layout.last}",
            "end before they begin",
            "name the first one first",
        )
    beside = {layout.name, layout.of_class, layout.time}
    own = [c for c in columns[a : b + 1] if c not in beside]
    if len(own) < 2:
        raise TableError(
            raw.name, f"columns {layout.first}..{layout.last}", "hold one sample", "name more of them"
        )
    values = np.column_stack([_numbers(raw, c) for c in own]) if raw.rows else np.zeros((0, len(own)))
    names = _texts(raw, layout.name) if layout.name else tuple(str(i + 1) for i in range(raw.rows))
    return Waves(names, values, _texts(raw, layout.of_class), _stamps(raw, layout.time, zone))


def _by_name(raw: read.Raw, layout: Layout, zone: str) -> Waves:
    names = np.array(_texts(raw, layout.by))
    place, values = _numbers(raw, layout.at), _numbers(raw, layout.value)
    if np.isnan(place).any():
        row = int(np.flatnonzero(np.isnan(place))[0])
        raise TableError(
            raw.name,
            f"line {raw.line(row)}, column {layout.at}",
            "is empty: a sample needs its place",
            "fill the cell",
        )
    kinds, first, number, counts = np.unique(
        names, return_index=True, return_inverse=True, return_counts=True
    )
    if len(kinds) and counts.min() != counts.max():
        usual = int(np.median(counts))
        odd = int(np.flatnonzero(counts != usual)[0]) if np.any(counts != usual) else 0
        raise TableError(
            raw.name, f"unit {kinds[odd]} (from line {raw.line(int(first[odd]))})",
            f"has {counts[odd]} samples, others have {usual}", "cut or resample the units to one length",
        )  # fmt: skip
    order = np.lexsort((place, number))
    length = int(counts[0]) if len(kinds) else 0
    rows = values[order].reshape(len(kinds), length)
    # In the order of the file: what comes first trains.
    turn = np.argsort(first, kind="stable")
    lead = first[turn]
    classes, times = _texts(raw, layout.of_class), _stamps(raw, layout.time, zone)
    return Waves(
        tuple(kinds[turn].tolist()),
        rows[turn],
        tuple(classes[i] for i in lead),
        tuple(times[i] for i in lead),
    )


def _numbers(raw: read.Raw, column: str) -> Floats:
    values, wrong, _ = extract.numbers_of(_column(raw, column), ())
    if wrong.any():
        row = int(np.flatnonzero(wrong)[0])
        raise TableError(
            raw.name, f"line {raw.line(row)}, column {column}", "is no number", "correct the cell"
        )
    return np.asarray(values, np.float64)


def _texts(raw: read.Raw, column: str) -> tuple[str, ...]:
    if not column:
        return ("",) * raw.rows
    cells = _column(raw, column)
    if pa.types.is_floating(cells.type) and pc.all(pc.equal(cells, pc.round(cells))).as_py():
        # 1.0 in a typed column is the class 1.
        cells = cells.cast(pa.int64())
    return tuple("" if v is None else str(v).strip() for v in cells.to_pylist())


def _stamps(raw: read.Raw, column: str, zone: str) -> tuple[str, ...]:
    if not column:
        return ("",) * raw.rows
    out = []
    for row, text in enumerate(_texts(raw, column)):
        try:
            out.append(clock.format_time(clock.parse_one(text, zone)) if text else "")
        except ValueError as error:
            raise TableError(
                raw.name, f"line {raw.line(row)}, column {column}", f"is no time: {error}", "correct the cell"
            ) from error
    return tuple(out)


def points_table(
    waves: Waves, parts: Strings, scores: Floats, flags: Sequence[bool], key: str = ""
) -> pa.Table:
    """What is written of each unit, in the order of the file."""
    n = len(waves.names)
    columns: dict[str, Any] = {
        "series": pa.array([key] * n, pa.string()),
        "unit": pa.array(waves.names, pa.string()),
        "time": pa.array([t or None for t in waves.times], pa.string()),
        "class": pa.array([c or None for c in waves.classes], pa.string()),
        "split": pa.array([p or None for p in parts.tolist()], pa.string()),
        "score": pa.array(scores, from_pandas=True),
        "flag": pa.array(["odd" if f else None for f in flags], pa.string()),
    }
    return pa.table(columns)


def read_points(source: str) -> tuple[Waves, Strings, Floats]:
    """Units with split and score, from points that a scan of waveforms wrote. Raises TableError where they are none."""
    raw = read.read(source, source)
    for column in ("unit", "class", "split", "score"):
        if column not in raw.columns:
            raise TableError(
                source,
                f"column {column}",
                "is not there",
                "give the points that scan --wave wrote, or choose --by events",
            )
    names, classes = _texts(raw, "unit"), _texts(raw, "class")
    waves = Waves(names, np.zeros((raw.rows, 0)), classes, ("",) * raw.rows)
    return waves, np.array(_texts(raw, "split"), dtype="U10"), _numbers(raw, "score")
