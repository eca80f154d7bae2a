"""Streams that go on: a growing file or lines as they come, judged as their bins complete, and tables of which only what is new is.

The state is what a later call goes on from; what is found is what one replay of all samples would have found.
"""

import hashlib
import io
import json
import os
import queue
import sys
import threading
import time
import zipfile
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import IO, Any, NamedTuple, Unpack

import numpy as np

from watchtide.core.scoring.rows import Finding, Label
from watchtide.core.series import Floats, Ints
from watchtide.door import reading
from watchtide.door.errors import InputError
from watchtide.door.found import Scan
from watchtide.door.stated import Columns, listed, plan_of
from watchtide.engine.keep.arrays import read_array, zipped
from watchtide.engine.live import upkeep, watching
from watchtide.engine.live.watching import Followed
from watchtide.engine.prepare.preparing import Input
from watchtide.engine.scan.based import Scanned
from watchtide.plan import Plan, durations
from watchtide.tables import extract, layout, read, remote, results
from watchtide.tables.layout import Layout
from watchtide.tables.problems import TableError

FORMAT = "watchtide watch 1"
# Lines are taken together for so long, and no more of them at once: a backlog is judged in few steps.
GATHER_S, MOST_LINES = 0.3, 200_000
PAUSE_S = 0.2
Tell = Callable[[str], None]
# A row as it comes: its columns, or a line of JSON.
Row = Mapping[str, Any] | str | bytes


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
    source: str | Path | Iterable[Row | None],
    plan: Plan | Mapping[str, Any] | str | Path | None = None,
    *,
    state: str | Path | None = None,
    wait: str = "0s",
    once: bool = False,
    tell: Tell = lambda note: None,
    **columns: Unpack[Columns],
) -> Iterator[dict[str, Any]]:
    """What begins and ends in streams as they come: the events that `watchtide watch` prints, as dictionaries.

    source : path of a JSON Lines file that grows, or rows as they come, each a dictionary or a line of JSON, and None where nothing
    more waits: what has come is judged then, else with the next row. state : a file that is kept after each
    bin whose events were all taken, and gone on from. wait : how long after a bin's end samples of it may come; once : stop at the end
    of the file, else the file is followed for ever. tell : gets a note on each line that is left out. Columns as `scan` takes them.
    Raises InputError, TableError.

    Examples
    --------
    >>> import watchtide as wt
    >>> plan = {"baseline": {"kind": "slot", "seasons": ["24h"]}, "replay": {"refit": "1d", "window": "14d"}}
    >>> rows = [
    ...     {"time": f"2026-06-{1 + i // 24:02}T{i % 24:02}:00:00Z", "level": i % 24 + (i * 7919 % 13) / 5 + 40 * (i == 500)}
    ...     for i in range(24 * 28)
    ... ]
    >>> [(e["event"], e["start"]) for e in wt.watch(rows, plan)]
    [('began', '2026-06-21T20:00:00Z'), ('ended', '2026-06-21T20:00:00Z')]
    """
    chosen = plan_of(plan)
    try:
        wait_ns = int(durations.parse_ns(wait))
    except ValueError as error:
        raise InputError("wait", str(error), "write for example 90s") from error
    choose = reading.guess_of(
        {"tz": columns.get("tz", "UTC"), "time": columns.get("time"), "value": listed(columns.get("value")),
         "series": listed(columns.get("series"))}
    )  # fmt: skip
    now = kept(state, chosen) if state is not None else State(chosen)
    if isinstance(source, str | Path):
        name, lines = str(source), lines_of(str(source), now.offset, is_once=once)
    else:
        name, lines = "rows", _given(source)
    for events in batches(lines, name, now, choose, wait_ns, tell):
        yield from events
        if state is not None:
            results.write_whole(str(state), written(now))


def batches(
    lines: "Iterable[tuple[list[Line], bool]]", name: str, state: State, choose: reading.Chooser, wait_ns: int, tell: Tell
) -> Iterator[list[dict[str, Any]]]:  # fmt: skip
    """Events of lines as they come, whenever the state is another than before. choose : how the first lines are laid out."""
    for some, is_over in lines:
        if some:
            _take([line.text for line in some], state, name, choose, tell)
            state.offset = some[-1].end
        events = _judge(state, wait_ns, is_over=is_over, is_idle=not some)
        if some or events or is_over:
            yield events


def scan_on(streams: Sequence[Input], state: State, known: Sequence[Label] = ()) -> Scan:
    """Judge what is new of streams, as a replay of all samples would, and go on to it in the state.

    A table may hold all rows so far or those since the last call. A bin is judged once it is over:
    by the clock, or because a later sample has come. Raises InputError for streams whose samples alone do not tell how they are judged.
    """
    scanned: list[Scanned] = []
    found: list[Finding] = []
    since: dict[str, int] = {}
    for given in streams:
        if given.denominators is not None or given.covariates:
            raise InputError(
                "state",
                f"stream {given.key or '(the only one)'} is judged beside other columns",
                "scan it as a whole",
            )
        if (old := state.streams.get(given.key)) is not None:
            # What a table says of a moment goes before what an earlier one said.
            apart = ~np.isin(old.times, given.times)
            old.times, old.values = old.times[apart], old.values[apart]
        stream = _with_rows(state, given.key, given.zone, given.times, given.values)
        whole = Input(given.key, stream.times, stream.values, stream.zone, days=given.days)
        reach = upkeep.complete(whole, state.plan, max(int(stream.times[-1]), time.time_ns()), 0)
        through = stream.followed.through_ns
        if reach is None or (through is not None and reach.until_ns <= through):
            continue
        inside = stream.times < reach.until_ns
        whole = Input(given.key, stream.times[inside], stream.values[inside], stream.zone, days=given.days)
        step = watching.step(stream.followed, whole, state.plan, known, reach)
        stream.followed = step.now
        scanned.append(step.scanned)
        found += step.began
        since[given.key] = through if through is not None else int(np.iinfo(np.int64).min)
    return Scan(state.plan, "replay", tuple(scanned), tuple(found), since)


