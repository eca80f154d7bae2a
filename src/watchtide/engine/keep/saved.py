"""Fitted models in a file: plain arrays and JSON in a zip, so that reading one from a stranger runs nothing.

The format is in docs/formats.md. A model judges new samples without fitting.
"""

import json
import math
import zipfile
from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np

from watchtide import __version__
from watchtide.core.expect import applying, baselines, quantile
from watchtide.core.expect.baselines import Fitted
from watchtide.core.expect.carrying import Carry
from watchtide.core.expect.frame import Period
from watchtide.core.expect.records import Choice, Model
from watchtide.core.expect.spread import LAWS, SpreadModel
from watchtide.core.judge import combining, flagging, watches, windows
from watchtide.core.series import Floats, Ints, Series, transforms
from watchtide.core.series.transforms import Transform
from watchtide.engine.keep.arrays import read_array, zipped
from watchtide.engine.prepare import preparing, training
from watchtide.engine.prepare.preparing import Input
from watchtide.engine.scan import stages
from watchtide.engine.scan.stages import Baselined, Scanned
from watchtide.plan import Plan, PlanError
from watchtide.plan.text import from_data
from watchtide.tables import clock
from watchtide.tables.problems import TableError

FORMAT = "watchtide model 1"
MOST_BYTES = 1 << 30
MOST_STREAMS = 20_000


@dataclass(frozen=True)
class Saved:
    """One stream's model: with the plan as resolved, the levels in force, and what it was trained on."""

    key: str
    zone: str
    plan: Plan
    model: Model
    transform: Transform
    watch: watches.Watch | None
    carry: Carry | None
    level: flagging.Level
    resolved: dict[str, Any]
    trained: dict[str, Any]

    def drift_at(self, past_end: Ints) -> Floats | None:
        """(w, n) how far the means of windows stray so many samples past the end, None where that is not known."""
        if self.carry is None or self.watch is None:
            return None
        return self.carry.drift_at(past_end, self.watch.lengths)


def saved_of(scanned: Scanned, plan: Plan) -> Saved | None:
    """What is to be kept of a scan that came with its model; None where nothing was fitted."""
    base = scanned.base
    if base.model is None or base.transform is None:
        return None
    seen = np.flatnonzero(base.clean)
    times = base.series.times
    trained = {
        "from": clock.format_time(int(times[seen[0]])) if len(seen) else None,
        "to": clock.format_time(int(times[seen[-1]])) if len(seen) else None,
        "samples": len(seen),
    }
    return Saved(
        base.key,
        base.zone,
        plan,
        base.model,
        base.transform,
        base.watch,
        base.carry,
        scanned.level,
        base.resolved,
        trained,
    )


def write(saved: Sequence[Saved]) -> bytes:
    """The file of these models."""
    header: dict[str, Any] = {"format": FORMAT, "version": __version__, "streams": []}
    arrays: dict[str, Floats] = {}
    for i, s in enumerate(saved):
        for name, values in s.model.fitted.arrays.items():
            arrays[f"{i}.{name}"] = np.asarray(values, dtype=np.float64)
        header["streams"].append(_told(s))
    return zipped("model.json", header, arrays)


def _told(s: Saved) -> dict[str, Any]:
    choice, fitted, model = s.model.choice, s.model.fitted, s.model
    return {
        "key": s.key,
        "zone": s.zone,
        "plan": s.plan.as_data(),
        "resolved": s.resolved,
        "trained": s.trained,
        "choice": {
            "kind": choice.kind, "periods": _periods(choice.periods), "law": choice.law, "is_multiplied": choice.is_multiplied,
            "is_robust": choice.is_robust, "settle_samples": choice.settle_samples, "unit": choice.unit,
        },
        "fitted": {"facts": fitted.facts, "periods": _periods(fitted.periods), "arrays": sorted(fitted.arrays)},
        "spread": model.spread.as_data(),
        "model": {
            "step": model.step, "group_period": _periods([model.group_period] if model.group_period else []),
            "groups": model.groups, "end_ns": model.end_ns, "grain": model.grain, "doubt": model.doubt,
            "day_period": _periods([model.day_period] if model.day_period else []), "days": model.days,
        },
        "transform": {"name": s.transform.name, "lag": s.transform.lag, "facts": dict(s.transform.facts), "by_row": s.transform.by_row},
        "watch": s.watch.as_data() if s.watch is not None else None,
        "carry": s.carry.as_data() if s.carry is not None else None,
        "level": {k: _finite(getattr(s.level, k)) for k in ("above", "below", "odd")} | {"note": s.level.note},
    }  # fmt: skip


