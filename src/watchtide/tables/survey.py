"""A look at a file before anything is stored: columns with pictures, first and random rows, what is wrong, and
what it will become. Files beyond a stated size are looked at in part, and the answer says so."""

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.parquet as papq

from watchtide.core.series import SECOND_NS, Bools, Floats, Ints, cadence, calendar, distinct, gridding, steps
from watchtide.core.series.steps import Cadence, Found
from watchtide.tables import chunks, clock, extract, layout, rollup, shape
from watchtide.tables.chunks import Chunk
from watchtide.tables.extract import StreamRows, numbers_of
from watchtide.tables.layout import Layout
from watchtide.tables.problems import BrokenRow, Problem, TableError
from watchtide.tables.read import Raw
from watchtide.tables.shape import Shape, Source

FIRST_ROWS, RANDOM_ROWS = 6, 6
PICTURE_ROWS = 100_000
MOST_BROKEN = 10_000
MOST_LOOKED_AT = 32 << 20
# Gaps are looked for in this many streams; more say nothing new.
GAP_STREAMS = 200
HOUR_NS = 3_600 * SECOND_NS


@dataclass(frozen=True)
class Picture:
    """A column at a glance: kind is times, numbers or texts; labels are the ends or the most frequent words."""

    kind: str
    bars: list[int]
    labels: list[str]


@dataclass(frozen=True)
class ColumnLook:
    name: str
    role: str
    reason: str
    missing: float
    distinct: int
    picture: Picture


@dataclass(frozen=True)
class RowLook:
    line: int
    cells: list[str]
    broken_column: str | None


@dataclass(frozen=True)
class Survey:
    """What was seen. rows, rows_fit, rows_aside and dropped count the part looked at; `about_rows` is the estimate
    for the whole file where only a part was."""

    shape: Shape
    layout: Layout
    columns: list[ColumnLook]
    first_rows: list[RowLook]
    random_rows: list[RowLook]
    problems: tuple[Problem, ...]
    broken: tuple[BrokenRow, ...]
    streams: list[StreamRows]
    rows: int
    rows_fit: int
    rows_aside: int
    dropped: int
    first_ns: int | None
    last_ns: int | None
    found: Found
    is_whole: bool
    about_rows: int


