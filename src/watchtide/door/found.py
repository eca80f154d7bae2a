"""What a scan found: tables, files, pictures and kept models."""

import json
from collections.abc import Mapping
from dataclasses import dataclass
from html import escape
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from watchtide.core.scoring.rows import Finding, Points
from watchtide.core.series import Ints
from watchtide.door.errors import InputError
from watchtide.door.tables import Table, findings_table, points_table
from watchtide.engine.keep import saved
from watchtide.engine.many import run
from watchtide.engine.scan import outcome, stages
from watchtide.extras import MissingExtra
from watchtide.plan import Plan, durations
from watchtide.tables import clock, results

if TYPE_CHECKING:
    from watchtide.door.pictures import Picture


@dataclass(frozen=True)
class New:
    """What is new in a scan that went on from a state. findings : those that began; since : by stream the moment from which on samples
    are new, ns."""

    findings: tuple[Finding, ...]
    since: Mapping[str, int]


@dataclass(frozen=True)
class Scan:
    """What a scan found; of one that went on from a state, what is new. plan : as it was given, with what the arguments state in its
    place; mode : fit or replay."""

    plan: Plan
    mode: str
    _scanned: tuple[stages.Scanned, ...]
    _new: New | None = None

    @property
    def series(self) -> tuple[str, ...]:
        """Keys of the streams, in the order of the table."""
        return tuple(s.base.key for s in self._scanned)

    @property
    def findings(self) -> Table:
        """One row a finding, by start: the columns of the findings file (docs/formats.md)."""
        return findings_table(self.found)

    @property
    def found(self) -> list[Finding]:
        """The findings as records, in the order of a findings file."""
        found = [f for s in self._scanned for f in s.findings] if self._new is None else self._new.findings
        return sorted(found, key=lambda f: (f.start, f.series, f.kind))

    @property
    def judged(self) -> int:
        """How many samples were judged."""
        return sum(int(np.sum(~np.isnan(s.z[self._part(s)]))) for s in self._scanned)

    @property
    def scored(self) -> dict[str, Points]:
        """Scores and flags by stream, as precision is counted on them."""
        out = {}
        for s in self._scanned:
            part = self._part(s)
            out[s.base.key] = Points(s.base.series.times[part], s.base.score[part], s.in_finding[part])
        return out

    def _part(self, s: stages.Scanned) -> slice:
        """Which samples of a stream are this scan's."""
        if self._new is None:
            return slice(None)
        return slice(int(np.searchsorted(s.base.series.times, self._new.since[s.base.key])), None)

    def _points(self) -> dict[str, dict[str, Any]]:
        """Columns of points by stream."""
        return {s.base.key: _cut(outcome.points_of(s), self._part(s)) for s in self._scanned}

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
        results.write_whole(name, results.ordered_text(results.finding_lines(self.found, name), name))

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
        remainder = base.series.values - base.expected
        panels = [("observed", base.series.values[shown]), ("trend", base.trend[shown]), *seasons]
        about = pictures.About(base.zone, base.key or "the only stream", unit)
        return pictures.parts(base.series.times[shown], [*panels, ("remainder", remainder[shown])], about)

    def _drawn(
        self, one: stages.Scanned, start: str | None, stop: str | None, unit: str, size: tuple[float, float]
    ) -> "Picture":
        from watchtide.door import pictures

        base = one.base
        shown = _span(base.series.times, start, stop, base.zone)
        columns = _cut(outcome.points_of(one), shown)
        ends = columns["time"][[0, -1]]
        found = [f for f in one.findings if f.start <= ends[1] and f.end >= ends[0]]
        about = pictures.About(base.zone, base.key or "the only stream", unit)
        return pictures.stream(columns, found, about, size)

    def __str__(self) -> str:
        streams = len(self._scanned)
        return f"{len(self.found):,} findings in {self.judged:,} judged samples of {streams:,} stream{'' if streams == 1 else 's'}"

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


def _cut(columns: Mapping[str, Any], part: slice) -> dict[str, Any]:
    return {name: column[part] for name, column in columns.items()}


def _span(times: Ints, start: str | None, stop: str | None, zone: str) -> slice:
    """Which samples lie within a closed span. Raises InputError where none does."""
    a = 0 if start is None else int(np.searchsorted(times, clock.parse_one(start, zone)))
    b = len(times) if stop is None else int(np.searchsorted(times, clock.parse_one(stop, zone), side="right"))
    if a >= b:
        raise InputError("start", "the span holds no sample", "state a span of the stream")
    return slice(a, b)