def _periods(periods: Sequence[Period]) -> list[list[Any]]:
    return [[p.ns, p.is_local] for p in periods]


def _finite(value: float) -> float | None:
    return float(value) if math.isfinite(value) else None


def read(path: str) -> list[Saved]:
    """The models of a file. Raises TableError for one that is none, is damaged, or says what cannot be."""

    def refuse(message: str, remedy: str = "save the models anew with scan --save") -> TableError:
        return TableError(Path(path).name, "", message, remedy)

    if not Path(path).is_file():
        raise refuse("there is no such file", "check the path")
    try:
        with zipfile.ZipFile(path) as file:
            if sum(x.file_size for x in file.infolist()) > MOST_BYTES:
                raise refuse(f"unpacks to more than {MOST_BYTES >> 30} GB", "save fewer streams a file")
            header = json.loads(file.read("model.json"))
            if header.get("format") != FORMAT:
                raise refuse(f"is no model file of this version ({header.get('format')!r}, not {FORMAT!r})")
            if len(header["streams"]) > MOST_STREAMS:
                raise refuse(f"holds more than {MOST_STREAMS:,} streams")
            arrays = {}
            for name in file.namelist():
                if name.endswith(".npy"):
                    with file.open(name) as member:
                        values = read_array(member)
                    if values.dtype != np.float64:
                        raise refuse(f"{name} holds {values.dtype}, not numbers")
                    arrays[name[:-4]] = values
        return [_saved(stated, i, arrays) for i, stated in enumerate(header["streams"])]
    except TableError:
        raise
    except PlanError as error:
        raise refuse(f"holds a plan that cannot be used: {error}") from error
    except (
        zipfile.BadZipFile,
        KeyError,
        ValueError,
        TypeError,
        AttributeError,
        EOFError,
        OSError,
        IndexError,
    ) as error:
        raise refuse(
            f"is no model file, or is damaged ({type(error).__name__}: {str(error)[:120]})"
        ) from error


def _saved(stated: dict[str, Any], i: int, arrays: dict[str, Floats]) -> Saved:
    choice, fitted, model = stated["choice"], stated["fitted"], stated["model"]
    if choice["kind"] not in baselines.KINDS or stated["spread"]["law"] not in LAWS:
        raise ValueError(f"unknown kind {choice['kind']!r} or law {stated['spread']['law']!r}")
    if stated["transform"]["name"] not in transforms.NAMES:
        raise ValueError(f"unknown transform {stated['transform']['name']!r}")
    made = Choice(
        choice["kind"], _read_periods(choice["periods"]), {}, choice["law"], bool(choice["is_multiplied"]),
        bool(choice["is_robust"]), int(choice["settle_samples"]), None, float(choice["unit"]),
    )  # fmt: skip
    own = Fitted(
        choice["kind"], _read_periods(fitted["periods"]), {name: arrays[f"{i}.{name}"] for name in fitted["arrays"]},
        dict(fitted["facts"]),
    )  # fmt: skip
    scatter = SpreadModel(
        **{**stated["spread"], "factor": np.asarray(stated["spread"]["factor"], np.float64)}
    )
    groups = int(model["groups"])
    days = int(model.get("days", 1))
    if len(scatter.factor) != groups * days:
        raise ValueError("the spread's factors are not one a group")
    period = next(iter(_read_periods(model["group_period"])), None)
    day_period = next(iter(_read_periods(model.get("day_period", []))), None)
    level = stated["level"]
    above, below, odd = (
        float("inf") if level[k] is None else float(level[k]) for k in ("above", "below", "odd")
    )
    judged = Model(
        choice=made,
        fitted=own,
        spread=scatter,
        step=float(model["step"]),
        group_period=period,
        groups=groups,
        end_ns=int(model["end_ns"]),
        grain=float(model["grain"]),
        doubt=float(model.get("doubt", 0.0)),
        day_period=day_period,
        days=days,
    )
    change = stated["transform"]
    facts = tuple((k, float(v)) for k, v in change["facts"].items())
    return Saved(
        key=str(stated["key"]),
        zone=str(stated["zone"]),
        plan=from_data(stated["plan"]),
        model=judged,
        transform=Transform(change["name"], int(change["lag"]), facts, bool(change.get("by_row", False))),
        watch=watches.Watch.from_data(stated["watch"]) if stated["watch"] else None,
        # Files of the first builds have none.
        carry=Carry.from_data(stated["carry"]) if stated.get("carry") else None,
        level=flagging.Level(above, below, odd, str(level["note"])),
        resolved=dict(stated["resolved"]),
        trained=dict(stated["trained"]),
    )


