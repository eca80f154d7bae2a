"""As if live: how a plan would have judged each sample when it came, with nothing known of its future.

Expectation, spread, windows and level at t rest on samples strictly before t; only the score uses sample t. The
baseline is fitted anew every `refit` samples on the `window` before, and carried forward in between. All
that is read off the past is read at fixed places of the grid, so that cutting the data anywhere
changes nothing before the cut, to the last bit.
"""

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from watchtide.core.expect import applying, carrying, expectation, fitting, quantile
from watchtide.core.expect.baselines import SEASONLESS, TRAILS
from watchtide.core.expect.frame import Frame
from watchtide.core.expect.records import Choice, Model, Training
from watchtide.core.judge import combining, flagging, innovations, watches, windows
from watchtide.core.judge.flagging import Level
from watchtide.core.judge.innovations import Leaps
from watchtide.core.judge.progress import Progress
from watchtide.core.judge.promises import Held
from watchtide.core.judge.standing import Cadence, Kept, Replayed, Rules, Tail, reach_of
from watchtide.core.series import Bools, Floats
from watchtide.core.series.steps import WEEK_NS

# Samples before a refit that the new fit judges too, so that the first leap after it does not compare two fits.
LEAP_LEAD = 96


@dataclass(frozen=True)
class _Given:
    """What a replay goes by from its first sample to its last, as `replay` takes it."""

    frame: Frame
    cadence: Cadence
    choose: Callable[[Frame], Choice]
    rules: Rules
    denominator: Floats | None
    least: float

    def begin(self, at: int) -> int:
        """The first sample of the window on which a fit at this one rests."""
        return max(0, at - self.cadence.window)

    def part(self, begin: int, at: int, usable: Bools) -> Frame:
        """Samples that a fit may rest on."""
        frame = self.frame
        return replace(frame, usable=usable & ~np.isnan(frame.values)).part(begin, at)

    def of(self, begin: int, at: int) -> Floats | None:
        """Denominators of the same samples."""
        return None if self.denominator is None else self.denominator[begin:at]

    def is_reread(self, refits: int) -> bool:
        """Whether windows and level are read anew at so many fits: about once a week, since they rest on long histories."""
        cadence = self.cadence
        every = cadence.reread or max(1, round(WEEK_NS / (cadence.refit * self.frame.step_ns)))
        return every == 1 or refits % every == 1


@dataclass(frozen=True)
class _Fit:
    """What samples are judged by until the next fit; as in `standing.Kept`."""

    choice: Choice
    model: Model
    watch: watches.Watch | None
    levels: tuple[Level, ...]
    added: float
    refits: int

    @classmethod
    def of(cls, kept: Kept) -> "_Fit":
        return cls(kept.choice, kept.model, kept.watch, kept.levels, kept.added, kept.refits)

    @property
    def level(self) -> Level:
        return self.levels[-1]


def replay(
    frame: Frame,
    cadence: Cadence,
    choose: Callable[[Frame], Choice],
    rules: Rules,
    *,
    usable_at: Callable[[int], Bools] | None = None,
    denominator: Floats | None = None,
    least: float = 0.0,
    kept: Kept | None = None,
) -> Replayed:
    """Judge every sample after the first window as it came.

    choose : fills in every `auto`, asked once, on the first window. usable_at : (index) -> (n,) which samples may train
    as far as was known at that index (labels count once they have ended); None takes the frame's.
    denominator : (n,) of ratios; samples under `least` of it are not judged. kept : where an earlier replay of the same
    samples, or of the first of them, stood: it goes on from there, and the result is the same to the last bit. What was
    kept of other samples, labels or rules must not be handed in.
    """
    n = len(frame)
    given = _Given(frame, cadence, choose, rules, denominator, least)
    progress = Progress(n)
    now: _Fit | None = None
    begun, fitted_at = cadence.first, -1
    if kept is not None and kept.at < n:
        now, begun, fitted_at = _Fit.of(kept), kept.at, kept.at
        progress.take_up(kept)
    leaps: Leaps | None = None
    for at in range(begun, n, cadence.refit):
        usable = frame.usable if usable_at is None else usable_at(at)
        if at != fitted_at:
            fresh = _fitted(given, progress, now, at, usable)
            if fresh is None:
                continue
            now, fitted_at = fresh, at
        assert now is not None
        leaps = _judge_segment(given, progress, now, at, usable)
    return _replayed(given, progress, now, fitted_at, leaps)


