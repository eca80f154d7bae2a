"""One plan on one stream: prepare, baseline, score, flag, group; every `auto` filled in on the way."""

import hashlib
import json
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from watchtide.core import expectation, flagging, grouping, keys, seasons, shifts
from watchtide.core.scoring.rows import Finding, Label, inside_any
from watchtide.core.series import SECOND_NS, Bools, Floats, Ints, Series, infer_step, regrid, wall_clock
from watchtide.plan import Plan, durations
from watchtide.tables import clock

# Raised when a stage's result would differ for the same input: cached results of older code go.
BASELINE_VERSION = 1


@dataclass(frozen=True)
class Input:
    """One stream's raw samples: times (n,) UTC ns in any order, values (n,) NaN for missing."""

    key: str
    times: Ints
    values: Floats
    zone: str = "UTC"


@dataclass(frozen=True)
class Baselined:
    """What the fitting stage gives: everything that does not depend on the level."""

    key: str
    zone: str
    series: Series
    expected: Floats
    spread: Floats
    trend: Floats
    seasons: Floats
    level_series: Floats
    clean: Bools
    train_stop: int
    shift_candidates: Ints
    stream_spread: float
    found_seasons: tuple[tuple[int, float], ...]
    resolved: dict[str, Any]
    notes: tuple[str, ...]

    @property
    def z(self) -> Floats:
        """(n,) signed score: residual over spread; NaN where not judged."""
        return (self.series.values - self.expected) / self.spread


@dataclass(frozen=True)
class Scanned:
    """One stream scanned: the baseline stage, its level, and its findings."""

    base: Baselined
    z: Floats
    level: flagging.Level
    flags: np.ndarray
    in_finding: Bools
    findings: tuple[Finding, ...]
    resolved: dict[str, Any]


def prepare(stream: Input, plan: Plan) -> tuple[Series, dict[str, Any]]:
    """The stream on an even grid with its local offsets, and what was resolved on the way."""
    seen = stream.values[~np.isnan(stream.values)]
    cadence = infer_step(stream.times)
    step = (
        cadence if plan.prepare.every == "auto" else durations.parse_ns(plan.prepare.every, step_ns=cadence)
    )
    is_count = plan.prepare.as_ == "count" or (plan.prepare.as_ == "auto" and _are_counts(seen))
    combine = plan.prepare.combine
    if combine == "auto":
        # A count summed over equal stamps would double what was sent twice.
        combine = "sum" if is_count and step > cadence else "mean"
    if clock.is_calendar(step) and stream.zone != "UTC" and len(stream.times):
        # Days begin at local midnight, weeks on Monday: the grid is even on the wall clock, not in UTC.
        local = stream.times + clock.utc_offsets(stream.times, stream.zone)
        series = regrid(local, stream.values, step, combine=combine, anchor_ns=4 * seasons.DAY_NS)
        series = replace(series, times=clock.localise(series.times, stream.zone).times)
    else:
        series = regrid(stream.times, stream.values, step, combine=combine)
    series = replace(series, offsets_ns=clock.utc_offsets(series.times, stream.zone))
    return series, {
        "every": durations.format_ns(step),
        "combine": combine,
        "as": "count" if is_count else "value",
    }


def _are_counts(seen: Floats) -> bool:
    """Whole numbers from 0 on without a common factor: what one gets by counting one by one."""
    if len(seen) == 0 or not np.all((seen >= 0) & (seen == np.floor(seen)) & (seen < 2**53)):
        return False
    return int(np.gcd.reduce(seen.astype(np.int64))) == 1


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


