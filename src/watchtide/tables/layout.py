"""Which column is what: guessed with reasons, corrected by the user, and kept for the next file of its kind."""

import fnmatch
import re
from collections.abc import Sequence
from dataclasses import asdict, dataclass, field, fields, replace
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from watchtide.core.series import keys
from watchtide.tables import clock, expressions, stamps
from watchtide.tables.problems import TableError
from watchtide.tables.read import Raw

NUMBER = r"^[+-]?(\d+(\.\d*)?|\.\d+)([eE][+-]?\d+)?$"
MISSING = ("", "nan", "null", "none", "na", "n/a")
TRUE, FALSE = ("true", "yes", "t", "1"), ("false", "no", "f", "0", "")
ROLES = ("time", "value", "series", "covariate", "denominator", "label", "leave out")
DUPLICATES = ("mean", "last", "first", "refuse")
MEASURES = ("count", "sum", "mean", "min", "max", "p50", "p90", "p95", "p99", "distinct")
VALUE_NAMES = r"value|val|y|count|amount|metric_value"
SAMPLE_ROWS = 5_000
TIME_NAME = re.compile(r"time|date|stamp|^ts$|^t$|when|year|^yrs?$|month|quarter|week|period", re.I)
# From so many numbered columns on a row may be one waveform; fewer are places or parts.
LEAST_WAVE = 16
# Text columns with more different values than this tell rows apart, not streams.
MOST_STREAMS = 20_000
# The column of series keys in every file that is written here.
KEY_COLUMN = "series"
# Names of columns that complete a year, and the largest number each holds.
PARTS = {"quarter": (r"q|qtr|quarter", 4), "month": (r"m|mon|mo|month", 12), "day": (r"d|day|dom", 31)}


@dataclass(frozen=True)
class Measure:
    """One figure of a roll-up: what is computed (`MEASURES`) of which field; `count` needs none."""

    how: str
    field: str | None = None


@dataclass(frozen=True)
class RollUp:
    """Rows are events: these measures per `every_ns` (days follow the wall clock), and per stream."""

    every_ns: int
    measures: tuple[Measure, ...]


@dataclass(frozen=True)
class Layout:
    """What each column is, and how its cells are read.

    zone : of stamps without offset. wide_name : where value columns are one metric at several places, the name of
    the attribute that the columns' names are values of. keep : a condition on rows. duplicates : what becomes of
    equal stamps of one stream. rollup : rows are events, not samples. key_column : one of `series` whose cells are series
    keys (`name=value,…`), as every output of ours has them. time_parts : columns that complete a year in the time column:
    a quarter, or a month and perhaps a day. wave_step_ns : each row is one waveform, its value columns are samples this far
    apart from the stamp of the row on.
    """

    time: str
    values: tuple[str, ...]
    series: tuple[str, ...] = ()
    label: str | None = None
    zone: str = "UTC"
    reasons: dict[str, str] = field(default_factory=dict)
    suggested_label: str | None = None
    covariates: tuple[str, ...] = ()
    denominator: str | None = None
    metric: str | None = None
    wide_name: str | None = None
    time_form: str | None = None
    decimal: str = "."
    missing_words: tuple[str, ...] = ()
    keep: str | None = None
    duplicates: str = "mean"
    rollup: RollUp | None = None
    key_column: str | None = None
    time_parts: tuple[str, ...] = ()
    wave_step_ns: int | None = None

    def role(self, column: str) -> str:
        if column == self.time or column in self.time_parts:
            return "time"
        if column in self.values:
            return "value"
        if column in self.series:
            return "series"
        if column in self.covariates:
            return "covariate"
        if column == self.denominator:
            return "denominator"
        return "label" if column == self.label else "leave out"

    @property
    def wave_ns(self) -> int:
        """From the first to the last sample of a row's waveform; 0 where rows are none."""
        return (len(self.values) - 1) * (self.wave_step_ns or 0)

    @property
    def numbers(self) -> tuple[str, ...]:
        """Columns whose cells are numbers and become streams, in order."""
        return (*self.values, *self.covariates, *((self.denominator,) if self.denominator else ()))


