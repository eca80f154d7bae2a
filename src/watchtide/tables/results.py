"""Points and findings in and out; files are written whole or not at all."""

import csv
import io
import json
import math
import os
import sys
import tempfile
from collections.abc import Iterable, Mapping, Sequence
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.csv as pacsv
import pyarrow.parquet as papq

from watchtide.core.scoring.curve import Scored
from watchtide.core.scoring.rows import Finding, Points
from watchtide.tables import clock, read, remote
from watchtide.tables.problems import TableError
from watchtide.tables.safe import key_as_written, safe_key

FINDING_COLUMNS = (
    "series", "start", "end", "kind", "direction", "score", "peak_time", "peak_value", "expected", "points", "window",
    "size", "confidence", "raised",
)  # fmt: skip
OrderedLine = tuple[tuple[int, str, str], str]
POINT_COLUMNS = (
    "series", "time", "value", "expected", "spread", "lower", "upper", "residual", "score", "window", "flag",
    "in_finding",
)  # fmt: skip


def write_whole(path: str, data: bytes | str) -> None:
    """Write a file whole or not at all; `-` is standard output."""
    payload = data.encode() if isinstance(data, str) else data
    if path == "-":
        sys.stdout.buffer.write(payload)
        sys.stdout.buffer.flush()
        return
    if remote.is_address(path):
        remote.write(path, payload)
        return
    target = Path(path)
    if not target.parent.is_dir():
        raise TableError(path, "", "its folder is not there", "make the folder first")
    handle, temporary = tempfile.mkstemp(dir=target.parent, prefix=f".{target.name}.")
    try:
        with os.fdopen(handle, "wb") as file:
            file.write(payload)
        os.chmod(temporary, 0o644)
        os.replace(temporary, target)
    except BaseException:
        os.unlink(temporary)
        raise


def findings_text(findings: Sequence[Finding], path: str = "findings.csv") -> str:
    """Findings as CSV, or JSON Lines where the path ends so."""
    return _head(path) + "".join(_lines(findings, path))


def ordered_text(lines: Iterable[OrderedLine], path: str) -> str:
    """A file of findings in order of time, of lines that `finding_lines` made for it."""
    return _head(path) + "".join(text for _, text in sorted(lines, key=lambda line: line[0]))


def finding_lines(findings: Sequence[Finding], path: str) -> list[OrderedLine]:
    """Each finding as a line of a file of this name, behind what orders it there: start, stream and kind."""
    orders = ((f.start, f.series, f.kind) for f in findings)
    return list(zip(orders, _lines(findings, path), strict=True))


def _head(path: str) -> str:
    return "" if path.endswith(".jsonl") else ",".join(FINDING_COLUMNS) + "\n"


def _lines(findings: Sequence[Finding], path: str) -> list[str]:
    """Each finding as a line of a file of this name, its end included."""
    rows = _finding_rows(findings)
    if path.endswith(".jsonl"):
        named = (dict(zip(FINDING_COLUMNS, row, strict=True)) for row in rows)
        return [
            json.dumps({k: v for k, v in row.items() if v != ""}, ensure_ascii=False) + "\n" for row in named
        ]
    # Text may need quotes and takes few values; the rest never does, and is joined faster than a writer of any cell does it.
    quoted = {text: _quoted(text) for text in {x for f in findings for x in (f.kind, f.direction)}}
    quoted |= {key: _quoted(safe_key(key)) for key in {f.series for f in findings}}
    return [
        f"{quoted[series]},{start},{end},{quoted[kind]},{quoted[direction]},{','.join(map(str, cells))}\n"
        for series, start, end, kind, direction, *cells in rows
    ]


def _quoted(text: str) -> str:
    """One cell of a CSV file, in quotes where it needs them."""
    out = io.StringIO()
    csv.writer(out, lineterminator="").writerow((text, ""))
    return out.getvalue()[:-1]


