"""Files row by row in bounded memory: chunks of columns, with the line of every row and what is broken."""

import codecs
import json
import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.csv as pacsv
import pyarrow.json as pajson
import pyarrow.parquet as papq

from watchtide.core.series import Ints
from watchtide.tables.problems import BrokenRow, TableError
from watchtide.tables.shape import (
    MOST_COLUMNS,
    Shape,
    Source,
    name_of,
    open_bytes,
    place_of,
    sniff,
    text_stream,
)

CHUNK_BYTES = 1 << 24
CHUNK_ROWS = 500_000
# A row group is read whole; one larger than this is made to fill the memory.
MOST_GROUP_BYTES = 2 << 30
MOST_DEPTH = 40


@dataclass(frozen=True)
class Chunk:
    """Some rows of a file in their order.

    columns : by name; text for delimited files and logs, typed for the others.
    lines : (rows,) line of each row in the file, the header being line 1; row number for Parquet.
    broken : rows between these whose shape is wrong.
    """

    columns: dict[str, pa.Array]
    rows: int
    lines: Ints
    broken: tuple[BrokenRow, ...] = ()


def read_chunks(
    source: Source, shape: Shape, name: str | None = None, *, columns: Sequence[str] | None = None, chunk_bytes: int = CHUNK_BYTES
) -> Iterator[Chunk]:  # fmt: skip
    """The rows of a file, chunk by chunk; `columns` leaves the others unread where the kind allows.

    Memory is that of a few chunks, whatever the size of the file. Raises TableError for what cannot be
    read on, with line and remedy; the chunks before it have been given by then.
    """
    name = name_of(source, name)
    match shape.kind:
        case "parquet":
            return _parquet(source, name, shape, columns)
        case "jsonl":
            return _jsonl(source, name, shape, chunk_bytes)
        case "log":
            return _log(source, name, shape, chunk_bytes)
        case _:
            return _delimited(source, name, shape, columns, chunk_bytes)


def _delimited(
    source: Source, name: str, shape: Shape, columns: Sequence[str] | None, chunk_bytes: int
) -> Iterator[Chunk]:
    broken: list[BrokenRow] = []

    def set_aside(row: pacsv.InvalidRow) -> str:
        short = "cut off" if row.actual_columns < row.expected_columns else "too many columns"
        problem = f"{row.actual_columns} columns where the header has {row.expected_columns}: {short}"
        broken.append(BrokenRow(row.number or 0, "", problem, row.text[:2000]))
        return "skip"

    first = 2 if shape.has_header else 1
    keep = [c for c in shape.names if columns is None or c in columns]
    given = 0
    try:
        reader = pacsv.open_csv(
            text_stream(source, name, shape),
            # One thread: only then are the numbers of the rows set aside known.
            read_options=pacsv.ReadOptions(
                use_threads=False,
                block_size=chunk_bytes,
                column_names=list(shape.names),
                skip_rows_after_names=1 if shape.has_header else 0,
            ),
            parse_options=pacsv.ParseOptions(
                delimiter=shape.delimiter,
                quote_char=shape.quote,
                newlines_in_values=True,
                invalid_row_handler=set_aside,
            ),
            convert_options=pacsv.ConvertOptions(
                column_types={c: pa.string() for c in shape.names},
                include_columns=keep,
                strings_can_be_null=False,
            ),
        )
        line = first
        for batch in reader:
            given += batch.num_rows
            lines, line, gone = _lines(line, batch.num_rows, broken)
            yield Chunk(_named(batch), batch.num_rows, lines, gone)
    except pa.ArrowInvalid as error:
        raise _csv_error(source, name, shape, str(error)) from error
    if broken:
        yield Chunk({c: pa.array([], pa.string()) for c in keep}, 0, np.empty(0, np.int64), tuple(broken))
    elif given == 0:
        raise TableError(name, f"line {first}", "a header but no rows", "add rows, or choose another file")


def _named(batch: pa.RecordBatch) -> dict[str, pa.Array]:
    return {n: batch.column(i) for i, n in enumerate(batch.schema.names)}


def _lines(line: int, rows: int, broken: list[BrokenRow]) -> tuple[Ints, int, tuple[BrokenRow, ...]]:
    """Lines of the next rows, counting past the broken ones, which are taken out of the list."""
    numbers = np.array([b.line for b in broken], np.int64)
    end = line + rows
    inside = 0
    while (count := int(np.sum(numbers < end))) > inside:
        end += count - inside
        inside = count
    # A broken row right behind the chunk waits for the next.
    lines = np.setdiff1d(np.arange(line, end), numbers[:inside], assume_unique=True)
    gone = tuple(broken[:inside])
    del broken[:inside]
    return lines, end, gone