def to_data(layout: Layout) -> dict[str, Any]:
    """A layout as plain data, to be kept in a file or a record; reasons are of one file and left out."""
    data = asdict(layout)
    for name in ("reasons", "suggested_label"):
        data.pop(name)
    if layout.wave_step_ns is None:
        # Files that were read before rows could be waveforms are still the same batch.
        data.pop("wave_step_ns")
    return {"layout": 1, **data}


def from_data(data: Any) -> Layout:
    """A kept layout. Raises TableError for another form, an unknown key, or a value out of its range."""

    def refuse(message: str, remedy: str = "write it anew with look --save-layout") -> TableError:
        return TableError("layout", "", message, remedy)

    if not isinstance(data, dict) or data.get("layout") != 1:
        raise refuse("is no layout of this version")
    known = {f.name for f in fields(Layout)} - {"reasons", "suggested_label"}
    if unknown := set(data) - known - {"layout"}:
        raise refuse(f"has the unknown key {sorted(unknown)[0]!r}")
    given = {k: v for k, v in data.items() if k != "layout"}
    for name in ("values", "series", "covariates", "missing_words", "time_parts"):
        words = given.get(name, ())
        if not isinstance(words, (list, tuple)) or not all(isinstance(w, str) for w in words):
            raise refuse(f"{name} must be a list of texts")
        given[name] = tuple(words)
    for name in ("time", "label", "zone", "denominator", "metric", "wide_name", "time_form", "decimal", "keep", "duplicates", "key_column"):  # fmt: skip
        if not isinstance(given.get(name, ""), (str, type(None))):
            raise refuse(f"{name} must be a text")
    if not given.get("time"):
        raise refuse("names no time column")
    step = given.get("wave_step_ns")
    if step is not None and (isinstance(step, bool) or not isinstance(step, int)):
        raise refuse("wave_step_ns must be a whole number of nanoseconds")
    if given.get("rollup") is not None:
        given["rollup"] = rollup_from(given["rollup"])
    return checked(Layout(**given))


def rollup_from(data: Any) -> RollUp:
    """A roll-up of plain data. Raises TableError naming what is wrong."""
    try:
        measures = tuple(Measure(m["how"], m.get("field") or None) for m in data["measures"])
        every = int(data["every_ns"])
    except (KeyError, TypeError, ValueError, AttributeError) as error:
        raise TableError(
            "layout", "rollup", "needs every_ns and measures", 'write {"every_ns": …, "measures": [{"how": "count"}]}'
        ) from error  # fmt: skip
    return RollUp(every, measures)


def check_time_form(form: str | None) -> None:
    """Raises TableError for a form of times that cannot be stated."""
    if form is not None and form not in clock.STATED_FORMS:
        raise TableError(
            "layout", "time_form", f"{form!r} is not known", f"take {', '.join(clock.STATED_FORMS)}"
        )


def checked(layout: Layout) -> Layout:
    """The layout itself, once everything in it that needs no file is found sound."""
    clock.zone(layout.zone)
    if layout.duplicates not in DUPLICATES:
        raise TableError(
            "layout", "duplicates", f"{layout.duplicates!r} is no rule", f"take {', '.join(DUPLICATES)}"
        )
    check_time_form(layout.time_form)
    if layout.decimal not in (".", ","):
        raise TableError("layout", "decimal", f"{layout.decimal!r} is no decimal mark", "take . or ,")
    if layout.keep:
        try:
            expressions.parse_condition(layout.keep)
        except expressions.ExpressionError as error:
            raise TableError("layout", "keep", *_message_and_remedy(str(error))) from error
    if layout.wave_step_ns is not None:
        _check_waves(layout)
    if layout.rollup:
        _check_rollup(layout.rollup)
    elif not layout.values:
        raise TableError("layout", "values", "no column is a value", "choose the value column")
    return layout


