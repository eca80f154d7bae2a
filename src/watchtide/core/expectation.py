"""From a frame and a choice of baseline to what each sample was expected to be, and how far it may stray."""

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from watchtide.core import baselines, quantile, regimes, robust, spread, windows
from watchtide.core.baselines import LEARNED, OWN_SPREAD, TRAILS, WHOLE_WINDOWS, Fitted, Parts
from watchtide.core.frame import DAY_NS, Frame, Period, cycle_blocks, period_of, slots
from watchtide.core.seasons import LEAST_YEAR_STEP_NS
from watchtide.core.series import Bools, Floats, Ints
from watchtide.core.spread import SpreadModel

# Groups of neighbouring slots that share a spread: half an hour in a day.
SPREAD_GROUPS = 48
FOLDS = 4
# More trouble than this in training is the stream's way, not trouble.
MOST_SUSPECT = 0.35
# Under this mean a lasting step of counts is not looked for: chance alone makes levels out of it.
LEAST_STEP_MEAN = 5.0


@dataclass(frozen=True)
class Choice:
    """How to expect: every `auto` filled in.

    law : how the spread grows (even, size, count, ratio); is_multiplied : parts multiply; unit : of a ratio of
    whole counts; fold_ns : the least length held out at once; reasons in words; found : seasons that were found, in samples,
    with the share each explains.
    """

    kind: str
    periods: tuple[Period, ...] = ()
    options: dict[str, Any] = field(default_factory=dict)
    law: str = "even"
    is_multiplied: bool = False
    is_robust: bool = True
    settle_samples: int = 0
    shift_penalty: float | None = None
    unit: float = 0.0
    fold_ns: int = DAY_NS
    reasons: tuple[str, ...] = ()
    evidence: dict[str, float] = field(default_factory=dict)
    found: tuple[tuple[float, float], ...] = ()

    @property
    def is_log(self) -> bool:
        """Whether the baseline is fitted to logarithms; counts take a log link instead, where the kind has one."""
        return self.is_multiplied and not self.has_link

    @property
    def has_link(self) -> bool:
        return self.is_multiplied and self.kind == "harmonic" and self.law in ("count", "ratio")


@dataclass(frozen=True)
class Model:
    """A fitted baseline with its spread: all that is needed to judge other samples of the stream.

    step : what the last lasting level adds (or multiplies by, in logarithms) to the fitted parts; group_period : the
    season whose slots share a spread; groups : slots of it; day_period, days : the longer season whose cycles of the
    shorter one differ in spread, and their number, 1 where there is none; end_ns : last sample of training; grain : the
    data's resolution in sigmas; doubt : how far a season seen less than twice may differ from what was seen of it, in the
    unit of the values.
    """

    choice: Choice
    fitted: Fitted
    spread: SpreadModel
    step: float
    group_period: Period | None
    groups: int
    end_ns: int
    grain: float
    doubt: float = 0.0
    day_period: Period | None = None
    days: int = 1

    def slot_of(self, groups: Ints) -> Ints:
        """(n,) slot of the shortest season of each group of `spread_groups`."""
        return groups // self.days


@dataclass(frozen=True)
class Training:
    """What fitting gave beside the model; arrays of (m,) over the training part.

    steps, delayed : the accepted levels, as they are and as they become the normal; held : expected values from fits
    that did not see the sample; clean : samples that may speak for the noise; changes : indices of new regimes; odd :
    samples of levels that did not last; quantum : resolution of what may train; is_rare : whether most of that is one and the same
    value.
    """

    steps: Floats
    delayed: Floats
    held: Floats
    clean: Bools
    changes: Ints
    left_out: int
    odd: Bools
    quantum: float
    is_rare: bool


