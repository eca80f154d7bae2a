"""A baseline with its spread fitted to a part of a history, and what held-out fits expect of that part."""

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

import numpy as np

from watchtide.core import robust
from watchtide.core.expect import baselines, regimes, spread
from watchtide.core.expect.applying import back, to_fit, without
from watchtide.core.expect.baselines import LEARNED, TRAILS, Fitted
from watchtide.core.expect.frame import Frame, Period, cycle_blocks, period_of, slots
from watchtide.core.expect.records import Choice, Model, Training
from watchtide.core.expect.seasons import LEAST_YEAR_STEP_NS
from watchtide.core.series import Bools, Floats, Ints

# Groups of neighbouring slots that share a spread: half an hour in a day.
SPREAD_GROUPS = 48
FOLDS = 4
# More trouble than this in training is the stream's way, not trouble.
MOST_SUSPECT = 0.35
# Under this mean a lasting step of counts is not looked for: chance alone makes levels out of it.
LEAST_STEP_MEAN = 5.0


def fit(
    part: Frame,
    choice: Choice,
    denominator: Floats | None = None,
    *,
    seen: Floats | None = None,
    suspect: Bools | None = None,
    like: Training | None = None,
    after: Fitted | None = None,
) -> tuple[Model, Training]:
    """Fit a baseline and its spread to a training part.

    seen : (m,) what was expected of the samples when they came, NaN where they were not judged: it takes the place of
    held-out fits. suspect : (m,) samples that look like trouble: they teach nothing. like : an earlier fit to the same
    part on the same scale, whose regimes hold. after : what was fitted by the same choice to nearly the same part: the fit begins there.
    """
    scaled = to_fit(part, choice)
    m = len(part)
    if like is not None:
        steps, delayed, changes, odd = like.steps, like.delayed, like.changes, like.odd
    else:
        steps, delayed, changes, odd = _regimes(scaled, choice)
    regime_odd = odd
    if suspect is not None and float(np.mean((odd | suspect)[part.usable])) < MOST_SUSPECT:
        odd = odd | suspect
    inner = without(scaled, steps, choice).with_usable(scaled.usable & ~odd & _knows_columns(part))
    if not inner.usable.any():
        inner, odd = without(scaled, steps, choice), np.zeros(m, np.bool_)
    options = dict(choice.options)
    if choice.has_link:
        options["link"] = "log"
    if after is not None and choice.kind == "harmonic":
        options["start"] = after
    fitted = baselines.fit(choice.kind, inner, choice.periods, options)
    held = back(_held_out(inner, fitted, choice, options), steps, choice) if seen is None else seen
    if like is not None:
        quantum, is_rare = like.quantum, like.is_rare
    else:
        known = part.values[part.usable]
        quantum, is_rare = robust.resolution(known), robust.is_mostly_one_value(known)
    training = Training(
        steps=steps,
        delayed=delayed,
        held=held,
        clean=part.usable & ~odd & (steps == delayed),
        changes=changes,
        left_out=int(np.sum(odd & part.usable)),
        odd=regime_odd,
        quantum=quantum,
        is_rare=is_rare,
    )
    model = _with_spread(part, choice, fitted, training, denominator)
    return replace(model, doubt=_doubt(model, inner, expected=held)), training


def _with_spread(
    part: Frame, choice: Choice, fitted: Fitted, training: Training, denominator: Floats | None
) -> Model:
    """The model of a fitted baseline: its spread is that of the clean held-out residuals, by slot of the season."""
    m = len(part)
    shortest = min(choice.periods, key=lambda p: p.ns, default=None)
    groups = 1 if shortest is None else int(np.clip(shortest.samples(part.step_ns), 1, SPREAD_GROUPS))
    where = slots(part, shortest, groups) if shortest is not None else np.zeros(m, np.int64)
    day_period, days = _days_of(choice, shortest, part)
    which = slots(part, day_period, days) if day_period is not None else np.zeros(m, np.int64)
    residual = np.where(training.clean, part.values - training.held, np.nan)
    scatter = spread.fit_spread(
        spread.Scatter(residual, training.held, where, groups, which, days, denominator),
        law="size" if choice.is_multiplied and choice.law == "even" else choice.law,
        is_robust=choice.is_robust and not training.is_rare,
        unit=choice.unit,
        quantum=training.quantum,
        size=float(np.max(np.abs(part.values[part.usable]))),
    )
    return Model(
        choice=choice,
        fitted=fitted,
        spread=scatter,
        step=float(training.delayed[-1]) if m else 0.0,
        group_period=shortest,
        groups=groups,
        end_ns=int(part.times[-1]),
        grain=training.quantum / scatter.stream if scatter.stream > 0 else 0.0,
        day_period=day_period,
        days=days,
    )


