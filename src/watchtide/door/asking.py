"""Seasons, shifts and parts of streams, and precision against annotated history: what the commands of these names give."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal, Unpack

import numpy as np
import pyarrow as pa

from watchtide.core.expect import seasons as core_seasons
from watchtide.core.scoring.card import score as score_card
from watchtide.core.scoring.outcomes import Setting, default_span
from watchtide.core.scoring.rows import Finding, Label, Points
from watchtide.core.series import SECOND_NS, wall_clock
from watchtide.door.errors import InputError
from watchtide.door.found import Scan
from watchtide.door.stated import Columns, labels_of, listed, streams_of
from watchtide.door.tables import MOMENT, Table, findings_table, text_of
from watchtide.engine.many import run
from watchtide.engine.prepare.preparing import Input
from watchtide.engine.scan import stages
from watchtide.plan import Plan, durations
from watchtide.plan.text import from_data
from watchtide.tables import clock, report, results

if TYPE_CHECKING:
    from watchtide.door.pictures import Picture

FORMS = ("additive", "multiplicative", "auto")
SHIFTS = ("step", "spread", "slope")
KINDS = ("outlier", "shift", "discord")


def seasons(
    table: Any,
    *,
    every: str | None = None,
    **columns: Unpack[Columns],
) -> Table:
    """The seasons of every stream of a table, strongest first: series, period_s, samples, strength, as `watchtide seasons` has them.

    Columns as `scan` takes them. strength : 1 - var(remainder) / var(season + remainder), from 0.3 on.

    Examples
    --------
    >>> import watchtide as wt
    >>> hours = [f"2026-06-{1 + i // 24:02}T{i % 24:02}:00:00Z" for i in range(24 * 14)]
    >>> found = wt.seasons({"time": hours, "value": [(i % 24 - 12) ** 2 for i in range(24 * 14)]})
    >>> [(row["period_s"], round(row["strength"], 2)) for row in found.to_pylist()]
    [(86400.0, 1.0)]
    """
    plan = _plan(every)
    rows = []
    for stream in streams_of(table, **columns)[0]:
        for s in seasons_of(stream, plan):
            rows.append({"series": stream.key, **s})
    fields = {
        "series": pa.string(),
        "period_s": pa.float64(),
        "samples": pa.float64(),
        "strength": pa.float64(),
    }
    return Table(pa.table({name: pa.array([r[name] for r in rows], kind) for name, kind in fields.items()}))


def seasons_of(stream: Input, plan: Plan) -> list[dict[str, float]]:
    """The seasons of one stream, strongest first: period_s, samples, strength."""
    on_grid = stages.prepare(stream, plan).series
    found = core_seasons.detect(wall_clock(on_grid).spread_out(on_grid.values), on_grid.step_ns)
    return [
        {"period_s": s.samples * on_grid.step_ns / SECOND_NS, "samples": s.samples, "strength": s.strength}
        for s in found
    ]


def shifts(
    table: Any,
    *,
    of: Literal["step", "spread", "slope"] = "step",
    season: str | Sequence[str] = "auto",
    penalty: float | Literal["auto"] = "auto",
    online: bool = False,
    every: str | None = None,
    **columns: Unpack[Columns],
) -> Table:
    """Lasting changes of level, spread or slope, as findings: what `watchtide shifts` gives.

    season : of what is taken off first, as "24h"; "auto" finds them, "none" takes none. penalty : of each change. online : as they would have been
    raised while samples came, of steps alone. Columns as `scan` takes them. Raises InputError.
    """
    if of not in SHIFTS:
        raise InputError("of", f"{of!r} is no kind of shift", f"take one of {', '.join(SHIFTS)}")
    if online and of != "step":
        raise InputError("online", f"shifts of {of} need the whole series", "leave it out, or take of='step'")
    plan = shifts_plan(listed(season), of, penalty, every, None)
    streams = streams_of(table, **columns)[0]
    done = run.scan_many(streams, plan, mode="replay" if online else "fit")
    return findings_table([f for s in done for f in s.findings if f.kind == "shift"])


def shifts_plan(
    season: Sequence[str], of: str, penalty: float | str, every: str | None, combine: str | None
) -> Plan:
    """The plan of a search for shifts."""
    chosen: Any = (
        "auto" if list(season) in ([], ["auto"]) else [] if list(season) == ["none"] else list(season)
    )
    return _plan(every, combine, baseline={"seasons": chosen}, shifts={"of": of, "penalty": penalty})


@dataclass(frozen=True)
class Parts:
    """Streams taken apart. table : series, time, observed, trend, season_1 …, remainder, weight; form : of each stream, additive or
    multiplicative; evidence : the season left over by either form, where both were tried."""

    table: Table
    form: dict[str, str]
    evidence: dict[str, dict[str, float]]

    def _repr_html_(self) -> str:
        return self.table._repr_html_()


def decompose(
    table: Any,
    season: str | Sequence[str],
    *,
    form: Literal["additive", "multiplicative", "auto"] = "additive",
    robust: bool = False,
    every: str | None = None,
    **columns: Unpack[Columns],
) -> Parts:
    """Every stream as trend, seasons and remainder by loess: what `watchtide decompose` gives.

    season : one length or several, as "24h"; robust : outliers bend nothing. Columns as `scan` takes them. Raises InputError for a season that
    a stream cannot carry.
    """
    if form not in FORMS:
        raise InputError("form", f"{form!r} is no form", f"take one of {', '.join(FORMS)}")
    parts, forms_taken, evidence = [], {}, {}
    plan = _plan(every)
    for stream in streams_of(table, **columns)[0]:
        part, taken, left = parts_of(stream, plan, listed(season), form, robust=robust)
        times = part["time"].cast(pa.int64()).cast(MOMENT)
        parts.append(part.set_column(part.column_names.index("time"), "time", times))
        forms_taken[stream.key] = taken
        if left:
            evidence[stream.key] = left
    return Parts(Table(pa.concat_tables(parts)), forms_taken, evidence)


def parts_of(
    stream: Input, plan: Plan, season: Sequence[str], form: str, *, robust: bool
) -> tuple[pa.Table, str, dict[str, float]]:
    """One stream taken apart, its form, and the evidence for it. time : ns since 1970. Raises InputError."""
    from watchtide.engine.scan import forms

    on_grid = stages.prepare(stream, plan).series
    try:
        lengths = [durations.parse_ns(x, step_ns=on_grid.step_ns) / on_grid.step_ns for x in season]
        fit = forms.decomposed(on_grid, lengths, form, robust=robust)
    except ValueError as error:
        message, _, remedy = str(error).partition("; ")
        place = f"season {' '.join(season)}, stream {stream.key or '(the only one)'}"
        raise InputError(place, message, remedy or "take a shorter season, or more history") from error
    columns = {
        "series": pa.array([stream.key] * len(on_grid), pa.string()),
        "time": pa.array(on_grid.times, pa.int64()),
        "observed": pa.array(on_grid.values, from_pandas=True),
        "trend": pa.array(fit.trend, from_pandas=True),
        **{f"season_{i + 1}": pa.array(row, from_pandas=True) for i, row in enumerate(fit.seasons)},
        "remainder": pa.array(fit.remainder, from_pandas=True),
        "weight": pa.array(fit.weights),
    }
    return pa.table(columns), fit.form, fit.evidence


@dataclass(frozen=True)
class Score:
    """What was found against what is known. figures : all of them, as `watchtide score --json` writes them."""

    figures: dict[str, Any]

    @property
    def precision(self) -> float | None:
        """Share of the judged findings that are true; None without one."""
        return self._event("precision")

    @property
    def recall(self) -> float | None:
        """Share of the known incidents that were found; None without one."""
        return self._event("recall")

    def _event(self, name: str) -> float | None:
        found = self.figures["events"][name]
        return None if found is None else float(found)

    def plot(self) -> "Picture":
        """Precision and recall with their intervals. Raises MissingExtra without Matplotlib."""
        from watchtide.door import pictures

        return pictures.figures(self.figures["events"])

    def write_html(self, path: str | Path) -> None:
        """A scorecard for people, in one file."""
        results.write_whole(str(path), report.page({"figures": self.figures}, "Scorecard", []))

    def __str__(self) -> str:
        events = self.figures["events"]
        judged = events["tp_findings"] + events["fp_findings"]
        known = events["tp_labels"] + events["fn_labels"]
        return f"precision {events['tp_findings']} of {judged} findings, recall {events['tp_labels']} of {known} incidents"

    def _repr_html_(self) -> str:
        return f"<p>{self}</p>"


def score(
    findings: Any,
    labels: Any,
    *,
    points: Any = None,
    tolerance: str = "0s",
    start: str | None = None,
    stop: str | None = None,
    kinds: Sequence[str] | None = None,
    tz: str = "UTC",
) -> Score:
    """Precision and recall of findings against labels, by the rules of `watchtide score` (docs/methods.md).

    findings : a `Scan`, a table of findings, or a file of them; labels : a table or file of labels. points : of the same scan, for figures by sample; a
    `Scan` brings them along. tolerance : how far a finding may lie from an incident; start, stop : the span counted. Raises InputError, TableError.

    Examples
    --------
    >>> import watchtide as wt
    >>> found = {"series": ["place=a", "place=a"], "start": ["2026-06-01T00:00:00Z", "2026-06-03T00:00:00Z"]}
    >>> known = {
    ...     "series": ["place=a", "place=a"],
    ...     "start": ["2026-06-01T00:00:00Z", "2026-06-01T00:00:00Z"],
    ...     "end": ["2026-06-01T01:00:00Z", "2026-06-30T00:00:00Z"],
    ...     "verdict": ["incident", "reviewed"],
    ... }
    >>> print(wt.score(found, known))
    precision 1 of 2 findings, recall 1 of 1 incidents
    """
    for kind in kinds or ():
        if kind not in KINDS:
            raise InputError("kinds", f"{kind!r} is no kind of finding", f"take some of {', '.join(KINDS)}")
    taken = found_of(findings, points)
    found, judged, step_ns = taken.findings, taken.points, taken.step_ns
    known = labels_of(labels, tz)
    try:
        tolerance_ns = durations.parse_ns(tolerance, step_ns=step_ns)
    except ValueError as error:
        raise InputError("tolerance", str(error), "write for example 15m") from error
    span = None
    if start is not None or stop is not None:
        span = span_of(found, known, judged, start, stop, tz)
        if span[1] < span[0]:
            raise InputError("start", "lies after stop", "swap the two")
    setting = Setting(tolerance_ns, step_ns, taken.season_ns, span, tuple(kinds) if kinds else None)
    return Score(figures_of(found, known, judged, setting))


def figures_of(
    found: Sequence[Finding], known: Sequence[Label], points: Mapping[str, Points] | None, setting: Setting
) -> dict[str, Any]:
    """All figures of a scorecard, as plain data."""
    figures: dict[str, Any] = score_card(found, known, points, setting).figures
    figures["span"] = {k: clock.format_time(v) for k, v in figures["span"].items()}
    return figures


def step_of(points: Mapping[str, Points] | None) -> int | None:
    """The usual step of judged samples in ns; None without any."""
    steps = [np.diff(p.times) for p in (points or {}).values() if len(p.times) > 1]
    return int(np.median(np.concatenate(steps))) if steps else None


def span_of(
    found: Sequence[Finding],
    known: Sequence[Label],
    points: Mapping[str, Points] | None,
    start: str | None,
    stop: str | None,
    tz: str,
) -> tuple[int, int]:
    """The span counted, in ns: as stated, and else from the first to the last of what is there."""
    first, last = default_span(found, known, points) or (0, 0)
    return (
        clock.parse_one(start, tz) if start else first,
        clock.parse_one(stop, tz) if stop else last,
    )


@dataclass(frozen=True)
class Found:
    """What a scan found. points : judged samples by series, None where there are none; step_ns, season_ns : its cadence and longest
    season, None where they are not known."""

    findings: list[Finding]
    points: dict[str, Points] | None
    step_ns: int | None
    season_ns: int | None


def found_of(findings: Any, points: Any) -> Found:
    """What is meant by findings: a `Scan`, or a table or file of them, with one of points beside it. Raises InputError, TableError."""
    if isinstance(findings, Scan):
        summary = findings.summary
        step, season = summary.get("step_s"), summary.get("longest_season_s")
        return Found(
            findings.found,
            findings.scored,
            round(step * SECOND_NS) if step else None,
            round(season * SECOND_NS) if season else None,
        )
    found = results.read_findings(*text_of(findings, "findings"))
    judged = None if points is None else results.read_points(*text_of(points, "points"))
    return Found(found, judged, step_of(judged), None)


def _plan(every: str | None, combine: str | None = None, **parts: dict[str, Any]) -> Plan:
    data = Plan().as_data()
    data["prepare"].update({k: v for k, v in (("every", every), ("combine", combine)) if v is not None})
    for name, changes in parts.items():
        data[name] = {**data[name], **changes}
    return from_data(data)