def _csv_error(source: Source, name: str, shape: Shape, text: str) -> TableError:
    if "UTF8" in text or "UTF-8" in text:
        place, shown = _bad_byte(source, name, shape)
        return TableError(
            name, place, f"not UTF-8 text (near {shown!r})", "if it is Windows text, choose encoding cp1252"
        )
    if "straddling" in text or "truncated" in text.lower():
        return TableError(
            name, "the rows", f"a row is longer than {CHUNK_BYTES >> 20} MB", "look for an unclosed quote"
        )
    if "Empty CSV" in text:
        return TableError(name, "line 2", "a header but no rows", "add rows, or choose another file")
    found = re.search(r"[Rr]ow #?(\d+)", text)
    return TableError(
        name, f"line {found[1]}" if found else "the rows",
        f"cannot be read as delimited text ({text.split(':')[-1].strip()[:120]})", "look for an unclosed quote",
    )  # fmt: skip


def _bad_byte(source: Source, name: str, shape: Shape) -> tuple[str, str]:
    """Where the first byte stands that is not UTF-8, found by reading the file once more."""
    header, line = b"", 0
    with open_bytes(source, name, is_gzipped=shape.is_gzipped) as file:
        for row in file:
            line += 1
            header = header or row
            try:
                codecs.decode(row, "utf-8")
            except UnicodeDecodeError as error:
                inside = place_of(header + row, len(header) + error.start)
                shown = row[max(0, error.start - 12) : error.start + 12].decode("cp1252", "replace")
                return re.sub(r"^line \d+", f"line {line}", inside), shown
    return "the rows", ""


def _blocks(source: Source, name: str, shape: Shape, size: int) -> Iterator[list[bytes]]:
    """Whole lines of text, some megabytes at a time."""
    stream, rest = text_stream(source, name, shape), b""
    held: list[bytes] = []
    while data := stream.read(size):
        if len(rest) + len(data) > 4 * CHUNK_BYTES and b"\n" not in data:
            raise TableError(
                name, "the lines", f"a line is longer than {CHUNK_BYTES >> 20} MB", "write one object a line"
            )
        head, cut, rest = (rest + data).rpartition(b"\n")
        if cut:
            if held:
                yield held
            held = head.split(b"\n")
    # A last line without its end belongs to those before it.
    if held or rest:
        yield [*held, rest] if rest else held


def _jsonl(source: Source, name: str, shape: Shape, chunk_bytes: int) -> Iterator[Chunk]:
    line, given = 1, 0
    for block in _blocks(source, name, shape, chunk_bytes):
        lines = np.arange(line, line + len(block))
        line += len(block)
        filled = np.array([bool(row.strip()) for row in block])
        rows = [row for row, is_filled in zip(block, filled, strict=True) if is_filled]
        if not rows:
            continue
        chunk = _fast_json(rows, lines[filled]) or _slow_json(rows, lines[filled])
        if len(chunk.columns) > MOST_COLUMNS:
            raise TableError(
                name, f"line {lines[0]}", f"{len(chunk.columns):,} fields, at most {MOST_COLUMNS:,} are taken", "leave some out"
            )  # fmt: skip
        given += chunk.rows
        if given == 0 and len(chunk.broken) >= min(len(rows), 100):
            first = chunk.broken[0]
            raise TableError(name, f"line {first.line}", first.problem, "write one flat object a line")
        yield chunk
    if line == 1:
        raise TableError(name, "line 1", "the text is empty", "send at least one line")


def _fast_json(rows: list[bytes], lines: Ints) -> Chunk | None:
    """Arrow's own reader, where every line is a flat object of steady types; else None."""
    if any(b"{" in row[1:] or b"[" in row for row in rows[:50]) or max(map(len, rows)) > 1 << 16:
        return None
    fields = _plain_types(rows[:200])
    if fields is None:
        return None
    try:
        table = pajson.read_json(
            pa.BufferReader(b"\n".join(rows) + b"\n"),
            read_options=pajson.ReadOptions(use_threads=False, block_size=4 * CHUNK_BYTES),
            # Stated types: the reader would turn text into times by its own rules otherwise.
            parse_options=pajson.ParseOptions(
                explicit_schema=pa.schema(fields), unexpected_field_behavior="error"
            ),
        )
    except pa.ArrowInvalid:
        return None
    if table.num_rows != len(rows):
        return None
    columns = {c: table.column(c).combine_chunks() for c in table.column_names}
    return Chunk(columns, table.num_rows, lines)


