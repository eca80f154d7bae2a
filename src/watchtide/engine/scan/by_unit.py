"""Units of a stream judged as wholes: bursts, or stretches of one length (`prepare.unit`), instead of single samples."""

from collections.abc import Sequence
from typing import Any

import numpy as np

from watchtide.core import units
from watchtide.core.expect.quantile import Counted
from watchtide.core.judge import flagging, watches
from watchtide.core.scoring.rows import Label
from watchtide.core.series import Floats, Series, Strings, bursts
from watchtide.core.series.bursts import Laid
from watchtide.engine.prepare import preparing, training
from watchtide.engine.prepare.preparing import Input
from watchtide.engine.scan.based import Baselined, Units
from watchtide.plan import Plan, durations
from watchtide.plan.model import Unit
from watchtide.tables import clock

# Share of the units that is the test where a plan states none.
TEST_SHARE = 0.2


def is_wanted(plan: Plan) -> bool:
    return plan.prepare.unit != "none"


def kind_of(plan: Plan) -> str:
    return "reconstruction" if plan.baseline.kind == "auto" else plan.baseline.kind


def options_of(plan: Plan, kind: str) -> dict[str, Any]:
    """The plan's options. Raises ValueError for one that units have no use for."""
    options = dict(plan.baseline.options)
    if unused := sorted(set(options) - set(units.OPTIONS.get(kind, options))):
        raise ValueError(
            f"baseline.options.{unused[0]}: units have no use for it, they are as long as they are"
        )
    return options


def shares(plan: Plan, train_share: float | None = None) -> tuple[float, float]:
    """Shares of the units that train, and that show when to stop. Raises ValueError where they leave nothing of either."""
    validation, locked = plan.baseline.split.validation, plan.baseline.split.locked
    for name, share in (("validation", validation), ("locked", locked)):
        if isinstance(share, str):
            raise ValueError(
                f"baseline.split.{name}: {share}: units have an order and no span; give a share such as 0.2"
            )
    if train_share is None and validation is None and locked is None:
        return units.SHARES
    before = 1 - float(locked or TEST_SHARE) if train_share is None else train_share
    own = before / 4 if validation is None else float(validation)
    if not 0 < own < before < 1:
        raise ValueError(
            "the shares leave nothing to train on, to stop by, or to test on: take for example --train-share 0.8"
        )
    return before - own, own


def fit(stream: Input, plan: Plan, labels: Sequence[Label] = ()) -> Baselined:
    """The baseline stage of a plan whose `prepare.unit` is stated: every sample has what its unit was rebuilt as.

    Expected is what the network rebuilds, or the middle of the training units for isolation; spread how far the units of
    validation lie from it at that place; evidence the score of the whole unit, which has no side.
    Raises ValueError for units that cannot be set side by side or are too few, and for what does not go with units.
    """
    series, laid = _laid(stream, plan)
    count = len(laid.waves)
    left_out = training.left_out_spans(plan, stream.key, labels)
    normal = ~bursts.touched(series.times, laid.number, count, left_out)
    parts = units.split(normal, shares(plan, _train_share(plan, series, laid, stream.zone)))
    kind = kind_of(plan)
    model = units.fit(laid.waves, parts, kind, ("sigmas", np.inf), **options_of(plan, kind))
    scores = units.score(model, laid.waves)
    rows = units.expected(model, laid.waves)
    rows[np.isnan(scores)] = np.nan
    spread = units.spread(laid.waves - rows, parts)
    first, last = laid.ends
    n = len(series)
    nothing = np.full(n, np.nan)
    own = laid.spread_out(scores)
    side = np.where(np.isnan(own), 0, watches.ODD).astype(np.int8)
    begin = np.where(laid.place >= 0, first[laid.number], np.arange(n))
    heard = watches.Evidence(own, side, np.where(side, laid.length, 1), begin)
    learned_from = np.isin(parts, (units.TRAINING, units.VALIDATION)).astype(np.float64)
    clean = laid.spread_out(learned_from, 0.0) > 0
    trained = np.flatnonzero(parts == units.TRAINING)
    return Baselined(
        key=stream.key,
        zone=stream.zone,
        series=series,
        expected=laid.spread_out(rows),
        spread=laid.spread_out(np.tile(spread, (count, 1))),
        counted=Counted.none(n),
        trend=nothing,
        seasons=nothing,
        level_series=nothing,
        clean=clean,
        train_stop=int(last[trained[-1]]) + 1,
        shift_candidates=np.zeros(0, np.int64),
        stream_spread=float(np.median(spread)),
        found_seasons=(),
        resolved=_resolved(plan, kind, model, series, laid, parts),
        notes=_notes(laid, scores, parts),
        evidence=heard,
        held_out=watches.alone(np.where(clean, own, np.nan)),
        units=Units(series.times[first], series.times[last], parts, scores),
    )


