"""From raw samples to the frame a baseline takes: grid, transform, ratios, known days, covariates."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
import pyarrow as pa

from watchtide.core.expect import spread
from watchtide.core.expect.baselines.learned import Shared
from watchtide.core.expect.frame import DAY_NS, Frame
from watchtide.core.expect.quantile import Counted
from watchtide.core.series import Bools, Floats, Ints, Series, cadence, live, transforms
from watchtide.core.series.gridding import Track
from watchtide.core.series.steps import Cadence, Found
from watchtide.core.series.transforms import Transform
from watchtide.engine.prepare.placing import Placing
from watchtide.plan import Plan, durations
from watchtide.tables import calendars, clock, expressions

# Known days may lie ahead of the data: a forecast asks for them.
AHEAD_NS = 400 * DAY_NS


@dataclass(frozen=True)
class Beside:
    """A covariate: its name and its own samples, in any cadence."""

    name: str
    times: Ints
    values: Floats


@dataclass(frozen=True)
class KnownDay:
    """One occurrence of a known day: half-open span in UTC, widened by lead and lag already."""

    name: str
    start_ns: int
    stop_ns: int


@dataclass(frozen=True)
class Input:
    """One stream's raw samples: times (n,) UTC ns in any order, values (n,) NaN for missing.

    denominators : (n,) of ratios, on the same stamps; shared : the network that its family has trained, where there is one.
    """

    key: str
    times: Ints
    values: Floats
    zone: str = "UTC"
    denominators: Floats | None = None
    covariates: tuple[Beside, ...] = ()
    days: tuple[KnownDay, ...] = ()
    shared: Shared | None = None

    def until(self, end_ns: int | None) -> "Input":
        """The same with covariates known only before a moment; known days stay known."""
        if end_ns is None:
            return self
        cut = tuple(
            Beside(c.name, c.times[c.times < end_ns], c.values[c.times < end_ns]) for c in self.covariates
        )
        return replace(self, covariates=cut)


@dataclass(frozen=True)
class Prepared:
    """A stream ready to be fitted. series holds the original values on the grid; denominator (n,) or None; unit : of a
    ratio of whole counts; cadence : of the grid; found : what the stamps by themselves say; track : by
    which samples after these are placed, where stamps stray about round times."""

    series: Series
    denominator: Floats | None
    columns: Floats
    names: tuple[str, ...]
    resolved: dict[str, Any]
    notes: tuple[str, ...]
    unit: float
    cadence: Cadence
    found: Found
    track: Track | None = None

    @property
    def by_row(self) -> bool:
        """Whether a difference steps to the observed sample before, however far back: holidays are no reason to lose the day after."""
        return self.cadence.kind in ("rows", "workday")


def known_days(
    plan: Plan, first: int, last: int, days: Callable[[str, int, int], Sequence[calendars.Day]]
) -> tuple[KnownDay, ...]:
    """Occurrences of the plan's calendars from `first` to a year past `last`, widened by lead and lag.

    days : (name, first, last) -> what that calendar holds within the span.
    """
    out = []
    for entry in plan.baseline.calendars:
        lead, lag = durations.parse_ns(entry.lead), durations.parse_ns(entry.lag)
        for day in days(entry.file, first - lag, last + AHEAD_NS):
            out.append(KnownDay(day.name, day.start_ns - lead, day.stop_ns + lag))
    return tuple(out)


def prepare(
    stream: Input, plan: Plan, *, until: int | None = None, known: int = cadence.KNOWN_STAMPS
) -> Prepared:
    """The stream on an even grid with its local offsets, and what was resolved on the way.

    until : in replay, how many samples may speak for the kind of values and for where in a step the grid lies, and `known`
    how many for the cadence; None lets all of them.
    """
    p = plan.prepare
    times, values, d = stream.times, stream.values, stream.denominators
    notes: list[str] = []
    if p.filter:
        kept = _kept(p.filter, values, d)
        if np.any(~kept & ~np.isnan(values)):
            notes.append(
                f"{int(np.sum(~kept & ~np.isnan(values)))} samples that fail the filter count as missing"
            )
        values = np.where(kept, values, np.nan)
    order = np.argsort(times, kind="stable")
    early = order if until is None else order[:until]
    seen = values[early][~np.isnan(values[early])]
    found, way = cadence_of(stream, plan, times[order] if until is None else times[order[:known]])
    as_ = p.as_
    if as_ == "auto":
        as_ = "ratio" if d is not None else "count" if are_counts(seen) else "value"
    if as_ == "ratio" and d is None:
        raise ValueError("as: ratio needs a denominator; name its column with --denominator")
    combine = p.combine
    if combine == "auto":
        # A count summed over equal stamps would double what was sent twice.
        combine = "sum" if as_ == "count" and way.step_ns > found.cadence.step_ns else "mean"
    place = Placing(found, way, stream.zone, times[order], None if until is None else len(early))
    denominator = None
    if as_ == "ratio" and d is not None:
        below = place.series(np.where(np.isnan(values), np.nan, d)[order], "sum")
        weighted = place.series((values * d)[order], "sum")
        with np.errstate(invalid="ignore", divide="ignore"):
            ratio = np.where(below.values > 0, weighted.values / below.values, np.nan)
        series, denominator = weighted.with_values(ratio), below.values
        combine = "mean"
    else:
        series = place.series(values[order], combine)
    if way.kind == "workday" and p.combine == "auto" and found.cadence.step_ns < way.step_ns:
        place.refuse_doubles()
    notes += place.notes()
    columns, names = beside(stream, series)
    return Prepared(
        series, denominator, columns, names,
        {"every": durations.format_every(way), "combine": combine, "as": as_}, tuple(notes),
        spread.counting_unit(values[early], d[early]) if as_ == "ratio" and d is not None else 0.0, way, found,
        None if place.grid is None else place.grid.track,
    )  # fmt: skip


def in_order(stream: Input, plan: Plan) -> tuple[Ints, Floats]:
    """The samples as they came, in order and off no grid; of several at one stamp the last given. What fails the plan's
    filter is missing."""
    values = stream.values
    if plan.prepare.filter:
        values = np.where(_kept(plan.prepare.filter, values, None), values, np.nan)
    order = np.argsort(stream.times, kind="stable")
    times = stream.times[order]
    last = np.append(np.diff(times) > 0, np.ones(min(len(times), 1), np.bool_))
    return times[last], values[order][last]


def cadence_of(stream: Input, plan: Plan, known: Ints) -> tuple[Found, Cadence]:
    """(what these stamps by themselves say, the cadence of the grid) of a stream under a plan."""

    def to_local(stamps: Ints) -> Ints:
        return clock.utc_locals(stamps, stream.zone)

    found = cadence.find(known, to_local)
    return found, durations.parse_every(plan.prepare.every, found.cadence, lambda: to_local(known))


def _kept(condition: str, values: Floats, d: Floats | None) -> Bools:
    """Samples that meet the plan's filter, a condition on `value` and `denominator`."""
    try:
        tree = expressions.parse_condition(condition)
    except expressions.ExpressionError as error:
        raise ValueError(f"prepare.filter: {error}") from error
    columns = {"value": pa.array(values, from_pandas=True).cast(pa.string())}
    if d is not None:
        columns["denominator"] = pa.array(d, from_pandas=True).cast(pa.string())
    unknown = sorted(set(expressions.columns_of(tree)) - set(columns))
    if unknown:
        raise ValueError(f"prepare.filter names {unknown[0]}; it may ask for {' and '.join(columns)}")
    return np.asarray(expressions.holds(tree, columns, len(values)))