def _fitted(given: _Given, progress: Progress, before: _Fit | None, at: int, usable: Bools) -> _Fit | None:
    """The fit that judges the samples from `at` on; None where no sample before it may train."""
    begin = given.begin(at)
    part, d = given.part(begin, at, usable), given.of(begin, at)
    if not part.usable.any():
        return None
    if before is None:
        choice, model, training = _first_fit(given, progress, part, at, usable)
    else:
        choice = before.choice
        seen, suspect = progress.expected[begin:at], progress.suspect[begin:at]
        model, training = fitting.fit(part, choice, d, seen=seen, suspect=suspect, after=before.model.fitted)
        progress.suspect[begin:at] = _suspects_now(model, part, training, d)
    refits = 1 if before is None else before.refits + 1
    if before is not None and before.watch is not None and not given.is_reread(refits):
        return replace(before, model=model, refits=refits)
    clean = training.clean & ~progress.suspect[begin:at]
    watch, evidence = _windows_of(given, progress, model, part, begin, at, clean)
    added = watch.added(is_causal=True) if watch is not None else 0.0
    held = Held(evidence, clean, part.times, given.frame.step_ns, model.grain, added)
    levels = () if before is None else before.levels
    if not levels:
        progress.rehearsed, progress.taught = evidence, clean
    return _Fit(choice, model, watch, (*levels, _level_of(given.rules, held)), added, refits)


def _first_fit(
    given: _Given, progress: Progress, part: Frame, at: int, usable: Bools
) -> tuple[Choice, Model, Training]:
    """The choice that the first window makes, and its fit to what a rehearsal within that window expected."""
    begin = given.begin(at)
    d = given.of(begin, at)
    choice = given.choose(part)
    model, training = fitting.fit(part, choice, d)
    suspect = expectation.suspects(model, part, training, d)
    if suspect.any():
        model, training = fitting.fit(part, choice, d, suspect=suspect, like=training)
    progress.expected[begin:at] = training.held
    progress.suspect[begin:at] = suspect
    choice = carrying.settled(choice, model)
    _rehearse(given, progress, choice, usable, begin, at)
    seen = progress.expected[begin:at]
    model, training = fitting.fit(part, choice, d, seen=seen, suspect=suspect, like=training)
    return choice, model, training


def _windows_of(
    given: _Given, progress: Progress, model: Model, part: Frame, begin: int, at: int, clean: Bools
) -> tuple[watches.Watch | None, watches.Evidence]:
    """Windows calibrated on a window of the past, and the evidence of its samples."""
    pool = _pool_scores(given, progress, model, begin, at)
    beside = windows.beside_of(model, part, progress.expected[begin:at])
    watch = None
    if given.rules.has_windows:
        watch = windows.calibrate(
            pool,
            clean,
            beside,
            given.frame.step_ns,
            is_causal=True,
            grain=model.grain,
            has_leaps=model.choice.kind not in SEASONLESS,
        )
    return watch, combining.combine(watch, pool, beside, is_causal=True)


def _level_of(rules: Rules, held: Held) -> Level:
    """The level as the rules read it, and at least the cautious one where it rests on too little."""
    level = flagging.resolve_level(rules.kind, rules.amount, held, rules.side, rules.group)
    if rules.kind == "sigmas" or (level.odds is not None and level.per_week is not None):
        return level
    raised = {side: max(getattr(level, side), rules.cautious) for side in ("above", "below", "odd")}
    return replace(level, **raised)


