"""Streams that go on: rows judged as their bins complete, and tables of which only what is new is.

What is found is what one replay of all samples would have found.
"""

import hashlib
import json
import time
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any, NamedTuple, Unpack

import numpy as np

from watchtide.core.scoring.rows import Finding, Label
from watchtide.door import lines, reading, states
from watchtide.door.errors import InputError
from watchtide.door.found import New, Scan
from watchtide.door.lines import Batch, Row, Tell
from watchtide.door.stated import Columns, plan_of, table_options
from watchtide.door.states import State, Stream
from watchtide.engine.live import upkeep, watching
from watchtide.engine.live.watching import Step
from watchtide.engine.prepare.preparing import Input, KnownDay
from watchtide.plan import Plan, durations
from watchtide.tables import extract, read, results
from watchtide.tables.layout import Layout
from watchtide.tables.problems import TableError

# What is stated of rows as they come; other columns would have to come at the same time.
FOLLOWED = {"time", "value", "series", "tz"}


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
    if unknown := sorted(columns.keys() - FOLLOWED):
        raise InputError(unknown[0], "cannot be taken from rows as they come", "scan the table as a whole")
    now = states.kept(state, chosen) if state is not None else State(chosen)
    if isinstance(source, str | Path):
        name, came = str(source), lines.of_file(str(source), now.offset, tell, is_once=once)
    else:
        name, came = "rows", lines.of_rows(source)
    rules = Rules(name, reading.guess_of(table_options(columns)), wait_ns, tell)
    for events in batches(came, now, rules):
        yield from events
        if state is not None:
            results.write_whole(str(state), states.written(now))


@dataclass(frozen=True)
class Rules:
    """How lines are taken and evaluated. name : of their source in messages; choose : the layout of the first ones; wait_ns : how long
    after a bin's end samples of it may come; tell : gets a note on each line that is left out."""

    name: str
    choose: reading.Chooser
    wait_ns: int
    tell: Tell


def batches(came: Iterable[Batch], state: State, rules: Rules) -> Iterator[list[dict[str, Any]]]:
    """Events of lines as they come, whenever the state is another than before."""
    for some, is_over in came:
        if some:
            _take([line.text for line in some], state, rules)
            state.offset = some[-1].end
        events = _evaluated(state, rules.wait_ns, is_over=is_over, is_idle=not some)
        if some or events or is_over:
            yield events


def scan_on(streams: Sequence[Input], state: State, known: Sequence[Label] = ()) -> Scan:
    """Judge what is new of streams, as a replay of all samples would, and go on to it in the state.

    A table may hold all rows so far or those since the last call. A bin is judged once it is over:
    by the clock, or because a later sample has come. Raises InputError for streams that need more than their samples.
    """
    began: list[Finding] = []
    since: dict[str, int] = {}
    scanned = []
    for given in streams:
        if given.denominators is not None or given.covariates:
            name = given.key or "(the only one)"
            raise InputError("state", f"stream {name} is judged beside other columns", "scan it as a whole")
        if (old := state.streams.get(given.key)) is not None:
            # What a table has for a moment replaces what an earlier one had.
            apart = ~np.isin(old.times, given.times)
            old.times, old.values = old.times[apart], old.values[apart]
        stream = states.add(state, given.key, given.zone, given.times, given.values)
        before = stream.followed.through_ns
        newest = int(stream.times[-1]) if len(stream.times) else 0
        step = _step(given.key, stream, state.plan, Until(max(newest, time.time_ns())), known, given.days)
        if step is not None:
            scanned.append(step.scanned)
            began += step.began
            since[given.key] = np.iinfo(np.int64).min if before is None else before
    return Scan(state.plan, "replay", tuple(scanned), New(tuple(began), since))


def event(kind: str, finding: Finding) -> dict[str, Any]:
    """A finding that began or ended, in the columns of a findings file. The id is the same however often it is printed."""
    row = json.loads(results.findings_text([finding], "findings.jsonl"))
    name = f"{kind} {finding.series} {finding.start} {finding.kind} {finding.direction}"
    return {"event": kind, "id": hashlib.sha256(name.encode()).hexdigest()[:24], **row}


def _take(texts: Sequence[bytes], state: State, rules: Rules) -> None:
    """Add the samples of lines to their streams. A line that cannot be used is named and left out: nobody is there to correct
    it."""
    if state.layout is None:
        if not texts[0].lstrip().startswith(b"{"):
            raise TableError(
                rules.name, "line 1", "is no JSON", "watch follows JSON Lines; see docs/formats.md"
            )
        state.layout = rules.choose(read.read(b"".join(texts), rules.name))
    for rows in _rows_of(texts, state.lines, state.layout, rules):
        states.add(state, rows.key, state.layout.zone, rows.times, rows.values)
    state.lines += len(texts)


def _rows_of(texts: Sequence[bytes], before: int, how: Layout, rules: Rules) -> Iterator[extract.StreamRows]:
    """What lines hold of each stream. before : how many came earlier. What stops the reading of all of them is looked for in
    either half, so that one line takes no other with it."""
    try:
        taken = extract.extract(read.read(b"".join(texts), rules.name), how)
    except TableError as error:
        if len(texts) == 1:
            rules.tell(f"line {before + 1} is left out: {error}")
            return
        half = len(texts) // 2
        yield from _rows_of(texts[:half], before, how, rules)
        yield from _rows_of(texts[half:], before + half, how, rules)
        return
    for broken in taken.broken:
        rules.tell(f"line {before + broken.line} is left out: {broken.problem}")
    yield from taken.streams


def _evaluated(state: State, wait_ns: int, *, is_over: bool, is_idle: bool) -> list[dict[str, Any]]:
    """Judge each stream through its complete bins; what began and ended, in order of time."""
    out: list[tuple[int, dict[str, Any]]] = []
    for key, stream in state.streams.items():
        until = Until(_now(stream, wait_ns, is_over=is_over, is_idle=is_idle), wait_ns)
        step = _step(key, stream, state.plan, until)
        if step is None:
            continue
        out += [(f.raised or f.end, event("began", f)) for f in step.began]
        # Nothing ends before it began: a finding of one bin is raised at the bin's end.
        out += [(max(f.end, f.raised or f.end), event("ended", f)) for f in step.ended]
    return [one for _, one in sorted(out, key=lambda pair: pair[0])]


class Until(NamedTuple):
    """Bins that had ended `wait_ns` before `now_ns` are complete."""

    now_ns: int
    wait_ns: int = 0


def _step(
    key: str,
    stream: Stream,
    plan: Plan,
    until: Until,
    known: Sequence[Label] = (),
    days: tuple[KnownDay, ...] = (),
) -> Step | None:
    """Judge a stream through its complete bins; None where none is new."""
    whole = Input(key, stream.times, stream.values, stream.zone, days=days)
    reach = upkeep.complete(whole, plan, until.now_ns, until.wait_ns)
    through = stream.followed.through_ns
    if reach is None or (through is not None and reach.until_ns <= through):
        return None
    inside = stream.times < reach.until_ns
    step = watching.step(
        stream.followed,
        replace(whole, times=stream.times[inside], values=stream.values[inside]),
        plan,
        known,
        reach,
    )
    stream.followed = step.now
    return step


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
