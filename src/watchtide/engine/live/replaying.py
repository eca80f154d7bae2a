"""A replay of one stream on one grid: see core.judge.replay."""

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from typing import NamedTuple

import numpy as np

from watchtide.core import shifts
from watchtide.core.expect.baselines import LEARNED
from watchtide.core.expect.choosing import WITH_LEARNED
from watchtide.core.expect.frame import DAY_NS, Frame
from watchtide.core.expect.records import Choice
from watchtide.core.judge import replay, standing
from watchtide.core.scoring.rows import Label, inside_any
from watchtide.core.series import Bools, Floats, Ints, Series, transforms
from watchtide.core.series.cadence import KNOWN_STAMPS
from watchtide.engine.live import glancing
from watchtide.engine.live.glancing import Glance
from watchtide.engine.prepare import preparing
from watchtide.engine.prepare.choices import choice_of
from watchtide.engine.prepare.preparing import Input, prepare
from watchtide.engine.prepare.training import (
    OWN_READINGS,
    group_of,
    ignored_columns,
    left_out_spans,
    level_of,
    resolved_of,
    split_spans,
    training_stop,
    transform_of,
    usable_samples,
)
from watchtide.engine.scan.based import Baselined, InForce
from watchtide.plan import Plan, durations
from watchtide.tables import clock

# What `auto` takes before it chooses in replay: three weeks, and enough samples for a scale.
FIRST_NS, FIRST_SAMPLES = 21 * DAY_NS, 56
WINDOW_NS = 56 * DAY_NS
# Where a rate rests on too few samples to have a tail, its level is at least so many sigmas.
CAUTIOUS_SIGMAS = 6.0
# Slower streams take the tail of their family there: their own takes months.
SLOWEST_NS = 6 * DAY_NS // 24
# Days between two fits of `auto`; a network takes seconds to train where other kinds take hundredths.
REFIT_DAYS, LEARNED_REFIT_DAYS = 1, 7
# Days until a sample says enough of a lasting change online: false shifts come about so rarely.
ONLINE_RUN_DAYS = 60.0


@dataclass(frozen=True)
class Start:
    """How the replay of a young stream begins. rhythm : in samples; known : how many stamps its cadence is read from."""

    rhythm: standing.Cadence
    known: int


@dataclass
class Memory:
    """What a process remembers of a replay's state beside the state itself: where the tests for shifts stood by then."""

    courses: dict[int, shifts.Course] = field(default_factory=dict)


class Played(NamedTuple):
    """A replay, and where it stands now; None before the first fit. glance : by which calm samples can be judged from there;
    None where only the whole can."""

    base: Baselined
    kept: standing.Kept | None
    glance: Glance | None


def is_lent(base: Baselined) -> bool:
    """Whether a replay may take its family's levels where its own rest on too little."""
    return base.series.step_ns > SLOWEST_NS


def _least_sigmas(plan: Plan, step_ns: int, start: Start | None) -> float:
    """The least level where a rate has no tail to rest on; a young stream's, whatever the reading."""
    ((reading, _),) = plan.flag.level.items()
    is_cautious = start is not None or (step_ns <= SLOWEST_NS and reading not in OWN_READINGS)
    return CAUTIOUS_SIGMAS if is_cautious else 0.0


def replayed(
    stream: Input,
    plan: Plan,
    labels: Sequence[Label],
    kept: standing.Kept | None = None,
    start: Start | None = None,
    memory: Memory | None = None,
) -> Played:
    """A replay on one grid, gone on with from where an earlier one stood.

    Raises ValueError for seasons or options that this stream cannot carry.
    """
    prepared, rhythm = replay_grid(stream, plan, start)
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

    got = replay.replay(
        frame,
        rhythm,
        choose,
        _rules_of(plan, step, start),
        usable_at=usable_at,
        denominator=prepared.denominator,
        least=max(plan.prepare.least, 1e-12),
        kept=kept,
    )
    choice = got.model.choice if got.model is not None else Choice("harmonic")
    resolved = resolved_of(prepared, plan, choice, got.model, None, split, got.added)
    resolved["replay"] = {**in_durations(rhythm, step), "refits": got.refits}
    at = kept.at if kept is not None else 0
    raised, tests = _online_shifts(got.held, step, plan.shifts.of, memory or Memory(), at)
    base = replace(
        _baselined(stream, series, transform, got),
        shift_candidates=raised,
        train_stop=min(rhythm.first, len(series)),
        # What was found when it chose first is written down with the choice.
        found_seasons=chosen[0] if chosen else () if kept is None else kept.choice.found,
        resolved=resolved,
        notes=(*prepared.notes, *notes, *ignored_columns(choice, prepared), *got.notes),
    )
    return Played(base, got.kept, glancing.begin(stream, prepared, plan, got.tail, tests))