@dataclass(frozen=True)
class Expectation:
    """What the baseline says for each sample; arrays of (n,) unless said.

    expected, spread : in the unit of the values; NaN where nothing can be said. held : signed held-out
    scores. trend, seasons (k, n), more : the parts; trend holds the accepted steps.
    level_series : values without their seasons. settling : samples still judged by the level before a step.
    """

    expected: Floats
    spread: Floats
    held: Floats
    clean: Bools
    trend: Floats
    seasons: Floats
    more: dict[str, Floats]
    level_series: Floats
    shift_candidates: Ints
    settling: Bools
    groups: Ints
    group_count: int
    isolated: Floats | None
    model: Model | None
    training: Training | None
    notes: tuple[str, ...]


def expect(
    frame: Frame,
    choice: Choice,
    *,
    stop: int | None = None,
    denominator: Floats | None = None,
    first: tuple[Model, Training] | None = None,
    has_level: bool = True,
) -> Expectation:
    """Fit the baseline on the usable samples before `stop` and judge every sample by it.

    frame : (n,) samples, usable ones observed and not left out; stop : index of the first sample after training, None
    trains on all; denominator : (n,) of ratios; first : the plain fit of the training part, where it is made already; has_level : whether the
    values without their seasons are asked for. A step that lasts `settle_samples` becomes the new normal: the
    seasons are fitted with it taken out, and the expectation follows it that much later.
    Raises ValueError for an unknown kind, or seasons and options the baseline cannot use.
    """
    n = len(frame)
    stop = n if stop is None else stop
    part = frame.part(0, stop)
    if not part.usable.any():
        return _blank(frame, "no observed sample to train on: nothing is judged")
    d = None if denominator is None else denominator[:stop]
    model, training = first or fit(part, choice, d)
    suspect = suspects(model, part, training, d)
    if suspect.any():
        model, training = fit(part, choice, d, suspect=suspect, like=training)
    parts, expected_now = judge(model, frame, training)
    groups = spread_groups(frame, model)
    wide = spread_at(model, parts, expected_now, groups, denominator, frame)
    held = np.full(n, np.nan)
    wide_then = spread_at(model, parts, training.held, groups[:stop], d, part)
    held[:stop] = score_of(model, part, training.held, wide_then)
    held[:stop][~training.clean] = np.nan
    clean = np.zeros(n, np.bool_)
    clean[:stop] = training.clean
    settling = np.zeros(n, np.bool_)
    settling[:stop] = training.steps != training.delayed
    notes = [model.spread.reason, *_told(training)]
    level = np.full(n, np.nan)
    if has_level:
        level = regimes.season_free(
            frame, choice.periods, np.r_[training.clean, np.zeros(n - stop, np.bool_)]
        )
    return Expectation(
        expected=expected_now,
        spread=wide,
        held=held,
        clean=clean,
        trend=parts.trend,
        seasons=parts.seasons,
        more=parts.more,
        level_series=level,
        shift_candidates=regimes.lasting(training.steps, training.changes, choice.settle_samples),
        settling=settling,
        groups=model.slot_of(groups),
        group_count=model.groups,
        isolated=isolated_of(model, frame),
        model=model,
        training=training,
        notes=tuple(notes),
    )


def suspects(model: Model, part: Frame, training: Training, denominator: Floats | None = None) -> Bools:
    """(m,) samples of a training part that look like trouble lasting over several samples, labelled or not.

    Judged by held-out values with every accepted step taken as known, so that a new normal is no trouble for ever.
    """
    if model.choice.kind in ("fixed", "trailing"):
        return np.zeros(len(part), np.bool_)
    if training.is_rare:
        # What happens is seldom here, which alone makes it no trouble.
        return np.zeros(len(part), np.bool_)
    groups = spread_groups(part, model)
    spread_then = model.spread.at(training.held, groups, denominator)
    z = np.where(part.usable, score_of(model, part, training.held, spread_then), np.nan)
    groups = model.slot_of(groups)
    equal = windows.equal_chances(part.values, part.usable, groups, model.groups)
    likely = windows.chance_of_equal(equal, groups, part.values, training.held, part.event)
    run, _ = windows.surprises(part.values, likely)
    found = windows.trouble(z, part.step_ns, run) & part.usable
    return found & ~part.on_known_day if model.choice.kind == "harmonic" else found