# The share of a season's own size by which one cycle differs from another where nothing shows it: as years of weather and trade do.
UNREPEATED = 0.15


def _doubt(model: Model, inner: Frame, expected: Floats) -> float:
    """How far the seasons that were seen less than twice may differ in another cycle, 0 where all were seen twice."""
    choice, n = model.choice, len(inner)
    seen = [n * inner.step_ns / p.ns for p in choice.periods]
    if choice.kind != "harmonic" or all(c >= 2 for c in seen):
        return 0.0
    rows = model.fitted.expect(inner).seasons
    total = 0.0
    for row, cycles in zip(rows, seen, strict=True):
        if cycles < 2:
            total += (2 - cycles) * float(np.nanvar(row))
    # In the unit of the values: logarithms are shares of what is expected.
    size = float(np.nanmedian(np.abs(expected))) if choice.is_log else 1.0
    return UNREPEATED * float(np.sqrt(total)) * size


# Cycles of the shortest season within a longer one that may each have their spread, as the days of a week, and the samples
# that each then needs.
MOST_DAYS, LEAST_DAY_SAMPLES = 14, 40


def _days_of(choice: Choice, shortest: Period | None, part: Frame) -> tuple[Period | None, int]:
    """The longer season whose cycles of the shortest one may differ in spread, and how many they are."""
    if shortest is None:
        return None, 1
    for period in sorted(choice.periods, key=lambda p: p.ns):
        count = round(period.ns / shortest.ns)
        if (
            1 < count <= MOST_DAYS
            and period.ns == count * shortest.ns
            and len(part) >= LEAST_DAY_SAMPLES * count
            and len(part) * part.step_ns >= 2 * period.ns
        ):
            return period, count
    return None, 1


def _knows_columns(part: Frame) -> Bools:
    """(m,) samples whose covariates are all known, all of them where most would go."""
    if not len(part.columns):
        return np.ones(len(part), np.bool_)
    known: Bools = ~np.any(np.isnan(part.columns), axis=0)
    return known if float(np.mean(known[part.usable])) >= 0.5 else np.ones(len(part), np.bool_)


def _regimes(frame: Frame, choice: Choice) -> tuple[Floats, Floats, Ints, Bools]:
    """Steps, steps as they become the normal, where regimes begin, and samples of levels that did not last."""
    n = len(frame)
    nothing = np.zeros(n), np.zeros(n), np.empty(0, np.int64), np.zeros(n, np.bool_)
    if choice.kind in TRAILS or choice.kind == "fixed":
        # These follow a level by themselves, or hold their limits whatever happens.
        return nothing
    view = frame
    if choice.has_link:
        seen = frame.values[frame.usable]
        if not len(seen) or float(np.mean(seen)) < LEAST_STEP_MEAN:
            return nothing
        view = frame.with_values(np.log(np.maximum(frame.values, 0.5)))
    longest = max(choice.cycles(frame.step_ns), default=1)
    level = np.where(view.usable, regimes.season_free(view, choice.periods), np.nan)
    if choice.kind == "harmonic" and len(frame.columns):
        level = np.where(frame.on_known_day, np.nan, _free_of_covariates(level, frame))
    has_trend = frame.step_ns >= LEAST_YEAR_STEP_NS
    changes = regimes.find_steps(level, longest, choice.shift_penalty, has_trend=has_trend)
    steps, delayed = regimes.regimes(level, changes, choice.settle_samples)
    odd = (
        regimes.unsettled(changes, n, choice.settle_samples)
        if choice.settle_samples > 0
        else np.zeros(n, np.bool_)
    )
    if np.mean(odd) > 0.3:
        odd[:] = False
    return steps, delayed, changes, odd


