"""One plan on one stream: prepare, baseline, score, flag, group; every `auto` filled in on the way."""

import hashlib
import json
from collections.abc import Callable, Sequence
from dataclasses import replace
from typing import Any, NamedTuple

import numpy as np

from watchtide.core.expect import carrying, expectation, quantile, regimes
from watchtide.core.expect.baselines import SEASONLESS
from watchtide.core.expect.frame import Frame
from watchtide.core.expect.records import Choice, Expectation
from watchtide.core.expect.seasons import LEAST_YEAR_STEP_NS
from watchtide.core.judge import combining, flagging, grouping, promises, shapes, windows
from watchtide.core.judge.watches import Beside, Evidence, Watch
from watchtide.core.scoring.curve import LEVELS
from watchtide.core.scoring.rows import Label, inside_any
from watchtide.core.series import Floats, Ints, transforms
from watchtide.engine.live import ages
from watchtide.engine.prepare import preparing
from watchtide.engine.prepare.choices import choice_of
from watchtide.engine.prepare.preparing import Input, Prepared, prepare
from watchtide.engine.prepare.training import (
    counted_in,
    group_of,
    ignored_columns,
    left_out_spans,
    level_of,
    resolved_of,
    split_spans,
    training_stop,
    transform_of,
    usable_samples,
)
from watchtide.engine.scan import by_unit, outcome
from watchtide.engine.scan.based import Baselined, Scanned
from watchtide.plan import Plan

__all__ = ["Baselined", "Input", "Scanned", "fit", "flag", "prepare", "scan"]

# Raised when a stage's result would differ for the same input: cached results of older code go.
BASELINE_VERSION = 22


class Ready(NamedTuple):
    """A stream before its fit. stop : first sample after training; split : spans that never train; frame : what may train is usable."""

    prepared: Prepared
    stop: int
    split: dict[str, tuple[int, int]]
    transform: transforms.Transform
    scales: preparing.Scales
    frame: Frame
    notes: tuple[str, ...]

    @property
    def part(self) -> Frame:
        """Samples of training."""
        return self.frame.part(0, self.stop)

    @property
    def past_end(self) -> Ints:
        """(n,) samples past the end of training; 0 and less within it."""
        return np.arange(len(self.frame)) - (self.stop - 1)


def ready(stream: Input, plan: Plan, labels: Sequence[Label] = ()) -> Ready:
    """A stream on its grid, transformed, with what may train marked. Raises ValueError as `fit` does."""
    by_unit.refuse(plan, by_unit.SINGLE)
    prepared = prepare(stream, plan)
    series = prepared.series
    stop = training_stop(series, plan, stream.zone)
    usable, notes = usable_samples(prepared, plan, left_out_spans(plan, stream.key, labels))
    split = split_spans(series, plan, stop, stream.zone)
    usable &= ~inside_any(series.times, list(split.values()))
    within = usable & (np.arange(len(series)) < stop)
    transform = transform_of(plan, series, within, by_row=prepared.by_row)
    scales = preparing.scales_of(prepared, within)
    frame = preparing.frame_of(prepared, transform, usable, within, scales)
    return Ready(prepared, stop, split, transform, scales, frame, tuple(notes))


def fit(stream: Input, plan: Plan, labels: Sequence[Label] = (), *, is_kept: bool = False) -> Baselined:
    """Fit the baseline stage of a plan to a stream.

    labels : those with a verdict in `baseline.leave_out` leave training. is_kept : the model comes along, to be saved.
    Raises ValueError for seasons or options that this stream cannot carry, naming how much history is missing.
    """
    if by_unit.is_wanted(plan):
        if is_kept:
            by_unit.refuse(plan, by_unit.SAVED)
        return by_unit.fit(stream, plan, labels)
    given = ready(stream, plan, labels)
    prepared, series = given.prepared, given.prepared.series
    choice, found, first = choice_of(given.part, prepared, plan)
    if stream.shared is not None:
        choice = replace(choice, options={**choice.options, "shared": stream.shared})
    got = expectation.expect(
        given.frame,
        choice,
        stop=given.stop,
        denominator=prepared.denominator,
        first=first,
        has_level=plan.shifts.of != "none",
    )
    carry = _carry(given, got, is_kept=is_kept)
    expected, spread = _in_values(given, got, carry)
    counted = counted_in(given.frame, got.model)
    z = scores(quantile.score(series.values, expected, spread, counted), prepared, plan)
    watch, evidence, held = _evidence(given, got, choice, plan, carry, z)
    stream_spread = got.model.spread.stream if got.model is not None else 0.0
    added = watch.added(is_causal=False) if watch else 0.0
    resolved = resolved_of(prepared, plan, choice, got.model, watch, given.split, added)
    notes = (*prepared.notes, *given.notes, *ignored_columns(choice, prepared), *choice.reasons, *got.notes)
    return Baselined(
        key=stream.key,
        zone=stream.zone,
        series=series,
        expected=expected,
        spread=spread,
        counted=counted,
        trend=got.trend,
        seasons=got.seasons,
        level_series=got.level_series,
        clean=got.clean,
        train_stop=given.stop,
        shift_candidates=_candidates(given, got, choice),
        stream_spread=stream_spread,
        found_seasons=found,
        resolved=_with_scales(resolved, given.scales),
        notes=notes,
        evidence=evidence,
        held_out=held,
        model=got.model if is_kept else None,
        transform=given.transform,
        watch=watch,
        carry=carry,
    )


