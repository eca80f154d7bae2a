"""`scan`, and what it gives."""

import json
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from html import escape
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal, TypedDict, Unpack

import numpy as np

from watchtide.core.scoring.rows import Finding, Label
from watchtide.core.series import Ints
from watchtide.door import reading
from watchtide.door.errors import InputError
from watchtide.door.tables import Table, findings_table, points_table, source_of, text_of
from watchtide.engine.keep import saved
from watchtide.engine.many import run, together
from watchtide.engine.prepare.preparing import Input
from watchtide.engine.scan import outcome, stages
from watchtide.extras import MissingExtra
from watchtide.plan import Plan, durations, load
from watchtide.plan.text import from_data
from watchtide.tables import clock, remote, results
from watchtide.tables import labels as label_files

if TYPE_CHECKING:
    from watchtide.door.pictures import Picture

Progress = Callable[[int, int], None]


class Columns(TypedDict, total=False):
    """How a table is read; what is not stated is guessed. tz : of stamps without an offset; skip_broken : leave rows out that cannot be read."""

    time: str | None
    value: str | Sequence[str] | None
    series: str | Sequence[str] | None
    label: str | None
    denominator: str | None
    covariates: str | Sequence[str] | None
    tz: str
    skip_broken: bool


@dataclass(frozen=True)
class Scan:
    """What a scan found. plan : as it was given, with what the arguments say in its place; mode : fit or replay. Of a scan that went on from
    a state: what is new alone."""

    plan: Plan
    mode: str
    _scanned: tuple[stages.Scanned, ...]
    # Of one that went on: its findings, and by stream the moment from which on samples are new, ns.
    _found: tuple[Finding, ...] | None = None
    _since: Mapping[str, int] | None = None

    @property
    def series(self) -> tuple[str, ...]:
        """Keys of the streams, in the order of the table."""
        return tuple(s.base.key for s in self._scanned)

    @property
    def findings(self) -> Table:
        """One row a finding, by start: the columns of the findings file (docs/formats.md)."""
        return findings_table(self._findings)

    @property
    def _findings(self) -> list[Finding]:
        """By start, as they lie in a file."""
        found = [f for s in self._scanned for f in s.findings] if self._found is None else self._found
        return sorted(found, key=lambda f: (f.start, f.series, f.kind))

    def _points(self) -> dict[str, dict[str, Any]]:
        """Columns of points by stream."""
        out = {}
        for s in self._scanned:
            columns = outcome.points_of(s)
            if self._since is not None:
                new = columns["time"] >= self._since[s.base.key]
                columns = {name: column[new] for name, column in columns.items()}
            out[s.base.key] = columns
        return out

    @property
    def judged(self) -> int:
        """How many samples were judged."""
        if self._since is None:
            return sum(run.judged_in(s) for s in self._scanned)
        return sum(int((~np.isnan(columns["score"])).sum()) for columns in self._points().values())

    @property
    def points(self) -> Table:
        """One row a sample, with what was expected, how far it may stray, its score and its flag."""
        return points_table(self._points())

    @property
    def summary(self) -> dict[str, Any]:
        """What was resolved for each stream and why, and the plan with every `auto` filled in."""
        return run.summarise(list(self._scanned), self.plan, self.mode)

    def write_findings(self, path: str | Path) -> None:
        """The findings file as the command writes it; JSON Lines where the path ends so."""
        name = str(path)
        results.write_whole(name, results.ordered_text(results.finding_lines(self._findings, name), name))

    def write_points(self, path: str | Path) -> None:
        """The points file as the command writes it; Parquet where the path ends so."""
        rows = results.points_table(self._points())
        results.write_whole(str(path), results.table_bytes(rows, str(path)))

    def write_summary(self, path: str | Path) -> None:
        """The summary as the command writes it."""
        results.write_whole(str(path), json.dumps(self.summary, indent=1, allow_nan=False) + "\n")

    def save(self, path: str | Path) -> None:
        """Keep the fitted models, which `watchtide apply` judges later data by. Raises InputError for a scan that is a replay."""
        if self.mode != "fit":
            raise InputError("mode", "a replay has many fits, and none to keep", "scan with mode='fit'")
        models = [m for s in self._scanned if (m := saved.saved_of(s, self.plan)) is not None]
        results.write_whole(str(path), saved.write(models))

    def plot(
        self, series: str | None = None, *, start: str | None = None, stop: str | None = None, unit: str = ""
    ) -> "Picture":
        """A stream with what was expected, how far it may stray unflagged, and what was found.

        series : its key, as `series` has it; of a scan of one stream not needed. start, stop : the span shown. unit : of the values. Raises InputError, and
        MissingExtra without Matplotlib.
        """
        from watchtide.door import pictures

        one = self._scanned[pictures.chosen(self.series, series)]
        return self._drawn(one, start, stop, unit, (pictures.WIDE, pictures.TALL))

    def plot_components(
        self, series: str | None = None, *, start: str | None = None, stop: str | None = None, unit: str = ""
    ) -> "Picture":
        """A stream taken apart as its baseline does: observed, trend, each season, remainder. As `plot`."""
        from watchtide.door import pictures

        one = self._scanned[pictures.chosen(self.series, series)]
        base = one.base
        shown = _span(base.series.times, start, stop, base.zone)
        seasons = [
            (f"season {durations.format_ns(round(p * base.series.step_ns))}", row[shown])
            for (p, _), row in zip(outcome.seasons_of(base), base.seasons, strict=False)
        ]
        panels = [
            ("observed", base.series.values[shown]), ("trend", base.trend[shown]), *seasons,
            ("remainder", (base.series.values - base.expected)[shown]),
        ]  # fmt: skip
        title = base.key or "the only stream"
        return pictures.parts(base.series.times[shown], panels, base.zone, title, unit)

    def _drawn(
        self, one: stages.Scanned, start: str | None, stop: str | None, unit: str, size: tuple[float, float]
    ) -> "Picture":
        from watchtide.door import pictures

        base = one.base
        shown = _span(base.series.times, start, stop, base.zone)
        columns = {name: column[shown] for name, column in outcome.points_of(one).items()}
        ends = columns["time"][[0, -1]]
        found = [f for f in one.findings if f.start <= ends[1] and f.end >= ends[0]]
        return pictures.stream(columns, found, base.zone, base.key or "the only stream", unit, size)

    def __str__(self) -> str:
        streams = len(self._scanned)
        return f"{len(self._findings):,} findings in {self.judged:,} judged samples of {streams:,} stream{'' if streams == 1 else 's'}"

    def _repr_html_(self) -> str:
        return f"<p>{self}</p>{self._small_picture()}{self.findings._repr_html_()}"

    def _small_picture(self) -> str:
        """The stream with the largest score as an image of a page; nothing where pictures cannot be drawn."""
        from base64 import b64encode

        from watchtide.door import pictures

        found = [
            (abs(f.score), i) for i, s in enumerate(self._scanned) for f in s.findings if f.score == f.score
        ]
        if not self._scanned:
            return ""
        try:
            one = self._scanned[max(found)[1] if found else 0]
            png = self._drawn(one, None, None, "", pictures.SMALL)._repr_png_()
        except MissingExtra:
            return ""
        words = escape(one.base.key or "the only stream")
        return f'<img alt="{words}" src="data:image/png;base64,{b64encode(png).decode()}">'