def _free_of_covariates(level: Floats, frame: Frame) -> Floats:
    """A level without what covariates explain of it, by least squares on values drawn in to six scales."""
    rows = [i for i, name in enumerate(frame.names) if not name.startswith("known day")]
    x = np.nan_to_num(frame.columns[rows])
    seen = ~np.isnan(level)
    if not len(rows) or seen.sum() < 10 * (len(rows) + 1):
        return level
    middle, scale = float(np.median(level[seen])), robust.mad_sigma(level)
    y = np.clip(level[seen] - middle, -6 * scale, 6 * scale) if scale > 0 else level[seen] - middle
    design = np.column_stack([np.ones(int(seen.sum())), x[:, seen].T])
    found = np.linalg.lstsq(design, y, rcond=None)[0]
    return np.asarray(level - found[1:] @ x)


def _held_out(inner: Frame, fitted: Fitted, choice: Choice, options: dict[str, Any]) -> Floats:
    """(m,) expected values, on the fitting scale, from fits that did not see the sample's block.

    Whole cycles are dealt out in four folds. Each fit is plain, on samples that the full fit did not find wild; its choices
    (penalties, windows) are the full fit's. Kinds that look only at what lies before a sample need no folds.
    """
    if choice.kind in LEARNED:
        # Two folds instead of four: training takes most of the time.
        halves = cycle_blocks(inner, choice.periods, 2, least_ns=choice.fold_ns)
        learned = baselines.module(choice.kind).held_out(fitted, inner, halves)
        return np.asarray(learned, np.float64)
    parts = fitted.expect(inner)
    if choice.kind in TRAILS or choice.kind == "fixed":
        return parts.expected
    residual = np.where(inner.usable, inner.values - parts.expected, np.nan) * np.sqrt(inner.weights)
    scale = robust.mad_sigma(residual, centre=0.0)
    with np.errstate(invalid="ignore"):
        tame = inner.usable & ~(np.abs(residual) > 6 * scale) if scale > 0 else inner.usable
    if choice.kind == "slot" and not choice.options.get("previous"):
        from watchtide.core.expect.baselines import slot

        return slot.held_out(fitted, inner, tame)
    folds = cycle_blocks(inner, choice.periods, FOLDS, least_ns=choice.fold_ns)
    if choice.kind == "harmonic" and "ridge" in fitted.facts:
        from watchtide.core.expect.baselines import harmonic

        return harmonic.held_out(fitted, inner, tame, folds)
    own = dict(options)
    if choice.kind == "loess":
        own |= {"sweeps_robust": 0}
        if "season_windows" in fitted.facts:
            own["season_window"] = fitted.facts["season_windows"]
    held = parts.expected.copy()
    for fold in range(FOLDS):
        out = folds == fold
        rest = inner.with_usable(tame & ~out)
        if not out.any() or not rest.usable.any() or np.sum(rest.usable) < 0.3 * np.sum(tame):
            continue
        try:
            held[out] = baselines.fit(choice.kind, rest, choice.periods, own).expect(inner).expected[out]
        except ValueError:
            # Too little is left to be fitted: the in-sample value stands, as without folds.
            continue
    return held


def choose_periods(lengths: Sequence[float], step_ns: int) -> tuple[Period, ...]:
    """Periods of these many samples, each once, shortest first.

    A tide knows nothing of the clocks, nor do days that come with one: beside a season that is no day or week all are in UTC.
    """
    found = {period_of(x, step_ns) for x in lengths}
    if not all(p.is_local for p in found):
        found = {Period(p.ns, False) for p in found}
    return tuple(sorted(found, key=lambda p: p.ns))
