"""A layout applied to rows, chunk by chunk: streams told apart, broken rows set aside with line and reason."""

import hashlib
import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from watchtide.core.series import LARGEST, Bools, Floats, Ints, cadence, distinct, keys, rollups
from watchtide.core.series.steps import Found
from watchtide.tables import clock, expressions
from watchtide.tables.chunks import Chunk, cell_text
from watchtide.tables.layout import FALSE, MISSING, NUMBER, Layout, part_kinds, whole_times
from watchtide.tables.problems import BrokenRow, Problem, TableError
from watchtide.tables.read import Raw

Attributes = tuple[tuple[str, str], ...]
MOST_CELL = 80
# Attribute values longer than this are no names but contents.
MOST_ATTRIBUTE = 500


@dataclass(frozen=True)
class StreamName:
    """Which stream rows belong to: its attributes in order, its metric, what role its column has, and whether a series key
    of the file names the metric."""

    attributes: Attributes
    metric: str
    role: str = "value"
    is_keyed: bool = False


@dataclass(frozen=True)
class StreamRows:
    """The rows of one stream, in file order: stamps in UTC ns, values with NaN for missing, labels."""

    key: str
    attributes: Attributes
    metric: str
    times: Ints
    values: Floats
    labelled: Bools | None = None
    role: str = "value"


@dataclass(frozen=True)
class Classed:
    """A waveform of another class than normal: code of its stream, first and last stamp in ns, and the word."""

    code: int
    start: int
    end: int
    word: str


@dataclass(frozen=True)
class Rows:
    """Good rows of a chunk, one an (row, number column): code of the stream, stamp, value, label."""

    codes: Ints
    times: Ints
    values: Floats
    labelled: Bools | None


@dataclass(frozen=True)
class Events:
    """Good rows of a chunk that are events: code of their attributes, stamp, and the fields by name."""

    codes: Ints
    times: Ints
    numbers: dict[str, Floats]
    hashes: dict[str, Ints]


@dataclass(frozen=True)
class Extracted:
    """Streams of a file, the rows set aside, and what was noticed; found : the cadence of the longest stream."""

    streams: tuple[StreamRows, ...]
    broken: tuple[BrokenRow, ...]
    problems: tuple[Problem, ...]
    rows: int
    found: Found
    form: str
    dropped: int = 0