def _finding_rows(findings: Sequence[Finding]) -> list[tuple[Any, ...]]:
    """Cells of each finding, in the order of FINDING_COLUMNS."""

    def number(value: float) -> Any:
        return float(value) if value == value else ""

    # All stamps at once: one by one they would take longer than all the rest.
    stamps = {t for f in findings for t in (f.start, f.end, f.peak_time, f.raised) if t is not None}
    text: dict[int | None, str] = {None: "", **clock.texts_of(stamps)}
    return [
        (
            f.series,
            text[f.start],
            text[f.end],
            f.kind,
            f.direction,
            number(f.score),
            text[f.peak_time],
            number(f.peak_value),
            number(f.expected),
            f.points,
            f.window,
            number(f.size),
            number(f.confidence),
            text[f.raised],
        )
        for f in findings
    ]


def read_findings(source: str | Path | bytes, name: str | None = None) -> list[Finding]:
    """Findings of a CSV or JSON Lines file; unknown columns are ignored."""
    raw = _read_or_empty(source, name, FINDING_COLUMNS)
    if raw is None:
        return []
    for needed in ("start",):
        if needed not in raw.columns:
            raise TableError(raw.name, "line 1", f"no column {needed}", "add one, as docs/formats.md has it")
    columns = {
        name: [_text(v) for v in raw.columns[name].to_pylist()]
        for name in FINDING_COLUMNS
        if name in raw.columns
    }

    def cell(column: str, i: int) -> str:
        return columns[column][i] if column in columns else ""

    def moment(column: str, i: int) -> int | None:
        text = cell(column, i)
        if not text:
            return None
        try:
            return clock.parse_one(text)
        except clock.ClockError as error:
            message, _, remedy = str(error).partition("; ")
            raise TableError(raw.name, f"line {raw.line(i)}, column {column}", message, remedy) from error

    def number(column: str, i: int) -> float:
        text = cell(column, i)
        try:
            return float(text) if text else float("nan")
        except ValueError as error:
            raise TableError(
                raw.name, f"line {raw.line(i)}, column {column}", f"{text!r} is no number", "correct the cell"
            ) from error

    out = []
    for i in range(raw.rows):
        start = moment("start", i)
        if start is None:
            raise TableError(
                raw.name, f"line {raw.line(i)}, column start", "is empty", "every finding needs a start"
            )
        end = moment("end", i)
        points, window = number("points", i), number("window", i)
        out.append(
            Finding(
                key_as_written(cell("series", i)), start, start if end is None else end, cell("kind", i) or "outlier",
                cell("direction", i), number("score", i), moment("peak_time", i), number("peak_value", i),
                number("expected", i), 1 if math.isnan(points) else int(points), 1 if math.isnan(window) else int(window),
                number("size", i), number("confidence", i), moment("raised", i),
            )
        )  # fmt: skip
    return out


def _text(value: Any) -> str:
    if value is None:
        return ""
    return value if isinstance(value, str) else str(value)


def _read_or_empty(source: str | Path | bytes, name: str | None, columns: Sequence[str]) -> read.Raw | None:
    """A table, or None for a file that has our header and no rows: nothing was found."""
    try:
        return read.read(source, name)
    except TableError as error:
        if error.message == "a header but no rows":
            return None
        raise


def points_table(rows: Mapping[str, Mapping[str, Any]]) -> pa.Table:
    """The points of all streams as one table; NaN becomes a missing cell."""
    parts = []
    for key, columns in rows.items():
        n = len(columns["time"])
        arrays = [pa.array([key] * n, pa.string()).dictionary_encode().cast(pa.string())]
        for name in POINT_COLUMNS[1:]:
            values = columns[name]
            if name == "time":
                arrays.append(pa.array(clock.format_times(values), pa.string()))
            elif name == "flag":
                arrays.append(pa.array(values, pa.string()))
            elif name in ("in_finding",):
                arrays.append(pa.array(np.where(values, "true", "false"), pa.string()))
            elif name == "window":
                arrays.append(pa.array(values, pa.int64()))
            else:
                arrays.append(pa.array(values, pa.float64(), from_pandas=True))
        parts.append(pa.table(arrays, names=list(POINT_COLUMNS)))
    schema_only = pa.table({c: pa.array([], pa.string()) for c in POINT_COLUMNS})
    return pa.concat_tables(parts) if parts else schema_only


