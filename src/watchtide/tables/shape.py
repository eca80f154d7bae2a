"""How a file is written: kind, packing, encoding, delimiter, quote, decimal mark and header, each with a reason."""

import codecs
import csv
import gzip
import io
import re
import zlib
from dataclasses import dataclass, field
from pathlib import Path
from typing import IO, Any, cast

import pyarrow as pa

from watchtide.tables.problems import TableError

KINDS = {
    ".csv": "delimited",
    ".tsv": "delimited",
    ".txt": "delimited",
    ".log": "log",
    ".jsonl": "jsonl",
    ".ndjson": "jsonl",
    ".parquet": "parquet",
}
SAMPLE_BYTES = 1 << 18
DELIMITERS = {",": "comma", ";": "semicolon", "\t": "tab", "|": "bar"}
MOST_COLUMNS = 2_000
# No honest table packs much better than this; what does is made to fill a disk.
MOST_INFLATION = 400
FREE_INFLATION = 1 << 28
NUMERIC = re.compile(r"^[+-]?(\d+([.,]\d*)?|[.,]\d+)([eE][+-]?\d+)?$")
TIMELY = re.compile(r"^\d{4}-\d{2}-\d{2}([T ]\d{2}:\d{2}.*)?$|^\d{1,2}[./]\d{1,2}[./]\d{2,4}\b")
Source = str | Path | bytes


@dataclass(frozen=True)
class Shape:
    """How to read a file. `reasons` tells by key why each was guessed; a stated one says so."""

    kind: str
    is_gzipped: bool = False
    encoding: str = "utf-8"
    delimiter: str = ","
    quote: str = '"'
    decimal: str = "."
    has_header: bool = True
    names: tuple[str, ...] = ()
    pattern: str | None = None
    reasons: dict[str, str] = field(default_factory=dict)


def name_of(source: Source, name: str | None) -> str:
    return name or ("input" if isinstance(source, bytes) else Path(source).name)


def open_bytes(source: Source, name: str, *, is_gzipped: bool) -> IO[bytes]:
    """The file's bytes from the start, unpacked. Raises TableError where there is no such file."""
    if isinstance(source, bytes):
        raw: IO[bytes] = io.BytesIO(source)
    else:
        if not Path(source).is_file():
            raise TableError(name, "", "there is no such file", "check the path")
        raw = Path(source).open("rb")  # noqa: SIM115 - whoever reads it closes it
    return cast(IO[bytes], _Unpacked(raw, name)) if is_gzipped else raw


class _Unpacked(io.RawIOBase):
    """A gzip stream that names its damage and refuses to grow without end."""

    def __init__(self, raw: IO[bytes], name: str) -> None:
        self._raw, self._name, self._inner, self._out = raw, name, gzip.GzipFile(fileobj=raw), 0

    def readable(self) -> bool:
        return True

    def read(self, size: int = -1) -> bytes:
        try:
            data = self._inner.read(size if size is not None and size >= 0 else 1 << 24)
            if size is None or size < 0:
                while more := self._inner.read(1 << 24):
                    data += more
                    self._check(len(data))
        except (EOFError, zlib.error, OSError) as error:
            raise TableError(
                self._name, "", "the gzip stream is cut off or damaged", "fetch the file again"
            ) from error
        self._out += len(data)
        self._check(self._out)
        return data

    def _check(self, out: int) -> None:
        if out > FREE_INFLATION and out > MOST_INFLATION * max(self._raw.tell(), 1):
            raise TableError(
                self._name, "", f"unpacks to more than {MOST_INFLATION} times its size", "unpack it first"
            )

    def close(self) -> None:
        self._raw.close()
        super().close()


def sniff(source: Source, name: str | None = None, **stated: Any) -> Shape:
    """Guess how a file is written from its first 256 kB.

    stated : any of encoding, delimiter, quote, decimal, has_header, pattern; these are kept as they are.
    Raises TableError for an empty file, unknown encodings, binary data, and duplicate or too many columns.
    """
    name = name_of(source, name)
    stated = {k: v for k, v in stated.items() if v is not None}
    with open_bytes(source, name, is_gzipped=False) as raw:
        start = raw.read(4)
    is_gzipped = start[:2] == b"\x1f\x8b"
    stem = name.removesuffix(".gz") if is_gzipped else name
    with open_bytes(source, name, is_gzipped=is_gzipped) as file:
        head = file.read(SAMPLE_BYTES)
        is_whole = len(head) < SAMPLE_BYTES
    if not head.strip():
        raise TableError(name, "", "the file is empty", "choose a file with a header and rows")
    kind = KINDS.get(Path(stem).suffix.lower(), "delimited")
    if head[:4] == b"PAR1" or kind == "parquet":
        return Shape("parquet", is_gzipped, "parquet", reasons={"kind": "a Parquet file"})
    reasons: dict[str, str] = {}
    encoding = _encoding(head, name, stated.get("encoding"), reasons, is_whole=is_whole)
    text = _decoded(head, encoding, is_whole=is_whole)
    if stated.get("pattern"):
        return Shape("log", is_gzipped, encoding, pattern=str(stated["pattern"]), reasons=reasons)
    if kind == "jsonl" or (Path(stem).suffix == "" and text.lstrip()[:1] == "{"):
        return Shape("jsonl", is_gzipped, encoding, reasons=reasons | {"kind": "one object a line"})
    if kind == "log":
        raise TableError(
            name, "", "a log needs a pattern that names its fields", r"write one such as (?P<time>\S+) (?P<level>\w+)"
        )  # fmt: skip
    return _delimited(text, name, is_gzipped, encoding, stated, reasons, is_whole=is_whole)


