"""Which column is what: guessed with reasons, corrected by the user, and applied to the rows."""

import re
from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from watchtide.core import keys
from watchtide.core.series import Bools, Floats, Ints, infer_step, share_of_step
from watchtide.tables import clock
from watchtide.tables.problems import BrokenRow, Problem, TableError
from watchtide.tables.read import Raw

NUMBER = r"^[+-]?(\d+(\.\d*)?|\.\d+)([eE][+-]?\d+)?$"
MISSING = ("", "nan", "null", "none", "na", "n/a")
TRUE, FALSE = ("true", "yes", "t", "1"), ("false", "no", "f", "0", "")
ROLES = ("time", "value", "series", "label", "leave out")
SAMPLE_ROWS = 5_000
# Text columns with more different values than this tell rows apart, not streams.
MOST_STREAMS = 20_000


@dataclass(frozen=True)
class Layout:
    """Roles of columns; zone None means stamps carry an offset or are UTC."""

    time: str
    values: tuple[str, ...]
    series: tuple[str, ...] = ()
    label: str | None = None
    zone: str = "UTC"
    reasons: dict[str, str] = field(default_factory=dict)
    suggested_label: str | None = None

    def role(self, column: str) -> str:
        if column == self.time:
            return "time"
        if column in self.values:
            return "value"
        if column in self.series:
            return "series"
        return "label" if column == self.label else "leave out"


@dataclass(frozen=True)
class StreamRows:
    """The rows of one stream, in file order: stamps in UTC ns, values with NaN for missing, labels."""

    key: str
    attributes: tuple[tuple[str, str], ...]
    metric: str
    times: Ints
    values: Floats
    labelled: Bools | None = None


@dataclass(frozen=True)
class Extracted:
    """Streams of a file, the rows set aside, and what was noticed."""

    streams: tuple[StreamRows, ...]
    broken: tuple[BrokenRow, ...]
    problems: tuple[Problem, ...]
    rows: int
    step_ns: int
    step_share: float
    form: str


def guess(raw: Raw, *, zone: str = "UTC", **stated: Any) -> Layout:
    """The likely layout with a reason a column; `stated` roles (time, values, series, label) stand.

    Raises TableError when a stated column is not there, or no column can be the time or the value.
    """
    named = [
        stated.get("time"),
        stated.get("label"),
        *(stated.get("values") or ()),
        *(stated.get("series") or ()),
    ]
    for name in named:
        if name is not None and name not in raw.columns:
            near = ", ".join(raw.columns)
            raise TableError(raw.name, f"column {name}", "is not in the file", f"its columns are {near}")
    sample = {name: column.slice(0, SAMPLE_ROWS) for name, column in raw.columns.items()}
    reasons: dict[str, str] = {}
    time = stated.get("time") or _guess_time(raw, sample, reasons)
    label = stated.get("label")
    taken = {time, *named}
    values = tuple(stated.get("values") or ())
    series = tuple(stated["series"]) if stated.get("series") is not None else None
    suggested = None
    found_values, found_series = [], []
    for name, column in sample.items():
        if name in taken:
            reasons.setdefault(name, "as stated")
            continue
        kind, reason = _look_at(name, column, raw)
        reasons[name] = reason
        if kind == "label" and suggested is None:
            suggested = name
        elif kind == "value":
            found_values.append(name)
        elif kind == "series":
            found_series.append(name)
    if not values:
        if not found_values:
            raise TableError(
                raw.name,
                "line 1",
                f"no column holds numbers (columns: {', '.join(raw.columns)})",
                "name one with --value",
            )
        values = (_likeliest_value(found_values),)
        for other in found_values:
            if other not in values:
                reasons[other] = (
                    "numbers, but another column looks more like the value; state it to take it too"
                )
    if series is None:
        series = tuple(found_series)
    return Layout(time, values, series, label, zone, reasons, suggested)