def isolated_of(model: Model, frame: Frame) -> Floats | None:
    """(n,) how unusual the window that ends at each sample is, by kinds that judge whole windows; None for others."""
    if model.choice.kind not in WHOLE_WINDOWS:
        return None
    return np.asarray(baselines.module(model.choice.kind).strength(model.fitted, frame), np.float64)


def _told(training: Training) -> list[str]:
    notes = []
    if np.any(training.steps != training.steps[:1]):
        notes.append("a lasting step became the new normal after it had settled")
    if training.left_out:
        notes.append(
            f"{training.left_out} samples of training look like trouble and are left out: windows far from the rest, and "
            "levels that did not last or have not lasted yet"
        )
    return notes


def _blank(frame: Frame, note: str) -> Expectation:
    n = len(frame)
    blank, none = np.full(n, np.nan), np.zeros(n, np.bool_)
    return Expectation(
        expected=blank,
        spread=blank,
        held=blank,
        clean=none,
        trend=blank,
        seasons=np.zeros((0, n)),
        more={},
        level_series=blank,
        shift_candidates=np.empty(0, np.int64),
        settling=none,
        groups=np.zeros(n, np.int64),
        group_count=1,
        isolated=None,
        model=None,
        training=None,
        notes=(note,),
    )


def fit(
    part: Frame,
    choice: Choice,
    denominator: Floats | None = None,
    *,
    seen: Floats | None = None,
    suspect: Bools | None = None,
    like: Training | None = None,
) -> tuple[Model, Training]:
    """Fit a baseline and its spread to a training part.

    seen : (m,) what was expected of the samples when they came, NaN where they were not judged: it takes the place of
    held-out fits. suspect : (m,) samples that look like trouble: they teach nothing. like : an earlier fit to the same
    part on the same scale, whose regimes hold.
    """
    scaled = _to_fit(part, choice)
    m = len(part)
    if like is not None:
        steps, delayed, changes, odd = like.steps, like.delayed, like.changes, like.odd
    else:
        steps, delayed, changes, odd = _regimes(scaled, choice)
    regime_odd = odd
    if suspect is not None and float(np.mean((odd | suspect)[part.usable])) < MOST_SUSPECT:
        odd = odd | suspect
    inner = _without(scaled, steps, choice).with_usable(scaled.usable & ~odd & _knows_columns(part))
    if not inner.usable.any():
        inner, odd = _without(scaled, steps, choice), np.zeros(m, np.bool_)
    options = dict(choice.options)
    if choice.has_link:
        options["link"] = "log"
    fitted = baselines.fit(choice.kind, inner, choice.periods, options)
    if seen is None:
        held = _back(_held_out(inner, fitted, choice, options), steps, choice)
    else:
        held = seen
    clean = part.usable & ~odd & (steps == delayed)
    shortest = min(choice.periods, key=lambda p: p.ns, default=None)
    groups = 1 if shortest is None else int(np.clip(shortest.samples(part.step_ns), 1, SPREAD_GROUPS))
    where = slots(part, shortest, groups) if shortest is not None else np.zeros(m, np.int64)
    day_period, days = _days_of(choice, shortest, part)
    which = slots(part, day_period, days) if day_period is not None else np.zeros(m, np.int64)
    residual = np.where(clean, part.values - held, np.nan)
    known = part.values[part.usable]
    if like is not None:
        quantum, is_rare = like.quantum, like.is_rare
    else:
        quantum, is_rare = robust.resolution(known), robust.is_mostly_one_value(known)
    law = "size" if choice.is_multiplied and choice.law == "even" else choice.law
    scatter = spread.fit_spread(
        spread.Scatter(residual, held, where, groups, which, days, denominator),
        law=law,
        is_robust=choice.is_robust and not is_rare,
        unit=choice.unit,
        quantum=quantum,
        size=float(np.max(np.abs(known))),
    )
    grain = quantum / scatter.stream if scatter.stream > 0 else 0.0
    model = Model(
        choice=choice,
        fitted=fitted,
        spread=scatter,
        step=float(delayed[-1]) if m else 0.0,
        group_period=shortest,
        groups=groups,
        end_ns=int(part.times[-1]),
        grain=grain,
        day_period=day_period,
        days=days,
    )
    model = replace(model, doubt=_doubt(model, inner, expected=held))
    left_out = int(np.sum(odd & part.usable))
    return model, Training(steps, delayed, held, clean, changes, left_out, regime_odd, quantum, is_rare)


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