class Extractor:
    """Applies a layout to the chunks of one file in their order.

    What has to be known across chunks is kept here: codes of streams in order of first appearance, the kind of
    stamp of the first chunk, and both passes of the hours that clocks repeat.
    """

    def __init__(self, layout: Layout, name: str) -> None:
        self.layout, self.name = layout, name
        self.attributes: list[Attributes] = []
        self.rows = self.aside = self.dropped = 0
        # Of rows that are waveforms: those whose class is not normal.
        self.classed: list[Classed] = []
        # The newest stamp of each stream of waveforms.
        self._latest: dict[int, int] = {}
        self.form = ""
        self._codes: dict[tuple[str, ...], int] = {}
        self._streams: list[StreamName] = []
        self._numbered: dict[tuple[int, int], int] = {}
        self._problems: dict[tuple[str, str], Problem] = {}
        self._passes = clock.Passes()
        self._columns: set[str] = set()
        self._scale: int | None = None
        self._keep = expressions.parse_condition(layout.keep) if layout.keep else None

    @property
    def problems(self) -> tuple[Problem, ...]:
        return tuple(self._problems.values())

    @property
    def streams(self) -> list[StreamName]:
        """Names of the streams by code; those of `take`, or the attributes of `take_events`."""
        return self._streams

    def take(self, chunk: Chunk) -> tuple[Rows, list[BrokenRow]]:
        """The samples of a chunk, and its broken rows."""
        layout = self.layout
        self._columns |= set(chunk.columns)
        numbers: dict[str, tuple[Floats, Bools, Bools]] = {}
        for column in layout.numbers:
            numbers[column] = numbers_of(self._column(chunk, column), layout.missing_words, layout.decimal)
        good, times, codes, broken = self._common(chunk, numbers)
        labelled = _label_mask(chunk, layout) if layout.label else None
        rows = np.flatnonzero(good)
        count = len(layout.numbers)
        if layout.wave_step_ns is None:
            per_column = [self._stream_codes(codes[rows], c) for c in range(count)]
            stamps = np.tile(times[rows], count)
        else:
            own = self._stream_codes(codes[rows], 0)
            per_column = [own] * count
            self._check_apart(chunk, own, times[rows], rows)
            if labelled is not None:
                self._classify(chunk, rows[labelled[rows]], own[labelled[rows]], times)
            stamps = (times[rows] + np.arange(count)[:, None] * layout.wave_step_ns).ravel()
        return Rows(
            np.concatenate(per_column),
            stamps,
            np.concatenate([numbers[c][0][rows] for c in layout.numbers]),
            np.tile(labelled[rows], len(per_column)) if labelled is not None else None,
        ), broken

    def _classify(self, chunk: Chunk, rows: Ints, codes: Ints, times: Ints) -> None:
        """Remember rows whose class is not normal. codes : (k,) of the streams of `rows`; times : of the whole chunk."""
        for row, code in zip(rows.tolist(), codes.tolist(), strict=True):
            start = int(times[row])
            self.classed.append(
                Classed(code, start, start + self.layout.wave_ns, cell(chunk, str(self.layout.label), row))
            )

    def _check_apart(self, chunk: Chunk, codes: Ints, times: Ints, rows: Ints) -> None:
        """Raise TableError where a waveform of a stream begins before the one before it is over."""
        # The latest of each stream in the chunks before goes first.
        known = np.array([*self._latest.items()], np.int64).reshape(-1, 2)
        codes, times = np.r_[known[:, 0], codes], np.r_[known[:, 1], times]
        lines = np.r_[np.zeros(len(known), np.int64), chunk.lines[rows]]
        order = np.lexsort((times, codes))
        near = (np.diff(times[order]) <= self.layout.wave_ns) & (np.diff(codes[order]) == 0)
        if near.any():
            at = int(np.argmax(near))
            long = f"which takes {self.layout.wave_ns / 1e9:g} s"
            raise TableError(
                self.name,
                f"line {int(lines[order[at : at + 2]].max())}",
                f"begins before the waveform before it is over, {long}",
                "state a shorter time from sample to sample, or a column that tells streams apart",
            )
        last = np.append(np.diff(codes[order]) > 0, np.ones(min(len(order), 1), np.bool_))
        self._latest = dict(zip(codes[order][last].tolist(), times[order][last].tolist(), strict=True))

    def take_events(self, chunk: Chunk) -> tuple[Events, list[BrokenRow]]:
        """The events of a chunk for a roll-up, and its broken rows."""
        assert self.layout.rollup is not None
        self._columns |= set(chunk.columns)
        measures = self.layout.rollup.measures
        wanted = dict.fromkeys(m.field for m in measures if m.field and m.how != "distinct")
        numbers = {
            str(f): numbers_of(self._column(chunk, str(f)), self.layout.missing_words, self.layout.decimal)
            for f in wanted
        }
        good, times, codes, broken = self._common(chunk, numbers)
        rows = np.flatnonzero(good)
        hashed = {
            str(m.field): hashes_of(self._column(chunk, str(m.field)))[rows]
            for m in measures
            if m.how == "distinct"
        }
        return Events(codes[rows], times[rows], {f: n[0][rows] for f, n in numbers.items()}, hashed), broken

    def _stamps(self, chunk: Chunk) -> tuple[pa.Array, str | None]:
        """The stamps of a chunk and their form; a year with the columns that complete it."""
        layout = self.layout
        column = self._column(chunk, layout.time)
        if not layout.time_parts:
            return column, layout.time_form or self.form or None
        kinds = part_kinds(layout.time_parts)
        form = {1: "month", 2: "date"}[len(kinds)] if kinds[0] == "month" else "quarter"
        return whole_times(column, [self._column(chunk, name) for name in layout.time_parts], kinds), form

    def _column(self, chunk: Chunk, name: str) -> pa.Array:
        if name not in chunk.columns:
            # A field that some lines have and all of this chunk lack is missing, not unknown.
            if not chunk.rows or name in self._columns:
                return pa.nulls(chunk.rows, pa.string())
            near = ", ".join(chunk.columns)
            raise TableError(self.name, f"column {name}", "is not in the file", f"its columns are {near}")
        return chunk.columns[name]

    def _common(
        self, chunk: Chunk, numbers: dict[str, tuple[Floats, Bools, Bools]]
    ) -> tuple[Bools, Ints, Ints, list[BrokenRow]]:
        """(good rows, UTC stamps, codes of attributes, broken rows) of a chunk."""
        layout, n = self.layout, chunk.rows
        broken = list(chunk.broken)
        if broken:
            self._note(
                "shape", "", len(broken), min(b.line for b in broken), broken[0].problem
                if "pattern" in broken[0].problem or "JSON" in broken[0].problem
                else "wrong number of columns (cut off, or a stray delimiter)",
                "complete the row, or quote the field", sets_aside=True,
            )  # fmt: skip
        wanted = np.ones(n, np.bool_)
        if self._keep is not None and n:
            looked_at = {c: self._column(chunk, c) for c in sorted(expressions.columns_of(self._keep))}
            wanted = expressions.holds(self._keep, looked_at, n)
            self.dropped += int(n - wanted.sum())
        why: dict[int, tuple[str, str]] = {}
        bad = np.zeros(n, np.bool_)

        def mark(mask: Bools, column: str, kind: str, message: str, remedy: str) -> None:
            rows = np.flatnonzero(mask & ~bad & wanted)
            if len(rows) == 0:
                return
            for row in rows:
                why[int(row)] = (column, message.format(text=cell(chunk, column, int(row))))
            bad[rows] = True
            text = message.format(text=cell(chunk, column, int(rows[0])))
            self._note(kind, column, len(rows), int(chunk.lines[rows[0]]), text, remedy, sets_aside=True)

        parsed = clock.parse(*self._stamps(chunk), scale=self._scale)
        if not self.form and n and not parsed.bad.all():
            self.form, self._scale = parsed.form, parsed.scale
        other = "{text!r} is another kind of stamp than the column's"
        mark(parsed.other, layout.time, "time form", other, "write all stamps in one form")
        mark(parsed.bad, layout.time, "time", "{text!r} is no time", "write 2026-08-22T09:15:00Z")
        for column, (_, wrong, endless) in numbers.items():
            no_number = "take it as missing, or correct the row"
            mark(wrong, column, "number", "{text!r} is not a number", no_number)
            beyond = f"{{text!r}} is not finite, or beyond {LARGEST:g}"
            mark(endless, column, "number", beyond, "leave the cell empty for a missing value")
        codes = self._tell_apart(chunk, mark)
        times = parsed.times
        if parsed.is_local:
            local = clock.localise(times, layout.zone, codes, self._passes)
            times = local.times
            self._note_clock(chunk, local, bad)
        for row, (column, message) in sorted(why.items()):
            broken.append(BrokenRow(int(chunk.lines[row]), column, message, _row_text(chunk, row)))
        good = ~bad & wanted
        self.rows += int(good.sum())
        self.aside += len(broken)
        return good, times, codes, sorted(broken, key=lambda b: b.line)

    def _tell_apart(self, chunk: Chunk, mark: Callable[..., None]) -> Ints:
        """(rows,) code of each row's attributes, in order of first appearance in the file."""
        names, n = self.layout.series, chunk.rows
        if not names or n == 0:
            if n and not self.attributes:
                self.attributes.append(())
            return np.zeros(n, np.int64)
        combined = np.zeros(n, np.int64)
        dictionaries: list[list[str]] = []
        for name in names:
            column = pc.fill_null(self._column(chunk, name).cast(pa.string()), "")
            encoded = column.dictionary_encode()
            words = encoded.dictionary.to_pylist()
            if max(map(len, words), default=0) > MOST_ATTRIBUTE:
                long = np.asarray(pc.greater(pc.utf8_length(column), MOST_ATTRIBUTE))
                mark(
                    long,
                    name,
                    "name",
                    f"a name longer than {MOST_ATTRIBUTE} characters",
                    "leave the column out",
                )
            if name == self.layout.key_column:
                no_key = [w for w in words if not keys.is_key(w)]
                if no_key:
                    mask = np.asarray(pc.is_in(column, pa.array(no_key)))
                    mark(mask, name, "key", "{text!r} is no series key", "write name=value, joined by commas")
            dictionaries.append(words)
            combined = combined * len(words) + np.asarray(encoded.indices, np.int64)
        distinct, first, inverse = _distinct(combined, int(np.prod([float(len(d)) for d in dictionaries])))
        codes = np.empty(len(distinct), np.int64)
        for place in np.argsort(first):
            value, pairs = int(distinct[place]), []
            for words in reversed(dictionaries):
                value, index = divmod(value, len(words))
                pairs.append(words[index])
            pick = tuple(reversed(pairs))
            if pick not in self._codes:
                self._codes[pick] = len(self.attributes)
                self.attributes.append(_pairs_of(names, pick, self.layout.key_column))
            codes[place] = self._codes[pick]
        return codes[inverse]

    def _stream_codes(self, codes: Ints, column: int) -> Ints:
        """Codes of streams for one number column, numbered as they appear."""
        layout = self.layout
        name = layout.numbers[column]
        table = np.full(len(self.attributes), -1, np.int64)
        for code in np.flatnonzero(np.bincount(codes, minlength=len(self.attributes))) if len(codes) else ():
            key = (column, int(code))
            if key not in self._numbered:
                self._numbered[key] = len(self._streams)
                self._streams.append(_stream_name(layout, name, self.attributes[code]))
            table[code] = self._numbered[key]
        return table[codes]

    def _note(
        self, kind: str, column: str, count: int, line: int | None, message: str, remedy: str, *, sets_aside: bool
    ) -> None:  # fmt: skip
        known = self._problems.get((kind, column))
        self._problems[kind, column] = (
            replace(known, count=known.count + count)
            if known
            else Problem(kind, count, line, column, message, remedy, sets_aside)
        )

    def _note_clock(self, chunk: Chunk, local: clock.Localised, bad: Bools) -> None:
        repeated = (
            "fall in the hour that clocks repeat; file order tells them apart, else the first pass is taken"
        )
        skipped = "fall in the hour that clocks skip; read with the offset before the change"
        for mask, kind, message in (
            (local.repeated, "repeated hour", repeated),
            (local.skipped, "skipped hour", skipped),
        ):
            rows = np.flatnonzero(mask & ~bad)
            if len(rows):
                line = int(chunk.lines[rows[0]])
                self._note(kind, self.layout.time, len(rows), line, message, "fine", sets_aside=False)


