"""Lines as they come: of a file that grows, of standard input, or rows that a program hands over."""

import json
import os
import queue
import sys
import threading
import time
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass
from typing import IO, Any, NamedTuple

# Lines are taken together for so long, and no more of them at once: a backlog is evaluated in few steps.
GATHER_S, MOST_LINES = 0.3, 200_000
PAUSE_S = 0.2
# Gets a note on what is left out.
Tell = Callable[[str], None]
# A row as it comes: its columns, or a line of JSON.
Row = Mapping[str, Any] | str | bytes


class Line(NamedTuple):
    """A whole line, and where in the file it ends."""

    text: bytes
    end: int


class Batch(NamedTuple):
    """Lines that came together, none where nothing waits; and whether the input is over."""

    lines: list[Line]
    is_over: bool


Waiting = queue.Queue[Line | OSError | None]


def of_file(source: str, offset: int, tell: Tell, *, is_once: bool) -> Iterator[Batch]:
    """Lines of a file, or of standard input, as they come."""
    waiting: Waiting = queue.Queue(MOST_LINES)
    end = _End(is_once, waiting, tell)
    threading.Thread(target=_read, args=(source, offset, end), daemon=True).start()
    is_over = False
    while not is_over:
        lines: list[Line] = []
        until = time.monotonic() + GATHER_S
        while len(lines) < MOST_LINES and (left := until - time.monotonic()) > 0:
            try:
                line = waiting.get(timeout=left)
            except queue.Empty:
                break
            if isinstance(line, OSError):
                raise line
            if line is None:
                is_over = True
                break
            lines.append(line)
        yield Batch(lines, is_over)


@dataclass(frozen=True)
class _End:
    """Where lines go, and whether they end with the file."""

    is_once: bool
    waiting: Waiting
    tell: Tell


def _read(source: str, offset: int, end: _End) -> None:
    """Put lines into the queue, and None when the input is over, or what stopped it."""
    try:
        if source == "-":
            for text in sys.stdin.buffer:
                end.waiting.put(Line(text, 0))
        else:
            with open(source, "rb") as file:
                _read_file(file, offset, end)
        end.waiting.put(None)
    except OSError as error:
        end.waiting.put(error)


def _read_file(file: IO[bytes], offset: int, end: _End) -> None:
    """The lines of a file as it grows. One that was begun anew is read from its start."""
    part = b""
    file.seek(offset)
    while True:
        if file.tell() > os.fstat(file.fileno()).st_size:
            end.tell(f"{file.name} is shorter than it was; it is read from its start")
            file.seek(0)
            part = b""
        part += file.readline()
        if part.endswith(b"\n") or (part and end.is_once):
            end.waiting.put(Line(part, file.tell()))
            part = b""
        elif end.is_once:
            return
        else:
            time.sleep(PAUSE_S)


def of_rows(rows: Iterable[Row | None]) -> Iterator[Batch]:
    """Rows as they come; those that come within a moment of one another together. None among them: nothing more waits now."""
    lines: list[Line] = []
    before = time.monotonic()
    for row in rows:
        if row is not None:
            text = json.dumps(row) if isinstance(row, Mapping) else row
            whole = text.encode() if isinstance(text, str) else bytes(text)
            lines.append(Line(whole.rstrip(b"\n") + b"\n", 0))
        if row is None or time.monotonic() - before >= GATHER_S or len(lines) >= MOST_LINES:
            yield Batch(lines, False)
            lines, before = [], time.monotonic()
    yield Batch(lines, True)
