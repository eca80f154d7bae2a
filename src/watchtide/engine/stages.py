"""One plan on one stream: prepare, baseline, score, flag, group; every `auto` filled in on the way."""

import hashlib
import json
from collections.abc import Callable, Sequence
from dataclasses import replace
from typing import Any

import numpy as np

from watchtide.core import (
    carrying,
    expectation,
    flagging,
    grouping,
    keys,
    quantile,
    regimes,
    replay,
    shifts,
    transforms,
    windows,
)
from watchtide.core.baselines import SEASONLESS, fixed
from watchtide.core.cadence import KNOWN_STAMPS
from watchtide.core.expectation import Choice, Model
from watchtide.core.frame import DAY_NS, Frame
from watchtide.core.quantile import Counted
from watchtide.core.scoring.curve import LEVELS
from watchtide.core.scoring.rows import Label, inside_any
from watchtide.core.seasons import LEAST_YEAR_STEP_NS
from watchtide.core.series import Bools, Floats, Ints, Series
from watchtide.core.transforms import Transform
from watchtide.engine import following, outcome, preparing
from watchtide.engine.based import Baselined, InForce, Scanned
from watchtide.engine.choices import choice_of
from watchtide.engine.preparing import Input, Prepared, prepare
from watchtide.plan import Plan, durations
from watchtide.tables import clock

__all__ = ["Baselined", "Input", "Scanned", "fit", "flag", "prepare", "run_replay", "scan"]

# Raised when a stage's result would differ for the same input: cached results of older code go.
BASELINE_VERSION = 11
# What `auto` takes before it chooses in replay: three weeks, and enough samples for a scale.
FIRST_NS, FIRST_SAMPLES = 21 * DAY_NS, 56
WINDOW_NS = 56 * DAY_NS
# Mean and standard deviation of the absolute value of a standard normal.
GAUSSIAN_SIZE, GAUSSIAN_SIZE_SPREAD = np.sqrt(2 / np.pi), np.sqrt(1 - 2 / np.pi)
# Days until a sample says enough of a lasting change online: false shifts come about so rarely.
ONLINE_RUN_DAYS = 60.0


def training_stop(series: Series, plan: Plan, zone: str) -> int:
    """Index of the first sample after the training part."""
    train = plan.baseline.train
    if train == "all" or len(series) == 0:
        return len(series)
    if train.until is not None:
        return int(np.searchsorted(series.times, clock.parse_one(train.until, zone)))
    span = int(series.times[-1]) - int(series.times[0])
    return int(
        np.searchsorted(
            series.times, int(series.times[0]) + int(span * float(train.share or 1.0)), side="right"
        )
    )


def split_spans(series: Series, plan: Plan, stop: int, zone: str) -> dict[str, tuple[int, int]]:
    """Closed spans that are never trained on: `validation`, and `locked`, which is never used to choose either.

    A share of validation is the end of the training part, a share of locked the end of all.
    """
    out: dict[str, tuple[int, int]] = {}
    if len(series) == 0:
        return out
    for name, upto in (("validation", max(stop, 1)), ("locked", len(series))):
        stated = getattr(plan.baseline.split, name)
        if stated is None:
            continue
        if isinstance(stated, str) and ".." in stated:
            a, _, b = stated.partition("..")
            out[name] = clock.parse_one(a, zone), clock.parse_one(b, zone)
        else:
            try:
                share = float(stated)
            except ValueError as error:
                raise ValueError(f"split.{name} must be a share or FROM..TO, got {stated!r}") from error
            if not 0 < share < 1:
                raise ValueError(f"split.{name} must be between 0 and 1, got {share:g}")
            out[name] = int(series.times[int(upto * (1 - share))]), int(series.times[upto - 1])
    return out