def judge(model: Model, frame: Frame, training: Training | None = None) -> tuple[Parts, Floats]:
    """Parts and expected values of a frame, in the unit of the values.

    training : of the fit, where the frame begins with its training part; its levels are then followed as they became
    the normal. Else the last one holds.
    """
    choice = model.choice
    scaled = _to_fit(frame, choice)
    n = len(frame)
    delayed = np.full(n, model.step)
    if training is not None:
        delayed[: len(training.delayed)] = training.delayed
    parts = model.fitted.expect(_without(scaled, delayed, choice) if choice.kind in TRAILS else scaled)
    expected = _back(parts.expected, delayed, choice)
    if choice.has_link:
        trend = parts.trend * np.exp(delayed)
        return replace(
            parts, expected=expected, trend=trend, seasons=parts.seasons * np.exp(delayed)
        ), expected
    if choice.is_log:
        level = np.exp(np.minimum(parts.trend + delayed, 700.0))
        logs = parts.expected - parts.trend
        with np.errstate(invalid="ignore", divide="ignore"):
            share = np.where(logs != 0, (expected - level) / logs, 0.0)
        more = {k: v * share for k, v in parts.more.items()}
        return Parts(expected, level, parts.seasons * share, more, _own_spread(parts, expected)), expected
    return replace(parts, expected=expected, trend=parts.trend + delayed), expected


def fitted_now(model: Model, part: Frame, training: Training) -> Floats:
    """(m,) in-sample expected values of a training part, with its accepted steps as they are."""
    scaled = _to_fit(part, model.choice)
    return _back(
        model.fitted.expect(_without(scaled, training.steps, model.choice)).expected,
        training.steps,
        model.choice,
    )


def _own_spread(parts: Parts, expected: Floats) -> Floats | None:
    return None if parts.spread is None else parts.spread * expected


def spread_groups(frame: Frame, model: Model) -> Ints:
    """(n,) which group gives each sample's spread: its slot of the shortest season, and its day of the longer one."""
    if model.group_period is None:
        return np.zeros(len(frame), np.int64)
    own = slots(frame, model.group_period, model.groups)
    return own if model.day_period is None else own * model.days + slots(frame, model.day_period, model.days)


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


def counted_of(model: Model, frame: Frame) -> quantile.Counted | None:
    """What makes the values counts for this model: None where its law is a symmetrical one."""
    if not model.spread.is_counted or frame.counted is None or model.choice.kind in OWN_SPREAD:
        return None
    if model.spread.has_trials:
        return frame.counted
    return replace(frame.counted, trials=np.full(len(frame), np.inf))


def score_of(model: Model, frame: Frame, expected: Floats, wide: Floats) -> Floats:
    """(n,) signed scores of a frame's values with this expectation and spread: their quantile residuals."""
    return quantile.score(frame.values, expected, wide, counted_of(model, frame))