def fit(stream: Input, plan: Plan, labels: Sequence[Label] = ()) -> Baselined:
    """Fit the baseline stage of a plan to a stream.

    labels : those with a verdict in `baseline.leave_out` leave training. Raises ValueError for seasons
    or options that this stream cannot carry, naming how much history is missing.
    """
    series, resolved_prepare = prepare(stream, plan)
    left_out = [
        (x.start, x.end)
        for x in labels
        if x.verdict in plan.baseline.leave_out and keys.covers(x.series, stream.key)
    ]
    stop = training_stop(series, plan, stream.zone)
    usable = ~np.isnan(series.values) & ~inside_any(series.times, left_out)
    notes: list[str] = []
    if left_out and np.any(~np.isnan(series.values) & ~usable):
        notes.append(
            f"{int(np.sum(~np.isnan(series.values) & ~usable))} labelled samples are left out of training"
        )
    training = np.where(usable & (np.arange(len(series)) < stop), series.values, np.nan)
    found, why = _seasons(_local(series, training, stop), series.step_ns, plan)
    if np.any(series.offsets_ns != series.offsets_ns[:1]) and not all(
        _is_calendar(p * series.step_ns) for p, _ in found
    ):
        # A tide knows nothing of the clocks: on the wall-clock grid it would jump by an hour.
        series = replace(series, offsets_ns=np.zeros(len(series), np.int64))
        found, why = _seasons(_local(series, training, stop), series.step_ns, plan)
        why.append("a season that is no day or week does not follow the clock change: kept in UTC")
    periods = sorted({p for p, _ in found})
    kind = plan.baseline.kind
    if kind == "auto":
        kind = "loess"
        why.append(
            "robust loess: it follows a slow change of level and of season"
            if periods
            else "no season: a robust trend"
        )
    options = dict(plan.baseline.options)
    settle = durations.parse_ns(plan.baseline.settle, step_ns=series.step_ns)
    got = expectation.expect(
        series,
        usable,
        train_stop=stop,
        kind=kind,
        periods=periods,
        options=options,
        settle_samples=max(settle // series.step_ns, 0),
        is_count=resolved_prepare["as"] == "count",
        is_robust=plan.flag.spread == "robust",
        shift_penalty=None if plan.shifts.penalty == "auto" else float(plan.shifts.penalty),
    )
    candidates = got.shift_candidates
    if stop < len(series) and not np.isnan(got.level_series).all():
        candidates = expectation.find_steps(got.level_series, max(periods, default=1), None)
    clean = usable & (np.arange(len(series)) < stop) & ~got.settling
    return Baselined(
        stream.key,
        stream.zone,
        series,
        got.expected,
        got.spread,
        got.trend,
        got.seasons,
        got.level_series,
        clean,
        stop,
        candidates,
        got.stream_spread,
        tuple(found),
        {
            "prepare": resolved_prepare,
            "baseline": {"kind": kind, "seasons": [durations.format_ns(p * series.step_ns) for p in periods]},
            "facts": got.facts,
        },
        tuple(notes + why + list(got.notes)),
    )


def _local(series: Series, training: Floats, stop: int) -> Floats:
    """Training values on the local-time grid."""
    wall = wall_clock(series)
    return wall.spread_out(training)[: int(wall.position[stop - 1]) + 1] if stop else np.empty(0)


def _is_calendar(period_ns: int) -> bool:
    """Whether a season is a day, a whole number of them, or a whole part of one."""
    return period_ns % seasons.DAY_NS == 0 or seasons.DAY_NS % period_ns == 0


def _seasons(local: Floats, step_ns: int, plan: Plan) -> tuple[list[tuple[int, float]], list[str]]:
    """(whole period, strength) of each season, and why."""
    n = len(local)
    if plan.baseline.seasons != "auto":
        lengths = [durations.parse_ns(s, step_ns=step_ns) / step_ns for s in plan.baseline.seasons]
        whole = seasons.check_periods(lengths, n, step_ns)
        return [(p, seasons.strength_of(local, p) if n else 0.0) for p in whole], []
    found: list[tuple[int, float]] = []
    why: list[str] = []
    for season in seasons.detect(local, step_ns) if n else []:
        p = seasons.whole_period(season.samples, n)
        if p is None:
            continue
        if all(p != q for q, _ in found):
            found.append((p, season.strength))
            hours = p * step_ns / SECOND_NS / 3_600
            why.append(f"a season of {hours:g} h explains {season.strength:.0%} of what shorter ones leave")
    week, history = seasons.WEEK_NS // step_ns, n
    if not found and n and history < seasons.LEAST_CYCLES * seasons.DAY_NS // step_ns:
        days = (seasons.LEAST_CYCLES * seasons.DAY_NS - n * step_ns) / seasons.DAY_NS
        why.append(f"too little history to see a daily season: {days:.1f} more days are needed")
    elif n and all(p != week for p, _ in found) and history < seasons.LEAST_CYCLES * week:
        days = (seasons.LEAST_CYCLES * week - history) * step_ns / seasons.DAY_NS
        why.append(f"too little history to see a weekly season: {days:.1f} more days are needed")
    return found, why


def group_of(plan: Plan, step_ns: int) -> grouping.Group:
    merge = durations.parse_ns(plan.group.merge, step_ns=step_ns)
    return grouping.Group(plan.group.need, plan.group.of, merge, plan.group.shortest)


def flag(base: Baselined, plan: Plan) -> Scanned:
    """Flag and group a fitted stream. Cheap: a new level never fits anew."""
    z = base.z
    group = group_of(plan, base.series.step_ns)
    ((level_kind, amount),) = plan.flag.level.items()
    level = flagging.resolve_level(
        level_kind, amount, z, base.clean, base.series.times, base.series.step_ns, plan.flag.side, group
    )
    flags = flagging.flag(z, level)
    runs = grouping.find_runs(z, level.above, level.below, base.series.times, group)
    found = [_outlier(base, z, runs, i) for i in range(len(runs.first))]
    found += _shifts(base, plan)
    found.sort(key=lambda f: (f.start, f.end))
    resolved = {
        **base.resolved,
        "flag": {
            "level": dict(plan.flag.level),
            "side": plan.flag.side,
            "above": _finite(level.above),
            "below": _finite(level.below),
            "note": level.note,
        },
        "group": plan.group.model_dump(mode="json"),
        "shifts": plan.shifts.model_dump(mode="json"),
    }
    return Scanned(base, z, level, flags, grouping.mark(runs, z), tuple(found), resolved)


def scan(stream: Input, plan: Plan, labels: Sequence[Label] = ()) -> Scanned:
    return flag(fit(stream, plan, labels), plan)


def _finite(value: float) -> float | None:
    return float(value) if np.isfinite(value) else None


def _outlier(base: Baselined, z: Floats, runs: grouping.Runs, i: int) -> Finding:
    times, peak = base.series.times, int(runs.peak[i])
    return Finding(
        base.key,
        int(times[runs.first[i]]),
        int(times[runs.last[i]]),
        "outlier",
        "above" if runs.side[i] > 0 else "below",
        float(abs(z[peak])),
        int(times[peak]),
        float(base.series.values[peak]),
        float(base.expected[peak]),
        int(runs.samples[i]),
        1,
    )


def _shifts(base: Baselined, plan: Plan) -> list[Finding]:
    """Change points of the de-seasonalised series as findings."""
    if plan.shifts.of == "none" or len(base.series) < 4 or np.isnan(base.level_series).all():
        return []
    level = expectation.calm_outliers(base.level_series)
    at = base.shift_candidates
    if plan.shifts.of != "step":
        shortest = max(24, max((p for p, _ in base.found_seasons), default=1))
        if np.sum(~np.isnan(level)) < 2 * shortest:
            return []
        cost = "step+spread" if plan.shifts.of == "spread" else "slope"
        penalty = None if plan.shifts.penalty == "auto" else float(plan.shifts.penalty)
        at = shifts.search(level, cost=cost, penalty=penalty, shortest=shortest)
    near = max(expectation.NEAR_SAMPLES, int(3 * seasons.DAY_NS // base.series.step_ns))
    found = []
    for s in shifts.describe(level, at, reach=near):
        t = int(base.series.times[s.index])
        found.append(
            Finding(
                base.key, t, t, "shift", "up" if s.size > 0 else "down",
                abs(s.size) / base.stream_spread if base.stream_spread else float("nan"), t,
                float(base.series.values[s.index]), float(base.expected[s.index]), 1, 1, s.size, s.confidence,
            )
        )  # fmt: skip
    return found


def points_of(scanned: Scanned) -> dict[str, Any]:
    """The points columns of one stream, as contracts name them."""
    base = scanned.base
    words = np.array(["below", "", "above"])
    return {
        "time": base.series.times,
        "value": base.series.values,
        "expected": base.expected,
        "spread": base.spread,
        "lower": base.expected - scanned.level.below * base.spread,
        "upper": base.expected + scanned.level.above * base.spread,
        "residual": base.series.values - base.expected,
        "score": np.abs(scanned.z),
        "window": np.ones(len(base.series), np.int64),
        "flag": words[scanned.flags.astype(np.int64) + 1],
        "in_finding": scanned.in_finding,
    }


def baseline_digest(stream_digest: str, plan: Plan, left_out: Sequence[tuple[int, int]]) -> str:
    """Key of a baseline stage: its version, its part of the plan, the samples, and what is left out."""
    data = plan.as_data()
    parts = {
        "version": BASELINE_VERSION,
        "prepare": data["prepare"],
        "baseline": data["baseline"],
        "spread": data["flag"]["spread"],
        "penalty": data["shifts"]["penalty"],
        "samples": stream_digest,
        "left_out": sorted(left_out),
    }
    return hashlib.sha256(json.dumps(parts, sort_keys=True).encode()).hexdigest()