def event(kind: str, finding: Finding) -> dict[str, Any]:
    """A finding that began or ended, in the columns of a findings file. The id is the same however often it is printed."""
    row = json.loads(results.findings_text([finding], "findings.jsonl"))
    name = f"{kind} {finding.series} {finding.start} {finding.kind} {finding.direction}"
    return {"event": kind, "id": hashlib.sha256(name.encode()).hexdigest()[:24], **row}


class Line(NamedTuple):
    """A whole line, and where in the file it ends."""

    text: bytes
    end: int


Waiting = queue.Queue[Line | OSError | None]


def lines_of(source: str, offset: int, *, is_once: bool) -> Iterator[tuple[list[Line], bool]]:
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


def _given(rows: Iterable[Row | None]) -> Iterator[tuple[list[Line], bool]]:
    """Rows as they come; those that come within a moment of one another together. None among them: nothing more waits now."""
    lines: list[Line] = []
    before = time.monotonic()
    for row in rows:
        if row is not None:
            text = json.dumps(row) if isinstance(row, Mapping) else row
            whole = text.encode() if isinstance(text, str) else bytes(text)
            lines.append(Line(whole.rstrip(b"\n") + b"\n", 0))
        if row is None or time.monotonic() - before >= GATHER_S or len(lines) >= MOST_LINES:
            yield lines, False
            lines, before = [], time.monotonic()
    yield lines, True


def _take(lines: Sequence[bytes], state: State, name: str, choose: reading.Chooser, tell: Tell) -> None:
    """Add the samples of lines to their streams. A line that cannot be used is named and left out: nobody is there to correct
    it."""
    if state.layout is None:
        if not lines[0].lstrip().startswith(b"{"):
            raise TableError(name, "line 1", "is no JSON", "watch follows JSON Lines; see docs/formats.md")
        state.layout = choose(read.read(b"".join(lines), name))
    for rows in _rows_of(lines, state.lines, name, state.layout, tell):
        _with_rows(state, rows.key, state.layout.zone, rows.times, rows.values)
    state.lines += len(lines)


def _with_rows(state: State, key: str, zone: str, times: Ints, values: Floats) -> Stream:
    """A stream of the state with these samples too."""
    stream = state.streams.get(key) or Stream(zone, times[:0], values[:0])
    times, values = np.r_[stream.times, times], np.r_[stream.values, values]
    order = np.argsort(times, kind="stable")
    stream.times, stream.values = times[order], values[order]
    state.streams[key] = stream
    return stream


def _rows_of(
    lines: Sequence[bytes], before: int, name: str, how: Layout, tell: Tell
) -> Iterator[extract.StreamRows]:
    """What lines hold of each stream. before : how many came earlier. What stops the reading of all of them is looked for in
    either half, so that one line takes no other with it."""
    try:
        taken = extract.extract(read.read(b"".join(lines), name), how)
    except TableError as error:
        if len(lines) == 1:
            tell(f"line {before + 1} is left out: {error}")
            return
        half = len(lines) // 2
        yield from _rows_of(lines[:half], before, name, how, tell)
        yield from _rows_of(lines[half:], before + half, name, how, tell)
        return
    for broken in taken.broken:
        tell(f"line {before + broken.line} is left out: {broken.problem}")
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
        out += [(f.raised or f.end, event("began", f)) for f in step.began]
        # Nothing ends before it began: a finding of one bin is raised at the bin's end.
        out += [(max(f.end, f.raised or f.end), event("ended", f)) for f in step.ended]
    return [one for _, one in sorted(out, key=lambda pair: pair[0])]


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


def written(state: State) -> bytes:
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


def kept(path: str | Path, plan: Plan) -> State:
    """The state in a file; a fresh one where there is none."""
    try:
        data = remote.bytes_of(path)
    except FileNotFoundError:
        return State(plan)
    try:
        return _read_state(data, plan, str(path))
    except (zipfile.BadZipFile, KeyError, TypeError, ValueError) as error:
        raise InputError("state", f"{path} is no state ({error})", "name another file") from error


def _read_state(data: bytes, plan: Plan, path: str) -> State:
    with zipfile.ZipFile(io.BytesIO(data)) as file:
        head = json.loads(file.read("state.json"))
        if head["format"] != FORMAT:
            raise ValueError(f"its format is {head['format']!r}")
        if head["plan"] != json.loads(json.dumps(plan.as_data())):
            raise InputError(
                "state", f"{path} is the state of another plan", "name another file, or give that plan"
            )
        streams = {}
        for i, row in enumerate(head["streams"]):
            times, values = (read_array(io.BytesIO(file.read(f"{i}/{n}.npy"))) for n in ("times", "values"))
            state = file.read(f"{i}/upkeep") if row["has_upkeep"] else None
            findings = tuple(watching.as_finding(f) for f in row["findings"])
            followed = Followed(row["through_ns"], state, row["judged"], row["late"], findings)
            streams[row["key"]] = Stream(row["zone"], times, values, followed)
    laid_out = layout.from_data(head["layout"]) if head["layout"] is not None else None
    return State(plan, laid_out, head["offset"], head["lines"], streams, head["unsent"])