def level(base: Baselined, plan: Plan) -> flagging.Level:
    """The level of units, read off those of training and validation. It has no promise: units have no weeks."""
    ((reading, amount),) = plan.flag.level.items()
    least, note = units.level_of(base.units.score, base.units.part, (reading, amount))
    return flagging.Level(least, least, least, note)


# What units have none of, and what to do instead.
AS_IF_LIVE = (
    "units are not judged as if live",
    "scan them by a fit; its last part is a test that it never saw",
)
FORECAST = "units have no forecast", "leave it out of the plan"
SAVED = "a stream's units are not saved", "save a table of waveforms, by scan --wave"
SINGLE = "nothing is expected of single samples", "leave it out for this"


def refuse(plan: Plan, why: tuple[str, str]) -> None:
    """Raise ValueError where a plan judges units, and so lacks what was requested."""
    if is_wanted(plan):
        raise ValueError(f"prepare.unit: {why[0]}: {why[1]}")


def _laid(stream: Input, plan: Plan) -> tuple[Series, Laid]:
    """The samples, and their units side by side. Bursts keep their own stamps; stretches stand on the stream's grid."""
    p = plan.prepare
    assert isinstance(p.unit, Unit)
    if p.transform != "none":
        raise ValueError(
            f"prepare.transform: {p.transform}: units are scaled by those that train; leave it out"
        )
    if stream.denominators is not None:
        raise ValueError("prepare.unit: a ratio has no bursts; scan the amounts by themselves")
    if p.unit.length is not None:
        series = preparing.prepare(stream, plan).series
        length = durations.parse_ns(p.unit.length, step_ns=series.step_ns)
        return series, bursts.lay(
            series.times, series.values, bursts.by_length(series.axis + series.offsets_ns, length)
        )
    times, values = preparing.in_order(stream, plan)
    step = int(np.median(np.diff(times))) if len(times) > 1 else 1
    number = bursts.by_gap(times, durations.parse_ns(p.unit.gap or 0, step_ns=step))
    times, values, number = bursts.parted(times, values, number)
    laid = bursts.lay(times, values, number)
    offsets = clock.utc_offsets(times, stream.zone)
    return Series(times, values, laid.step_ns, offsets), laid


def _train_share(plan: Plan, series: Series, laid: Laid, zone: str) -> float | None:
    """Share of the units that the plan's training part holds, None where it is all of them."""
    if plan.baseline.train == "all":
        return None
    stop = training.training_stop(series, plan, zone)
    return float(np.sum(laid.ends[0] < stop) / len(laid.waves))


def _resolved(
    plan: Plan, kind: str, model: units.UnitModel, series: Series, laid: Laid, parts: Strings
) -> dict[str, Any]:
    """What every `auto` came to, in the form that other scans have it."""
    first, last = laid.ends
    split = {}
    for name in (units.VALIDATION, units.TEST):
        own = np.flatnonzero(parts == name)
        if len(own):
            ends = series.times[first[own[0]]], series.times[last[own[-1]]]
            split[name] = [clock.format_time(int(t)) for t in ends]
    return {
        "prepare": {
            "every": durations.format_ns(laid.step_ns),
            "combine": "mean",
            "as": "value",
            "transform": "none",
            "least": 0.0,
            "unit": {"samples": laid.length, "count": len(laid.waves)},
        },
        "baseline": {
            "kind": kind,
            "seasons": [],
            "form": "additive",
            "clock": "utc",
            "options": dict(plan.baseline.options),
        },
        "facts": {**model.facts, "law": "units", "grain": 0.0, "added": 0.0, "losses": {}},
        "windows": [],
        "split": split,
    }


def _notes(laid: Laid, scores: Floats, parts: Strings) -> tuple[str, ...]:
    notes = [f"{len(laid.waves)} units of {laid.length} samples, {durations.format_ns(laid.step_ns)} apart"]
    if missing := int(np.isnan(scores).sum()):
        notes.append(f"{missing} units have under half of their samples and are not judged")
    if apart := int(np.sum(parts == units.LABELLED)):
        notes.append(f"{apart} labelled units are left out of training")
    return tuple(notes)