def survey(
    source: Source,
    name: str,
    choose: Callable[[Raw], Layout],
    *,
    stated: dict[str, Any] | None = None,
    most_bytes: int = MOST_LOOKED_AT,
    seed: int = 0,
    progress: Callable[[int, int], None] | None = None,
) -> Survey:
    """Look a file through.

    choose : makes the layout from the file's first rows. stated : of `shape.sniff`. seed : of the random rows.
    progress : called with the bytes read so far and those to be read in all.
    Raises TableError for what cannot be read at all.
    """
    how = shape.sniff(source, name, **(stated or {}))
    size = chunks.size_of(source)
    extractor: extract.Extractor | None = None
    roller: rollup.Roller | None = None
    head: Chunk | None = None
    parts: list[extract.Rows] = []
    broken: list[BrokenRow] = []
    sample = _Sample(seed)
    rows = seen = 0
    is_whole = True
    chunk_bytes = min(chunks.CHUNK_BYTES, max(1 << 20, most_bytes // 8))
    for chunk in chunks.read_chunks(source, how, name, chunk_bytes=chunk_bytes):
        if extractor is None:
            head = chunk
            chosen = choose(Raw(name, how, chunk.columns, chunk.rows, chunk.lines, size, chunk.broken))
            extractor = extract.Extractor(chosen, name)
            roller = rollup.Roller(extractor) if chosen.rollup else None
        if roller:
            events, aside = extractor.take_events(chunk)
            roller.add(events)
        else:
            taken, aside = extractor.take(chunk)
            parts.append(taken)
        broken += aside[: MOST_BROKEN - len(broken)]
        sample.add(chunk)
        rows += chunk.rows + len(chunk.broken)
        seen += _text_bytes(chunk)
        if progress is not None:
            progress(
                min(seen, most_bytes), most_bytes if how.is_gzipped else min(max(size, seen), most_bytes)
            )
        if seen > most_bytes:
            is_whole = False
            break
    if extractor is None or head is None:
        raise TableError(name, "", "no rows", "choose another file")
    _refuse_unusable(extractor, head, name, rows)
    streams = roller.streams() if roller else extract.gather(extractor, parts)
    about = rows if is_whole else _about(source, how, seen, rows)
    found, first, last = _cadence(streams, extractor.layout)
    problems = [*extractor.problems]
    if not roller:
        problems += [
            *extract.duplicates_in(streams, extractor.layout),
            *gaps(streams, found, extractor.layout.zone),
        ]
    bad = {b.line: b.column for b in broken}
    return Survey(
        how, extractor.layout, [_column(head, extractor.layout, c) for c in head.columns],
        _rows(head, bad), sample.rows(bad), tuple(problems), tuple(broken), streams, rows, extractor.rows,
        extractor.aside, extractor.dropped, first, last, found, is_whole, about,
    )  # fmt: skip


def _refuse_unusable(extractor: extract.Extractor, head: Chunk, name: str, rows: int) -> None:
    if extractor.rows or extractor.dropped:
        return
    time = extractor.layout.time
    if head.rows == 0:
        raise TableError(name, "the rows", "every row has the wrong number of columns", "check the delimiter")
    if sum(p.count for p in extractor.problems if p.column == time) >= min(rows, head.rows):
        shown = extract.cell(head, time, 0)
        raise TableError(
            name, f"line {int(head.lines[0])}, column {time}", f"{shown!r} is no time, nor is any other row's",
            "choose the time column, or write stamps as 2026-08-22T09:15:00Z",
        )  # fmt: skip


def _about(source: Source, how: Shape, seen: int, rows: int) -> int:
    """Rows of the whole file: as its footer says, else from the bytes a row took in the part looked at."""
    if how.kind == "parquet" and not how.is_gzipped and not isinstance(source, bytes):
        return int(papq.read_metadata(str(source)).num_rows)
    # A packed text is about five times as long unpacked.
    whole = chunks.size_of(source) * (5 if how.is_gzipped else 1)
    return max(rows, int(round(rows * whole / max(seen, 1), -3)))


def _text_bytes(chunk: Chunk) -> int:
    """Bytes a chunk takes in its file: cells and one mark behind each."""
    strings = [c for c in chunk.columns.values() if pa.types.is_string(c.type)]
    others = [c for c in chunk.columns.values() if not pa.types.is_string(c.type)]
    cells = sum(int(pc.sum(pc.binary_length(c)).as_py() or 0) for c in strings) + sum(
        c.nbytes for c in others
    )
    return cells + chunk.rows * len(chunk.columns)


def _cadence(streams: list[StreamRows], chosen: Layout) -> tuple[Found, int | None, int | None]:
    """The cadence of the longest stream, and the first and last stamp of all."""
    longest = max(streams, key=lambda s: len(s.times), default=None)
    if longest is None or len(longest.times) == 0:
        return cadence.find(np.empty(0, np.int64)), None, None
    if chosen.rollup:
        found = Found(steps.fixed(chosen.rollup.every_ns), 1.0)
    else:
        found = _cadence_of(longest.times, chosen.zone)
    filled = [s.times for s in streams if len(s.times)]
    return found, min(int(t.min()) for t in filled), max(int(t.max()) for t in filled)


def _cadence_of(times: Ints, zone: str) -> Found:
    return cadence.find(times, lambda t: clock.utc_locals(t, zone))


class _Sample:
    """Random rows of a file read once: each row has the same chance (Vitter 1985, by random priorities)."""

    def __init__(self, seed: int) -> None:
        self._rng = np.random.default_rng(seed)
        self._kept: list[tuple[float, int, list[str]]] = []

    def add(self, chunk: Chunk) -> None:
        priority = self._rng.random(chunk.rows)
        for row in np.argsort(priority)[:RANDOM_ROWS].tolist():
            self._kept.append((float(priority[row]), int(chunk.lines[row]), _cells(chunk, row)))
        self._kept = sorted(self._kept)[:RANDOM_ROWS]

    def rows(self, bad: dict[int, str]) -> list[RowLook]:
        kept = sorted(self._kept, key=lambda k: k[1])
        return [RowLook(line, cells, bad.get(line)) for _, line, cells in kept]


def _cells(chunk: Chunk, row: int) -> list[str]:
    return [chunks.cell_text(column, row)[:60] for column in chunk.columns.values()]


def _rows(head: Chunk, bad: dict[int, str]) -> list[RowLook]:
    """The first rows, with the first broken ones among them."""
    lines = {int(line): i for i, line in enumerate(head.lines[:2000])}
    broken = [i for line, i in lines.items() if line in bad][:2]
    rows = sorted({*range(min(head.rows, FIRST_ROWS - len(broken))), *broken})
    return [RowLook(int(head.lines[i]), _cells(head, i), bad.get(int(head.lines[i]))) for i in rows]


def _column(head: Chunk, chosen: Layout, name: str) -> ColumnLook:
    """A column's role, why, and a picture: when, how large, or the most frequent words."""
    column = head.columns[name].slice(0, PICTURE_ROWS)
    role = chosen.role(name)
    text = _as_text(column)
    values, wrong, _ = numbers_of(column, chosen.missing_words, chosen.decimal)
    seen = values[~np.isnan(values)]
    missing = np.isnan(values) & ~wrong if role in ("value", "covariate") else np.asarray(pc.equal(text, ""))
    if role == "time":
        parsed = clock.parse(column, form=chosen.time_form)
        good = parsed.times[~parsed.bad]
        # In seconds: nanoseconds of one short moment are too close together for the bins.
        bars = _histogram(good / SECOND_NS, 40)[0].tolist() if len(good) else []
        picture = Picture("times", bars, [])
    elif len(seen) > 0.5 * max(len(values) - int(missing.sum()), 1) and role != "series":
        counts, edges = _histogram(seen)
        picture = Picture("numbers", counts.tolist(), [f"{edges[0]:g}", f"{edges[-1]:g}"])
    else:
        words = pc.value_counts(text)
        counts = np.asarray(words.field(1))
        top = np.argsort(-counts, kind="stable")[:6]
        names = words.field(0)
        picture = Picture("texts", counts[top].tolist(), [str(names[int(i)].as_py())[:40] for i in top])
    share = float(missing.mean()) if len(missing) else 0.0
    reason = chosen.reasons.get(name, "not used")
    return ColumnLook(name, role, reason, share, int(pc.count_distinct(text).as_py()), picture)


def _as_text(column: pa.Array) -> pa.Array:
    try:
        text = column.cast(pa.string())
    except pa.ArrowInvalid:
        # Stamps that no calendar has.
        text = column.cast(pa.int64()).cast(pa.string())
    return pc.utf8_trim_whitespace(pc.fill_null(text, ""))


def _histogram(seen: Floats, bins: int = 24) -> tuple[Ints, Floats]:
    """Counts and edges; values too close together, or too far apart, to be told apart fall into one bin."""
    low, high = float(seen.min()), float(seen.max())
    if not np.isfinite(high - low) or high - low < 1e-9 * max(abs(low), abs(high), 1e-300):
        return np.array([len(seen)]), np.array([low, high])
    return np.histogram(seen, bins=bins)


def gaps(streams: list[StreamRows], usual: Found, zone: str) -> list[Problem]:
    """Stretches without rows: one in every stream is the source's, one in some is theirs, one without end is silence."""
    found: dict[tuple[int, int], int] = {}
    odd = silent = looked = 0
    change: Found | None = None
    ends = [int(s.times.max()) for s in streams if len(s.times)]
    whole_end = max(ends, default=0)
    for s in streams[:GAP_STREAMS]:
        times = distinct(s.times)
        if len(times) < 3:
            continue
        looked += 1
        own = _cadence_of(times, zone)
        change = change or (own if own.change else None)
        odd += own.cadence != usual.cadence
        step = own.cadence.step_ns
        for at in np.flatnonzero(_is_gap(times, own.cadence, zone))[:200]:
            # Between calendar stamps nothing says how long a step is: the stamps on either side are named.
            inner = step if own.cadence.is_even else 0
            span = (int(times[at]) + inner, int(times[at + 1]) - inner)
            found[span] = found.get(span, 0) + 1
        silent += whole_end - int(times[-1]) > 10 * step
    out = []
    for span, count in sorted(found.items(), key=lambda f: (-f[1], f[0][0] - f[0][1]))[:2]:
        if looked > 1 and count == looked:
            text = f"a gap in every stream: {_span(*span, zone)}; the source was silent"
            out.append(Problem("gap", count, None, "", text, "fine", False))
    own_gaps = [(span, count) for span, count in found.items() if looked == 1 or count < looked]
    if own_gaps:
        longest = max(own_gaps, key=lambda f: f[0][1] - f[0][0])[0]
        text = f"gaps in single streams; the longest is {_span(*longest, zone)}"
        out.append(Problem("gaps", sum(c for _, c in own_gaps), None, "", text, "fine", False))
    if silent:
        text = "streams end long before the others: silent, or gone for good"
        out.append(Problem("silence", silent, None, "", text, "fine", False))
    if change is not None and change.change is not None:
        at = clock.format_time(change.change.begins_ns)
        text = f"the cadence becomes coarser on the way, at {at}; the coarser one rules"
        out.append(
            Problem("cadence change", 1, None, "", text, "fine; state --every to choose another", False)
        )
    if odd:
        text = "streams have another cadence than most; each keeps its own"
        out.append(Problem("cadence", odd, None, "", text, "fine", False))
    return out


def _is_gap(times: Ints, own: Cadence, zone: str) -> Bools:
    """(n - 1,) whether something is missing between neighbours: more than a step and a half, of calendars more than one place."""
    if own.kind == "months":
        months = calendar.month_of(clock.utc_locals(times, zone)) // own.months
        return np.asarray(np.diff(months) > 1)
    if own.kind == "workday":
        places = gridding.lay_workdays(clock.utc_locals(times, zone), own).bins
        return np.asarray(np.diff(places) > 1)
    return np.asarray(np.diff(times) > 1.5 * own.step_ns)


def _span(start: int, stop: int, zone: str) -> str:
    times = np.array([start, stop], np.int64)
    local = (times + clock.utc_offsets(times, zone)).astype("datetime64[ns]")
    a, b = (str(t)[:16].replace("T", " ") for t in local)
    return a if start == stop else f"{a} to {b[11:] if a[:10] == b[:10] else b}"


def thumbnail(times: Ints, values: Floats, n: int = 120) -> list[float | None]:
    """The first stretch of a stream as a line of at most n points."""
    order = np.argsort(times, kind="stable")[: 8 * n]
    y = values[order]
    step = max(1, len(y) // n)
    return [None if np.isnan(v) else float(v) for v in y[::step][:n]]


def choose_by(stated: dict[str, Any]) -> Callable[[Raw], Layout]:
    """The guess with what is stated, for `survey`."""
    return lambda raw: layout.guess(raw, **stated)
