"""What the fitting and the replay of a stream share: what may train, transforms, levels, and the plan as resolved."""

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

import numpy as np

from watchtide.core.expect import applying
from watchtide.core.expect.baselines import fixed
from watchtide.core.expect.frame import Frame
from watchtide.core.expect.quantile import Counted
from watchtide.core.expect.records import Choice, Model
from watchtide.core.judge import grouping, watches
from watchtide.core.scoring.rows import Label, inside_any
from watchtide.core.series import Bools, Series, keys, transforms
from watchtide.core.series.transforms import Transform
from watchtide.engine.prepare import preparing
from watchtide.engine.prepare.preparing import Prepared
from watchtide.plan import Plan, durations
from watchtide.tables import clock

# Readings of the level that need no tail.
OWN_READINGS = ("sigmas", "share")
# Kinds that use known days and covariates.
USE_COLUMNS = ("harmonic", "isolation", "next-step")


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


def ignored_columns(choice: Choice, prepared: Prepared) -> tuple[str, ...]:
    """A note where the kind does not use the covariates or known days that the plan names."""
    if not prepared.names or choice.kind in USE_COLUMNS:
        return ()
    names = ", ".join(n for n in prepared.names if not n.startswith("known day, shape"))
    return (f"{names}: not used by a {choice.kind} baseline; take harmonic",)


def counted_in(frame: Frame, model: Model | None) -> Counted:
    """What makes the values of a frame counts for a model, NaN where its law is a symmetrical one."""
    counted = None if model is None else applying.counted_of(model, frame)
    return Counted.none(len(frame)) if counted is None else counted


def resolved_of(
    prepared: Prepared, plan: Plan, choice: Choice, model: Model | None, watch: watches.Watch | None,
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


def group_of(plan: Plan, step_ns: int) -> grouping.Group:
    merge = durations.parse_ns(plan.group.merge, step_ns=step_ns)
    return grouping.Group(plan.group.need, plan.group.of, merge, plan.group.shortest)


def level_of(plan: Plan) -> dict[str, float]:
    """The level in force: fixed limits lie at 4 sigmas by their own definition, unless sigmas are stated."""
    if plan.baseline.kind == "fixed" and "sigmas" not in plan.flag.level:
        return {"sigmas": fixed.LIMIT_SIGMAS}
    return plan.flag.level
