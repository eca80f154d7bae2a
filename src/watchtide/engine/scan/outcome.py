"""What a scanned stream says: its findings of every kind, its points, and what stands behind its shifts."""

from typing import Any

import numpy as np

from watchtide.core import robust, shifts
from watchtide.core.expect import quantile, regimes, seasons
from watchtide.core.expect.frame import DAY_NS
from watchtide.core.explain import discords
from watchtide.core.judge import grouping, watches
from watchtide.core.scoring.rows import Finding
from watchtide.core.series import Floats, Series, wall_clock
from watchtide.engine.scan.based import Baselined, Scanned
from watchtide.plan import Plan, durations
from watchtide.tables import clock

# What a plan calls a shift, and the cost whose minimum it is.
SHIFT_COSTS = {"step": "step", "spread": "step+spread", "slope": "slope"}
DIRECTIONS = {1: "above", -1: "below"}
FLAG_WORDS = {-1: "below", 0: "", 1: "above", watches.ODD: "odd"}


def outliers_of(base: Baselined, runs: grouping.Runs) -> list[Finding]:
    """Runs of flagged samples as findings; in replay with the end of the bin at which each was known."""
    times = base.series.times
    peak = runs.peak.copy()
    for i in np.flatnonzero(base.evidence.window[peak] > 1):
        peak[i] = _furthest(base, int(runs.first[i]), int(runs.last[i]), int(peak[i]))
    raised: list[int | None] = [None] * len(peak)
    if base.mode == "replay":
        raised = base.series.ends[runs.raised].tolist()
    columns = (
        times[runs.first], times[runs.last], runs.side, base.score[peak], times[peak], base.series.values[peak],
        base.expected[peak], runs.samples, base.evidence.window[peak],
    )  # fmt: skip
    return [
        Finding(
            base.key, start, end, "outlier", DIRECTIONS.get(side, ""), score, at, value, expected, samples, window,
            raised=known,
        )
        for (start, end, side, score, at, value, expected, samples, window), known in zip(
            zip(*(x.tolist() for x in columns), strict=True), raised, strict=True
        )
    ]  # fmt: skip


def _furthest(base: Baselined, first: int, last: int, peak: int) -> int:
    """Of the samples that share the strongest score, as those of one window do, the one furthest from what was expected."""
    part = slice(first, last + 1)
    counted = base.counted.at(part)
    far = np.abs(quantile.score(base.series.values[part], base.expected[part], base.spread[part], counted))
    own = (base.score[part] == base.score[peak]) & ~np.isnan(far)
    return first + int(np.argmax(np.where(own, far, -1.0))) if own.any() else peak


def seasons_of(base: Baselined) -> list[tuple[float, float]]:
    """(samples, strength) of the seasons of a stream; of stated ones the strength in training is worked out here,
    NaN where nothing was trained on."""
    lengths = [p for p, _ in base.found_seasons]
    stop = base.train_stop
    if stop == 0 or not any(np.isnan(s) for _, s in base.found_seasons):
        return list(base.found_seasons)
    part = base.series.part(0, stop)
    local = wall_clock(part).spread_out(np.where(base.clean[:stop], part.values, np.nan))
    return list(zip(lengths, seasons.strengths(local, lengths), strict=True))


def shifts_of(base: Baselined, plan: Plan) -> list[Finding]:
    """Change points of the de-seasonalised series as findings."""
    if plan.shifts.of == "none" or len(base.series) < 4 or np.isnan(base.level_series).all():
        return []
    if base.mode == "replay":
        return _raised_shifts(base)
    level = regimes.calm_outliers(base.level_series)
    at = base.shift_candidates
    if plan.shifts.of != "step":
        shortest = _shortest_regime(base)
        if np.sum(~np.isnan(level)) < 2 * shortest:
            return []
        penalty = None if plan.shifts.penalty == "auto" else float(plan.shifts.penalty)
        at = shifts.search(level, cost=SHIFT_COSTS[plan.shifts.of], penalty=penalty, shortest=shortest)
    found = []
    for s in shifts.describe(level, at, reach=_near(base)):
        t = int(base.series.times[s.index])
        score = abs(s.size) / base.stream_spread if base.stream_spread else float("nan")
        found.append(
            Finding(
                base.key, t, t, "shift", "up" if s.size > 0 else "down", score, t, float(base.series.values[s.index]),
                float(base.expected[s.index]), 1, 1, s.size, s.confidence,
            )
        )  # fmt: skip
    return found


def _shortest_regime(base: Baselined) -> int:
    return max(24, *(round(p) for p, _ in base.found_seasons), 1)