def _pairs_of(names: Sequence[str], words: Sequence[str], key_column: str | None) -> Attributes:
    """The attributes of a row; a series key stands for those it holds."""
    out: list[tuple[str, str]] = []
    for name, word in zip(names, words, strict=True):
        out += keys.decode(word) if name == key_column and keys.is_key(word) else [(name, word)]
    return tuple(out)


def _stream_name(layout: Layout, column: str, attributes: Attributes) -> StreamName:
    role = layout.role(column)
    if layout.key_column and len(layout.values) == 1 and attributes[:1] and attributes[0][0] == "metric":
        # Keys of ours put the metric first.
        return StreamName(attributes[1:], attributes[0][1], role, True)
    if layout.wave_step_ns is not None:
        return StreamName(attributes, layout.metric or re.sub(r"[\W_]*\d+$", "", column) or "wave")
    if role == "value" and layout.wide_name:
        return StreamName((*attributes, (layout.wide_name, column)), layout.metric or "value")
    if role == "value" and layout.metric and len(layout.values) == 1:
        return StreamName(attributes, layout.metric)
    return StreamName(attributes, column, role)


def _distinct(combined: Ints, size: int) -> tuple[Ints, Ints, Ints]:
    """np.unique with first index and inverse; by a table where the codes are few, which is much faster."""
    if size > 1 << 22:
        return np.unique(combined, return_index=True, return_inverse=True)
    table = np.full(size, -1, np.int64)
    # The last write of equal ones stays: going backwards it is the first.
    table[combined[::-1]] = np.arange(len(combined) - 1, -1, -1)
    distinct = np.flatnonzero(table >= 0)
    first = table[distinct]
    table[distinct] = np.arange(len(distinct))
    return distinct, first, table[combined]


