"""Files to columns: delimited text, JSON Lines and Parquet, also gzipped."""

import gzip
import io
import re
import zlib
from dataclasses import dataclass, field
from pathlib import Path

import pyarrow as pa
import pyarrow.csv as pacsv
import pyarrow.json as pajson
import pyarrow.parquet as papq

from watchtide.tables.problems import BrokenRow, TableError

KINDS = {
    ".csv": "delimited",
    ".tsv": "delimited",
    ".txt": "delimited",
    ".jsonl": "jsonl",
    ".parquet": "parquet",
}
MOST_COLUMNS = 2_000
MOST_INFLATED = 4 * 1024**3


@dataclass(frozen=True)
class Raw:
    """A table as it stands in the file.

    columns : by name, in file order; text for delimited files, typed for the others.
    lines : (rows,) line of each row in the file, None for Parquet (row number + 1).
    broken : rows whose shape is wrong.
    """

    name: str
    kind: str
    columns: dict[str, pa.Array]
    rows: int
    encoding: str = "utf-8"
    delimiter: str = ","
    size: int = 0
    broken: tuple[BrokenRow, ...] = field(default=())

    def line(self, row: int) -> int:
        """Line of a row in the file, counting the header as line 1 and the set-aside rows too."""
        if self.kind == "parquet":
            return row + 1
        line = row + (2 if self.kind == "delimited" else 1)
        for b in self.broken:
            if b.line <= line:
                line += 1
        return line


def read(source: str | Path | bytes, name: str | None = None, *, encoding: str | None = None) -> Raw:
    """Read a whole file. Raises TableError for what cannot be read, with line, column and remedy."""
    if isinstance(source, bytes):
        data, name = source, name or "input"
    else:
        path = Path(source)
        name = name or path.name
        if not path.is_file():
            raise TableError(name, "", "there is no such file", "check the path")
        data = path.read_bytes()
    size = len(data)
    stem = name
    if name.endswith(".gz") or data[:2] == b"\x1f\x8b":
        data, stem = _inflate(data, name), name.removesuffix(".gz")
    kind = KINDS.get(Path(stem).suffix.lower(), "parquet" if data[:4] == b"PAR1" else "delimited")
    if not data.strip():
        raise TableError(name, "", "the file is empty", "choose a file with a header and rows")
    if kind == "parquet":
        return _read_parquet(data, name, size)
    text, used = _decode(data, name, encoding)
    if kind == "jsonl":
        return _read_jsonl(text, name, size, used)
    return _read_delimited(text, name, size, used)


def _inflate(data: bytes, name: str) -> bytes:
    out = io.BytesIO()
    try:
        with gzip.open(io.BytesIO(data)) as stream:
            while chunk := stream.read(1 << 20):
                out.write(chunk)
                if out.tell() > MOST_INFLATED:
                    raise TableError(name, "", "unpacks to more than 4 GiB", "split the file")
    except (EOFError, zlib.error, OSError) as error:
        raise TableError(name, "", "the gzip stream is cut off or damaged", "fetch the file again") from error
    return out.getvalue()


def _decode(data: bytes, name: str, encoding: str | None) -> tuple[bytes, str]:
    """UTF-8 bytes of the text and the encoding it was in."""
    if encoding:
        try:
            return data.decode(encoding).lstrip("\ufeff").encode(), encoding
        except LookupError as error:
            raise TableError(
                name, "--encoding", f"{encoding!r} is not known", "take utf-8 or cp1252"
            ) from error
        except UnicodeDecodeError as error:
            place = _place(data, error.start)
            raise TableError(name, place, f"not {encoding} text", "choose another encoding") from error
    if data[:2] in (b"\xff\xfe", b"\xfe\xff"):
        return data.decode("utf-16", "replace").encode(), "utf-16"
    try:
        data.decode()
    except UnicodeDecodeError as error:
        place = _place(data, error.start)
        shown = data[max(0, error.start - 12) : error.start + 12].decode("cp1252", "replace")
        raise TableError(
            name, place, f"not UTF-8 text (near {shown!r})", "if it is Windows text, choose encoding cp1252"
        ) from error
    return data.removeprefix(b"\xef\xbb\xbf"), "utf-8"


