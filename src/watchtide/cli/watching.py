"""The command `watch`: a growing file or standard input judged as its bins complete, going on from a state after a restart."""

import io
import json
import os
import queue
import sys
import threading
import time
import zipfile
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import IO, Any, NamedTuple

import numpy as np

from watchtide.cli import hooks, scanning, taking
from watchtide.cli.exits import fail
from watchtide.core.series import Floats, Ints
from watchtide.engine.keep.arrays import read_array, zipped
from watchtide.engine.live import upkeep, watching
from watchtide.engine.live.watching import Followed
from watchtide.engine.prepare.preparing import Input
from watchtide.plan import Plan, durations
from watchtide.tables import extract, layout, read, results
from watchtide.tables.layout import Layout
from watchtide.tables.problems import TableError

FORMAT = "watchtide watch 1"
# Lines are taken together for so long, and no more of them at once: a backlog is judged in few steps.
GATHER_S, MOST_LINES = 0.3, 200_000
PAUSE_S = 0.2


@dataclass
class Stream:
    """The samples of one stream so far, and how far it is judged."""

    zone: str
    times: Ints
    values: Floats
    followed: Followed = field(default_factory=Followed)


@dataclass
class State:
    """All that a restart goes on from. offset : bytes of the file that were taken; lines : how many those are; unsent :
    events that the hook has not taken yet."""

    plan: Plan
    layout: Layout | None = None
    offset: int = 0
    lines: int = 0
    streams: dict[str, Stream] = field(default_factory=dict)
    unsent: list[dict[str, Any]] = field(default_factory=list)


def watch(
    source: str,
    plan_path: str | None,
    state_path: str | None,
    hook: str | None,
    *,
    wait: str,
    is_once: bool,
    table: dict[str, Any],
) -> None:
    """Judge what comes until the input ends, and print what begins and ends."""
    plan = scanning.plan_of(plan_path, table)
    try:
        wait_ns = int(durations.parse_ns(wait))
    except ValueError as error:
        fail(f"--wait {error}")
    state = _kept(state_path, plan) if state_path else State(plan)
    name = taking.name_of(source)
    for lines, is_over in _lines(source, state.offset, is_once=is_once):
        if lines:
            _take([line.text for line in lines], state, name, table)
            state.offset = lines[-1].end
        events = _judge(state, wait_ns, is_over=is_over, is_idle=not lines)
        if not (lines or events or is_over):
            continue
        # Printed before the state is kept: killed in between, the next start prints them again under the same ids.
        for event in events:
            print(json.dumps(event, ensure_ascii=False), flush=True)
        if hook:
            state.unsent = hooks.send(hook, [*state.unsent, *events])
        if state_path:
            results.write_whole(state_path, _written(state))


class Line(NamedTuple):
    """A whole line, and where in the file it ends."""

    text: bytes
    end: int


Waiting = queue.Queue[Line | OSError | None]


def _lines(source: str, offset: int, *, is_once: bool) -> Iterator[tuple[list[Line], bool]]:
    """Lines as they come, none where nothing waits; and whether the input is over."""
    waiting: Waiting = queue.Queue(MOST_LINES)
    threading.Thread(target=_read, args=(source, offset, is_once, waiting), daemon=True).start()
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
        yield lines, is_over


def _read(source: str, offset: int, is_once: bool, waiting: Waiting) -> None:
    """Put lines into the queue, and None when the input is over, or what stopped it."""
    try:
        if source == "-":
            for text in sys.stdin.buffer:
                waiting.put(Line(text, 0))
        else:
            with open(source, "rb") as file:
                _read_file(file, source, offset, is_once, waiting)
        waiting.put(None)
    except OSError as error:
        waiting.put(error)


def _read_file(file: IO[bytes], source: str, offset: int, is_once: bool, waiting: Waiting) -> None:
    """The lines of a file as it grows. One that was begun anew is read from its start."""
    part = b""
    file.seek(offset)
    while True:
        if file.tell() > os.fstat(file.fileno()).st_size:
            print(f"note: {source} is shorter than it was; it is read from its start", file=sys.stderr)
            file.seek(0)
            part = b""
        part += file.readline()
        if part.endswith(b"\n") or (part and is_once):
            waiting.put(Line(part, file.tell()))
            part = b""
        elif is_once:
            return
        else:
            time.sleep(PAUSE_S)


def _take(lines: Sequence[bytes], state: State, name: str, table: dict[str, Any]) -> None:
    """Add the samples of lines to their streams. A line that cannot be used is named and left out: nobody is there to correct
    it."""
    if state.layout is None:
        if not lines[0].lstrip().startswith(b"{"):
            raise TableError(name, "line 1", "is no JSON", "watch follows JSON Lines; see docs/formats.md")
        state.layout = taking.chooser(table)(read.read(b"".join(lines), name))
    for rows in _rows_of(lines, state.lines, name, state.layout):
        old = state.streams.get(rows.key) or Stream(state.layout.zone, rows.times[:0], rows.values[:0])
        times, values = np.r_[old.times, rows.times], np.r_[old.values, rows.values]
        order = np.argsort(times, kind="stable")
        old.times, old.values = times[order], values[order]
        state.streams[rows.key] = old
    state.lines += len(lines)