def _message_and_remedy(text: str) -> tuple[str, str]:
    message, _, remedy = text.partition("; ")
    return message, remedy or "see docs/formats.md, Conditions"


def _check_waves(layout: Layout) -> None:
    if not 1_000 <= (layout.wave_step_ns or 0) <= 86_400 * 10**9:
        raise TableError(
            "layout", "wave_step", "is no time from sample to sample", "take a microsecond to a day"
        )
    if layout.rollup or layout.covariates or layout.denominator or layout.wide_name:
        remedy = "leave the roll-up, covariates and the name of columns out"
        raise TableError("layout", "wave_step", "rows are waveforms of values alone", remedy)
    if len(layout.values) < 2:
        raise TableError(
            "layout", "values", "a waveform has two columns at least", "give its columns the role value"
        )


def numbered_run(columns: Sequence[str]) -> tuple[str, ...]:
    """The longest run of columns whose names are one stem with numbers that go up by one, of `LEAST_WAVE` at least; else none."""
    best: list[str] = []
    run: list[str] = []
    before: tuple[str, int] | None = None
    for name in columns:
        found = re.fullmatch(r"(.*?)(\d+)", name)
        own = (found[1], int(found[2])) if found else None
        follows = own is not None and before is not None and own == (before[0], before[1] + 1)
        run = [*run, name] if follows else [name] if own else []
        before = own
        best = run if len(run) > len(best) else best
    return tuple(best) if len(best) >= LEAST_WAVE else ()


def _check_rollup(rollup: RollUp) -> None:
    if not 10**6 <= rollup.every_ns <= 366 * 86_400 * 10**9:
        raise TableError(
            "layout", "rollup", f"every {rollup.every_ns} ns", "take 1 ms to 366 days, such as 5m"
        )
    if not rollup.measures:
        raise TableError("layout", "rollup", "measures nothing", "take count, or sum, mean … of a column")
    if len(rollup.measures) > 40:
        raise TableError("layout", "rollup", f"{len(rollup.measures)} measures", "take 40 at most")
    for m in rollup.measures:
        if m.how not in MEASURES:
            raise TableError("layout", "rollup", f"{m.how!r} is no measure", f"take {', '.join(MEASURES)}")
        if (m.field is None) != (m.how == "count"):
            needs = "counts rows and takes no column" if m.how == "count" else "needs a column"
            raise TableError(
                "layout", "rollup", f"{m.how} {needs}", "write count, or for example p95 of a column"
            )


def fits(layout: Layout, columns: Sequence[str]) -> bool:
    """Whether a file with these columns can be read by the layout."""
    needed = {layout.time, *layout.time_parts, *layout.numbers, *layout.series}
    if layout.label:
        needed.add(layout.label)
    if layout.keep:
        needed |= expressions.columns_of(expressions.parse_condition(layout.keep))
    if layout.rollup:
        needed |= {m.field for m in layout.rollup.measures if m.field}
    return needed <= set(columns)


def matches(pattern: str, name: str) -> bool:
    """Whether a file's name is of a layout's kind: `taps_*.csv` holds for `taps_2026-08.csv` and its gzip."""
    return fnmatch.fnmatchcase(name, pattern) or fnmatch.fnmatchcase(name.removesuffix(".gz"), pattern)