def _place(data: bytes, at: int) -> str:
    """Line and column of a byte, the column by name where the header can be read."""
    line = data.count(b"\n", 0, at) + 1
    begin = data.rfind(b"\n", 0, at) + 1
    header = data.split(b"\n", 1)[0].decode("cp1252").strip()
    delimiter = _sniff(header)
    column = data[begin:at].count(delimiter.encode())
    names = header.split(delimiter)
    return f"line {line}, column {names[column] if column < len(names) else column + 1}"


def _sniff(header: str) -> str:
    return max(",;\t|", key=lambda c: (header.count(c), c == ","))


def _read_delimited(data: bytes, name: str, size: int, encoding: str) -> Raw:
    header_text = data.split(b"\n", 1)[0].decode(errors="replace").strip("\r")
    if "\x00" in header_text:
        raise TableError(
            name, "line 1", "holds binary data, not text", "choose a .csv, .tsv, .jsonl or .parquet file"
        )
    delimiter = _sniff(header_text)
    broken: list[BrokenRow] = []

    def set_aside(row: pacsv.InvalidRow) -> str:
        short = "cut off" if row.actual_columns < row.expected_columns else "too many columns"
        problem = f"{row.actual_columns} columns where the header has {row.expected_columns}: {short}"
        broken.append(BrokenRow(row.number or 0, "", problem, row.text))
        return "skip"

    header = _header(data, delimiter, name)
    try:
        table = pacsv.read_csv(
            pa.BufferReader(data),
            # One thread: only then are the numbers of the rows set aside known.
            read_options=pacsv.ReadOptions(
                use_threads=False, block_size=max(1 << 22, min(len(data) + 1, 1 << 26))
            ),
            parse_options=pacsv.ParseOptions(
                delimiter=delimiter, newlines_in_values=b'"' in data, invalid_row_handler=set_aside
            ),
            convert_options=pacsv.ConvertOptions(
                column_types={column: pa.string() for column in header}, strings_can_be_null=False
            ),
        )
    except pa.ArrowInvalid as error:
        found = re.search(r"[Rr]ow #?(\d+)", str(error))
        place = f"line {found[1]}" if found else "the rows"
        raise TableError(
            name,
            place,
            f"cannot be read as delimited text ({str(error).split(':')[-1].strip()[:120]})",
            "look for an unclosed quote",
        ) from error
    if table.num_rows == 0 and not broken:
        raise TableError(name, "line 2", "a header but no rows", "add rows, or choose another file")
    columns = {c: table.column(c).combine_chunks() for c in table.column_names}
    return Raw(name, "delimited", columns, table.num_rows, encoding, delimiter, size, tuple(broken))


def _header(data: bytes, delimiter: str, name: str) -> list[str]:
    """Column names of the first record, which may hold quoted line breaks."""
    import csv

    names = next(csv.reader(io.StringIO(data[: 1 << 20].decode(errors="replace")), delimiter=delimiter), [])
    if len(names) > MOST_COLUMNS:
        raise TableError(
            name, "line 1", f"{len(names):,} columns, at most {MOST_COLUMNS:,} are taken", "leave some out"
        )
    for i, column in enumerate(names):
        if column in names[:i]:
            raise TableError(
                name, f"line 1, column {i + 1}", f"the header has {column!r} twice", "rename one of them"
            )
    return names


def _read_jsonl(data: bytes, name: str, size: int, encoding: str) -> Raw:
    try:
        table = pajson.read_json(pa.BufferReader(data), read_options=pajson.ReadOptions(use_threads=False))
    except pa.ArrowInvalid as error:
        found = re.search(r"row (\d+)", str(error))
        place = f"line {int(found[1]) + 1}" if found else "the lines"
        message = str(error).split(":", 1)[-1].strip()[:160]
        raise TableError(
            name, place, f"no JSON object a line ({message})", "write one flat object a line"
        ) from error
    columns = {c: table.column(c).combine_chunks() for c in table.column_names}
    return Raw(name, "jsonl", columns, table.num_rows, encoding, ",", size)


def _read_parquet(data: bytes, name: str, size: int) -> Raw:
    try:
        table = papq.read_table(pa.BufferReader(data))
    except (pa.ArrowInvalid, OSError) as error:
        raise TableError(name, "", "no Parquet file, or cut off", "fetch the file again") from error
    if table.num_rows == 0:
        raise TableError(name, "", "columns but no rows", "choose another file")
    columns = {c: table.column(c).combine_chunks() for c in table.column_names}
    return Raw(name, "parquet", columns, table.num_rows, "parquet", "", size)