def spread_at(
    model: Model,
    parts: Parts,
    expected: Floats,
    groups: Ints,
    denominator: Floats | None,
    frame: Frame,
) -> Floats:
    """(n,) spread of each sample: the model's, or what the kind itself says, never under the floor; wider where a covariate
    is not known."""
    own = None if parts.spread is None else parts.spread[: len(frame)]
    usual = model.spread.at(expected, groups, denominator)
    if model.doubt:
        usual = np.hypot(usual, model.doubt)
    if (unknown := _unknown_columns(model, frame, expected)) is not None:
        usual = np.hypot(usual, unknown)
    if own is None:
        return usual
    if model.choice.kind in OWN_SPREAD:
        return np.maximum(own, model.spread.floor)
    # A window's own scatter, shrunk to the stream's as far as the window is short.
    m, prior = float(model.fitted.facts["window"]), spread.PRIOR_SAMPLES
    shrunk = np.sqrt((m * own**2 + prior * usual**2) / (m + prior))
    return np.maximum(np.where(np.isnan(shrunk), usual, shrunk), model.spread.floor)


def _unknown_columns(model: Model, frame: Frame, expected: Floats) -> Floats | None:
    """(n,) standard deviation that covariates missing at a sample would explain, None where all are known.

    A missing one is taken at its mean; standardised, it may lie one standard deviation off: its coefficient.
    """
    names = model.fitted.facts.get("columns") or []
    if model.choice.kind != "harmonic" or not names or not np.isnan(frame.columns).any():
        return None
    beta = model.fitted.arrays["beta"]
    first = len(beta) - 2 * len(model.fitted.arrays["order"]) - len(names)
    own = beta[first : first + len(names)]
    total = np.sum(np.isnan(frame.columns) * own[:, None] ** 2, axis=0)
    # Logarithms are shares of what is expected.
    size = np.abs(expected) if model.choice.is_log or model.choice.has_link else 1.0
    return np.asarray(np.sqrt(total) * size)


def _knows_columns(part: Frame) -> Bools:
    """(m,) samples whose covariates are all known, all of them where most would go."""
    if not len(part.columns):
        return np.ones(len(part), np.bool_)
    known: Bools = ~np.any(np.isnan(part.columns), axis=0)
    return known if float(np.mean(known[part.usable])) >= 0.5 else np.ones(len(part), np.bool_)


def _to_fit(frame: Frame, choice: Choice) -> Frame:
    """Values on the scale the baseline is fitted on."""
    if not choice.is_log:
        return frame
    with np.errstate(invalid="ignore", divide="ignore"):
        logs = np.where(frame.values > 0, np.log(np.maximum(frame.values, 1e-300)), np.nan)
    return frame.with_values(logs)


def _back(expected: Floats, steps: Floats, choice: Choice) -> Floats:
    """Expected values in the unit of the values, with their level put back."""
    if choice.has_link:
        return expected * np.exp(steps)
    return np.exp(np.minimum(expected + steps, 700.0)) if choice.is_log else expected + steps


def _without(frame: Frame, steps: Floats, choice: Choice) -> Frame:
    """A frame with the accepted steps taken out."""
    if not np.any(steps):
        return frame
    return frame.with_values(frame.values / np.exp(steps) if choice.has_link else frame.values - steps)


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
    longest = max((round(p.samples(frame.step_ns)) for p in choice.periods), default=1)
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
    residual = np.where(inner.usable, inner.values - parts.expected, np.nan)
    scale = robust.mad_sigma(residual, centre=0.0)
    with np.errstate(invalid="ignore"):
        tame = inner.usable & ~(np.abs(residual) > 6 * scale) if scale > 0 else inner.usable
    if choice.kind == "slot" and not choice.options.get("previous"):
        from watchtide.core.baselines import slot

        return slot.held_out(fitted, inner, tame)
    folds = cycle_blocks(inner, choice.periods, FOLDS, least_ns=choice.fold_ns)
    if choice.kind == "harmonic" and "ridge" in fitted.facts:
        from watchtide.core.baselines import harmonic

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
            # Too little is left for a fit of its own: the in-sample value stands, as without folds.
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