def _encoding(head: bytes, name: str, stated: str | None, reasons: dict[str, str], *, is_whole: bool) -> str:
    if stated:
        try:
            codecs.lookup(stated)
        except LookupError as error:
            raise TableError(
                name, "--encoding", f"{stated!r} is not known", "take utf-8 or cp1252"
            ) from error
        reasons["encoding"] = "as stated"
        return stated
    if head[:2] in (b"\xff\xfe", b"\xfe\xff"):
        reasons["encoding"] = "a byte order mark"
        return "utf-16"
    try:
        codecs.getincrementaldecoder("utf-8")().decode(head, final=is_whole)
    except UnicodeDecodeError as error:
        if b"\x00" in head[:4096]:
            raise _binary(name) from error
        try:
            head.decode("cp1252")
        except UnicodeDecodeError:
            raise TableError(
                name, place_of(head, error.start), "neither UTF-8 nor Windows text", "choose its encoding"
            ) from error
        where = place_of(head, error.start)
        reasons["encoding"] = f"Windows text (cp1252), because {where} is not UTF-8"
        return "cp1252"
    reasons["encoding"] = "reads as UTF-8"
    return "utf-8"


def _binary(name: str) -> TableError:
    return TableError(
        name, "line 1", "holds binary data, not text", "choose a .csv, .tsv, .jsonl or .parquet file"
    )


def _decoded(head: bytes, encoding: str, *, is_whole: bool) -> str:
    return codecs.getincrementaldecoder(encoding)("replace").decode(head, final=is_whole).lstrip("\ufeff")


def place_of(data: bytes, at: int) -> str:
    """Line and column of a byte, the column by name where the header can be read."""
    line = data.count(b"\n", 0, at) + 1
    begin = data.rfind(b"\n", 0, at) + 1
    header = data.split(b"\n", 1)[0].decode("cp1252", "replace").strip()
    delimiter = max(DELIMITERS, key=lambda c: (header.count(c), c == ","))
    column = data[begin:at].count(delimiter.encode())
    names = header.split(delimiter)
    return f"line {line}, column {names[column] if column < len(names) else column + 1}"