def guess(raw: Raw, *, zone: str = "UTC", **stated: Any) -> Layout:
    """The likely layout with a reason a column; `stated` roles (time, values, series, label) stand.

    Raises TableError when a stated column is not there, or no column can be the time or the value.
    """
    named = [
        stated.get("time"),
        stated.get("label"),
        stated.get("denominator"),
        *(stated.get("values") or ()),
        *(stated.get("series") or ()),
        *(stated.get("covariates") or ()),
    ]
    for name in named:
        if name is not None and name not in raw.columns:
            near = ", ".join(raw.columns)
            raise TableError(raw.name, f"column {name}", "is not in the file", f"its columns are {near}")
    sample = {name: column.slice(0, SAMPLE_ROWS) for name, column in raw.columns.items()}
    reasons: dict[str, str] = {}
    time, time_form = stated.get("time"), stated.get("time_form")
    check_time_form(time_form)
    if not time:
        time, time_form = _guess_time(raw, sample, reasons, time_form)
    elif time_form is None:
        time_form, reasons[time] = _stated_time(time, sample[time])
    time_parts = _time_parts(raw, time, time_form, [n for n in named if n])
    for name in time_parts:
        reasons[name] = f"completes {time}, in which every year stands several times"
    decimal = stated.get("decimal") or raw.shape.decimal
    label = stated.get("label")
    taken = {time, *time_parts, *named}
    values = tuple(stated.get("values") or ())
    series = tuple(stated["series"]) if stated.get("series") is not None else None
    suggested = None
    found_values, found_series = [], []
    for name, column in sample.items():
        if name in taken:
            reasons.setdefault(name, "as stated")
            continue
        kind, reason = _look_at(name, column, raw, decimal)
        reasons[name] = reason
        if kind == "label" and suggested is None:
            suggested = name
        elif kind == "value":
            found_values.append(name)
        elif kind == "series":
            found_series.append(name)
    if stated.get("wave_step_ns") is not None and label is None and stated.get("series") is None:
        label = next((name for name in found_series if _are_classes(sample[name])), None)
        if label is not None:
            found_series.remove(label)
            reasons[label] = "the class of each waveform: one of its words says that it is usual"
    wide_name = stated.get("wide_name")
    rollup = stated.get("rollup")
    if rollup is not None and not values:
        taken_up = {m.field for m in rollup.measures}
        for name in taken_up & set(found_series):
            found_series.remove(name)
    elif not values and stated.get("wave_step_ns") is not None:
        values = numbered_run(found_values)
        if not values:
            what = f"no {LEAST_WAVE} columns of numbers are numbered one after another"
            remedy = "give the columns of the waveform the role value, in their order"
            raise TableError(raw.name, "line 1", what, remedy)
        for name in found_values:
            reasons[name] = (
                "a sample of the row's waveform" if name in values else "numbers beside the waveform"
            )
    elif not values and _is_wide(found_values, found_series):
        values = tuple(found_values)
        for name in values:
            reasons[name] = "numbers, as in the columns beside it: each column becomes a stream"
    elif not values:
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
    key_column = KEY_COLUMN if KEY_COLUMN in series and _are_keys(raw.columns[KEY_COLUMN]) else None
    if key_column:
        reasons[key_column] = "series keys: name=value, joined by commas"
    return checked(
        Layout(
            time, values, series, label, zone, reasons, suggested, tuple(stated.get("covariates") or ()),
            stated.get("denominator"), stated.get("metric") or None, wide_name or None, time_form, decimal,
            tuple(stated.get("missing_words") or ()), stated.get("keep") or None, stated.get("duplicates") or "mean", rollup, key_column, time_parts, stated.get("wave_step_ns"),
        )
    )  # fmt: skip


def _are_keys(column: pa.Array) -> bool:
    """Whether all cells are series keys; empty ones are that of the only stream."""
    return all(map(keys.is_key, pc.unique(pc.fill_null(column.cast(pa.string()), "")).to_pylist()))


def _are_classes(column: pa.Array) -> bool:
    """Whether one of a column's words is that of a usual unit."""
    words = pc.unique(
        pc.utf8_lower(pc.utf8_trim_whitespace(pc.fill_null(column.cast(pa.string()), "")))
    ).to_pylist()
    return bool({"normal", "none"} & set(words))