def _guess_time(raw: Raw, sample: dict[str, pa.Array], reasons: dict[str, str]) -> str:
    best: tuple[float, str, str] = (0.0, "", "")
    for name, column in sample.items():
        if pa.types.is_floating(column.type) or pa.types.is_boolean(column.type):
            continue
        parsed = clock.parse(column)
        share = float(np.mean(~parsed.bad)) if len(parsed.bad) else 0.0
        named = bool(re.search(r"time|date|stamp|^ts$|^t$|when", name, re.I))
        # Whole numbers can be times by chance; a name decides.
        score = share * (1.0 if parsed.form != "epoch" or named else 0.5) + 0.1 * named * (share > 0.2)
        if share > 0.2 and score > best[0]:
            best = (score, name, f"{parsed.form}; {share:.0%} of the first rows read as times")
    if not best[1]:
        names = ", ".join(raw.columns)
        raise TableError(
            raw.name, "line 1", f"no column holds times (columns: {names})", "name one with --time"
        )
    reasons[best[1]] = best[2]
    return best[1]


def _look_at(name: str, column: pa.Array, raw: Raw) -> tuple[str, str]:
    """(value | series | label | leave out, why) of a column that is not the time."""
    if pa.types.is_boolean(column.type):
        return "label", "true or false"
    if pa.types.is_floating(column.type) or pa.types.is_integer(column.type):
        return "value", "numbers"
    if not pa.types.is_string(column.type):
        column = column.cast(pa.string())
    text = pc.utf8_lower(pc.utf8_trim_whitespace(column))
    distinct = pc.unique(text).to_pylist()
    if all((v or "") in TRUE + FALSE for v in distinct) and re.search(
        r"anomal|label|outlier|incident|is_|flag", name, re.I
    ):
        return "label", "true or false by its name"
    filled = pc.fill_null(text, "")
    missing = np.asarray(pc.is_in(filled, pa.array(MISSING)))
    numeric = np.asarray(pc.match_substring_regex(filled, NUMBER))
    share = float(numeric.sum()) / max(int((~missing).sum()), 1)
    if (~missing).any() and share > 0.5:
        whole = (
            len(distinct) == len(text)
            and len(text) > 20
            and re.search(r"(^|_)id$|row|index|number", name, re.I)
        )
        if whole:
            return "leave out", "different in every row: it numbers the rows"
        return "value", "numbers" if share == 1 else f"numbers in {share:.0%} of the first rows"
    # Counted over the whole column: the first rows of many streams may hold each of them once.
    count = pc.count_distinct(raw.columns[name]).as_py()
    share = 2 if raw.rows < 40 else 8
    if count <= max(1, min(MOST_STREAMS, raw.rows // share)) or raw.rows <= 4:
        return "series", f"text with {count:,} different value{'s' if count != 1 else ''}"
    return (
        "leave out",
        f"text with {count:,} different values in {raw.rows:,} rows: too many to tell streams apart",
    )


def _likeliest_value(names: Sequence[str]) -> str:
    for name in names:
        if re.fullmatch(r"value|val|y|count|amount|metric_value", name, re.I):
            return name
    return names[0]


def extract(raw: Raw, layout: Layout, *, missing_words: Sequence[str] = ()) -> Extracted:
    """Apply a layout: parse, tell streams apart, and set broken rows aside with line, column and reason."""
    n = raw.rows
    broken = list(raw.broken)
    problems: list[Problem] = []
    if raw.broken:
        first = min(b.line for b in raw.broken)
        problems.append(
            Problem("shape", len(raw.broken), first, "", "wrong number of columns (cut off, or a stray delimiter)",
                    "quote the field or complete the row", True)
        )  # fmt: skip
    if n == 0:
        raise TableError(
            raw.name, "the rows", "every row has the wrong number of columns", "check the delimiter"
        )
    bad = np.zeros(n, np.bool_)
    why: dict[int, tuple[str, str]] = {}

    def mark(mask: Bools, column: str, kind: str, message: str, remedy: str) -> None:
        rows = np.flatnonzero(mask & ~bad)
        if len(rows) == 0:
            return
        for row in rows[:100_000]:
            why[int(row)] = (column, message.format(text=_cell(raw, column, int(row))))
        bad[rows] = True
        text = message.format(text=_cell(raw, column, int(rows[0])))
        problems.append(Problem(kind, len(rows), raw.line(int(rows[0])), column, text, remedy, True))

    parsed = clock.parse(raw.columns[layout.time])
    if parsed.bad.all():
        cell = _cell(raw, layout.time, 0)
        raise TableError(
            raw.name, f"line {raw.line(0)}, column {layout.time}", f"{cell!r} is no time, nor is any other row's",
            "choose the time column, or write stamps as 2026-08-22T09:15:00Z",
        )  # fmt: skip
    mark(
        parsed.other,
        layout.time,
        "time form",
        "{text!r} is another kind of stamp than the column's",
        "write all stamps in one form",
    )
    mark(parsed.bad, layout.time, "time", "{text!r} is no time", "write 2026-08-22T09:15:00Z")

    numbers: dict[str, Floats] = {}
    for column in layout.values:
        numbers[column], wrong, endless = numbers_of(raw.columns[column], missing_words)
        mark(wrong, column, "number", "{text!r} is not a number", "take it as missing, or correct the row")
        mark(endless, column, "number", "{text!r} is not finite", "leave the cell empty for a missing value")

    labelled = _label_mask(raw, layout) if layout.label else None
    codes, attributes = _tell_apart(raw, layout)
    times = parsed.times
    if parsed.is_local:
        local = clock.localise(times, layout.zone, codes)
        times = local.times
        _note_clock(raw, local, bad, layout, problems)
    for row, (column, message) in sorted(why.items()):
        broken.append(BrokenRow(raw.line(row), column, message, _row_text(raw, row)))

    good = ~bad
    streams = []
    many = len(layout.values) > 1
    order = np.argsort(codes, kind="stable")
    edges = np.searchsorted(codes[order], np.arange(len(attributes) + 1))
    for column in layout.values:
        for code, pairs in enumerate(attributes):
            rows = order[edges[code] : edges[code + 1]]
            rows = rows[good[rows]]
            if len(rows) == 0:
                continue
            named = ((("metric", column),) if many else ()) + pairs
            streams.append(
                StreamRows(
                    keys.encode(named), pairs, column, times[rows], numbers[column][rows],
                    labelled[rows] if labelled is not None else None,
                )
            )  # fmt: skip
    _note_duplicates(streams, problems)
    all_times = max(streams, key=lambda s: len(s.times)).times if streams else np.empty(0, np.int64)
    step = infer_step(all_times)
    return Extracted(
        tuple(streams), tuple(sorted(broken, key=lambda b: b.line)), tuple(problems), int(good.sum()), step,
        share_of_step(all_times, step), parsed.form,
    )  # fmt: skip


def numbers_of(column: pa.Array, missing_words: Sequence[str]) -> tuple[Floats, Bools, Bools]:
    """Values with NaN for missing, rows that are no number, rows that are not finite."""
    n = len(column)
    if (
        pa.types.is_floating(column.type)
        or pa.types.is_integer(column.type)
        or pa.types.is_boolean(column.type)
    ):
        values = np.array(
            column.cast(pa.float64(), safe=False).to_numpy(zero_copy_only=False), dtype=np.float64
        )
        return np.where(np.isinf(values), np.nan, values), np.zeros(n, np.bool_), np.isinf(values)
    text = pc.fill_null(pc.utf8_trim_whitespace(column.cast(pa.string())), "")
    matches = pc.match_substring_regex(text, NUMBER)
    values = np.full(n, np.nan)
    good = np.asarray(matches)
    values[good] = np.asarray(text.filter(matches).cast(pa.float64()))
    low = pc.utf8_lower(text.filter(pc.invert(matches)))
    words = pa.array([*MISSING, *(w.lower() for w in missing_words)])
    missing = np.zeros(n, np.bool_)
    missing[~good] = np.asarray(pc.is_in(low, words))
    endless = np.isinf(values)
    named = np.zeros(n, np.bool_)
    named[~good] = np.asarray(pc.match_substring_regex(low, r"^[+-]?inf(inity)?$"))
    return np.where(endless, np.nan, values), ~good & ~missing & ~named, endless | named


def _label_mask(raw: Raw, layout: Layout) -> Bools:
    column = raw.columns[str(layout.label)]
    if pa.types.is_boolean(column.type):
        return np.asarray(pc.fill_null(column, False))
    text = pc.utf8_lower(pc.utf8_trim_whitespace(pc.fill_null(column.cast(pa.string()), "")))
    # A column of kinds: any word but a no is a known anomaly.
    return ~np.asarray(pc.is_in(text, pa.array([*FALSE, "none", "normal"])))


def _tell_apart(raw: Raw, layout: Layout) -> tuple[Ints, list[tuple[tuple[str, str], ...]]]:
    """(rows,) code of each row's stream, in order of first appearance, and the attributes a code."""
    if not layout.series:
        return np.zeros(raw.rows, np.int64), [()]
    combined = np.zeros(raw.rows, np.int64)
    dictionaries = []
    for name in layout.series:
        encoded = pc.fill_null(raw.columns[name].cast(pa.string()), "").dictionary_encode()
        dictionaries.append(encoded.dictionary.to_pylist())
        combined = combined * len(encoded.dictionary) + np.asarray(encoded.indices, np.int64)
    distinct, first, codes = np.unique(combined, return_index=True, return_inverse=True)
    rank = np.argsort(np.argsort(first))
    attributes: list[tuple[tuple[str, str], ...]] = [()] * len(distinct)
    for value, place in zip(distinct.tolist(), rank.tolist(), strict=True):
        pairs = []
        for name, words in zip(reversed(layout.series), reversed(dictionaries), strict=True):
            value, index = divmod(value, len(words))
            pairs.append((name, words[index]))
        attributes[place] = tuple(reversed(pairs))
    return rank[codes].astype(np.int64), attributes


def _note_clock(
    raw: Raw, local: clock.Localised, bad: Bools, layout: Layout, problems: list[Problem]
) -> None:
    for mask, kind, message in (
        (
            local.repeated,
            "repeated hour",
            "fall in the hour that clocks repeat; file order tells them apart, else the first pass is taken",
        ),
        (
            local.skipped,
            "skipped hour",
            "fall in the hour that clocks skip; read with the offset before the change",
        ),
    ):
        rows = np.flatnonzero(mask & ~bad)
        if len(rows):
            problems.append(
                Problem(kind, len(rows), raw.line(int(rows[0])), layout.time, message, "fine", False)
            )


def _note_duplicates(streams: Sequence[StreamRows], problems: list[Problem]) -> None:
    count = sum(len(s.times) - len(np.unique(s.times)) for s in streams)
    if count:
        problems.append(
            Problem(
                "duplicates",
                count,
                None,
                "",
                "stamps stand twice in the same stream",
                "they are combined in their bin",
                False,
            )
        )


def _cell(raw: Raw, column: str, row: int) -> str:
    value = raw.columns[column][row].as_py() if column in raw.columns else ""
    return "" if value is None else str(value)[:80]


def _row_text(raw: Raw, row: int) -> str:
    joiner = raw.delimiter or ","
    return joiner.join(_cell(raw, name, row) for name in raw.columns)


def with_roles(layout: Layout, roles: dict[str, str]) -> Layout:
    """A layout with some columns' roles changed; a column named nowhere is left out."""
    time = next((c for c, r in roles.items() if r == "time"), layout.time)
    pick = {role: tuple(c for c, r in roles.items() if r == role) for role in ROLES}
    return replace(
        layout, time=time, values=pick["value"], series=pick["series"], label=next(iter(pick["label"]), None)
    )