def are_counts(seen: Floats) -> bool:
    """Whole numbers from 0 on without a common factor that scatter like counts: what one gets by counting one by one.

    seen : (n,) values in order. A gauge rounded to whole numbers, such as a pressure in hPa, hardly moves from one
    sample to the next: see `spread.is_underdispersed`.
    """
    if len(seen) == 0 or not np.all((seen >= 0) & (seen == np.floor(seen)) & (seen < 2**53)):
        return False
    return int(np.gcd.reduce(seen.astype(np.int64))) == 1 and not spread.is_underdispersed(seen)


def beside(stream: Input, series: Series) -> tuple[Floats, tuple[str, ...]]:
    """(k, n) columns of covariates and known days, and their names."""
    rows, names = [], []
    for c in stream.covariates:
        column = live.aligned(c.times, c.values, series.times, ends=series.ends)
        rows.append(column)
        names.append(c.name)
    if stream.days:
        rows_of_days, names_of_days = day_columns(stream.days, series)
        rows += rows_of_days
        names += names_of_days
    return (np.stack(rows) if rows else np.zeros((0, len(series)))), tuple(names)


def day_columns(days: Sequence[KnownDay], series: Series) -> tuple[list[Floats], list[str]]:
    """Known days as columns: any of them, with a shape over the day, and each name by itself."""
    inside: dict[str, Floats] = {}
    for day in days:
        a, b = np.searchsorted(series.times, day.start_ns), np.searchsorted(series.times, day.stop_ns)
        inside.setdefault(day.name, np.zeros(len(series)))[a:b] = 1.0
    any_day = np.max(np.stack(list(inside.values())), axis=0)
    hour = 2 * np.pi * ((series.times + series.offsets_ns) % DAY_NS) / DAY_NS
    rows, names = [any_day], ["known day"]
    if series.step_ns < DAY_NS // 4:
        for k in (1, 2):
            rows += [any_day * np.cos(k * hour), any_day * np.sin(k * hour)]
            names += [f"known day, shape {2 * k - 1}", f"known day, shape {2 * k}"]
    if len(inside) > 1:
        rows += list(inside.values())
        names += [f"known day: {name}" for name in inside]
    return rows, names