def _is_wide(values: Sequence[str], series: Sequence[str]) -> bool:
    """Three or more columns of numbers, none of them called a value, and nothing else to tell streams apart."""
    named = any(re.fullmatch(VALUE_NAMES, name, re.I) for name in values)
    return len(values) >= 3 and not series and not named


def _guess_time(
    raw: Raw, sample: dict[str, pa.Array], reasons: dict[str, str], form: str | None
) -> tuple[str, str | None]:
    """(the time column, the order of day and month where its stamps need one)."""
    best: tuple[float, str, str, str | None] = (0.0, "", "", None)
    for name, column in sample.items():
        if pa.types.is_boolean(column.type):
            continue
        found = _time_form(name, column, form)
        if found is None:
            continue
        share, reason, order, is_number = found
        named = bool(TIME_NAME.search(name))
        # Whole numbers can be times by chance; a name decides.
        score = share * (0.5 if is_number and not named else 1.0) + 0.1 * named * (share > 0.2)
        if share > 0.2 and score > best[0]:
            best = (score, name, f"{reason}; {share:.0%} of the first rows read as times", order)
    if not best[1]:
        names = ", ".join(raw.columns)
        raise TableError(
            raw.name, "line 1", f"no column holds times (columns: {names})", "name one with --time"
        )
    reasons[best[1]] = best[2]
    return best[1], best[3]


def _time_parts(raw: Raw, time: str, form: str | None, named: Sequence[str]) -> tuple[str, ...]:
    """Columns that complete years: a quarter, or a month and a day, where their numbers are such."""
    if form != "year":
        return ()
    found = {}
    for name, column in raw.columns.items():
        part = next((p for p, (pattern, _) in PARTS.items() if re.fullmatch(pattern, name, re.I)), None)
        if part is None or name in (time, *named) or part in found:
            continue
        text = pc.utf8_trim_whitespace(column.cast(pa.string())).drop_null()
        fits = pc.match_substring_regex(text, r"^0?([1-9]|[12]\d|3[01])$")
        if len(text) and pc.all(fits).as_py() and pc.max(text.cast(pa.int64())).as_py() <= PARTS[part][1]:
            found[part] = name
    if "quarter" in found:
        return (found["quarter"],)
    return (found["month"], *((found["day"],) if "day" in found else ())) if "month" in found else ()


def whole_times(time: pa.Array, parts: Sequence[pa.Array], most: Sequence[str]) -> pa.Array:
    """Years and what completes them as text of one form: 2004-Q1, 2004-01 or 2004-01-31; most : which parts they are."""
    year = pc.replace_substring_regex(pc.utf8_trim_whitespace(time.cast(pa.string())), r"\.0+$", "")
    words = [pc.utf8_lpad(pc.utf8_trim_whitespace(p.cast(pa.string())), 2, "0") for p in parts]
    if most[0] == "quarter":
        return pc.binary_join_element_wise(year, pc.utf8_ltrim(words[0], "0"), "Q")
    return pc.binary_join_element_wise(year, *words, "-")


def part_kinds(names: Sequence[str]) -> list[str]:
    """Which part of a date each of these columns holds."""
    return [next(p for p, (pattern, _) in PARTS.items() if re.fullmatch(pattern, n, re.I)) for n in names]


def _time_form(name: str, column: pa.Array, form: str | None) -> tuple[float, str, str | None, bool] | None:
    """(share of rows that are times, what they are, the form to be kept, whether they could be numbers) of a column."""
    is_number = pa.types.is_floating(column.type) or pa.types.is_integer(column.type)
    if form is not None and not pa.types.is_floating(column.type):
        parsed = clock.parse(column, form=form)
        return _share(parsed), form, form, False
    text = (
        pc.utf8_trim_whitespace(column.cast(pa.string()))
        if is_number or pa.types.is_string(column.type)
        else None
    )
    if text is not None:
        digits, why = stamps.by_name(name, text)
        if digits is not None:
            return _share(clock.parse(text, form=digits)), why, digits, False
    if pa.types.is_floating(column.type):
        return None
    parsed = clock.parse(column)
    share = _share(parsed)
    if share == 0 and pa.types.is_string(column.type):
        order, share = _day_or_month_first(column)
        return (share, f"{order}: a number above 12 shows it", order, False) if order else None
    words = stamps.FORMS[parsed.form].words if parsed.form in stamps.FORMS else parsed.form
    return share, words, None, parsed.form == "epoch"


