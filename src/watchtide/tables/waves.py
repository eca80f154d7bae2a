"""Tables of waveforms: a row is a unit, or the rows of one name are; and the points that are written of units."""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from watchtide.core.series import Floats, Strings
from watchtide.tables import clock, read, results
from watchtide.tables.problems import TableError


@dataclass(frozen=True)
class Waves:
    """Units of a table in the order of the file. names : (n,); values : (n, length), NaN where missing; classes : (n,) as they
    stand in the file, empty where there are none; times : (n,) written in UTC, empty where there are none."""

    names: tuple[str, ...]
    values: Floats
    classes: tuple[str, ...]
    times: tuple[str, ...]


@dataclass(frozen=True)
class Places:
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


def waves_of(raw: read.Raw, places: Places, zone: str) -> Waves:
    """The units of a table. Raises TableError for columns that are not there, cells that are no numbers, and units of unlike length."""
    for column in (places.name, places.of_class, places.time, places.by, places.at, places.value):
        if column:
            _column(raw, column)
    return _by_rows(raw, places, zone) if places.first else _by_name(raw, places, zone)


def _column(raw: read.Raw, name: str) -> pa.Array:
    if name not in raw.columns:
        some = ", ".join(list(raw.columns)[:8])
        raise TableError(raw.name, f"column {name}", "is not there", f"it has {some} …")
    return raw.columns[name]


def _by_rows(raw: read.Raw, places: Places, zone: str) -> Waves:
    _column(raw, places.first), _column(raw, places.last)
    columns, span = list(raw.columns), f"columns {places.first}..{places.last}"
    a, b = columns.index(places.first), columns.index(places.last)
    if b < a:
        raise TableError(raw.name, span, "end before they begin", "name the first one first")
    beside = {places.name, places.of_class, places.time}
    own = [c for c in columns[a : b + 1] if c not in beside]
    if len(own) < 2:
        raise TableError(raw.name, span, "hold one sample", "name more of them")
    values = np.column_stack([_numbers(raw, c) for c in own]) if raw.rows else np.zeros((0, len(own)))
    names = _texts(raw, places.name) if places.name else tuple(str(i + 1) for i in range(raw.rows))
    return Waves(names, values, _texts(raw, places.of_class), _stamps(raw, places.time, zone))


def _by_name(raw: read.Raw, places: Places, zone: str) -> Waves:
    names = np.array(_texts(raw, places.by))
    place, values = _numbers(raw, places.at), _numbers(raw, places.value)
    if np.isnan(place).any():
        row = int(np.flatnonzero(np.isnan(place))[0])
        raise TableError(
            raw.name,
            f"line {raw.line(row)}, column {places.at}",
            "is empty: a sample needs its place",
            "fill the cell",
        )
    kinds, first, number, counts = np.unique(
        names, return_index=True, return_inverse=True, return_counts=True
    )
    if len(kinds) and counts.min() != counts.max():
        usual = int(np.bincount(counts).argmax())
        odd = int(np.flatnonzero(counts != usual)[0])
        where = f"unit {kinds[odd]} (from line {raw.line(int(first[odd]))})"
        message = f"has {counts[odd]} samples, others have {usual}"
        raise TableError(raw.name, where, message, "cut or resample the units to one length")
    order = np.lexsort((place, number))
    length = int(counts[0]) if len(kinds) else 0
    rows = values[order].reshape(len(kinds), length)
    # In the order of the file: what comes first trains.
    turn = np.argsort(first, kind="stable")
    lead = first[turn]
    classes, times = _texts(raw, places.of_class), _stamps(raw, places.time, zone)
    return Waves(
        tuple(kinds[turn].tolist()),
        rows[turn],
        tuple(classes[i] for i in lead),
        tuple(times[i] for i in lead),
    )


def _numbers(raw: read.Raw, column: str) -> Floats:
    _column(raw, column)
    return np.asarray(results.floats_of(raw, column), np.float64)


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


@dataclass(frozen=True)
class Judged:
    """What the points of a scan of waveforms say of each unit; (n,) each."""

    classes: tuple[str, ...]
    parts: Strings
    scores: Floats


def points_table(waves: Waves, parts: Strings, scores: Floats, flags: Sequence[bool]) -> pa.Table:
    """What is written of each unit, in the order of the file."""
    n = len(waves.names)
    columns: dict[str, Any] = {
        "series": pa.array([""] * n, pa.string()),
        "unit": pa.array(waves.names, pa.string()),
        "time": pa.array([t or None for t in waves.times], pa.string()),
        "class": pa.array([c or None for c in waves.classes], pa.string()),
        "split": pa.array([p or None for p in parts.tolist()], pa.string()),
        "score": pa.array(scores, from_pandas=True),
        "flag": pa.array(["odd" if f else None for f in flags], pa.string()),
    }
    return pa.table(columns)


def read_points(source: str) -> Judged:
    """Units from points that a scan of waveforms wrote. Raises TableError where they are none."""
    raw = read.read(source, source)
    for column in ("class", "split", "score"):
        if column not in raw.columns:
            remedy = "give the points that scan --wave wrote, or choose --by events"
            raise TableError(source, f"column {column}", "is not there", remedy)
    return Judged(_texts(raw, "class"), np.array(_texts(raw, "split"), dtype="U10"), _numbers(raw, "score"))
