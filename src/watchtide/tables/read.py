"""Whole files to columns, for those small enough to be held: all chunks in one piece."""

from dataclasses import dataclass, field

import numpy as np
import pyarrow as pa

from watchtide.core.series import Ints
from watchtide.tables import chunks, remote, shape
from watchtide.tables.problems import BrokenRow, TableError
from watchtide.tables.shape import Source


@dataclass(frozen=True)
class Raw:
    """A table as it stands in the file.

    columns : by name, in file order; text for delimited files, typed for the others.
    lines : (rows,) line of each row in the file, the header being line 1; row number for Parquet.
    broken : rows whose shape is wrong.
    """

    name: str
    shape: shape.Shape
    columns: dict[str, pa.Array]
    rows: int
    lines: Ints
    size: int = 0
    broken: tuple[BrokenRow, ...] = field(default=())

    @property
    def kind(self) -> str:
        return self.shape.kind

    def line(self, row: int) -> int:
        return int(self.lines[row])

    def chunk(self) -> chunks.Chunk:
        return chunks.Chunk(self.columns, self.rows, self.lines, self.broken)


def read(source: Source, name: str | None = None, *, encoding: str | None = None, **stated: object) -> Raw:
    """Read a whole file. Raises TableError for what cannot be read, with line, column and remedy."""
    if remote.is_address(source):
        source, name = remote.fetched(source), name or remote.name_of(source)
    name = shape.name_of(source, name)
    how = shape.sniff(source, name, encoding=encoding, **stated)
    parts = list(chunks.read_chunks(source, how, name))
    return Raw(
        name,
        how,
        _joined(parts),
        sum(p.rows for p in parts),
        np.concatenate([p.lines for p in parts]) if parts else np.empty(0, np.int64),
        chunks.size_of(source),
        tuple(b for p in parts for b in p.broken),
    )


def _joined(parts: list[chunks.Chunk]) -> dict[str, pa.Array]:
    """Columns of all chunks; where their types differ they meet as numbers or as text."""
    names = dict.fromkeys(name for p in parts for name in p.columns)
    out = {}
    for name in names:
        pieces = [p.columns.get(name, pa.nulls(p.rows)) for p in parts if p.rows or len(parts) == 1]
        kinds = {p.type for p in pieces if not pa.types.is_null(p.type)}
        if len(kinds) > 1:
            kind = pa.float64() if kinds <= {pa.int64(), pa.float64()} else pa.string()
            pieces = [p.cast(kind, safe=False) for p in pieces]
        elif kinds:
            pieces = [p.cast(next(iter(kinds))) if pa.types.is_null(p.type) else p for p in pieces]
        out[name] = pa.concat_arrays(pieces) if pieces else pa.array([], pa.string())
    if len(out) > shape.MOST_COLUMNS:
        raise TableError(
            "input", "", f"{len(out):,} columns, at most {shape.MOST_COLUMNS:,} are taken", "leave some out"
        )
    return out