def fit(stream: Input, plan: Plan, labels: Sequence[Label] = (), *, is_kept: bool = False) -> Baselined:
    """Fit the baseline stage of a plan to a stream.

    labels : those with a verdict in `baseline.leave_out` leave training. is_kept : the model comes along, to be saved.
    Raises ValueError for seasons or options that this stream cannot carry, naming how much history is missing.
    """
    prepared = prepare(stream, plan)
    series = prepared.series
    stop = training_stop(series, plan, stream.zone)
    spans = left_out_spans(plan, stream.key, labels)
    usable, notes = usable_samples(prepared, plan, spans)
    split = split_spans(series, plan, stop, stream.zone)
    usable &= ~inside_any(series.times, list(split.values()))
    within = usable & (np.arange(len(series)) < stop)
    transform = transform_of(plan, series, within, by_row=prepared.by_row)
    scales = preparing.scales_of(prepared, within)
    frame = preparing.frame_of(prepared, transform, usable, within, scales)
    part = frame.part(0, stop)
    choice, found, first = choice_of(part, prepared, plan)
    got = expectation.expect(
        frame,
        choice,
        stop=stop,
        denominator=prepared.denominator,
        first=first,
        has_level=plan.shifts.of != "none",
    )
    carry = None
    if (
        got.model is not None
        and (stop < len(series) or is_kept)
        and not carrying.follows_by_itself(got.model)
    ):
        d = None if prepared.denominator is None else prepared.denominator[:stop]
        carry = carrying.measure(part, got.model, got.held[:stop], max(len(series) - stop, stop // 2), d)
    past_end = np.arange(len(series)) - (stop - 1)
    wide = got.spread if carry is None else got.spread * carry.growth_at(past_end)
    expected, spread = transforms.back(transform, series.values, got.expected, wide)
    counted = counted_in(frame, got.model)
    z = scores(quantile.score(series.values, expected, spread, counted), prepared, plan)
    values = frame.values
    watch = None
    if plan.flag.windows == "auto" and got.model is not None and choice.kind != "fixed":
        watch = windows.calibrate(
            got.held,
            got.clean,
            values,
            frame.times,
            series.step_ns,
            got.groups,
            got.group_count,
            got.isolated,
            got.model.grain,
            got.expected,
            frame.event,
            is_causal=False,
            has_leaps=choice.kind not in SEASONLESS,
        )
    lags = got.model.fitted.facts.get("lags", 1) if got.model is not None else 1
    if watch is not None:
        heard, held = (
            windows.listen(
                watch,
                scores,
                values,
                got.groups,
                is_causal=False,
                isolated=got.isolated,
                lags=lags,
                expected=got.expected,
                event=frame.event,
                drift=None if carry is None else carry.drift_at(past_end, watch.lengths),
                past_end=past_end > 0,
            )
            for scores in (z, np.where(got.clean, got.held, np.nan))
        )
    else:
        heard, held = windows.alone(z), windows.alone(np.where(got.clean, got.held, np.nan))
    candidates = got.shift_candidates
    if stop < len(series) and not np.isnan(got.level_series).all():
        longest = max((round(p.samples(series.step_ns)) for p in choice.periods), default=1)
        has_trend = series.step_ns >= LEAST_YEAR_STEP_NS
        changes = regimes.find_steps(got.level_series, longest, has_trend=has_trend)
        steps, _ = regimes.regimes(got.level_series, changes, choice.settle_samples)
        candidates = regimes.lasting(steps, changes, choice.settle_samples)
    stream_spread = got.model.spread.stream if got.model is not None else 0.0
    added = watch.added(is_causal=False) if watch else 0.0
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
        train_stop=stop,
        shift_candidates=candidates,
        stream_spread=stream_spread,
        found_seasons=found,
        resolved=_with_scales(_resolved(prepared, plan, choice, got.model, watch, split, added), scales),
        notes=(*prepared.notes, *notes, *ignored_columns(choice, prepared), *choice.reasons, *got.notes),
        evidence=heard,
        held_out=held,
        model=got.model if is_kept else None,
        transform=transform,
        watch=watch,
        carry=carry,
    )


def left_out_spans(plan: Plan, key: str, labels: Sequence[Label]) -> list[tuple[int, int]]:
    return [
        (x.start, x.end)
        for x in labels
        if x.verdict in plan.baseline.leave_out and keys.covers(x.series, key)
    ]


def usable_samples(prepared: Prepared, plan: Plan, spans: list[tuple[int, int]]) -> tuple[Bools, list[str]]:
    """Samples that may train: observed, enough of a denominator, in no labelled span; and what to say of it."""
    series, notes = prepared.series, []
    usable = ~np.isnan(series.values)
    if prepared.denominator is not None:
        thin = usable & ~(prepared.denominator >= max(plan.prepare.least, 1e-12))
        if thin.any():
            notes.append(f"{int(thin.sum())} samples under the least denominator are not judged")
        usable &= ~thin
    out = usable & inside_any(series.times, spans)
    if out.any():
        notes.append(f"{int(out.sum())} labelled samples are left out of training")
    return usable & ~out, notes


def transform_of(plan: Plan, series: Series, training: Bools, *, by_row: bool = False) -> Transform:
    """The plan's transform with what it learns from training; by_row : lags count observed samples."""
    name, lag = preparing.parse_transform(plan.prepare.transform, series.step_ns)
    learnt = transforms.learn(name, np.where(training, series.values, np.nan), lag)
    return replace(learnt, by_row=by_row)


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


# Kinds that use known days and covariates.
USE_COLUMNS = ("harmonic", "isolation")


def ignored_columns(choice: Choice, prepared: Prepared) -> tuple[str, ...]:
    """A note where the kind does not use the covariates or known days that the plan names."""
    if not prepared.names or choice.kind in USE_COLUMNS:
        return ()
    names = ", ".join(n for n in prepared.names if not n.startswith("known day, shape"))
    return (f"{names}: not used by a {choice.kind} baseline; take harmonic",)


def counted_in(frame: Frame, model: Model | None) -> Counted:
    """What makes the values of a frame counts for a model, NaN where its law is a symmetrical one."""
    counted = None if model is None else expectation.counted_of(model, frame)
    return Counted.none(len(frame)) if counted is None else counted


def _resolved(
    prepared: Prepared, plan: Plan, choice: Choice, model: Model | None, watch: windows.Watch | None,
    split: dict[str, tuple[int, int]], added: float,
) -> dict[str, Any]:  # fmt: skip
    facts = (
        {k: v for k, v in model.fitted.facts.items() if k not in ("origin", "end", "start")} if model else {}
    )
    step = prepared.series.step_ns
    return {
        "prepare": {**prepared.resolved, "transform": plan.prepare.transform, "least": plan.prepare.least},
        "baseline": {
            "kind": choice.kind,
            "seasons": [durations.format_ns(p.ns) for p in choice.periods],
            "form": "multiplicative" if choice.is_multiplied else "additive",
            "clock": "local" if all(p.is_local for p in choice.periods) else "utc",
            "options": dict(plan.baseline.options),
        },
        "facts": {
            **facts,
            "law": model.spread.law if model else choice.law,
            "grain": model.grain if model else 0.0,
            "added": added,
            "losses": choice.evidence,
        },
        "windows": [durations.format_ns(int(w) * step) for w in watch.lengths] if watch else [],
        "split": {name: [clock.format_time(a), clock.format_time(b)] for name, (a, b) in split.items()},
    }


def run_replay(stream: Input, plan: Plan, labels: Sequence[Label] = ()) -> Baselined:
    """The baseline stage as if live: see core.replay. Raises ValueError like `fit`.

    The cadence is that of the first stamps; where it becomes coarser on the way, the rest is judged on the coarser
    grid, from the moment that this could be known.
    """
    return replay_on(stream, plan, labels, None)[0]


def replay_on(
    stream: Input, plan: Plan, labels: Sequence[Label], kept: replay.Kept | None
) -> tuple[Baselined, replay.Kept | None]:
    """The same, gone on with from where an earlier one stood, and where it stands now; None before the first fit, and where
    the cadence has changed on the way: that is judged anew."""
    changes = following.changes(stream, plan)
    if not changes:
        return _replayed(stream, plan, labels, kept)
    parts = [_replayed(s, p, labels)[0] for s, p in following.pieces(stream, plan, changes)]
    return following.joined(parts, changes), None


def _replayed(
    stream: Input, plan: Plan, labels: Sequence[Label], kept: replay.Kept | None = None
) -> tuple[Baselined, replay.Kept | None]:
    """A replay on one grid."""
    prepared, rhythm = replay_grid(stream, plan)
    series = prepared.series
    step = prepared.cadence.step_ns
    spans = left_out_spans(plan, stream.key, labels)
    split = split_spans(series, plan, len(series), stream.zone)
    enough, notes = usable_samples(prepared, plan, [])
    within = enough & (np.arange(len(series)) < rhythm.first)
    transform = transform_of(plan, series, within, by_row=prepared.by_row)
    frame = preparing.frame_of(prepared, transform, enough, within)
    chosen: list[tuple[tuple[float, float], ...]] = []

    def choose(part: Frame) -> Choice:
        choice, found, _ = choice_of(part, prepared, plan)
        chosen.append(found)
        return replace(choice, found=found)

    locked = inside_any(series.times, list(split.values()))

    def usable_at(at: int) -> Bools:
        now = int(series.times[at])
        return frame.usable & ~locked & ~inside_any(series.times, [s for s in spans if s[1] < now])

    ((kind, amount),) = _level_of(plan).items()
    rules = replay.Rules(
        kind,
        amount,
        plan.flag.side,
        group_of(plan, step),
        plan.flag.windows == "auto" and plan.baseline.kind != "fixed",
    )
    got = replay.replay(
        frame,
        rhythm,
        choose,
        rules,
        usable_at=usable_at,
        denominator=prepared.denominator,
        least=max(plan.prepare.least, 1e-12),
        kept=kept,
    )
    if kept is not None and not chosen:
        # What was found when it chose is written down with the choice.
        chosen.append(kept.choice.found)
    expected, spread = transforms.back(transform, series.values, got.expected, got.spread)
    model = got.model
    choice = model.choice if model is not None else Choice("harmonic")
    found = chosen[0] if chosen else ()
    resolved = _resolved(prepared, plan, choice, model, None, split, got.added)
    resolved["replay"] = {
        "first": durations.format_ns(rhythm.first * step), "refit": durations.format_ns(rhythm.refit * step),
        "window": durations.format_ns(rhythm.window * step), "refits": got.refits,
    }  # fmt: skip
    level = series.values - (got.seasons.sum(axis=0) if len(got.seasons) else 0.0)
    base = Baselined(
        key=stream.key,
        zone=stream.zone,
        series=series,
        expected=expected,
        spread=spread,
        counted=got.counted,
        trend=got.trend,
        seasons=got.seasons,
        level_series=level,
        clean=got.clean,
        train_stop=min(rhythm.first, len(series)),
        shift_candidates=_online_shifts(got.held, step, plan.shifts.of),
        stream_spread=model.spread.stream if model else 0.0,
        found_seasons=found,
        resolved=resolved,
        notes=(*prepared.notes, *notes, *ignored_columns(choice, prepared), *got.notes),
        evidence=got.evidence,
        held_out=got.heard,
        in_force=InForce(got.above, got.below, got.odd, got.lacking),
        mode="replay",
    )
    return base, got.kept


def replay_grid(stream: Input, plan: Plan) -> tuple[preparing.Prepared, replay.Cadence]:
    """A stream on the grid that a replay judges it on, resolved from its first window alone; and the replay's rhythm."""
    sorted_times = np.sort(stream.times)
    _, way = preparing.cadence_of(stream, plan, sorted_times[:KNOWN_STAMPS])
    step = way.step_ns
    rhythm = _rhythm(plan, step)
    begin = int(sorted_times[0]) if len(sorted_times) else 0
    until = int(np.searchsorted(sorted_times, begin + rhythm.first * step))
    if not way.is_even:
        # The length of a step is a mean one there: the count of samples is what is known.
        until = min(until, rhythm.first)
    train = plan.baseline.train
    if train != "all" and train.until is not None:
        until = int(np.searchsorted(sorted_times, clock.parse_one(train.until, stream.zone)))
    prepared = prepare(stream, plan, until=max(until, 2))
    if train != "all":
        rhythm = replace(rhythm, first=max(training_stop(prepared.series, plan, stream.zone), 1))
    return prepared, rhythm


def _rhythm(plan: Plan, step: int) -> replay.Cadence:
    """First window, refit and window of a replay, in samples; nothing of it depends on how long the data are."""
    stated = plan.baseline.seasons
    longest = (
        max((durations.parse_ns(s, step_ns=step) for s in stated), default=0)
        if stated != "auto"
        else 7 * DAY_NS
    )
    refit = (
        max(DAY_NS // step, 7)
        if plan.replay.refit == "auto"
        else durations.parse_ns(plan.replay.refit, step_ns=step) // step
    )
    if plan.replay.window != "auto":
        window = durations.parse_ns(plan.replay.window, step_ns=step) // step
        first = window
    else:
        lead = FIRST_NS if stated == "auto" else max(_cycles_first(longest), 2 * DAY_NS)
        first = max(lead // step, FIRST_SAMPLES)
        window = max(WINDOW_NS // step, 8 * longest // step, first)
    if refit < 1 or window < 2:
        raise ValueError(
            "replay.refit and replay.window must hold at least one and two samples; take longer ones"
        )
    return replay.Cadence(int(first), int(refit), int(window))


def _cycles_first(season_ns: int) -> int:
    """How much of a season comes before anything is judged: three cycles, one and a half of seasons longer than eight weeks."""
    return 3 * season_ns if season_ns <= WINDOW_NS else 3 * season_ns // 2


def _online_shifts(z: Floats, step: int, of: str) -> Ints:
    """Indices at which the running test raises a shift, as pairs (start, raised) in turn.

    of : `step` tests the scores; `spread` their level and their size, `slope` their level and how it changes over a day.
    """
    run = max(ONLINE_RUN_DAYS * DAY_NS / step, 500.0)
    shortest = int(np.clip(DAY_NS // step, 24, 288))
    tested = [z]
    if of == "spread":
        # |z| of a Gaussian has a mean of 0.80 and a standard deviation of 0.60.
        tested.append((np.abs(z) - GAUSSIAN_SIZE) / GAUSSIAN_SIZE_SPREAD)
    elif of == "slope":
        change = np.full(len(z), np.nan)
        change[shortest:] = (z[shortest:] - z[:-shortest]) / np.sqrt(2)
        tested.append(change)
    found = sorted(
        {(f.index, f.raised) for x in tested for f in shifts.online(x, run_length=run, shortest=shortest)}
    )
    return np.asarray([x for pair in found for x in pair], dtype=np.int64)


def group_of(plan: Plan, step_ns: int) -> grouping.Group:
    merge = durations.parse_ns(plan.group.merge, step_ns=step_ns)
    return grouping.Group(plan.group.need, plan.group.of, merge, plan.group.shortest)


def _level_of(plan: Plan) -> dict[str, float]:
    """The level in force: fixed limits lie at 4 sigmas by their own definition, unless sigmas are stated."""
    if plan.baseline.kind == "fixed" and "sigmas" not in plan.flag.level:
        return {"sigmas": fixed.LIMIT_SIGMAS}
    return plan.flag.level


Family = Callable[[str], flagging.SideTails]


def flag(
    base: Baselined, plan: Plan, *, family: Family | None = None, level: flagging.Level | None = None,
    is_told: bool = True,
) -> Scanned:  # fmt: skip
    """Flag and group a fitted stream. Cheap: a new level never fits anew.

    family : tails to borrow; level : one that is settled already, as a kept model's is; is_told : whether odds and
    findings a week are told of a level that needs no tails, which take longer to read than all the rest.
    """
    group = group_of(plan, base.series.step_ns)
    ((level_kind, amount),) = _level_of(plan).items()
    side: str = plan.flag.side
    if base.resolved["baseline"]["kind"] == "fixed":
        limits = base.resolved["facts"]
        one_sided = {(True, False): "below", (False, True): "above"}
        side = one_sided.get((limits.get("lower") is not None, limits.get("upper") is not None), side)
    own: dict[str, flagging.SideTails] = {}
    is_settled = level is not None
    if level is None:
        if is_told or flagging.needs_tails(level_kind):
            own = flagging.tails_by_side(base.held, side, group)
        none = flagging.SideTails(None, None)
        read = own or dict.fromkeys(flagging.watched_sides(side), none)
        level = flagging.resolve_level(level_kind, amount, base.held, side, group, family=family, own=read)
    evidence = base.evidence
    is_replay = base.mode == "replay" and len(base.in_force) == len(base.series)
    if is_replay and level_kind != "sigmas":
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
    found = outcome.outliers_of(base, runs)
    found += outcome.shifts_of(base, plan) + outcome.odd_windows(base, plan)
    found.sort(key=lambda f: (f.start, f.end))
    resolved = {
        **base.resolved,
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
    in_finding = grouping.mark(runs, evidence.score)
    promised = flagging.promise(own, LEVELS)
    return Scanned(base, evidence.signed, level, flags, in_finding, tuple(found), resolved, promised)


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
        return run_replay(stream, plan, labels)
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