def _span(times: Ints, start: str | None, stop: str | None, zone: str) -> slice:
    """Which samples lie within a closed span. Raises InputError where none does."""
    a = 0 if start is None else int(np.searchsorted(times, clock.parse_one(start, zone)))
    b = len(times) if stop is None else int(np.searchsorted(times, clock.parse_one(stop, zone), side="right"))
    if a >= b:
        raise InputError("start", "the span holds no sample", "state a span of the stream")
    return slice(a, b)


def scan(
    table: Any,
    plan: Plan | Mapping[str, Any] | str | Path | None = None,
    labels: Any = None,
    *,
    mode: Literal["fit", "replay"] = "fit",
    every: str | None = None,
    jobs: int = 1,
    state: str | Path | None = None,
    progress: Progress | None = None,
    **columns: Unpack[Columns],
) -> Scan:
    """Fit a baseline to every stream of a table, flag what strays, and find shifts: what `watchtide scan` does.

    Parameters
    ----------
    table : DataFrame, Arrow table, dictionary of columns, or path
        Anything that offers Arrow's C stream (pandas, Polars, PyArrow, DuckDB), or a file of CSV, JSON Lines or Parquet.
    plan : Plan, dictionary, path of a YAML file, or None
        How to scan; None chooses for each stream.
    labels : path or table of labels, optional
        Known spans; those that a plan leaves out of training do not teach it.
    mode : "fit" or "replay"
        Over the whole history, or as if each sample had just come.
    every : str, optional
        The cadence, as 15m; None finds it.
    jobs : int
        Processes that scan.
    state : path, optional
        Of a file: only what is new since the state kept there is judged, as a replay of all rows would, and the state is kept. The table may
        hold all rows so far, or those since the last call.
    progress : callable, optional
        Called with (streams done, streams in all).
    **columns
        How the table is read: time, value, series, label, denominator and covariates name columns, and what is not stated is guessed, as
        `watchtide look` shows; tz is the zone of stamps without an offset, and of days and weeks (UTC); skip_broken leaves
        rows out that cannot be read, else the first is an error.

    Returns
    -------
    Scan

    Raises
    ------
    TableError, PlanError, InputError
        With the place and the remedy; all are ValueErrors.

    Examples
    --------
    >>> import watchtide as wt
    >>> hours = [f"2026-06-{1 + i // 24:02}T{i % 24:02}:00:00Z" for i in range(24 * 28)]
    >>> values = [10 + (i % 24) / 4 + (i * 7919 % 13) / 20 for i in range(24 * 28)]
    >>> values[400] += 9
    >>> found = wt.scan({"time": hours, "value": values}, {"flag": {"level": {"sigmas": 8}}})
    >>> print(found)
    1 findings in 672 judged samples of 1 stream
    >>> [str(row["start"]) for row in found.findings.to_pylist()]
    ['2026-06-17 16:00:00+00:00']
    """
    if mode not in ("fit", "replay"):
        raise InputError("mode", f"{mode!r} is no mode", "take 'fit' or 'replay'")
    if jobs < 1:
        raise InputError("jobs", f"{jobs} processes", "take 1 or more")
    data = plan_of(plan).as_data()
    if every is not None:
        data["prepare"]["every"] = every
    # As the command checks it with its options: 6 and 6.0 are then the same.
    chosen = from_data(data)
    streams, spans = streams_of(table, chosen, **columns)
    known = [*labels_of(labels, columns.get("tz", "UTC")), *spans]
    if state is not None:
        from watchtide.door import watching

        now = watching.kept(state, chosen)
        new = watching.scan_on(streams, now, known)
        results.write_whole(str(state), watching.written(now))
        return new
    with run.workers(jobs, chosen) as executor:
        done = run.scan_many(
            streams,
            chosen,
            known,
            mode=mode,
            is_kept=mode == "fit",
            jobs=jobs,
            executor=executor,
            progress=progress,
        )
        scanned = together.finish(list(done), chosen)
    return Scan(chosen, mode, tuple(scanned))