def _replayed(given: _Given, progress: Progress, now: _Fit | None, at: int, leaps: Leaps | None) -> Replayed:
    """The result of a replay. at : where the last fit was made; leaps : the newest, by it."""
    frame, first, n = given.frame, given.cadence.first, len(given.frame)
    notes: tuple[str, ...] = (
        f"the first training window holds {first} samples, the data {n}: nothing is judged; "
        "give more history, or a shorter replay.window",
    )
    kept = tail = None
    if now is not None:
        notes = now.choice.reasons
        kept = Kept(
            at=at,
            until_ns=int(frame.times[at]) + round(frame.step_ns),
            choice=now.choice,
            model=now.model,
            watch=now.watch,
            level=now.level,
            levels=now.levels,
            refits=now.refits,
            added=now.added,
            judged=progress.judged(at),
            rehearsed=progress.rehearsed,
            taught=progress.taught,
        )
        if given.denominator is None and not frame.names:
            tail = _tail_of(frame, kept, progress, leaps, given.cadence)
    # What was expected of the first window was never a judgement.
    expected = progress.expected.copy()
    expected[:first] = np.nan
    evidence = watches.Evidence(progress.score, progress.side, progress.window, progress.first)
    with_windows, clean = _evidence_in_all(progress, evidence)
    return Replayed(
        expected=expected,
        spread=progress.spread,
        evidence=evidence,
        above=progress.above,
        below=progress.below,
        odd=progress.odd,
        trend=progress.trend,
        seasons=progress.seasons if progress.seasons is not None else np.zeros((0, n)),
        held=progress.z,
        with_windows=with_windows,
        clean=clean,
        lacking=progress.lacking,
        levels=() if now is None else now.levels,
        added=0.0 if now is None else now.added,
        counted=progress.counted,
        refits=0 if now is None else now.refits,
        notes=notes,
        model=None if now is None else now.model,
        kept=kept,
        tail=tail,
    )


def _tail_of(
    frame: Frame, kept: Kept, progress: Progress, leaps: Leaps | None, cadence: Cadence
) -> Tail | None:
    """The end of a replay; None for a kind that reads the samples just before each one. leaps : by the present fit."""
    model, watch, n = kept.model, kept.watch, len(frame)
    if _looks_back(model) or model.choice.kind == "isolation":
        return None
    a = max(n - reach_of(watch), 0)
    end = frame.part(a, n)
    return Tail(
        left=kept.at + cadence.refit - n,
        step_ns=frame.step_ns,
        z=progress.z[a:].copy(),
        expected=progress.expected[a:].copy(),
        values=frame.values[a:].copy(),
        slots=model.slot_of(applying.spread_groups(end, model)),
        state=innovations.State() if leaps is None else leaps.state,
        is_counted=frame.counted is not None,
        model=model,
        watch=watch,
        level=kept.level,
    )


def _whole(model: Model) -> int:
    """How many samples before one a kind needs that judges whole windows."""
    return max(512, 2 * int(model.fitted.facts.get("lags", 1)))


def _lead(model: Model, watch: watches.Watch | None, begin: int, at: int) -> int:
    """From where on a fit expects samples, so that those from `at` on are judged: kinds that read the samples before each one
    need the window too; leaps need some samples judged by the same fit."""
    if _looks_back(model):
        return begin
    return max(begin, at - LEAP_LEAD) if watch is not None and watch.follower is not None else at


def _evidence_in_all(progress: Progress, evidence: watches.Evidence) -> tuple[watches.Evidence, Bools]:
    """The evidence of every sample, of the first window's that which its level was read from; and which samples may teach."""
    clean = ~np.isnan(evidence.score)
    if progress.rehearsed is None:
        return evidence, clean
    m = len(progress.rehearsed.score)
    score, side, window, first = (
        np.r_[getattr(progress.rehearsed, name), getattr(evidence, name)[m:]]
        for name in ("score", "side", "window", "first")
    )
    return watches.Evidence(score, side, window, first), np.r_[progress.taught, clean[m:]]


