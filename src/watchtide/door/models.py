"""Kept models applied to later data, forecasts, and whether a baseline is any good."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any, Unpack

import pyarrow as pa

from watchtide.door.errors import InputError
from watchtide.door.found import Scan
from watchtide.door.stated import Columns, plan_of, streams_of
from watchtide.door.tables import MOMENT, Table
from watchtide.engine.keep import saved, saved_units
from watchtide.engine.many import run
from watchtide.engine.prepare.preparing import Input
from watchtide.engine.scan import ahead, by_unit, examine, stages
from watchtide.plan import Plan, durations


@dataclass(frozen=True)
class Models:
    """Fitted models of streams, as `Scan.save` or `watchtide scan --save` keeps them. place : where they were read from."""

    place: str
    _kept: Mapping[str, saved.Saved]

    @property
    def series(self) -> tuple[str, ...]:
        """Keys of the streams that there is a model of."""
        return tuple(sorted(self._kept))

    def apply(
        self,
        table: Any,
        **columns: Unpack[Columns],
    ) -> Scan:
        """Judge new samples by these models: nothing is fitted, levels are those kept. What `watchtide apply` does.

        Columns as `scan` takes them. Raises InputError for a stream without a model.
        """
        streams, _ = streams_of(table, **columns)
        plan = next((s.plan for s in self._kept.values()), Plan())
        return Scan(plan, "apply", tuple(applied(self._kept, streams, self.place)))


def load(path: str | Path) -> Models:
    """Models that were kept; safe to read from a stranger. Raises InputError, ValueError for a file that is none."""
    if not Path(path).is_file():
        raise InputError("path", f"there is no file {path}", "check the path")
    if saved_units.is_of_units(str(path)):
        raise InputError(
            "path", f"{path} judges waveforms", "apply it by the command: watchtide apply --wave"
        )
    return Models(str(path), {s.key: s for s in saved.read(str(path))})


def applied(kept: Mapping[str, saved.Saved], streams: Sequence[Input], place: str) -> list[stages.Scanned]:
    """Streams judged by their models. place : of the models, for messages. Raises InputError."""
    out = []
    for stream in streams:
        name, own = stream.key or "(the only one)", kept.get(stream.key)
        if own is None:
            some = ", ".join(sorted(kept)[:5]) or "the only stream, without a key"
            remedy = f"it holds {len(kept)}: {some}; keep one of this stream too, by Scan.save or scan --save"
            raise InputError(f"stream {name}", f"has no model in {place}", remedy)
        try:
            out.append(saved.apply(own, stream))
        except ValueError as error:
            raise InputError(f"stream {name}", *_parts(error)) from error
    return out


@dataclass(frozen=True)
class Forecast:
    """What comes next. table : series, time, expected, lower, upper; interval : share of values between lower and upper; limits : of each stream
    when the stated limit is reached, and how sure; empty without one; notes : of each stream."""

    table: Table
    interval: float
    limits: dict[str, dict[str, Any]]
    notes: dict[str, tuple[str, ...]]

    def _repr_html_(self) -> str:
        return self.table._repr_html_()


def forecast(
    table: Any,
    steps: int | str,
    plan: Plan | Mapping[str, Any] | str | Path | None = None,
    *,
    skip_last: int = 0,
    interval: float = 0.95,
    limit: float | None = None,
    **columns: Unpack[Columns],
) -> Forecast:
    """The plan of every stream carried on: what `watchtide forecast` gives.

    steps : samples, or a duration as "7d"; skip_last : newest samples that are left out, as not complete yet; limit : in the unit of the values, whose reaching is
    foretold. Columns as `scan` takes them. Raises InputError.
    """
    if not 0 < interval < 1:
        raise InputError("interval", f"{interval:g} is no share", "take one between 0 and 1, such as 0.95")
    chosen = plan_of(plan)
    streams, _ = streams_of(table, chosen, **columns)
    parts, limits, notes = [], {}, {}
    for stream in streams:
        found = foretold(stream, chosen, str(steps), skip_last=skip_last, interval=interval)
        parts.append(forecast_table(stream.key, found))
        notes[stream.key] = tuple(found.notes)
        if limit is not None:
            limits[stream.key] = ahead.limit_reached(found, limit)
    return Forecast(Table(pa.concat_tables(parts)), interval, limits, notes)


def foretold(stream: Input, plan: Plan, steps: str, *, skip_last: int, interval: float) -> ahead.Forecast:
    """The forecast of one stream. steps : samples, or a duration in whole samples of it. Raises InputError."""
    try:
        by_unit.refuse(plan, by_unit.FORECAST)
        step = stages.prepare(stream, plan).series.step_ns
        length = durations.parse_ns(steps, step_ns=step)
        if length < step:
            raise ValueError(f"steps {steps} is under one sample of {durations.format_ns(step)}")
        return ahead.forecast(stream, plan, length // step, skip_last=skip_last, interval=interval)
    except ValueError as error:
        raise InputError(f"stream {stream.key or '(the only one)'}", *_parts(error)) from error


def forecast_table(key: str, found: ahead.Forecast) -> pa.Table:
    """A forecast as a table; times as stamps."""
    return pa.table(
        {
            "series": pa.array([key] * len(found.times), pa.string()),
            "time": pa.array(found.times, MOMENT),
            "expected": pa.array(found.expected, from_pandas=True),
            "lower": pa.array(found.lower, from_pandas=True),
            "upper": pa.array(found.upper, from_pandas=True),
        }
    )


@dataclass(frozen=True)
class Diagnosis:
    """Whether the baselines are any good. figures : of each stream its errors by part and what is wrong with its baseline; remedy : keys of the plan
    with the values that would help; plan : the plan with them."""

    figures: dict[str, Any]
    remedy: dict[str, Any]
    plan: Plan


def diagnose(
    table: Any,
    plan: Plan | Mapping[str, Any] | str | Path | None = None,
    **columns: Unpack[Columns],
) -> Diagnosis:
    """Errors of a scan by part, what is wrong with its baselines, and a plan with the remedies: what `watchtide diagnose` gives."""
    chosen = plan_of(plan)
    streams, _ = streams_of(table, chosen, **columns)
    figures = {s.base.key: examine.examine(s) for s in run.scan_many(streams, chosen)}
    remedy, kind = remedies(figures)
    return Diagnosis(figures, remedy, examine.remedied(chosen, remedy, kind))


def remedies(figures: Mapping[str, Any]) -> tuple[dict[str, Any], str | None]:
    """Keys of the plan with the values that would help, the first of each; and the kind of baseline whose options are among them."""
    changes: dict[str, Any] = {}
    kind: str | None = None
    for own in figures.values():
        for d in own["diagnoses"]:
            for where, value in d["remedy"].items():
                if where == "baseline.options" and where not in changes:
                    kind = own["baseline"]["kind"]
                changes.setdefault(where, value)
    return changes, kind


def _parts(error: ValueError) -> tuple[str, str]:
    message, _, remedy = str(error).partition("; ")
    return message, remedy or "see docs/formats.md"