def _delimited(
    text: str, name: str, is_gzipped: bool, encoding: str, stated: dict[str, Any], reasons: dict[str, str], *, is_whole: bool
) -> Shape:  # fmt: skip
    if "\x00" in text.split("\n", 1)[0]:
        raise _binary(name)
    quote = str(stated.get("quote") or _quote(text, reasons))
    lines = text.splitlines(keepends=True)
    rows_of = lambda delimiter: _records(lines[:200] if is_whole else lines[:-1][:200], delimiter, quote)  # noqa: E731
    delimiter = str(stated.get("delimiter") or _delimiter(rows_of, reasons))
    if len(delimiter) != 1:
        raise TableError(name, "delimiter", f"{delimiter!r} is no single character", "take , ; | or tab")
    rows = rows_of(delimiter) or _records(lines, delimiter, quote)
    first = rows[0] if rows else []
    if len(first) > MOST_COLUMNS or (
        text[: SAMPLE_BYTES // 2].count(delimiter) > MOST_COLUMNS and "\n" not in text
    ):
        raise TableError(
            name, "line 1", f"{max(len(first), text.count(delimiter)):,} columns, at most {MOST_COLUMNS:,} are taken",
            "leave some out",
        )  # fmt: skip
    has_header = stated.get("has_header")
    if has_header is None:
        has_header = _has_header(first, rows[1:], reasons)
    names = tuple(first) if has_header else tuple(f"column {i + 1}" for i in range(len(first)))
    for i, column in enumerate(names):
        if column in names[:i]:
            raise TableError(
                name, f"line 1, column {i + 1}", f"the header has {column!r} twice", "rename one of them"
            )
    decimal = str(stated.get("decimal") or _decimal(rows[1:], delimiter, reasons))
    if decimal not in (".", ","):
        raise TableError(name, "decimal", f"{decimal!r} is no decimal mark", "take . or ,")
    return Shape(
        "delimited", is_gzipped, encoding, delimiter, quote, decimal, bool(has_header), names, None, reasons
    )


def _records(lines: list[str], delimiter: str, quote: str) -> list[list[str]]:
    try:
        return [row for row in csv.reader(lines, delimiter=delimiter, quotechar=quote) if row]
    except csv.Error:
        return [line.rstrip("\r\n").split(delimiter) for line in lines]


def _quote(text: str, reasons: dict[str, str]) -> str:
    single = len(re.findall(r"(?:^|[,;\t|])'[^'\n]*'(?=[,;\t|\r\n])", text, re.M))
    double = text.count('"')
    if single > 2 and double == 0:
        reasons["quote"] = "cells stand between single quotes"
        return "'"
    reasons["quote"] = "double quotes, as usual" if double == 0 else "double quotes in the text"
    return '"'


def _delimiter(rows_of: Any, reasons: dict[str, str]) -> str:
    """The mark that cuts the most rows into as many cells as the first."""
    best = (0.0, 0, ",")
    for mark in DELIMITERS:
        rows = rows_of(mark)
        if not rows or len(rows[0]) < 2:
            continue
        share = sum(len(r) == len(rows[0]) for r in rows) / len(rows)
        if (share > best[0] + 0.2) or (share >= best[0] - 0.2 and len(rows[0]) > best[1]):
            best = (share, len(rows[0]), mark)
    share, count, mark = best
    reasons["delimiter"] = (
        f"{DELIMITERS[mark]}: {count} cells in {share:.0%} of the first rows" if count else "one column only"
    )
    return mark


def _has_header(first: list[str], rest: list[list[str]], reasons: dict[str, str]) -> bool:
    timely = [bool(TIMELY.match(c.strip())) for c in first]
    numeric = [bool(NUMERIC.match(c.strip())) for c in first]
    if any(timely) or (rest and sum(numeric) * 2 > len(first)):
        cell = first[timely.index(True)] if any(timely) else first[numeric.index(True)]
        reasons["header"] = f"none: {cell!r} in line 1 is a {'time' if any(timely) else 'number'}"
        return False
    reasons["header"] = "line 1 holds names"
    return True


def _decimal(rows: list[list[str]], delimiter: str, reasons: dict[str, str]) -> str:
    if delimiter != ",":
        cells = [c.strip() for row in rows for c in row]
        comma = sum(bool(re.match(r"^[+-]?\d+,\d+$", c)) for c in cells)
        point = sum(bool(re.match(r"^[+-]?\d+\.\d+$", c)) for c in cells)
        if comma > point:
            reasons["decimal"] = f"{comma} of the first cells are numbers with a comma"
            return ","
    reasons["decimal"] = "a point"
    return "."


def text_stream(source: Source, name: str, shape: Shape) -> Any:
    """An Arrow input stream of UTF-8 text without byte order mark."""
    file = open_bytes(source, name, is_gzipped=shape.is_gzipped)
    if shape.encoding not in ("utf-8", "utf8", "UTF-8"):
        return pa.PythonFile(_Transcoded(file, name, shape.encoding), mode="r")
    return pa.PythonFile(_WithoutMark(file), mode="r")


class _Reader(io.RawIOBase):
    """What both readers below share: they are read in order, never sought."""

    def __init__(self, file: IO[bytes]) -> None:
        self._file, self._rest = file, b""

    def readable(self) -> bool:
        return True

    def read(self, size: int = -1) -> bytes:
        size = 1 << 24 if size is None or size < 0 else size
        while len(self._rest) < size and (more := self._more(size)):
            self._rest += more
        out, self._rest = self._rest[:size], self._rest[size:]
        return out

    def _more(self, size: int) -> bytes:
        raise NotImplementedError

    def close(self) -> None:
        self._file.close()
        super().close()


class _WithoutMark(_Reader):
    """UTF-8 bytes past a byte order mark."""

    _is_first = True

    def _more(self, size: int) -> bytes:
        data = self._file.read(size)
        if self._is_first:
            self._is_first = False
            return data.removeprefix(b"\xef\xbb\xbf")
        return data


class _Transcoded(_Reader):
    """Bytes of another encoding as UTF-8."""

    def __init__(self, file: IO[bytes], name: str, encoding: str) -> None:
        super().__init__(file)
        self._name, self._encoding = name, encoding
        self._decoder = codecs.getincrementaldecoder(encoding)()
        self._line, self._is_first = 1, True

    def _more(self, size: int) -> bytes:
        data = self._file.read(min(size, 1 << 20))
        try:
            text = self._decoder.decode(data, final=not data)
        except UnicodeDecodeError as error:
            line = self._line + data.count(b"\n", 0, error.start)
            raise TableError(
                self._name, f"line {line}", f"not {self._encoding} text", "choose another encoding"
            ) from error
        self._line += data.count(b"\n")
        if self._is_first:
            self._is_first, text = False, text.removeprefix("\ufeff")
        if not text and data:
            return self._more(size)
        return text.encode()