def table_bytes(table: pa.Table, path: str) -> bytes:
    """A table as CSV, or Parquet where the path ends so."""
    sink = pa.BufferOutputStream()
    if path.endswith(".parquet"):
        papq.write_table(table, sink, compression="zstd")
    else:
        if "series" in table.column_names:
            keys = table["series"].cast(pa.string()).combine_chunks().dictionary_encode()
            safe = pa.array([safe_key(key) for key in keys.dictionary.to_pylist()], pa.string())
            at = table.column_names.index("series")
            table = table.set_column(
                at, "series", pa.DictionaryArray.from_arrays(keys.indices, safe).cast(pa.string())
            )
        pacsv.write_csv(table, sink, pacsv.WriteOptions(quoting_style="needed", quoting_header="none"))
    return bytes(sink.getvalue())


def read_scored(source: str | Path | bytes, name: str | None = None) -> list[Scored]:
    """Signed scores by series, from a points file: the side is the flag's, else the residual's.

    What was flagged without a side, and what a window says, keeps its score whatever the residual is.
    """
    raw = _read_or_empty(source, name, POINT_COLUMNS)
    if raw is None:
        return []
    parsed, score, groups = _point_rows(raw)
    signs = np.ones(raw.rows)
    if "residual" in raw.columns:
        signs = np.where(floats_of(raw, "residual") < 0, -1.0, 1.0)
    odd = np.zeros(raw.rows, np.bool_)
    if "flag" in raw.columns:
        flags = np.array([_text(v) for v in raw.columns["flag"].to_pylist()])
        signs = np.where(flags == "above", 1.0, np.where(flags == "below", -1.0, signs))
        odd = flags == "odd"
    return [
        Scored(key, parsed[rows], (score * np.where(odd, 1.0, signs))[rows], odd[rows])
        for key, rows in groups
    ]


def _point_rows(raw: read.Raw) -> tuple[Any, Any, list[tuple[str, Any]]]:
    """Stamps, scores, and the rows of each series in time order, of a points file."""
    for needed in ("time", "score"):
        if needed not in raw.columns:
            raise TableError(
                raw.name, "line 1", f"no column {needed}", "give a points file as scan writes it"
            )
    parsed = clock.parse(raw.columns["time"])
    if parsed.bad.any():
        row = int(np.flatnonzero(parsed.bad)[0])
        raise TableError(
            raw.name, f"line {raw.line(row)}, column time", "is no time", "write 2026-08-22T09:15:00Z"
        )
    series = np.array(
        [_text(v) for v in raw.columns["series"].to_pylist()] if "series" in raw.columns else [""] * raw.rows
    )
    names, codes = np.unique(series, return_inverse=True)
    groups = []
    for code, key in enumerate(names.tolist()):
        rows = np.flatnonzero(codes == code)
        groups.append((key_as_written(key), rows[np.argsort(parsed.times[rows], kind="stable")]))
    return parsed.times, floats_of(raw, "score"), groups


def read_points(source: str | Path | bytes, name: str | None = None) -> dict[str, Points]:
    """Judged samples by series, from a points file; flagged is in_finding, else flag."""
    raw = _read_or_empty(source, name, POINT_COLUMNS)
    if raw is None:
        return {}
    times, score, groups = _point_rows(raw)
    if "in_finding" in raw.columns:
        flagged = np.array(
            [_text(v).lower() in ("true", "1", "yes") for v in raw.columns["in_finding"].to_pylist()]
        )
    elif "flag" in raw.columns:
        flagged = np.array([_text(v) != "" for v in raw.columns["flag"].to_pylist()])
    else:
        flagged = np.zeros(raw.rows, np.bool_)
    return {key: Points(times[rows], score[rows], flagged[rows]) for key, rows in groups}


def floats_of(raw: read.Raw, column: str) -> Any:
    """(rows,) numbers of a column, NaN where empty. Raises TableError with the line of a cell that is none."""
    from watchtide.tables.extract import numbers_of

    values, wrong, _ = numbers_of(raw.columns[column], ())
    if wrong.any():
        row = int(np.flatnonzero(wrong)[0])
        raise TableError(
            raw.name, f"line {raw.line(row)}, column {column}", "is no number", "correct the cell"
        )
    return values
