"""Which baseline, form and spread suit a stream: by blocked out-of-sample error, from the training part only."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

import numpy as np

from watchtide.core.expect import applying, baselines, fitting, quantile
from watchtide.core.expect.baselines import LEARNED
from watchtide.core.expect.frame import Frame, Period
from watchtide.core.expect.records import Choice, Model, Training
from watchtide.core.expect.rivals import Periods, variants
from watchtide.core.expect.seasons import LEAST_YEAR_STEP_NS
from watchtide.core.series import Floats
from watchtide.core.series.steps import DAY_NS, MONTH_NS, YEAR_NS

# A rival must be this much better, in nats a sample, to displace what is simpler or more usual.
MARGIN = 0.01
# Another form this near is tried with other seasons too.
CLOSE = 0.05
# Slots know no trend, and so must be this much better where they were tried.
SLOT_MARGIN = 0.1
# Another reading of the seasons may also gain little, but surely: so many standard errors of the gain of a day.
SURE, LEAST_DAYS = 2.0, 14
# Beyond this an error is trouble, and no candidate is the worse for more of it.
MOST_Z = 6.0
# So large a share of counts may be anything from 0 to the largest, whatever is expected.
WILD_SHARE = 0.02
# Cycles of the longest season below which its slots are too few to be a baseline of their own.
LEAST_SLOT_CYCLES = 4
# Cycles of a year without which it is not tried; and the share of the error without it that it must take away, by how many were
# seen: chosen on draws of walks, slow noise and swings of a year (docs/methods.md, Years).
LEAST_YEARS = 1.5
LEAST_YEAR_GAIN = {2.0: 0.15, 0.0: 0.3}
# Kinds in which adding and multiplying differ in nothing but the spread, or not at all.
ONE_FORM = ("slot", "fixed", "trailing", "isolation", "rolling", "spectrum", *LEARNED)
# The usual candidates, and the networks beside them: these take seconds, and so are tried only where that is stated.
WITH_LEARNED = "auto+learned"
# Kinds whose seasons may be read otherwise than found.
SEASONAL = ("auto", WITH_LEARNED, "harmonic", "slot")


@dataclass(frozen=True)
class Trial:
    """One candidate: what it is called, how it was chosen, and its held-out loss in nats a sample, (n,) and on average.

    is_whole : the fit took nothing over from another candidate's, and so is what the choice by itself would give.
    """

    name: str
    choice: Choice
    loss: float
    error: float
    losses: Floats
    model: Model
    training: Training
    is_whole: bool

    @property
    def ridge(self) -> dict[str, float] | None:
        ridge: dict[str, float] | None = self.model.fitted.facts.get("ridge")
        return ridge


First = tuple[Model, Training]


def _on_one_scale(a: Choice, b: Choice) -> bool:
    return a.periods == b.periods and a.is_multiplied == b.is_multiplied and a.has_link == b.has_link


def choose(
    frame: Frame, periods: tuple[Period, ...], like: Choice, *, kind: str = "auto", form: str = "auto",
    denominator: Floats | None = None, are_found: bool = True,
) -> tuple[Choice, First | None]:  # fmt: skip
    """Fill in kind and form where they are auto, with the reason in words and every candidate's figure.

    frame : the training part; like : what is settled already (law, settle, options); are_found : the seasons were found, not
    stated, and may be read otherwise. Each candidate is fitted to
    three of four folds of whole cycles and judged on the fourth: the mean of log spread + a Student-4 loss of
    the standardised error, so that a sharp expectation counts only with an honest spread. Also returns the fit of the
    choice to all of the frame, where choosing has made it.
    """
    candidates = _candidates(frame, periods, like, kind, form)
    readings = variants(frame, periods) if kind in SEASONAL and are_found else []
    may_have_year = are_found and _may_have_year(frame, periods, kind)
    if len(candidates) == 1 and not readings and not may_have_year:
        name, choice = candidates[0]
        return replace(choice, reasons=(*like.reasons, _only(name, choice, form))), None
    trials: list[Trial] = []
    for name, choice in candidates:
        same = next((t.training for t in trials if _on_one_scale(t.choice, choice)), None)
        trial = _trial(name, choice, frame, denominator, regimes=same)
        trials += [trial] if trial is not None else []
    if not trials:
        name, choice = candidates[0]
        return replace(
            choice, reasons=(*like.reasons, f"{name}: nothing could be held out to compare with")
        ), None
    best, reasons = _read_otherwise(readings, trials, frame, denominator)
    year = _yearly(best, trials, frame, like, form, denominator) if may_have_year else None
    if year is not None:
        best, why = year
        reasons.append(why)
    elif reasons and best.choice.kind == "harmonic":
        best = _in_another_form(best, candidates, trials, frame, denominator)
    others = ", ".join(f"{t.name} {t.loss - best.loss:+.3f}" for t in trials if t is not best)
    why = f"{best.name}: least held-out loss of {len(trials)}, mean absolute error {best.error:.4g}"
    evidence = {t.name: round(t.loss, 4) for t in trials}
    chosen = replace(
        best.choice,
        reasons=(
            *like.reasons,
            *reasons,
            why + (f"; others differ by {others} nats a sample" if others else ""),
        ),
        evidence=evidence,
    )
    return chosen, (replace(best.model, choice=chosen), best.training) if best.is_whole else None


def _read_otherwise(
    readings: Sequence[tuple[str, Callable[[Periods], Periods]]],
    trials: list[Trial],
    frame: Frame,
    denominator: Floats | None,
) -> tuple[Trial, list[str]]:
    """The best trial once the seasons of the best were read otherwise, and why; what is tried is added to the trials."""
    best, reasons = _best(trials), []
    for why, changed in readings:
        for start in (best, *_other_form(trials, best)):
            own = changed(start.choice.periods)
            if own == start.choice.periods:
                continue
            changed_choice = replace(start.choice, periods=own)
            trial = _trial(f"{start.name}, {why}", changed_choice, frame, denominator, start)
            if trial is None:
                continue
            trials.append(trial)
            if trial.loss < best.loss - MARGIN or _is_surely_better(trial, best, frame):
                best = trial
                reasons.append(f"{why}: the held-out loss falls with it")
                break
    return best, reasons


def _in_another_form(
    best: Trial,
    candidates: Sequence[tuple[str, Choice]],
    trials: list[Trial],
    frame: Frame,
    denominator: Floats | None,
) -> Trial:
    """The better of the best and the other forms of its kind, with the seasons of the best; tried ones are added to the trials."""
    for name, choice in candidates:
        if choice.kind == best.choice.kind and choice.is_multiplied != best.choice.is_multiplied:
            own = replace(choice, periods=best.choice.periods)
            again = _trial(f"{name}, as above", own, frame, denominator)
            if again is not None:
                trials.append(again)
                best = again if again.loss < best.loss - MARGIN else best
    return best


def _may_have_year(frame: Frame, periods: Periods, kind: str) -> bool:
    """Whether a year may be a season: days, weeks or months, one and a half cycles, and none found already."""
    step = frame.step_ns
    span = int(frame.times[-1]) - int(frame.times[0]) + step if len(frame) else 0
    return (
        kind in ("auto", WITH_LEARNED, "harmonic")
        and LEAST_YEAR_STEP_NS <= step <= YEAR_NS // 2
        and span >= LEAST_YEARS * YEAR_NS
        and all(p.ns < 0.9 * YEAR_NS for p in periods)
    )


def _yearly(
    best: Trial,
    trials: list[Trial],
    frame: Frame,
    like: Choice,
    form: str,
    denominator: Floats | None,
) -> tuple[Trial, str] | None:
    """The best candidate with a year beside its seasons, and why, where what went before foretells half a year better with it.

    Tried on days, weeks and months from one and a half cycles on. A year is judged by forecasts, the first from one year of
    history on: held out of the middle of a history, a day or a month is foretold by its neighbours, and a swing that
    happens once is a season as good as any.
    """
    periods = best.choice.periods
    plain = replace(like, kind="harmonic", periods=periods, is_multiplied=best.choice.is_multiplied)
    made = []
    for name, choice in _candidates(
        frame, (*periods, Period(YEAR_NS, is_local=True)), like, "harmonic", form
    ):
        trial = _trial(f"{name}, a year", replace(choice, fold_ns=MONTH_NS), frame, denominator)
        if trial is not None:
            made.append(trial)
    better = min(made, key=lambda t: t.loss, default=None)
    if better is None:
        return None
    gain = _foretold(frame, plain, better.choice, denominator)
    cycles = len(frame) * frame.step_ns / YEAR_NS
    if gain < next(least for seen, least in LEAST_YEAR_GAIN.items() if cycles >= seen):
        return None
    trials += made
    return (
        better,
        f"a year: half years are foretold better with it, by {gain:.0%} of the mean absolute error without",
    )


def _foretold(frame: Frame, plain: Choice, rival: Choice, denominator: Floats | None) -> float:
    """By how much of the mean absolute error without it a season foretells half years better, the worse of the median origin and all
    together; -1 where it cannot be tried."""
    year = int(YEAR_NS // frame.step_ns)
    reach = max(year // 2, 1)
    n = len(frame)
    origins = range(max(year, n - 6 * reach), n - reach + 1, max(reach // 2, 1))
    rows = []
    for at in origins:
        errors = [_ahead(frame, choice, at, at + reach, denominator) for choice in (plain, rival)]
        if all(e is not None for e in errors):
            rows.append(errors)
    if not rows:
        return -1.0
    without, with_it = np.array(rows, np.float64).T
    each = 1 - with_it / np.maximum(without, 1e-300)
    return float(min(np.median(each), 1 - with_it.sum() / max(float(without.sum()), 1e-300)))


def _ahead(frame: Frame, choice: Choice, at: int, stop: int, denominator: Floats | None) -> float | None:
    """Mean absolute error of a fit to what came before, over the samples at … stop - 1."""
    part = frame.part(0, at)
    try:
        model, _ = fitting.fit(part, choice, None if denominator is None else denominator[:at])
    except ValueError:
        return None
    _, expected = applying.judge(model, frame.part(at, stop))
    error = np.abs(frame.values[at:stop] - expected)[frame.usable[at:stop]]
    return float(np.nanmean(error)) if len(error) and not np.isnan(error).all() else None


def _other_form(trials: list[Trial], best: Trial) -> list[Trial]:
    """The same seasons in the other form, where it is nearly as good: what a week is worth may show in that one alone."""
    return [
        t
        for t in trials
        if t.choice.kind == best.choice.kind and t.choice.periods == best.choice.periods
        and t.choice.is_multiplied != best.choice.is_multiplied and t.loss < best.loss + CLOSE
    ]  # fmt: skip


def _best(trials: list[Trial]) -> Trial:
    best = trials[0]
    for trial in trials[1:]:
        if trial.loss < best.loss - (SLOT_MARGIN if trial.choice.kind == "slot" else MARGIN):
            best = trial
    return best


def _trial(
    name: str, choice: Choice, frame: Frame, denominator: Floats | None, like: Trial | None = None, *,
    regimes: Training | None = None,
) -> Trial | None:  # fmt: skip
    """One candidate. like : one on the same scale, whose regimes and penalties hold; regimes : a fit whose regimes this
    one would find again."""
    tried = choice
    if like is not None and len(choice.periods) > len(like.choice.periods) > 0:
        # What a season more explains had been taken for steps and jaggedness: they are looked for anew. A first one has
        # nothing to mend, and fitted freely it follows noise that wanders as wind does.
        like = None
    if like is not None and choice.kind == "harmonic":
        tried = replace(
            choice, options={"ridge": like.ridge or baselines.module("harmonic").USUAL, **choice.options}
        )
    try:
        model, training = fitting.fit(frame, tried, denominator, like=like.training if like else regimes)
    except ValueError:
        # What this stream cannot carry is no candidate.
        return None
    losses, error = held_out_losses(frame, model, training, denominator)
    loss = float(np.nanmean(losses)) if not np.isnan(losses).all() else np.inf
    return Trial(name, choice, loss, error, losses, model, training, like is None)


def _is_surely_better(rival: Trial, best: Trial, frame: Frame) -> bool:
    """Whether a rival gains by the day more than chance does: among rare events a week is worth little a sample, but a
    little each day. The mean gain of a day over its standard error."""
    gain = best.losses - rival.losses
    seen = ~np.isnan(gain)
    _, day = np.unique(frame.times[seen] // DAY_NS, return_inverse=True)
    by_day = np.bincount(day, gain[seen])
    if len(by_day) < LEAST_DAYS:
        return False
    return bool(np.mean(by_day) > SURE * np.std(by_day, ddof=1) / np.sqrt(len(by_day)))


def _only(name: str, choice: Choice, form: str) -> str:
    if form != "auto" or choice.periods:
        return f"{name}, as stated"
    return f"{name}: without a season, parts that add or multiply say the same"


def _candidates(
    frame: Frame, periods: tuple[Period, ...], like: Choice, kind: str, form: str
) -> list[tuple[str, Choice]]:
    """Candidates, the usual one first."""
    base = replace(like, periods=periods)
    values = frame.values[frame.usable]
    may_multiply = bool(len(values)) and (
        (like.law in ("count", "ratio") and bool(np.any(values > 0)) and bool(np.all(values >= 0)))
        or bool(np.all(values > 0))
    )
    if form == "multiplicative" and not may_multiply:
        raise ValueError("a multiplicative form needs values above 0 (counts: not all 0); take additive")
    forms = {"additive": [False], "multiplicative": [True]}.get(
        form, [False, True] if may_multiply and periods else [False]
    )
    kinds = [kind]
    if kind in ("auto", WITH_LEARNED):
        kinds = ["harmonic"]
        longest = max((p.ns for p in periods), default=0)
        span = int(frame.times[-1]) - int(frame.times[0]) if len(frame) else 0
        if longest and span >= LEAST_SLOT_CYCLES * longest:
            kinds.append("slot")
        kinds += LEARNED if kind == WITH_LEARNED else ()
    out = []
    for k in kinds:
        for is_multiplied in forms:
            if is_multiplied and form == "auto" and k in ONE_FORM:
                continue
            words = "parts that multiply" if is_multiplied else "parts that add"
            out.append((f"{k}, {words}", replace(base, kind=k, is_multiplied=is_multiplied)))
    return out


def held_out_losses(
    frame: Frame, model: Model, training: Training, denominator: Floats | None = None
) -> tuple[Floats, float]:
    """(n,) nats, NaN where nothing is judged, and mean absolute error, of held-out expectations.

    Over all usable samples, so that candidates are judged on the same ones: what one calls trouble may be another's season.
    """
    groups = applying.spread_groups(frame, model)
    # A spread of its own for each day is fitted to the samples judged here: it would favour whatever has a week.
    spread = model.spread.of_slots(model.days).at(training.held, groups, denominator)
    residual = np.where(frame.usable, frame.values - training.held, np.nan)
    counted = applying.counted_of(model, frame)
    if counted is None:
        with np.errstate(invalid="ignore", divide="ignore"):
            z = residual / spread
            loss = np.log(spread) + 2.5 * np.log1p(np.minimum(z * z, MOST_Z**2) / 4)
    else:
        # One in fifty may be anything: incidents must not choose.
        chances = quantile.log_chances(frame.values, training.held, spread, counted)
        events = np.where(frame.usable, frame.values / counted.event, np.nan)
        wild = np.log(WILD_SHARE / (1 + max(float(np.nanmax(events, initial=0.0)), 1.0)))
        with np.errstate(invalid="ignore"):
            loss = np.where(frame.usable, -np.logaddexp(np.log1p(-WILD_SHARE) + chances, wild), np.nan)
    seen = ~np.isnan(loss)
    return loss, float(np.mean(np.abs(residual[seen]))) if seen.any() else np.inf