def _baselined(
    stream: Input, series: Series, transform: transforms.Transform, got: standing.Replayed
) -> Baselined:
    """What a replay says of each sample, in the values' own unit."""
    expected, spread = transforms.back(transform, series.values, got.expected, got.spread)
    return Baselined(
        key=stream.key,
        zone=stream.zone,
        series=series,
        expected=expected,
        spread=spread,
        counted=got.counted,
        trend=got.trend,
        seasons=got.seasons,
        level_series=series.values - (got.seasons.sum(axis=0) if len(got.seasons) else 0.0),
        clean=got.clean,
        train_stop=0,
        shift_candidates=np.empty(0, np.int64),
        stream_spread=got.model.spread.stream if got.model else 0.0,
        found_seasons=(),
        resolved={},
        notes=(),
        evidence=got.evidence,
        held_out=got.with_windows,
        in_force=InForce(got.above, got.below, got.odd, got.lacking),
        mode="replay",
    )


def _rules_of(plan: Plan, step: int, start: Start | None) -> standing.Rules:
    ((kind, amount),) = level_of(plan).items()
    return standing.Rules(
        kind=kind,
        amount=amount,
        side=plan.flag.side,
        group=group_of(plan, step),
        has_windows=plan.flag.windows == "auto" and plan.baseline.kind != "fixed",
        cautious=_least_sigmas(plan, step, start),
    )


def in_durations(rhythm: standing.Cadence, step: int) -> dict[str, str]:
    """A rhythm as the resolved plan has it."""
    return {name: durations.format_ns(getattr(rhythm, name) * step) for name in ("first", "refit", "window")}


def replay_grid(
    stream: Input, plan: Plan, start: Start | None = None
) -> tuple[preparing.Prepared, standing.Cadence]:
    """A stream on the grid that a replay judges it on, resolved from its first window alone; and the replay's rhythm."""
    sorted_times = np.sort(stream.times)
    known = KNOWN_STAMPS if start is None else start.known
    _, way = preparing.cadence_of(stream, plan, sorted_times[:known])
    step = way.step_ns
    rhythm = rhythm_of(plan, step) if start is None else start.rhythm
    begin = int(sorted_times[0]) if len(sorted_times) else 0
    until = int(np.searchsorted(sorted_times, begin + rhythm.first * step))
    if not way.is_even:
        # The length of a step is a mean one there: the count of samples is what is known.
        until = min(until, rhythm.first)
    train = plan.baseline.train
    if train != "all" and train.until is not None:
        until = int(np.searchsorted(sorted_times, clock.parse_one(train.until, stream.zone)))
    prepared = prepare(stream, plan, until=max(until, 2), known=known)
    if train != "all":
        rhythm = replace(rhythm, first=max(training_stop(prepared.series, plan, stream.zone), 1))
    return prepared, rhythm


def rhythm_of(plan: Plan, step: int) -> standing.Cadence:
    """First window, refit and window of a replay, in samples; nothing of it depends on how long the data are."""
    stated = plan.baseline.seasons
    longest = (
        max((durations.parse_ns(s, step_ns=step) for s in stated), default=0)
        if stated != "auto"
        else 7 * DAY_NS
    )
    days = LEARNED_REFIT_DAYS if plan.baseline.kind in (*LEARNED, WITH_LEARNED) else REFIT_DAYS
    refit = (
        max(days * DAY_NS // step, 7)
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
    return standing.Cadence(int(first), int(refit), int(window))


def _cycles_first(season_ns: int) -> int:
    """How much of a season comes before anything is judged: three cycles, one and a half of seasons longer than eight weeks."""
    return 3 * season_ns if season_ns <= WINDOW_NS else 3 * season_ns // 2


def _online_shifts(
    z: Floats, step: int, of: str, memory: Memory, at: int
) -> tuple[Ints, list[shifts.Running]]:
    """Indices at which the running test raises a shift, as pairs (start, raised) in turn; and the tests as they go on.

    memory : where the tests stood before sample `at`, and do after it. of : `step` tests the scores; `spread` their level and their size, `slope` their level and how it changes over a day.
    """
    run = max(ONLINE_RUN_DAYS * DAY_NS / step, 500.0)
    shortest = int(np.clip(DAY_NS // step, 24, 288))
    tested = [z]
    if of == "spread":
        tested.append(shifts.sizes(z))
    elif of == "slope":
        change = np.full(len(z), np.nan)
        change[shortest:] = (z[shortest:] - z[:-shortest]) / np.sqrt(2)
        tested.append(change)
    found, tests = set(), []
    for i, x in enumerate(tested):
        course = memory.courses.get(i)
        raised, memory.courses[i], test = shifts.online_on(
            x, run_length=run, shortest=shortest, course=course, most=at
        )
        tests.append(test)
        found |= {(f.index, f.raised) for f in raised}
    return np.asarray([x for pair in sorted(found) for x in pair], dtype=np.int64), tests