def _share(parsed: clock.Parsed) -> float:
    return float(np.mean(~parsed.bad)) if len(parsed.bad) else 0.0


def _stated_time(name: str, column: pa.Array) -> tuple[str | None, str]:
    """(the form to be kept, why) of a column that is stated to hold times: four digits are then years."""
    found = _time_form(name, column, None)
    if found is not None and found[0] > 0:
        return found[2], f"as stated; {found[1]}"
    text = pc.utf8_trim_whitespace(column.cast(pa.string()))
    for form in ("year", "compact date", "month digits"):
        if _share(clock.parse(text, form=form)) > stamps.LEAST_DIGITS:
            return form, f"as stated; {stamps.FORMS[form].words}"
    return None, "as stated"


def _day_or_month_first(column: pa.Array) -> tuple[str | None, float]:
    """The order of stamps such as 22/8/26 where a number above 12 shows it, and their share."""
    parts = pc.extract_regex(pc.utf8_trim_whitespace(column), clock.ORDERED).drop_null()
    if len(parts) == 0:
        return None, 0.0
    first, second = (int(pc.max(parts.field(name).cast(pa.int32())).as_py()) for name in "ab")
    if (first > 12) == (second > 12):
        return None, 0.0
    return ("day first" if first > 12 else "month first"), len(parts) / len(column)


def _look_at(name: str, column: pa.Array, raw: Raw, decimal: str) -> tuple[str, str]:
    """(value | series | label | leave out, why) of a column that is not the time."""
    if pa.types.is_boolean(column.type):
        return "label", "true or false"
    if pa.types.is_floating(column.type) or pa.types.is_integer(column.type):
        return "value", "numbers"
    if not pa.types.is_string(column.type):
        column = column.cast(pa.string())
    text = pc.utf8_lower(pc.utf8_trim_whitespace(column))
    distinct = pc.unique(text).to_pylist()
    if all((v or "") in TRUE + FALSE for v in distinct):
        if re.search(r"anomal|label|outlier|incident|is_|flag", name, re.I):
            return "label", "true or false by its name"
        if set(distinct) & {"true", "false", "yes", "no"}:
            return "label", "true or false: known anomalies, if you say so"
    filled = pc.fill_null(text, "")
    missing = np.asarray(pc.is_in(filled, pa.array(MISSING)))
    plain = pc.replace_substring(filled, ",", ".") if decimal == "," else filled
    numeric = np.asarray(pc.match_substring_regex(plain, NUMBER))
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
        if re.fullmatch(VALUE_NAMES, name, re.I):
            return name
    return names[0]


def with_roles(layout: Layout, roles: dict[str, str]) -> Layout:
    """A layout with some columns' roles changed; a column named nowhere is left out."""
    times = [c for c, r in roles.items() if r == "time"]
    parts = tuple(c for c in layout.time_parts if c in times)
    time = next((c for c in times if c not in parts), layout.time)
    pick = {role: tuple(c for c, r in roles.items() if r == role) for role in ROLES}
    return replace(
        layout, time=time, values=pick["value"], series=pick["series"], covariates=pick["covariate"],
        denominator=next(iter(pick["denominator"]), None), label=next(iter(pick["label"]), None),
        time_parts=parts if time == layout.time else (), key_column=layout.key_column if layout.key_column in pick["series"] else None,
    )  # fmt: skip