def extract(raw: Raw, layout: Layout) -> Extracted:
    """Apply a layout to a whole file held in memory; see `Extractor`.

    Raises TableError where no row has a stamp or the right shape, and for equal stamps under `refuse`.
    """
    if raw.rows == 0:
        raise TableError(
            raw.name, "the rows", "every row has the wrong number of columns", "check the delimiter"
        )
    extractor = Extractor(layout, raw.name)
    rows, broken = extractor.take(raw.chunk())
    no_times = [p for p in extractor.problems if p.column == layout.time and p.sets_aside]
    if extractor.rows == 0 and sum(p.count for p in no_times) == raw.rows:
        shown = cell(raw.chunk(), layout.time, 0)
        raise TableError(
            raw.name, f"line {raw.line(0)}, column {layout.time}", f"{shown!r} is no time, nor is any other row's",
            "choose the time column, or write stamps as 2026-08-22T09:15:00Z",
        )  # fmt: skip
    streams = gather(extractor, [rows])
    problems = [*extractor.problems, *duplicates_in(streams, layout)]
    all_times = max(streams, key=lambda s: len(s.times)).times if streams else np.empty(0, np.int64)
    found = cadence.find(all_times, lambda t: clock.utc_locals(t, layout.zone))
    return Extracted(
        tuple(streams),
        tuple(broken),
        tuple(problems),
        extractor.rows,
        found,
        extractor.form,
        extractor.dropped,
    )