def _rehearse(
    given: _Given, progress: Progress, choice: Choice, usable: Bools, begin: int, first: int
) -> None:
    """Expect the end of the first window as if live, so that spread and level know what carrying forward costs.

    From its first third on, or from where one and a half of the longest season are known, at the latest from its middle:
    what is foretold from less than that is foretold worse than any sample will be. Values held out of the middle of a
    history lie closer than those that come after its end.
    """
    whole = first - begin
    longest = max((p.samples(given.frame.step_ns) for p in choice.periods), default=0.0)
    known = max(whole // 3, min(whole // 2, round(1.5 * longest)))
    refit = given.cadence.refit
    for at in range(begin + known, first, refit):
        stop = min(at + refit, first)
        part, d = given.part(begin, at, usable), given.of(begin, at)
        try:
            model, _ = fitting.fit(
                part, choice, d, seen=progress.expected[begin:at], suspect=progress.suspect[begin:at]
            )
        except ValueError:
            # Part of a window may be too short for this baseline: its held-out values stand.
            continue
        lead = begin if _looks_back(model) else at
        _, expected = applying.judge(model, given.frame.part(lead, stop))
        progress.expected[at:stop] = expected[at - lead :]


def _looks_back(model: Model) -> bool:
    """Whether the kind reads the samples just before each one, and so needs the window too."""
    facts = model.fitted.facts
    return model.choice.kind in TRAILS or bool(facts.get("previous")) or facts.get("method") == "forecast"


def _suspects_now(model: Model, part: Frame, training: Training, denominator: Floats | None) -> Bools:
    """Samples of the window that look like trouble by the present fit, with the levels it has accepted."""
    now = replace(training, held=applying.fitted_now(model, part, training))
    return expectation.suspects(model, part, now, denominator)


def _pool_scores(given: _Given, progress: Progress, model: Model, begin: int, at: int) -> Floats:
    """Scores of the window: by what was expected of each sample when it came, and of the first window's by held-out fits.

    In sigmas of the present spread, or of the one then if that was smaller: a spread learnt from worse forecasts would make
    what came look calmer than what comes, and set a level too low for it.
    """
    part = given.frame.part(begin, at)
    expected = progress.expected[begin:at]
    groups = applying.spread_groups(part, model)
    spread = model.spread.at(expected, groups, given.of(begin, at))
    return applying.score_of(model, part, expected, np.fmin(spread, progress.spread[begin:at]))


def _judge_segment(given: _Given, progress: Progress, now: _Fit, at: int, usable: Bools) -> Leaps | None:
    """Judge the samples from `at` on until the next fit is due. Returns the leaps by this fit, None where none are looked for."""
    frame, model, watch, level = given.frame, now.model, now.watch, now.level
    stop = min(at + given.cadence.refit, len(frame))
    lead = _lead(model, watch, given.begin(at), at)
    known = usable.copy()
    known[at:] = True
    seen = given.part(lead, stop, known)
    parts, expected = applying.judge(model, seen)
    groups = applying.spread_groups(seen, model)
    spread = applying.spread_at(model, parts, expected, groups, given.of(lead, stop), seen)
    counted = applying.counted_of(model, seen)
    scores = quantile.score(seen.values, expected, spread, counted)
    here = slice(at - lead, stop - lead)
    z = scores[here]
    if given.denominator is not None and given.least > 0:
        z = np.where(given.denominator[at:stop] >= given.least, z, np.nan)
    progress.expect(at, stop, expected[here], spread[here], parts.trend[here], parts.seasons[:, here])
    progress.z[at:stop] = z
    if counted is not None:
        progress.counted.event[at:stop] = counted.event[here]
        progress.counted.trials[at:stop] = counted.trials[here]
    progress.lacking[at:stop] = level.odds is None or level.per_week is None
    progress.above[at:stop], progress.below[at:stop], progress.odd[at:stop] = (
        level.above,
        level.below,
        level.odd,
    )
    back = max(0, at - reach_of(watch))
    own = slice(at - back, stop - back)
    leaps = None
    if watch is not None and watch.follower is not None:
        near, place = np.full(stop - back, np.nan), max(back, lead)
        near[place - back :] = scores[place - lead :]
        leaps = innovations.leaps(near, watch.follower)
    view, before = frame.part(back, stop), frame.part(max(0, back - _whole(model)), stop)
    beside = windows.beside_of(model, view, progress.expected[back:stop], before)
    evidence = combining.combine(watch, progress.z[back:stop], beside, is_causal=True, leaps=leaps)
    progress.score[at:stop], progress.side[at:stop] = evidence.score[own], evidence.side[own]
    progress.window[at:stop], progress.first[at:stop] = evidence.window[own], evidence.first[own] + back
    return leaps