def _plain_types(rows: list[bytes]) -> list[tuple[str, pa.DataType]] | None:
    types: dict[str, pa.DataType] = {}
    order = {bool: pa.bool_(), int: pa.int64(), float: pa.float64(), str: pa.string()}
    for row in rows:
        try:
            data = json.loads(row)
        except (ValueError, RecursionError):
            return None
        if not isinstance(data, dict):
            return None
        for key, value in data.items():
            if value is None:
                continue
            kind = order.get(type(value))
            if kind is None:
                return None
            known = types.get(key, kind)
            if known != kind:
                if {known, kind} != {pa.int64(), pa.float64()}:
                    return None
                kind = pa.float64()
            types[key] = kind
    return list(types.items())


def _slow_json(rows: list[bytes], lines: Ints) -> Chunk:
    """Line by line: a broken line is set aside, nested fields get names with dots."""
    objects, at, broken = [], [], []
    for row, line in zip(rows, lines.tolist(), strict=True):
        try:
            data = json.loads(row, parse_constant=_constant)
            if not isinstance(data, dict):
                raise ValueError(f"a {type(data).__name__} where an object is expected")
            objects.append(_flat(data))
            at.append(line)
        except RecursionError:
            broken.append(_broken_json(line, "nested too deeply", row))
        except ValueError as error:
            broken.append(_broken_json(line, str(error), row))
    names = dict.fromkeys(name for o in objects[:50_000] for name in o)
    columns = {name: _column([o.get(name) for o in objects]) for name in list(names)[: MOST_COLUMNS + 1]}
    return Chunk(columns, len(objects), np.array(at, np.int64), tuple(broken))


def _constant(text: str) -> float:
    return float(text.replace("Infinity", "inf"))


def _broken_json(line: int, why: str, row: bytes) -> BrokenRow:
    return BrokenRow(line, "", f"no JSON object a line ({why[:120]})", row[:2000].decode(errors="replace"))


def _flat(data: dict[str, Any], before: str = "", depth: int = 0) -> dict[str, Any]:
    if depth > MOST_DEPTH:
        raise ValueError(f"nested deeper than {MOST_DEPTH} levels")
    out: dict[str, Any] = {}
    for key, value in data.items():
        if isinstance(value, dict):
            out |= _flat(value, f"{before}{key}.", depth + 1)
        else:
            out[before + key] = json.dumps(value, ensure_ascii=False) if isinstance(value, list) else value
    return out


def _column(values: list[Any]) -> pa.Array:
    kinds = {type(v) for v in values if v is not None}
    if kinds <= {int, float} and kinds and float in kinds:
        return pa.array([None if v is None else float(v) for v in values], pa.float64())
    if len(kinds) == 1 and next(iter(kinds)) in (bool, int, str):
        try:
            return pa.array(values)
        except (pa.ArrowInvalid, OverflowError, UnicodeEncodeError):
            pass
    return pa.array([None if v is None else _text(v) for v in values], pa.string())


def _text(value: Any) -> str:
    text = value if isinstance(value, str) else json.dumps(value)
    return text.encode("utf-8", "replace").decode()


def _log(source: Source, name: str, shape: Shape, chunk_bytes: int) -> Iterator[Chunk]:
    """Lines of text by a pattern with named fields, on an engine whose time is linear in the text."""
    pattern = str(shape.pattern)
    fields = pattern_fields(pattern, name)
    line = 1
    for block in _blocks(source, name, shape, chunk_bytes):
        text = pa.array([row.rstrip(b"\r").decode(errors="replace") for row in block], pa.string())
        lines = np.arange(line, line + len(block))
        line += len(block)
        found = pc.extract_regex(text, pattern)
        hit = np.asarray(found.is_valid())
        blank = np.array([not row.strip() for row in block])
        broken = tuple(
            BrokenRow(int(lines[i]), "", "the line does not match the pattern", text[int(i)].as_py()[:2000])
            for i in np.flatnonzero(~hit & ~blank)
        )
        rows = found.filter(pa.array(hit))
        yield Chunk({f: rows.field(f) for f in fields}, len(rows), lines[hit], broken)
    if line == 1:
        raise TableError(name, "line 1", "the text is empty", "send at least one line")