def gather(extractor: Extractor, parts: Sequence[Rows]) -> list[StreamRows]:
    """Rows of chunks as whole streams, in order of their codes."""
    layout = extractor.layout
    codes = np.concatenate([p.codes for p in parts]) if parts else np.empty(0, np.int64)
    times = np.concatenate([p.times for p in parts]) if parts else np.empty(0, np.int64)
    values = np.concatenate([p.values for p in parts]) if parts else np.empty(0)
    has_labels = layout.label is not None and bool(parts)
    labelled = np.concatenate([p.labelled for p in parts if p.labelled is not None]) if has_labels else None
    order = np.argsort(codes, kind="stable")
    edges = np.searchsorted(codes[order], np.arange(len(extractor.streams) + 1))
    many = len(layout.numbers) > 1 and not (layout.wide_name and len(layout.numbers) == len(layout.values))
    out = []
    for code, name in enumerate(extractor.streams):
        rows = order[edges[code] : edges[code + 1]]
        named = ((("metric", name.metric),) if many or name.is_keyed else ()) + name.attributes
        out.append(
            StreamRows(
                keys.encode(named), name.attributes, name.metric, times[rows], values[rows],
                labelled[rows] if labelled is not None else None, name.role,
            )
        )  # fmt: skip
    return out


def duplicates_in(streams: Sequence[StreamRows], layout: Layout) -> list[Problem]:
    """What equal stamps there are, and what becomes of them. Raises TableError under `refuse`."""
    for s in streams:
        if layout.duplicates == "refuse" and len(distinct(s.times)) < len(s.times):
            times = np.sort(s.times)
            at = clock.format_time(int(times[1:][np.diff(times) == 0][0]))
            raise TableError(
                "the file",
                f"stream {s.key or '(the only one)'}",
                f"{at} stands twice",
                "allow mean, last or first",
            )
    count = sum(len(s.times) - len(distinct(s.times)) for s in streams)
    if not count:
        return []
    becomes = {"mean": "they are combined in their bin", "last": "the last stays", "first": "the first stays"}
    text = "stamps stand twice in the same stream"
    return [Problem("duplicates", count, None, "", text, becomes[layout.duplicates], False)]


def without_doubles(times: Ints, values: Floats, rule: str) -> tuple[Ints, Floats, Ints]:
    """(stamps in order, values, rows behind each) with equal stamps combined by the rule.

    rule : `mean` of those not missing, `last` or `first` in file order; `refuse` raises TableError.
    """
    order = np.argsort(times, kind="stable")
    times, values = times[order], values[order]
    if len(times) < 2 or np.all(np.diff(times) > 0):
        return times, values, np.ones(len(times), np.int64)
    starts = np.flatnonzero(np.r_[True, np.diff(times) > 0])
    counts = np.diff(np.r_[starts, len(times)])
    match rule:
        case "refuse":
            at = clock.format_time(int(times[1:][np.diff(times) == 0][0]))
            raise TableError("the file", "", f"{at} stands twice in a stream", "allow mean, last or first")
        case "first":
            return times[starts], values[starts], counts
        case "last":
            return times[starts], values[starts + counts - 1], counts
    seen = ~np.isnan(values)
    sums, n = (
        np.add.reduceat(np.where(seen, values, 0), starts),
        np.add.reduceat(seen.astype(np.int64), starts),
    )
    with np.errstate(invalid="ignore"):
        return times[starts], np.where(n > 0, sums / n, np.nan), n