def _read_periods(rows: Sequence[Sequence[Any]]) -> tuple[Period, ...]:
    out = tuple(Period(int(ns), bool(is_local)) for ns, is_local in rows)
    if any(p.ns <= 0 for p in out):
        raise ValueError("a season is not positive")
    return out


def _is_after(series: Series, saved: Saved) -> bool:
    """Whether all of a series comes after what a model was trained on."""
    until = saved.trained["to"]
    return until is not None and int(series.times[0]) > clock.parse_one(str(until))


def _settled(saved: Saved) -> Plan:
    """The plan with the grid that the model was fitted on."""
    resolved, prepare = saved.resolved["prepare"], saved.plan.prepare
    grid = {"every": resolved["every"], "combine": resolved["combine"], "as_": resolved["as"]}
    return saved.plan.model_copy(update={"prepare": prepare.model_copy(update=grid)})


def _after_training(prepared: preparing.Prepared, saved: Saved) -> preparing.Prepared:
    """Samples as they are; of rows without times, as they continue after the last training row."""
    series = prepared.series
    if prepared.cadence.kind != "rows" or not len(series) or not _is_after(series, saved):
        return prepared
    onward = saved.model.end_ns + series.step_ns - int(series.axis[0])
    return replace(prepared, series=replace(series, axis_ns=series.axis + onward))


def apply(saved: Saved, stream: Input) -> Scanned:
    """Judge new samples of a stream by its kept model: nothing is fitted, the level is the one kept.

    Raises ValueError where the samples come at another cadence than the model was fitted at.
    """
    plan, model = _settled(saved), saved.model
    prepared = _after_training(preparing.prepare(replace(stream, zone=saved.zone), plan), saved)
    series, n = prepared.series, len(prepared.series)
    usable, notes = training.usable_samples(prepared, plan, [])
    scales = {k: (float(c), float(s)) for k, (c, s) in saved.resolved["facts"].get("covariates", {}).items()}
    # Models of older versions have none: the batch's own serve, as they did.
    frame = preparing.frame_of(prepared, saved.transform, usable, usable, scales or None)
    parts, expected = applying.judge(model, frame)
    groups = applying.spread_groups(frame, model)
    spread = applying.spread_at(model, parts, expected, groups, prepared.denominator, frame)
    past_end = (frame.times - model.end_ns) // series.step_ns
    if saved.carry is not None:
        spread = spread * saved.carry.growth_at(past_end)
    shown, wide = transforms.back(saved.transform, series.values, expected, spread)
    counted = training.counted_in(frame, model)
    z = stages.scores(quantile.score(series.values, shown, wide, counted), prepared, plan)
    drift = saved.drift_at(past_end)
    beside = windows.beside_of(model, frame, expected)
    evidence = combining.combine(saved.watch, z, beside, is_causal=False, drift=drift, past_end=past_end > 0)
    base = Baselined(
        key=stream.key,
        zone=saved.zone,
        series=series,
        expected=shown,
        spread=wide,
        counted=counted,
        trend=parts.trend,
        seasons=parts.seasons,
        level_series=np.full(n, np.nan),
        clean=np.zeros(n, np.bool_),
        train_stop=0,
        shift_candidates=np.empty(0, np.int64),
        stream_spread=model.spread.stream,
        found_seasons=tuple((p.samples(series.step_ns), float("nan")) for p in model.choice.periods),
        resolved=saved.resolved,
        notes=(
            *prepared.notes,
            *notes,
            f"judged by a model trained on {saved.trained['from']} to {saved.trained['to']}",
        ),
        evidence=evidence,
        held_out=watches.alone(np.full(n, np.nan)),
        mode="apply",
    )
    without_shifts = plan.model_copy(update={"shifts": plan.shifts.model_copy(update={"of": "none"})})
    return stages.flag(base, without_shifts, level=saved.level)
