"""Tables in and out: whatever offers Arrow's C stream is read, and results are Arrow tables that other libraries take as they are."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.csv as pacsv
import pyarrow.parquet as papq

from watchtide.core.scoring.rows import Finding
from watchtide.door.errors import InputError
from watchtide.tables import remote
from watchtide.tables.results import FINDING_COLUMNS, POINT_COLUMNS
from watchtide.tables.shape import Source

MOMENT = pa.timestamp("ns", "UTC")
# Rows of a table that are shown as HTML.
MOST_SHOWN = 20


@dataclass(frozen=True)
class Table:
    """An Arrow table that pandas, Polars, DuckDB and others read without a copy; none of them is needed."""

    arrow: pa.Table

    def __len__(self) -> int:
        return int(self.arrow.num_rows)

    def __arrow_c_stream__(self, requested_schema: object | None = None) -> object:
        return self.arrow.__arrow_c_stream__(requested_schema)

    @property
    def columns(self) -> list[str]:
        return list(self.arrow.column_names)

    def to_pandas(self) -> Any:
        """As a pandas DataFrame. Raises ImportError where pandas is not installed."""
        return self.arrow.to_pandas()

    def to_polars(self) -> Any:
        """As a Polars DataFrame. Raises ImportError where Polars is not installed."""
        import polars

        return polars.from_arrow(self.arrow)

    def to_pylist(self) -> list[dict[str, Any]]:
        """Rows as dictionaries."""
        return list(self.arrow.to_pylist())

    def _repr_html_(self) -> str:
        from html import escape

        head = "".join(f"<th>{escape(name)}</th>" for name in self.columns)
        rows = "".join(
            "<tr>" + "".join(f"<td>{escape(_shown(value))}</td>" for value in row.values()) + "</tr>"
            for row in self.arrow.slice(0, MOST_SHOWN).to_pylist()
        )
        more = len(self) - MOST_SHOWN
        note = f"<p>and {more:,} more rows</p>" if more > 0 else ""
        return f"<table><thead><tr>{head}</tr></thead><tbody>{rows}</tbody></table>{note}"


def _shown(value: Any) -> str:
    if value is None:
        return ""
    return f"{value:.6g}" if isinstance(value, float) else str(value)


def source_of(table: Any, place: str = "table") -> tuple[Source, str]:
    """What is read, and its name in messages: a path, or the bytes of a table in memory. Raises InputError."""
    if isinstance(table, str) and remote.is_address(table):
        return remote.read(table), remote.name_of(table)
    if isinstance(table, str | Path):
        if not Path(table).is_file():
            raise InputError(place, f"there is no file {table}", "check the path")
        return table, str(table)
    if isinstance(table, bytes):
        return table, place
    if not (hasattr(table, "__arrow_c_stream__") or isinstance(table, Mapping | pa.Table)):
        raise InputError(
            place,
            f"{type(table).__name__} is no table",
            "give a path, a DataFrame of pandas or Polars, an Arrow table, or a dictionary of columns",
        )
    try:
        arrow = pa.table(table)
        sink = pa.BufferOutputStream()
        # As a file would hold it, so that a table means the same wherever it comes from.
        papq.write_table(_without_index(arrow), sink, compression="none")
    except (pa.ArrowException, TypeError, ValueError) as error:
        raise InputError(
            place, f"cannot be read as a table ({error})", "give columns of one type each"
        ) from error
    return bytes(sink.getvalue()), place


def text_of(table: Any, place: str) -> tuple[str | Path | bytes, str]:
    """A path as it is, or a table in memory as the bytes of a CSV file, with the name it then has. Raises InputError."""
    if isinstance(table, str | Path | bytes):
        return source_of(table, place)
    data, _ = source_of(table, place)
    assert isinstance(data, bytes)
    sink = pa.BufferOutputStream()
    pacsv.write_csv(papq.read_table(pa.BufferReader(data)), sink)
    return bytes(sink.getvalue()), f"{place}.csv"


def _without_index(table: pa.Table) -> pa.Table:
    """A table without the counted index that pandas adds to one whose rows were chosen."""
    kept = [name for name in table.column_names if not name.startswith("__index_level_")]
    return table.select(kept).replace_schema_metadata(None)


def findings_table(findings: Sequence[Finding]) -> Table:
    """Findings by start, series and kind, in the columns of the findings file; times as stamps, and null where a figure is missing."""
    rows = sorted(findings, key=lambda f: (f.start, f.series, f.kind))
    fields: dict[str, pa.DataType] = dict.fromkeys(FINDING_COLUMNS, pa.float64())
    fields |= dict.fromkeys(("series", "kind", "direction"), pa.string())
    fields |= dict.fromkeys(("start", "end", "peak_time", "raised"), MOMENT)
    fields |= dict.fromkeys(("points", "window"), pa.int64())
    columns = {
        name: pa.array([getattr(f, name) for f in rows], kind, from_pandas=pa.types.is_floating(kind) or None)
        for name, kind in fields.items()
    }
    return Table(pa.table(columns))


def points_table(streams: Mapping[str, Mapping[str, Any]]) -> Table:
    """Points of all streams in the columns of the points file; times as stamps, and null where a figure is missing."""
    parts = []
    nothing: dict[str, Any] = {name: np.empty(0) for name in POINT_COLUMNS} | {"flag": np.empty(0, str)}
    for key, columns in (streams or {"": nothing}).items():
        arrays = {"series": pa.array([key] * len(columns["time"]), pa.string())}
        for name in POINT_COLUMNS[1:]:
            values = np.asarray(columns[name])
            if name == "time":
                arrays[name] = pa.array(values.astype(np.int64), MOMENT)
            elif name == "flag":
                arrays[name] = pa.array(values, pa.string())
            elif name == "in_finding":
                arrays[name] = pa.array(values.astype(np.bool_))
            elif name == "window":
                arrays[name] = pa.array(values.astype(np.int64))
            else:
                arrays[name] = pa.array(values, pa.float64(), from_pandas=True)
        parts.append(pa.table(arrays))
    return Table(pa.concat_tables(parts))