def numbers_of(
    column: pa.Array, missing_words: Sequence[str] = (), decimal: str = "."
) -> tuple[Floats, Bools, Bools]:
    """Values with NaN for missing, rows that are no number, rows that are not finite or too large."""
    n = len(column)
    kind = column.type
    if pa.types.is_null(kind):
        return np.full(n, np.nan), np.zeros(n, np.bool_), np.zeros(n, np.bool_)
    if pa.types.is_floating(kind) or pa.types.is_integer(kind) or pa.types.is_boolean(kind) or pa.types.is_decimal(kind):  # fmt: skip
        values = np.array(
            column.cast(pa.float64(), safe=False).to_numpy(zero_copy_only=False), dtype=np.float64
        )
        endless = np.abs(values) > LARGEST
        return np.where(endless, np.nan, values), np.zeros(n, np.bool_), endless
    quick = _all_numbers(column, decimal)
    if quick is not None:
        return quick
    text = pc.fill_null(pc.utf8_trim_whitespace(column.cast(pa.string())), "")
    if decimal == ",":
        text = pc.replace_substring(text, ",", ".")
    matches = pc.match_substring_regex(text, NUMBER)
    values = np.full(n, np.nan)
    good = np.asarray(matches)
    values[good] = np.asarray(text.filter(matches).cast(pa.float64()))
    low = pc.utf8_lower(text.filter(pc.invert(matches)))
    words = pa.array([*MISSING, *(w.lower() for w in missing_words)])
    missing = np.zeros(n, np.bool_)
    missing[~good] = np.asarray(pc.is_in(low, words))
    endless = np.abs(values) > LARGEST
    named = np.zeros(n, np.bool_)
    named[~good] = np.asarray(pc.match_substring_regex(low, r"^[+-]?inf(inity)?$"))
    return np.where(endless, np.nan, values), ~good & ~missing & ~named, endless | named


def _all_numbers(column: pa.Array, decimal: str) -> tuple[Floats, Bools, Bools] | None:
    """The whole column at once where every cell is a plain number or empty."""
    try:
        text = pc.replace_substring(column, ",", ".") if decimal == "," else column
        if pc.any(pc.equal(text, "")).as_py():
            text = pc.if_else(pc.equal(text, ""), pa.scalar(None, pa.string()), text)
        values = np.array(text.cast(pa.float64()).to_numpy(zero_copy_only=False), dtype=np.float64)
    except (pa.ArrowInvalid, pa.ArrowNotImplementedError):
        return None
    if np.any(np.abs(values) > LARGEST):
        return None
    none = np.zeros(len(column), np.bool_)
    return values, none, none


def hashes_of(column: pa.Array) -> Ints:
    """(n,) 64-bit hash of each cell as text."""
    encoded = pc.fill_null(column.cast(pa.string()), "").dictionary_encode()
    table = np.array(
        [
            int.from_bytes(hashlib.blake2b(word.encode(), digest_size=8).digest(), "little", signed=True)
            for word in encoded.dictionary.to_pylist()
        ],
        np.int64,
    )
    if len(table) == 0:
        return np.empty(0, np.int64)
    return rollups.mix(table)[np.asarray(encoded.indices)]


def _label_mask(chunk: Chunk, layout: Layout) -> Bools:
    column = chunk.columns[str(layout.label)]
    if pa.types.is_boolean(column.type):
        return np.asarray(pc.fill_null(column, False))
    text = pc.utf8_lower(pc.utf8_trim_whitespace(pc.fill_null(column.cast(pa.string()), "")))
    # A column of kinds: any word but a no is a known anomaly.
    return ~np.asarray(pc.is_in(text, pa.array([*FALSE, "none", "normal"])))


def cell(chunk: Chunk, column: str, row: int) -> str:
    """The beginning of one cell as text."""
    return cell_text(chunk.columns[column], row)[:MOST_CELL] if column in chunk.columns else ""


def _row_text(chunk: Chunk, row: int) -> str:
    return ",".join(cell(chunk, name, row) for name in chunk.columns)