Scales = dict[str, tuple[float, float]]


def scales_of(prepared: Prepared, training: Bools) -> Scales:
    """Centre and scale of each covariate over the training samples: a part of the model, which judges new samples by them."""
    out: Scales = {}
    for row, name in zip(prepared.columns, prepared.names, strict=True):
        if not name.startswith("known day"):
            seen = row[training & ~np.isnan(row)]
            out[name] = (float(seen.mean()), float(seen.std()) or 1.0) if len(seen) else (0.0, 1.0)
    return out


def frame_of(
    prepared: Prepared, transform: Transform, usable: Bools, training: Bools, scales: Scales | None = None
) -> Frame:
    """The frame a baseline takes: transformed values, weights of ratios, standardised columns.

    training : (n,) samples from which columns and weights take their scale; scales : of the columns, where a model has
    them already.
    """
    series = prepared.series
    values = transforms.forward(transform, series.values)
    weights = np.ones(len(series))
    if prepared.denominator is not None:
        d = np.nan_to_num(prepared.denominator, nan=0.0)
        usual = float(np.median(d[training & (d > 0)])) if np.any(training & (d > 0)) else 1.0
        weights = np.clip(d / max(usual, 1e-300), 0.0, 20.0)
    counted = None
    if transform.name == "none" and prepared.resolved["as"] == "count":
        counted = Counted.plain(len(series))
    elif transform.name == "none" and prepared.unit > 0 and prepared.denominator is not None:
        trials = np.maximum(np.nan_to_num(prepared.denominator, nan=0.0), 1e-9)
        counted = Counted(prepared.unit / trials, trials)
    columns = prepared.columns.copy()
    scales = scales_of(prepared, training) if scales is None else scales
    for row, name in zip(columns, prepared.names, strict=True):
        if name in scales:
            centre, scale = scales[name]
            row[:] = (row - centre) / scale
    # On the axis of a calendar the local clock is part of the cadence already.
    offsets = series.offsets_ns if series.axis_ns is None else np.zeros(len(series), np.int64)
    return Frame(
        series.axis, offsets, series.step_ns, values, usable & ~np.isnan(values), weights, columns,
        prepared.names, counted,
    )  # fmt: skip


def parse_transform(text: str, step_ns: int) -> tuple[str, int]:
    """Name and lag in samples of a transform as a plan writes it: `difference 24h`, `rolling mean 1h`."""
    words = str(text).split()
    for name in sorted(transforms.NAMES, key=len, reverse=True):
        if " ".join(words[: len(name.split())]) == name:
            rest = words[len(name.split()) :]
            break
    else:
        raise ValueError(f"transform must be one of {', '.join(transforms.NAMES)}, got {text!r}")
    if len(rest) > 1 or (rest and name in (*transforms.POINTWISE, "none")):
        raise ValueError(
            f"transform {text!r} says too much; write for example `difference 24h` or `rolling mean 1h`"
        )
    if not rest:
        if name.startswith("rolling"):
            raise ValueError(f"transform {name} needs a length, for example `{name} 1h`")
        return name, 1
    length = durations.parse_ns(rest[0], step_ns=step_ns)
    if length < step_ns or length % step_ns:
        raise ValueError(
            f"transform {text!r}: {rest[0]} is no whole number of samples of {durations.format_ns(step_ns)}"
        )
    return name, length // step_ns