def _near(base: Baselined) -> int:
    """Samples on either side of a shift that tell its size."""
    return max(regimes.NEAR_SAMPLES, int(3 * DAY_NS // base.series.step_ns))


def shift_details(scanned: Scanned, plan: Plan) -> dict[str, Any]:
    """Sizes of the shifts of one stream with their intervals, and the penalty path with its elbow; plain data."""
    base = scanned.base
    found = [f for f in scanned.findings if f.kind == "shift"]
    shortest = _shortest_regime(base)
    if np.sum(~np.isnan(base.level_series)) < 2 * shortest:
        return {"shifts": [], "path": [], "note": f"a search needs {2 * shortest} samples of this stream"}
    level = regimes.calm_outliers(base.level_series)
    cost = SHIFT_COSTS[plan.shifts.of]
    at = np.searchsorted(base.series.times, [f.start for f in found])
    return {
        "penalty": shifts.default_penalty(level, cost)
        if plan.shifts.penalty == "auto"
        else float(plan.shifts.penalty),
        "shifts": [
            {
                "time": clock.format_time(int(base.series.times[s.index])),
                "before": s.before,
                "after": s.after,
                "size": s.size,
                "size_ci": list(s.size_ci),
                "confidence": s.confidence,
            }
            for s in shifts.describe(level, at, reach=_near(base))
        ],
        "path": [
            {
                "penalty": p.penalty,
                "changes": len(p.changes),
                "cost": p.cost,
                "elbow": p.is_elbow,
                "times": [clock.format_time(int(base.series.times[i])) for i in p.changes],
            }
            for p in shifts.path(level, cost=cost, shortest=shortest)
        ],
    }


def _raised_shifts(base: Baselined) -> list[Finding]:
    """What the running test raised, with what it knew when it did: sizes are the change from as many samples before, of the level in
    force, to those since."""
    found = []
    times, strays, last = base.series.times, base.series.values - base.expected, 0
    for start, raised in base.shift_candidates.reshape(-1, 2):
        count = int(raised - start + 1)
        since, before = strays[start : raised + 1], strays[max(start - count, last) : start]
        size = float(robust.median(since) - np.nan_to_num(robust.median(before)))
        t, last = int(times[start]), int(start)
        score = abs(size) / base.stream_spread if base.stream_spread else float("nan")
        found.append(
            Finding(
                base.key, t, t, "shift", "up" if size > 0 else "down", score, t, float(base.series.values[start]),
                float(base.expected[start]), 1, count, size, raised=int(base.series.ends[raised]),
            )
        )  # fmt: skip
    return found


def odd_windows(base: Baselined, plan: Plan) -> list[Finding]:
    """The windows least like any other; in replay least like any before them, told as they end."""
    if plan.discords.window == "none":
        return []
    if base.mode == "replay":
        return _raised_discords(base, plan)
    return discords_of(base.key, base.series, base.expected, plan)


def _raised_discords(base: Baselined, plan: Plan) -> list[Finding]:
    """Discords as if live. Raises ValueError for a window that the first training window does not hold twice."""
    step, told = base.series.step_ns, base.resolved["replay"]
    window = durations.parse_ns(plan.discords.window, step_ns=step) // step
    first, refit, reach = (
        durations.parse_ns(told[k], step_ns=step) // step for k in ("first", "refit", "window")
    )
    if not 4 <= window <= first // 2:
        raise ValueError(
            f"discords.window holds {window} samples; in replay it needs 4 to half of the first training window's {first}: "
            "take another length, or a longer replay.window"
        )
    found = discords.online(
        base.series.values, window, first=first, refit=refit, reach=reach, most=plan.discords.most
    )
    return [_discord(base.key, base.series, base.expected, d, window, d.score, is_raised=True) for d in found]


def discords_of(key: str, series: Series, expected: Floats, plan: Plan) -> list[Finding]:
    """The windows of a series least like any other, as findings; the distance stands as their size.

    Raises ValueError for a window under 4 samples or over half of the series.
    """
    step = series.step_ns
    window = durations.parse_ns(plan.discords.window, step_ns=step) // step
    if not 4 <= window <= len(series) // 2:
        raise ValueError(
            f"discords.window holds {window} samples; it needs 4 to half of the {len(series)}: take another length"
        )
    distance, where = discords.nearest(series.values, window)
    scores = discords.sigmas(distance)
    return [
        _discord(key, series, expected, d, window, float(scores[d.index]))
        for d in discords.pick(distance, where, window, plan.discords.most)
    ]


def _discord(
    key: str, series: Series, expected: Floats, d: discords.Discord, window: int, score: float, *, is_raised: bool = False
) -> Finding:  # fmt: skip
    last, middle = d.index + window - 1, d.index + window // 2
    times = series.times
    return Finding(
        key, int(times[d.index]), int(times[last]), "discord", "", score, int(times[middle]), float(series.values[middle]),
        float(expected[middle]), window, window, d.distance, raised=int(series.ends[last]) if is_raised else None,
    )  # fmt: skip


def points_of(scanned: Scanned) -> dict[str, Any]:
    """The points columns of one stream, as contracts name them."""
    base = scanned.base
    n = len(base.series)
    if (
        base.mode == "replay"
        and len(base.in_force) == n
        and "sigmas" not in scanned.resolved["flag"]["level"]
    ):
        above, below = base.in_force.above, base.in_force.below
    else:
        above, below = np.full(n, scanned.level.above), np.full(n, scanned.level.below)
    words = np.array([FLAG_WORDS[k] for k in (-1, 0, 1, 2)])
    return {
        "time": base.series.times,
        "value": base.series.values,
        "expected": base.expected,
        "spread": base.spread,
        "lower": base.values_at(-below),
        "upper": base.values_at(above),
        "residual": base.series.values - base.expected,
        "score": base.score,
        "window": base.evidence.window,
        "flag": words[scanned.flags.astype(np.int64) + 1],
        "in_finding": scanned.in_finding,
    }
