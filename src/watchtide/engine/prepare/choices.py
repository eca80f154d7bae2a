"""Every `auto` of a plan filled in for one stream: seasons, kind, form, clock, and what a kind is told."""

from dataclasses import replace
from typing import Any

import numpy as np

from watchtide.core.expect import choosing, fitting, rivals, seasons
from watchtide.core.expect.frame import DAY_NS, Frame, Period, period_of
from watchtide.core.expect.records import Choice
from watchtide.core.series import Floats, Series, wall_clock
from watchtide.core.series.steps import WEEK_NS
from watchtide.engine.prepare.preparing import Prepared
from watchtide.plan import Plan, durations

# Kinds that the data choose.
AUTO = ("auto", choosing.WITH_LEARNED)
# Kinds that carry a season of which there are less than two cycles.
CARRIES_LONG = ("auto", choosing.WITH_LEARNED, "harmonic")


def choice_of(
    part: Frame, prepared: Prepared, plan: Plan
) -> tuple[Choice, tuple[tuple[float, float], ...], choosing.First | None]:
    """Every `auto` filled in from the training part, with the reasons; (samples, strength) of the seasons found; and the
    fit of the choice, where choosing has made it."""
    periods, found, why = _seasons(part, plan)
    like = replace(_like(plan, prepared, periods, part.step_ns), reasons=tuple(why))
    choice, first = _choose(part, periods, like, plan, _cut(prepared.denominator, len(part)))
    return choice, found, first


def _cut(values: Floats | None, stop: int) -> Floats | None:
    return None if values is None else values[:stop]


def _like(plan: Plan, prepared: Prepared, periods: tuple[Period, ...], step_ns: int) -> Choice:
    """What is settled before any candidate is tried."""
    laws = {"count": "count", "ratio": "ratio", "value": "even"}
    law = laws[prepared.resolved["as"]]
    if plan.prepare.transform != "none":
        law = "even"
    settle = durations.parse_ns(plan.baseline.settle, step_ns=step_ns)
    return Choice(
        "harmonic", periods, kind_options(plan, step_ns), law, False, plan.flag.spread == "robust",
        max(settle // step_ns, 0), None if plan.shifts.penalty == "auto" else float(plan.shifts.penalty),
        prepared.unit,
    )  # fmt: skip


def kind_options(plan: Plan, step_ns: int) -> dict[str, Any]:
    """Options as the kind takes them: durations in nanoseconds."""
    names = {"harmonics": "harmonics_most", "robust": "is_robust"}
    lengths = ("window", "reference", "gap", "bends")
    out: dict[str, Any] = {}
    for name, value in plan.baseline.options.items():
        if name in lengths:
            out[f"{name}_ns"] = durations.parse_ns(value, step_ns=step_ns)
        else:
            out[names.get(name, name)] = value
    return out


def _choose(
    part: Frame, periods: tuple[Period, ...], like: Choice, plan: Plan, denominator: Floats | None
) -> tuple[Choice, choosing.First | None]:
    """Kind and form, chosen from the training part where the plan leaves them open."""
    kind, form = plan.baseline.kind, plan.baseline.form
    if plan.prepare.transform != "none" and form == "auto":
        form = "additive"
    if form == "multiplicative" and like.law == "ratio":
        like = replace(like, law="even")
    if not part.usable.any():
        return replace(like, kind="harmonic" if kind in AUTO else kind), None
    if kind in AUTO and (len(part.columns) or any(2 * p.samples(part.step_ns) > len(part) for p in periods)):
        # Known days and covariates are the harmonic kind's to use, and so is a season seen less than twice.
        kind = "harmonic"
    return choosing.choose(
        part,
        periods,
        like,
        kind=kind,
        form=form,
        denominator=denominator,
        are_found=plan.baseline.seasons == "auto" and plan.baseline.clock == "auto",
    )


def _seasons(
    part: Frame, plan: Plan
) -> tuple[tuple[Period, ...], tuple[tuple[float, float], ...], list[str]]:
    """Periods, (samples, strength) of each, and why."""
    n, step = len(part), part.step_ns
    stated = plan.baseline.seasons
    if stated != "auto":
        lengths = _stated_lengths(plan, step)
        notes = ["a season of one sample is no season: left out"] if len(lengths) < len(stated) else []
        seasons.check_lengths(lengths, n, step, may_be_long=plan.baseline.kind in CARRIES_LONG)
        for x in lengths:
            if x > n / 2:
                notes.append(
                    f"a season of {seasons.written(x * step)} is seen {n / x:.1f} times: taken by the harmonic kind, and its "
                    "repetition is an assumption"
                )
        # Their strength is left to the summary.
        unweighed = tuple((x, np.nan) for x in lengths)
        return stated_periods(plan, step), unweighed, notes
    local = _on_grid(part, is_local=True) if n else np.empty(0)
    found = seasons.detect(local, step) if n else []
    why: list[str] = []
    if n and np.any(part.offsets_ns != part.offsets_ns[:1]):
        # A tide knows nothing of the clocks: on the wall-clock grid it would jump by an hour.
        local_ones = [s for s in found if period_of(s.samples, step).is_local]
        if len(local_ones) < len(found):
            apart = seasons.detect(_on_grid(part, is_local=False), step)
            found = local_ones + [s for s in apart if not period_of(s.samples, step).is_local]
            why.append("a season that is no day or week does not follow the clock change: kept in UTC")
    for s in found:
        why.append(
            f"a season of {seasons.written(s.samples * step)} explains {s.strength:.0%} of what the others leave"
        )
    week = WEEK_NS / step
    if not found and n and n * step < seasons.LEAST_CYCLES * DAY_NS:
        why.append(
            f"too little history to see a daily season: {(seasons.LEAST_CYCLES * DAY_NS - n * step) / DAY_NS:.1f} more days are needed"
        )
    elif n and all(abs(s.samples - week) > 1 for s in found) and n * step < seasons.LEAST_CYCLES * WEEK_NS:
        days = (seasons.LEAST_CYCLES * WEEK_NS - n * step) / DAY_NS
        why.append(f"too little history to see a weekly season: {days:.1f} more days are needed")
    periods = _by_clock(fitting.choose_periods([s.samples for s in found], step), plan)
    return periods, tuple((s.samples, s.strength) for s in found), why


def stated_periods(plan: Plan, step_ns: int) -> tuple[Period, ...]:
    """The seasons that a plan states, on the clock it states."""
    return _by_clock(fitting.choose_periods(_stated_lengths(plan, step_ns), step_ns), plan)


def _stated_lengths(plan: Plan, step_ns: int) -> list[float]:
    """Stated seasons in samples, without those of one sample."""
    lengths = (durations.parse_ns(s, step_ns=step_ns) / step_ns for s in plan.baseline.seasons)
    return [x for x in lengths if abs(x - 1) >= 1e-6]


def _by_clock(periods: tuple[Period, ...], plan: Plan) -> tuple[Period, ...]:
    """Days by the clocks or by UTC, where the plan says which."""
    if plan.baseline.clock == "auto":
        return periods
    return tuple(rivals.turned(p, plan.baseline.clock == "local") for p in periods)


def _on_grid(part: Frame, *, is_local: bool) -> Floats:
    """Training values on the even grid of wall-clock time, or of UTC."""
    if not is_local:
        return part.trained
    series = Series(part.times, part.values, part.step_ns, part.offsets_ns)
    return wall_clock(series).spread_out(part.trained)