def _rows_of(lines: Sequence[bytes], before: int, name: str, how: Layout) -> Iterator[extract.StreamRows]:
    """What lines hold of each stream. before : how many came earlier. What stops the reading of all of them is looked for in
    either half, so that one line takes no other with it."""
    try:
        taken = extract.extract(read.read(b"".join(lines), name), how)
    except TableError as error:
        if len(lines) == 1:
            print(f"watchtide: line {before + 1} is left out: {error}", file=sys.stderr)
            return
        half = len(lines) // 2
        yield from _rows_of(lines[:half], before, name, how)
        yield from _rows_of(lines[half:], before + half, name, how)
        return
    for broken in taken.broken:
        print(f"watchtide: line {before + broken.line} is left out: {broken.problem}", file=sys.stderr)
    yield from taken.streams


def _judge(state: State, wait_ns: int, *, is_over: bool, is_idle: bool) -> list[dict[str, Any]]:
    """Judge each stream through its complete bins; what began and ended, in order of time."""
    out: list[tuple[int, dict[str, Any]]] = []
    for key, stream in state.streams.items():
        given = Input(key, stream.times, stream.values, stream.zone)
        reach = upkeep.complete(
            given, state.plan, _now(stream, wait_ns, is_over=is_over, is_idle=is_idle), wait_ns
        )
        through = stream.followed.through_ns
        if reach is None or (through is not None and reach.until_ns <= through):
            continue
        inside = stream.times < reach.until_ns
        given = Input(key, stream.times[inside], stream.values[inside], stream.zone)
        step = watching.step(stream.followed, given, state.plan, (), reach)
        stream.followed = step.now
        out += [(f.raised or f.end, hooks.event("began", f)) for f in step.began]
        out += [(f.end, hooks.event("ended", f)) for f in step.ended]
    return [event for _, event in sorted(out, key=lambda pair: pair[0])]


# Beyond every stamp there is.
_NEVER = np.iinfo(np.int64).max // 2


def _now(stream: Stream, wait_ns: int, *, is_over: bool, is_idle: bool) -> int:
    """The moment by which bins count as complete: the newest sample's; the clock's where the stream is live and nothing more
    waits; after everything where the input is over."""
    if is_over:
        return _NEVER
    newest = int(stream.times[-1])
    clock = time.time_ns()
    step = int(np.median(np.diff(stream.times[-50:]))) if len(stream.times) > 1 else 0
    is_live = clock - newest <= wait_ns + 3 * step
    return max(newest, clock) if is_idle and is_live else newest


def _written(state: State) -> bytes:
    """A state as bytes: JSON and arrays in a zip, so that reading one runs nothing."""
    head = {
        "format": FORMAT,
        "plan": state.plan.as_data(),
        "layout": layout.to_data(state.layout) if state.layout is not None else None,
        "offset": state.offset,
        "lines": state.lines,
        "unsent": state.unsent,
        "streams": [
            {
                "key": key,
                "zone": s.zone,
                "through_ns": s.followed.through_ns,
                "judged": s.followed.judged,
                "late": s.followed.late,
                "has_upkeep": s.followed.upkeep is not None,
                "findings": [watching.as_data(f) for f in s.followed.findings],
            }
            for key, s in state.streams.items()
        ],
    }
    streams = list(state.streams.values())
    arrays = {f"{i}/{n}": getattr(s, n) for i, s in enumerate(streams) for n in ("times", "values")}
    upkeep = {
        f"{i}/upkeep": s.followed.upkeep for i, s in enumerate(streams) if s.followed.upkeep is not None
    }
    # Written after each bin: quick comes before small.
    return zipped("state.json", head, arrays, upkeep, level=1)


def _kept(path: str, plan: Plan) -> State:
    """The state in a file; a fresh one where there is none."""
    try:
        data = Path(path).read_bytes()
    except FileNotFoundError:
        return State(plan)
    try:
        return _read_state(data, plan, path)
    except (zipfile.BadZipFile, KeyError, TypeError, ValueError) as error:
        fail(f"{path}: no state of this command ({error}); name another file")


def _read_state(data: bytes, plan: Plan, path: str) -> State:
    with zipfile.ZipFile(io.BytesIO(data)) as file:
        head = json.loads(file.read("state.json"))
        if head["format"] != FORMAT:
            raise ValueError(f"its format is {head['format']!r}")
        if head["plan"] != json.loads(json.dumps(plan.as_data())):
            fail(f"{path}: the state of another plan; name another file, or give that plan")
        streams = {}
        for i, row in enumerate(head["streams"]):
            times, values = (read_array(io.BytesIO(file.read(f"{i}/{n}.npy"))) for n in ("times", "values"))
            state = file.read(f"{i}/upkeep") if row["has_upkeep"] else None
            findings = tuple(watching.as_finding(f) for f in row["findings"])
            followed = Followed(row["through_ns"], state, row["judged"], row["late"], findings)
            streams[row["key"]] = Stream(row["zone"], times, values, followed)
    kept = layout.from_data(head["layout"]) if head["layout"] is not None else None
    return State(plan, kept, head["offset"], head["lines"], streams, head["unsent"])
