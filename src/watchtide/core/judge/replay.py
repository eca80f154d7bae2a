"""As if live: what a plan would have said of each sample when it came, with nothing known of its future.

Expectation, spread, windows and level at t rest on samples strictly before t; only the score uses sample t. The
baseline is fitted anew every `refit` samples on the `window` before, and carried forward in between. All
that is read off the past is read at fixed places of the grid, so that cutting the data anywhere
changes nothing before the cut, to the last bit.
"""

from collections.abc import Callable
from dataclasses import replace

import numpy as np

from watchtide.core.expect import applying, carrying, expectation, fitting, quantile
from watchtide.core.expect.baselines import SEASONLESS, TRAILS
from watchtide.core.expect.frame import Frame
from watchtide.core.expect.records import Choice, Model, Training
from watchtide.core.judge import flagging, hearing, watches, windows
from watchtide.core.judge.course import JUDGED, Course
from watchtide.core.judge.flagging import Level
from watchtide.core.judge.promises import Held
from watchtide.core.judge.standing import Cadence, Kept, Replayed, Rules, Tail, reach_of
from watchtide.core.series import Bools, Floats

WEEK_NS = 7 * 86_400 * 10**9
# Samples before a refit that the new fit judges too, so that the first leap after it does not compare two fits.
LEAP_LEAD = 96


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
    state = Course(n)
    notes: tuple[str, ...] = ()
    choice: Choice | None = None
    watch: watches.Watch | None = None
    level: Level | None = None
    levels: list[Level] = []
    model: Model | None = None
    refits, added = 0, 0.0
    near: Floats = np.empty(0)
    begun = cadence.first
    if kept is not None and kept.at < n:
        choice, model, watch, level = kept.choice, kept.model, kept.watch, kept.level
        levels, refits, added, begun = list(kept.levels), kept.refits, kept.added, kept.at
        state.take_up(kept)
    reached = begun if levels else -1
    # Windows and level are read anew about once a week: they rest on long histories.
    every = cadence.reread or max(1, round(WEEK_NS / (cadence.refit * frame.step_ns)))
    for at in range(begun, n, cadence.refit):
        stop = min(at + cadence.refit, n)
        begin = max(0, at - cadence.window)
        usable = frame.usable if usable_at is None else usable_at(at)
        if reached == at and model is not None and level is not None:
            # Fitted when it was first reached.
            near = _judge_segment(
                state, model, watch, level, frame, begin, at, stop, usable, denominator, least
            )
            continue
        part = replace(frame, usable=usable & ~np.isnan(frame.values)).part(begin, at)
        if not part.usable.any():
            continue
        d = None if denominator is None else denominator[begin:at]
        if choice is None:
            choice = choose(part)
            model, training = fitting.fit(part, choice, d)
            suspect = expectation.suspects(model, part, training, d)
            if suspect.any():
                model, training = fitting.fit(part, choice, d, suspect=suspect, like=training)
            state.expected[begin:at] = training.held
            state.suspect[begin:at] = suspect
            choice = carrying.settled(choice, model)
            _rehearse(state, choice, frame, usable, begin, at, cadence.refit, denominator)
            model, training = fitting.fit(
                part, choice, d, seen=state.expected[begin:at], suspect=suspect, like=training
            )
        else:
            model, training = fitting.fit(
                part, choice, d, seen=state.expected[begin:at], suspect=state.suspect[begin:at]
            )
            state.suspect[begin:at] = _suspects_now(model, part, training, d)
        refits += 1
        clean = training.clean & ~state.suspect[begin:at]
        if watch is None or refits % every == 1 or every == 1 or level is None:
            pool = _pool_scores(state, model, frame, begin, at, denominator)
            groups = model.slot_of(applying.spread_groups(part, model))
            trees = expectation.isolated_of(model, part)
            watch = (
                windows.calibrate(
                    pool,
                    clean,
                    part.values,
                    part.times,
                    frame.step_ns,
                    groups,
                    model.groups,
                    trees,
                    model.grain,
                    state.expected[begin:at],
                    part.event,
                    is_causal=True,
                    has_leaps=choice.kind not in SEASONLESS,
                )
                if rules.has_windows
                else None
            )
            lags = model.fitted.facts.get("lags", 1)
            heard = (
                hearing.listen(
                    watch,
                    pool,
                    part.values,
                    groups,
                    is_causal=True,
                    isolated=trees,
                    lags=lags,
                    expected=state.expected[begin:at],
                    event=part.event,
                )
                if watch is not None
                else watches.alone(pool)
            )
            added = watch.added(is_causal=True) if watch is not None else 0.0
            level = flagging.resolve_level(
                rules.kind,
                rules.amount,
                Held(heard, clean, part.times, frame.step_ns, model.grain, added),
                rules.side,
                rules.group,
            )
            if rules.kind != "sigmas" and (level.odds is None or level.per_week is None):
                level = replace(
                    level,
                    **{x: max(getattr(level, x), rules.cautious) for x in ("above", "below", "odd")},
                )
            if not levels:
                state.rehearsed, state.taught = heard, clean
            levels.append(level)
        reached = at
        near = _judge_segment(state, model, watch, level, frame, begin, at, stop, usable, denominator, least)
    if choice is None:
        notes = (
            f"the first training window holds {cadence.first} samples, the data {n}: nothing is judged; "
            "give more history, or a shorter replay.window",
        )
    else:
        notes = choice.reasons
    kept = None
    if choice is not None and model is not None and level is not None:
        kept = Kept(
            at=reached,
            until_ns=int(frame.times[reached]) + round(frame.step_ns),
            choice=choice,
            model=model,
            watch=watch,
            level=level,
            levels=tuple(levels),
            refits=refits,
            added=added,
            judged=state.judged(reached),
            rehearsed=state.rehearsed,
            taught=state.taught,
        )
    tail = None
    if kept is not None and denominator is None and not frame.names:
        tail = _tail_of(frame, kept, state, near, cadence)
    # What was expected of the first window was never a judgement.
    expected = state.expected.copy()
    expected[: cadence.first] = np.nan
    evidence = watches.Evidence(state.score, state.side, state.window, state.first)
    heard, clean = _heard_in_all(state, evidence)
    return Replayed(
        expected=expected,
        spread=state.spread,
        evidence=evidence,
        above=state.above,
        below=state.below,
        odd=state.odd,
        trend=state.trend,
        seasons=state.seasons if state.seasons is not None else np.zeros((0, n)),
        held=state.z,
        heard=heard,
        clean=clean,
        lacking=state.lacking,
        levels=tuple(levels),
        added=added,
        counted=state.counted,
        refits=refits,
        notes=notes,
        model=model,
        kept=kept,
        tail=tail,
    )