def _carry(given: Ready, got: Expectation, *, is_kept: bool) -> carrying.Carry | None:
    """How errors grow past the end of training; None where nothing is judged there, or nothing strays."""
    n, stop, d = len(given.frame), given.stop, given.prepared.denominator
    if got.model is None or not (stop < n or is_kept) or carrying.follows_by_itself(got.model):
        return None
    steps = max(n - stop, stop // 2)
    return carrying.measure(given.part, got.model, got.held[:stop], steps, None if d is None else d[:stop])


def _in_values(given: Ready, got: Expectation, carry: carrying.Carry | None) -> tuple[Floats, Floats]:
    """(n,) expected values and spreads in the unit of the stream's own values."""
    wide = got.spread if carry is None else got.spread * carry.growth_at(given.past_end)
    return transforms.back(given.transform, given.prepared.series.values, got.expected, wide)


def _evidence(
    given: Ready, got: Expectation, choice: Choice, plan: Plan, carry: carrying.Carry | None, z: Floats
) -> tuple[Watch | None, Evidence, Evidence]:
    """The windows of a stream, and with them the evidence of its scores and of its held-out ones. z : (n,) scores."""
    frame = given.frame
    beside = Beside(
        frame.values,
        got.groups,
        count=got.group_count,
        expected=got.expected,
        event=frame.event,
        isolated=got.isolated,
        lags=got.model.fitted.facts.get("lags", 1) if got.model is not None else 1,
        shapes=shapes.shapes_of(got.seasons, got.spread, choice.cycles(frame.step_ns)),
    )
    watch = None
    if plan.flag.windows == "auto" and got.model is not None and choice.kind != "fixed":
        watch = windows.calibrate(
            got.held,
            got.clean,
            beside,
            frame.step_ns,
            is_causal=False,
            grain=got.model.grain,
            has_leaps=choice.kind not in SEASONLESS,
        )
    drift = None if carry is None or watch is None else carry.drift_at(given.past_end, watch.lengths)
    evidence, held = (
        combining.combine(watch, some, beside, is_causal=False, drift=drift, past_end=given.past_end > 0)
        for some in (z, np.where(got.clean, got.held, np.nan))
    )
    return watch, evidence, held


def _candidates(given: Ready, got: Expectation, choice: Choice) -> Ints:
    """Where a change point may be: of the whole history, where only a part of it has trained."""
    step_ns = given.frame.step_ns
    if given.stop == len(given.frame) or np.isnan(got.level_series).all():
        return got.shift_candidates
    longest = max(choice.cycles(step_ns), default=1)
    changes = regimes.find_steps(got.level_series, longest, has_trend=step_ns >= LEAST_YEAR_STEP_NS)
    steps, _ = regimes.regimes(got.level_series, changes, choice.settle_samples)
    return regimes.lasting(steps, changes, choice.settle_samples)


def scores(z: Floats, prepared: Prepared, plan: Plan) -> Floats:
    """(n,) signed scores; NaN under the least denominator."""
    if prepared.denominator is not None:
        z = np.where(prepared.denominator >= max(plan.prepare.least, 1e-12), z, np.nan)
    return np.asarray(z, dtype=np.float64)


def _with_scales(resolved: dict[str, Any], scales: preparing.Scales) -> dict[str, Any]:
    """The resolved plan with the covariates' centre and scale, as new samples are judged by them."""
    if not scales:
        return resolved
    return {**resolved, "facts": {**resolved["facts"], "covariates": {k: list(v) for k, v in scales.items()}}}


Family = Callable[[str], promises.SideTails]


def flag(
    base: Baselined, plan: Plan, *, family: Family | None = None, level: flagging.Level | None = None,
    is_told: bool = True,
) -> Scanned:  # fmt: skip
    """Flag and group a fitted stream. Cheap: a new level never fits anew.

    family : tails to borrow; level : one that is settled already, as a kept model's is; is_told : whether odds and
    findings a week are told of a level that needs no tails, which take longer to read than all the rest.
    """
    group = group_of(plan, base.series.step_ns)
    ((level_kind, amount),) = level_of(plan).items()
    side: str = plan.flag.side
    if base.resolved["baseline"]["kind"] == "fixed":
        limits = base.resolved["facts"]
        one_sided = {(True, False): "below", (False, True): "above"}
        side = one_sided.get((limits.get("lower") is not None, limits.get("upper") is not None), side)
    own: dict[str, promises.SideTails] = {}
    is_settled = level is not None
    is_replay = base.mode == "replay" and len(base.in_force) == len(base.series) and level_kind != "sigmas"
    if level is None and len(base.units):
        level = by_unit.level(base, plan)
    elif level is None and is_replay and not is_told:
        # Each sample was flagged by the level of its own time.
        level, is_settled = _last_level(base, flagging.Level(np.inf, np.inf, np.inf, "", None, None)), True
    if level is None:
        if is_told or flagging.needs_tails(level_kind):
            own = promises.tails_by_side(base.held, side, group)
        none = promises.SideTails(None, None)
        read = own or dict.fromkeys(promises.watched_sides(side), none)
        level = flagging.resolve_level(level_kind, amount, base.held, side, group, family=family, own=read)
    evidence = base.evidence
    if is_replay:
        above, below, odd = (
            np.nan_to_num(x, nan=np.inf)
            for x in (base.in_force.above, base.in_force.below, base.in_force.odd)
        )
        level = level if is_settled else _last_level(base, level)
        flags = flagging.flag(evidence, above, below, odd)
    else:
        flags = flagging.flag(evidence, level.above, level.below, level.odd)
    runs = grouping.find_runs(
        flags, evidence.score, base.series.axis, group, evidence.first if base.mode == "replay" else None
    )
    found = outcome.outliers_of(base, runs) + outcome.shifts_of(base, plan) + outcome.odd_windows(base, plan)
    return Scanned(
        base=base,
        z=evidence.signed,
        level=level,
        flags=flags,
        in_finding=grouping.mark(runs, evidence.score),
        findings=tuple(sorted(found, key=lambda f: (f.start, f.end))),
        resolved={**base.resolved, **_flag_resolved(plan, level)},
        promised=promises.promise(own, LEVELS),
    )


def _flag_resolved(plan: Plan, level: flagging.Level) -> dict[str, Any]:
    """What of a plan is settled by flagging."""
    return {
        "flag": {
            "level": dict(plan.flag.level),
            "side": plan.flag.side,
            "above": _finite(level.above),
            "below": _finite(level.below),
            "note": level.note,
            "odds": level.odds,
            "per_week": level.per_week,
        },
        "group": plan.group.model_dump(mode="json"),
        "shifts": plan.shifts.model_dump(mode="json"),
    }


def _last_level(base: Baselined, level: flagging.Level) -> flagging.Level:
    """The level in force at the end of a replay, with its note."""
    seen = np.flatnonzero(~np.isnan(base.in_force.above))
    if not len(seen):
        return level
    at = seen[-1]
    note = "read off the past, anew about once a week; these are the last ones. " + level.note
    now = base.in_force
    return replace(
        level, above=float(now.above[at]), below=float(now.below[at]), odd=float(now.odd[at]), note=note
    )


def scan(
    stream: Input, plan: Plan, labels: Sequence[Label] = (), mode: str = "fit", *, is_kept: bool = False,
    is_told: bool = True,
) -> Scanned:  # fmt: skip
    base = based(stream, plan, labels, mode, is_kept=is_kept)
    return flag(base, plan, is_told=is_told)


def based(
    stream: Input, plan: Plan, labels: Sequence[Label] = (), mode: str = "fit", *, is_kept: bool = False
) -> Baselined:
    """The baseline stage in-sample (fit) or as if live (replay)."""
    if mode == "replay":
        by_unit.refuse(plan, by_unit.AS_IF_LIVE)
        return ages.replay_on(stream, plan, labels)[0]
    return fit(stream, plan, labels, is_kept=is_kept)


def _finite(value: float) -> float | None:
    return float(value) if np.isfinite(value) else None


def baseline_digest(
    stream_digest: str, plan: Plan, left_out: Sequence[tuple[int, int]], mode: str = "fit"
) -> str:
    """Key of a baseline stage: its version, its part of the plan, the samples, and what is left out."""
    data = plan.as_data()
    parts = {
        "version": BASELINE_VERSION,
        "prepare": data["prepare"],
        "baseline": data["baseline"],
        "spread": data["flag"]["spread"],
        "windows": data["flag"]["windows"],
        "penalty": data["shifts"]["penalty"],
        "has_level": data["shifts"]["of"] != "none",
        "samples": stream_digest,
        "left_out": sorted(left_out),
        "mode": mode,
    }
    if mode == "replay":
        # What is read off the past depends on how it is flagged.
        parts |= {"flag": data["flag"], "group": data["group"], "replay": data["replay"]}
    return hashlib.sha256(json.dumps(parts, sort_keys=True).encode()).hexdigest()