def streams_of(
    table: Any, plan: Plan = Plan(), **columns: Unpack[Columns]
) -> tuple[list[Input], list[Label]]:
    """The streams of a table with the known days of a plan, and the known spans of its label column. Raises InputError, TableError."""
    if unknown := sorted(columns.keys() - Columns.__annotations__.keys()):
        raise InputError(unknown[0], "is no argument", f"take one of {', '.join(Columns.__annotations__)}")
    tz = columns.get("tz", "UTC")
    stated = {
        "tz": tz,
        "time": columns.get("time"),
        "value": listed(columns.get("value")),
        "series": listed(columns.get("series")),
        "label": columns.get("label"),
        "denominator": columns.get("denominator") or plan.prepare.denominator,
        "covariate": listed(columns.get("covariates")) or list(plan.baseline.covariates),
        "skip_broken": columns.get("skip_broken", False),
    }
    source, name = source_of(table)
    _, _, streams, spans = reading.streams_of(source, name, stated)
    days = reading.known_days(plan, streams, tz)
    return [replace(s, days=days) for s in streams] if days else streams, spans


def plan_of(plan: Plan | Mapping[str, Any] | str | Path | None) -> Plan:
    """The plan that is meant. Raises PlanError with the line or the key, InputError for what is none."""
    if plan is None:
        return Plan()
    if isinstance(plan, Plan):
        return plan
    if isinstance(plan, Mapping):
        return from_data(dict(plan))
    try:
        return load(remote.text_of(plan))
    except (OSError, UnicodeDecodeError) as error:
        raise InputError(
            "plan", f"{plan} cannot be read ({error})", "give the path of a YAML file"
        ) from error


def listed(names: str | Sequence[str] | None) -> list[str]:
    """Names as a list, of one alone too."""
    return [names] if isinstance(names, str) else list(names or ())


def labels_of(given: Any, tz: str) -> list[Label]:
    """Known spans of a file or a table of labels."""
    if given is None:
        return []
    return label_files.read_labels(*text_of(given, "labels"), zone=tz)