def pattern_fields(pattern: str, name: str = "pattern") -> list[str]:
    """Names of a pattern's fields. Raises TableError for one that names none or cannot be read."""
    if len(pattern) > 2_000:
        raise TableError(name, "pattern", "longer than 2,000 characters", "write a shorter one")
    try:
        kind = pc.extract_regex(pa.array([""]), pattern).type
    except (pa.ArrowInvalid, pa.ArrowKeyError) as error:
        why = str(error).split(":")[-1].strip()[:120]
        raise TableError(
            name, "pattern", f"cannot be read ({why})", r"name each field, such as (?P<time>\S+)"
        ) from error
    names = [kind.field(i).name for i in range(kind.num_fields)]
    if not names or len(set(names)) < len(names):
        raise TableError(
            name, "pattern", "names no fields, or one of them twice", r"write (?P<time>\S+) for each field"
        )
    return names


def _parquet(source: Source, name: str, shape: Shape, columns: Sequence[str] | None) -> Iterator[Chunk]:
    try:
        if shape.is_gzipped:
            with open_bytes(source, name, is_gzipped=True) as packed:
                data: Any = pa.BufferReader(packed.read())
        else:
            data = pa.BufferReader(source) if isinstance(source, bytes) else pa.memory_map(str(source))
        file = papq.ParquetFile(data)
    except (pa.ArrowInvalid, OSError) as error:
        raise TableError(name, "", "no Parquet file, or cut off", "fetch the file again") from error
    facts = file.metadata
    if facts.num_rows == 0:
        raise TableError(name, "", "columns but no rows", "choose another file")
    names = file.schema_arrow.names
    if len(names) > MOST_COLUMNS:
        raise TableError(
            name, "", f"{len(names):,} columns, at most {MOST_COLUMNS:,} are taken", "leave some out"
        )
    if len(set(names)) < len(names):
        twice = next(n for i, n in enumerate(names) if n in names[:i])
        raise TableError(name, "columns", f"has {twice!r} twice", "rename one of them")
    largest = max(facts.row_group(i).total_byte_size for i in range(facts.num_row_groups))
    if largest > MOST_GROUP_BYTES:
        raise TableError(
            name, "", f"a row group of {largest >> 20:,} MB", "write row groups of at most 2,048 MB"
        )
    keep = None if columns is None else [c for c in names if c in columns]
    row = 1
    try:
        for batch in file.iter_batches(batch_size=CHUNK_ROWS, columns=keep, use_threads=False):
            if batch.num_rows:
                columns = {name: _simple(column) for name, column in _named(batch).items()}
                yield Chunk(columns, batch.num_rows, np.arange(row, row + batch.num_rows))
                row += batch.num_rows
    except (pa.ArrowInvalid, OSError) as error:
        raise TableError(name, f"row {row}", "damaged from here on", "fetch the file again") from error


def _simple(column: pa.Array) -> pa.Array:
    """A typed column as one of the types that are looked at further on: numbers, booleans, times, or text."""
    kind = column.type
    if pa.types.is_dictionary(kind):
        return _simple(column.dictionary_decode())
    if pa.types.is_decimal(kind) or pa.types.is_float16(kind):
        return column.cast(pa.float64())
    if pa.types.is_large_string(kind) or pa.types.is_string_view(kind) or pa.types.is_time(kind):
        return column.cast(pa.string())
    if pa.types.is_nested(kind) or pa.types.is_binary(kind) or pa.types.is_large_binary(kind):
        return pa.array([None if v is None else str(v)[:2000] for v in column.to_pylist()], pa.string())
    if pa.types.is_duration(kind):
        return column.cast(pa.int64())
    return column


def cell_text(column: pa.Array, row: int) -> str:
    """One cell as text, also a stamp that no calendar has."""
    try:
        value = column[row].as_py()
    except (OverflowError, ValueError):
        value = column.slice(row, 1).cast(pa.int64())[0].as_py()
    return "" if value is None else str(value)


def columns_of(source: Source, shape: Shape, name: str | None = None) -> list[str]:
    """Column names of a file, without reading its rows where the kind allows."""
    if shape.kind == "delimited":
        return list(shape.names)
    if shape.kind == "log":
        return pattern_fields(str(shape.pattern), name_of(source, name))
    for chunk in read_chunks(source, shape, name, chunk_bytes=1 << 20):
        return list(chunk.columns)
    return []


def with_pattern(source: Source, pattern: str, name: str | None = None) -> Shape:
    """The shape of a log read by a pattern."""
    pattern_fields(pattern)
    return replace(sniff(source, name, pattern=pattern), kind="log")


def size_of(source: Source) -> int:
    return len(source) if isinstance(source, bytes) else Path(source).stat().st_size