def _tail_of(frame: Frame, kept: Kept, state: "Course", near: Floats, cadence: Cadence) -> Tail | None:
    """The end of a replay; None for a kind that reads the samples just before each one. near : scores by the present fit."""
    model, watch, n = kept.model, kept.watch, len(frame)
    if _looks_back(model) or model.choice.kind == "isolation":
        return None
    a = max(n - reach_of(watch), 0)
    has_leaps = watch is not None and watch.follower is not None
    end = frame.part(a, n)
    return Tail(
        left=kept.at + cadence.refit - n,
        step_ns=frame.step_ns,
        z=state.z[a:].copy(),
        expected=state.expected[a:].copy(),
        values=frame.values[a:].copy(),
        slots=model.slot_of(applying.spread_groups(end, model)),
        near=near.copy() if has_leaps else None,
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


def _heard_in_all(state: "Course", evidence: watches.Evidence) -> tuple[watches.Evidence, Bools]:
    """What was heard of every sample, the first window's as its level was read; and which samples may speak."""
    clean = ~np.isnan(evidence.score)
    if state.rehearsed is None:
        return evidence, clean
    m = len(state.rehearsed.score)
    score, side, window, first = (
        np.r_[getattr(state.rehearsed, name), getattr(evidence, name)[m:]]
        for name in ("score", "side", "window", "first")
    )
    return watches.Evidence(score, side, window, first), np.r_[state.taught, clean[m:]]


JUDGED += ["suspect", "lacking"]


def _rehearse(
    state: Course,
    choice: Choice,
    frame: Frame,
    usable: Bools,
    begin: int,
    first: int,
    refit: int,
    denominator: Floats | None,
) -> None:
    """Expect the end of the first window as if live, so that spread and level know what carrying forward costs.

    From its first third on, or from where one and a half of the longest season are known, at the latest from its middle:
    what is foretold from less than that is foretold worse than any sample will be. Values held out of the middle of a
    history lie closer than those that come after its end.
    """
    whole = first - begin
    longest = max((p.samples(frame.step_ns) for p in choice.periods), default=0.0)
    known = max(whole // 3, min(whole // 2, round(1.5 * longest)))
    for at in range(begin + known, first, refit):
        stop = min(at + refit, first)
        part = replace(frame, usable=usable & ~np.isnan(frame.values)).part(begin, at)
        d = None if denominator is None else denominator[begin:at]
        try:
            model, _ = fitting.fit(
                part, choice, d, seen=state.expected[begin:at], suspect=state.suspect[begin:at]
            )
        except ValueError:
            # Part of a window may be too short for this baseline: its held-out values stand.
            continue
        lead = begin if _looks_back(model) else at
        _, expected = applying.judge(model, frame.part(lead, stop))
        state.expected[at:stop] = expected[at - lead :]


def _looks_back(model: Model) -> bool:
    """Whether the kind reads the samples just before each one, and so needs the window too."""
    facts = model.fitted.facts
    return model.choice.kind in TRAILS or bool(facts.get("previous")) or facts.get("method") == "forecast"


def _suspects_now(model: Model, part: Frame, training: Training, denominator: Floats | None) -> Bools:
    """Samples of the window that look like trouble by the present fit, with the levels it has accepted."""
    now = replace(training, held=applying.fitted_now(model, part, training))
    return expectation.suspects(model, part, now, denominator)


def _pool_scores(
    state: Course, model: Model, frame: Frame, begin: int, at: int, denominator: Floats | None
) -> Floats:
    """Scores of the window: by what was expected of each sample when it came, and of the first window's by held-out fits.

    In sigmas of the present spread, or of the one then if that was smaller: a spread learnt from worse forecasts would make
    what came look calmer than what comes, and set a level too low for it.
    """
    part = frame.part(begin, at)
    expected = state.expected[begin:at]
    groups = applying.spread_groups(part, model)
    spread = model.spread.at(expected, groups, None if denominator is None else denominator[begin:at])
    return applying.score_of(model, part, expected, np.fmin(spread, state.spread[begin:at]))


def _judge_segment(
    state: Course, model: Model, watch: watches.Watch | None, level: Level, frame: Frame, begin: int, at: int,
    stop: int, usable: Bools, denominator: Floats | None, least: float,
) -> Floats:  # fmt: skip
    """Judge samples at … stop - 1 by what is known at `at`. Returns the scores by this fit from which leaps are known."""
    has_leaps = watch is not None and watch.follower is not None
    lead = _lead(model, watch, begin, at)
    known = usable.copy()
    known[at:] = True
    back = max(0, at - reach_of(watch))
    seen = replace(frame, usable=known & ~np.isnan(frame.values)).part(lead, stop)
    parts, expected = applying.judge(model, seen)
    groups = applying.spread_groups(seen, model)
    d = None if denominator is None else denominator[lead:stop]
    spread = applying.spread_at(model, parts, expected, groups, d, seen)
    here = slice(at - lead, stop - lead)
    state.expected[at:stop], state.spread[at:stop] = expected[here], spread[here]
    state.trend[at:stop] = parts.trend[here]
    if state.seasons is None:
        state.seasons = np.full((len(parts.seasons), len(frame)), np.nan)
    state.seasons[:, at:stop] = parts.seasons[:, here]
    counted = applying.counted_of(model, seen)
    scores = quantile.score(seen.values, expected, spread, counted)
    z = scores[here]
    if counted is not None:
        state.counted.event[at:stop], state.counted.trials[at:stop] = (
            counted.event[here],
            counted.trials[here],
        )
    near = None
    if has_leaps:
        near, place = np.full(stop - back, np.nan), max(back, lead)
        near[place - back :] = scores[place - lead :]
    if denominator is not None and least > 0:
        z = np.where(denominator[at:stop] >= least, z, np.nan)
    state.z[at:stop] = z
    state.lacking[at:stop] = level.odds is None or level.per_week is None
    state.above[at:stop], state.below[at:stop], state.odd[at:stop] = level.above, level.below, level.odd
    view = frame.part(back, stop)
    trees = expectation.isolated_of(model, frame.part(max(0, back - _whole(model)), stop))
    if trees is not None:
        trees = trees[len(trees) - len(view) :]
    if watch is None:
        heard = watches.alone(state.z[back:stop])
    else:
        heard = hearing.listen(
            watch, state.z[back:stop], view.values, model.slot_of(applying.spread_groups(view, model)), is_causal=True,
            isolated=trees, lags=model.fitted.facts.get("lags", 1), expected=state.expected[back:stop], event=view.event, near=near,
        )  # fmt: skip
    own = slice(at - back, stop - back)
    state.score[at:stop], state.side[at:stop] = heard.score[own], heard.side[own]
    state.window[at:stop], state.first[at:stop] = heard.window[own], heard.first[own] + back
    return scores[max(back, lead) - lead :]
