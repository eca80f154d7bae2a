"""A replay from a stream's first hours on: choices made again at stated ages, each better than the one before.

Points of one age rest on what was known when it began, and stay: the next one judges only what comes after it began. What is
judged before the plan's full choice is provisional.
"""

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import NamedTuple

import numpy as np

from watchtide.core.expect.baselines import LEARNED
from watchtide.core.expect.choosing import WITH_LEARNED
from watchtide.core.expect.frame import DAY_NS
from watchtide.core.expect.seasons import LEAST_CYCLES
from watchtide.core.judge import standing
from watchtide.core.scoring.rows import Label
from watchtide.core.series import Ints
from watchtide.core.series.cadence import KNOWN_STAMPS
from watchtide.engine.live import following, replaying
from watchtide.engine.live.glancing import Glance
from watchtide.engine.live.replaying import Start
from watchtide.engine.prepare import preparing
from watchtide.engine.prepare.preparing import Input
from watchtide.engine.scan.based import Baselined
from watchtide.plan import Plan, durations
from watchtide.tables import clock

HOUR_NS = DAY_NS // 24
# From when on there are points, and so many samples at least: by the middle of those before, then with the day.
HOURS_NS, HOURS_SAMPLES = 6 * HOUR_NS, 24
DAYS_NS, DAYS_SAMPLES = 4 * DAY_NS, 48
# Kinds that need no season and little history; others wait for the day.
SIMPLE = ("fixed", "rolling", "trailing")


@dataclass(frozen=True)
class Age:
    """A stretch of a stream's life. name : what it can expect; plan : what it is judged by; start : None for the plan's own."""

    name: str
    plan: Plan
    start: Start | None


@dataclass(frozen=True)
class Standing:
    """Where a replay stands. age : in which age; before : the result of the ages before it, None in the first; kept : of this one."""

    age: int
    before: Baselined | None
    kept: standing.Kept

    @property
    def until_ns(self) -> int:
        return self.kept.until_ns


class Lived(NamedTuple):
    """A stream's life so far, and where it stands now: None before the first fit, and where the cadence has changed on the way,
    which is judged anew. glance : by which calm samples can be judged from there."""

    base: Baselined
    standing: Standing | None
    glance: Glance | None


def ages_of(stream: Input, plan: Plan) -> tuple[Age, ...]:
    """The ages of a stream, the last one the plan's own.

    There is but that one where the plan states a first window or what to train on, and for slow or uneven cadences.
    """
    own = Age("the plan", plan, None)
    if is_begin_stated(plan) or len(stream.times) < HOURS_SAMPLES:
        return (own,)
    stamps = np.sort(stream.times)
    _, way = preparing.cadence_of(stream, plan, stamps[:HOURS_SAMPLES])
    step = way.step_ns
    if (
        not way.is_even
        or step > replaying.SLOWEST_NS
        or preparing.parse_transform(plan.prepare.transform, step)[1] > 1
    ):
        return (own,)
    rhythm = replaying.rhythm_of(plan, step)
    quarter = min(max(HOURS_NS // step, 1), rhythm.refit)
    # Stated limits need no second value.
    varied = 0 if plan.baseline.kind == "fixed" else _until_varied(stream, step)
    hours = _first(max(HOURS_NS // step, HOURS_SAMPLES), quarter, varied)
    days = _first(max(DAYS_NS // step, DAYS_SAMPLES), rhythm.refit, varied)
    by_day = _for_days(plan, step) if days < rhythm.first else None
    found = []
    if hours < (rhythm.first if by_day is None else days):
        found.append(Age("hours", _for_hours(plan), _start(stamps, step, int(hours), quarter, rhythm)))
    if by_day is not None:
        found.append(Age("days", by_day, _start(stamps, step, int(days), rhythm.refit, rhythm)))
    return (*found, own)


def _until_varied(stream: Input, step: int) -> float:
    """Bins until a second value has come, which shows how far values stray and what they count; infinite where none has."""
    order = np.argsort(stream.times, kind="stable")
    times, values = stream.times[order], stream.values[order]
    seen = np.flatnonzero(~np.isnan(values))
    others = seen[values[seen] != values[seen[0]]] if len(seen) else seen
    return int(times[others[0]] - times[0]) // step + 1 if len(others) else np.inf


def _first(least: int, refit: int, needed: float) -> float:
    """After how many bins an age begins: after the least, and a refit later each time that what is needed has not come."""
    return least + refit * float(np.ceil(max(needed - least, 0) / refit))


def is_begin_stated(plan: Plan) -> bool:
    """Whether a plan states from when on it judges."""
    return plan.replay.window != "auto" or plan.baseline.train != "all"


def _start(stamps: Ints, step: int, first: int, refit: int, own: standing.Cadence) -> Start:
    """How an age begins after so many bins; its cadence is read from no stamp that came after it."""
    known = int(np.searchsorted(stamps, int(stamps[0]) + first * step))
    reread = max(DAY_NS // (refit * step), 1)
    rhythm = standing.Cadence(first, refit, own.window, int(reread))
    return Start(rhythm, min(max(known, 2), KNOWN_STAMPS))


def _for_hours(plan: Plan) -> Plan:
    """A plan without seasons: fixed limits as they are, else the middle of what came before."""
    base, is_kept = plan.baseline, plan.baseline.kind in SIMPLE
    baseline = base.model_copy(
        update={
            "kind": base.kind if is_kept else "rolling",
            "options": base.options if is_kept else {},
            "seasons": [],
            "form": "additive",
            "calendars": [],
        }
    )
    return _cautious(plan.model_copy(update={"baseline": baseline}))


def _for_days(plan: Plan, step: int) -> Plan | None:
    """The plan with those of its seasons that some days can show; None where there is none and none is looked for."""
    baseline, stated = plan.baseline, plan.baseline.seasons
    if baseline.kind in (*LEARNED, WITH_LEARNED):
        # Some days are too few to train a network on.
        simple = "auto" if baseline.kind == WITH_LEARNED else "harmonic"
        baseline = baseline.model_copy(update={"kind": simple, "options": {}})
    if stated != "auto":
        short = [s for s in stated if LEAST_CYCLES * durations.parse_ns(s, step_ns=step) <= DAYS_NS]
        if not short:
            return None
        baseline = baseline.model_copy(update={"seasons": short})
    return _cautious(plan.model_copy(update={"baseline": baseline}))


def _cautious(plan: Plan) -> Plan:
    """Single samples only: windows and lasting changes rest on longer histories."""
    return plan.model_copy(update={"flag": plan.flag.model_copy(update={"windows": "none"})})


def replay_on(
    stream: Input,
    plan: Plan,
    labels: Sequence[Label] = (),
    standing: Standing | None = None,
    memory: replaying.Memory | None = None,
) -> Lived:
    """The baseline stage as if live, gone on with from where an earlier one stood.

    The cadence is that of the first stamps; where it becomes coarser on the way, the rest is judged on the coarser
    grid, from the moment that this could be known. Raises ValueError like `stages.fit`.
    """
    changes = following.changes(stream, plan)
    if not changes:
        return _through_ages(stream, plan, labels, standing, memory)
    parts = []
    for i, (piece, own) in enumerate(following.pieces(stream, plan, changes)):
        part = _through_ages(piece, own, labels, None) if i == 0 else replaying.replayed(piece, own, labels)
        parts.append(part.base)
    return Lived(following.joined(parts, changes), None, None)


def _through_ages(
    stream: Input,
    plan: Plan,
    labels: Sequence[Label],
    standing: Standing | None,
    memory: replaying.Memory | None = None,
) -> Lived:
    ages = ages_of(stream, plan)
    if standing is None and not _begin_of(stream, ages[0]).has_come:
        # Nothing is judged yet; the notes give what it waits for.
        return Lived(replaying.replayed(stream, plan, labels).base, None, None)
    i, before, kept = (0, None, None) if standing is None else (standing.age, standing.before, standing.kept)
    while True:
        following_one = _begin_of(stream, ages[i + 1]) if i + 1 < len(ages) else None
        is_over = following_one is not None and following_one.has_come
        given = _before(stream, following_one.at_ns) if following_one is not None and is_over else stream
        base, now, glance = replaying.replayed(given, ages[i].plan, labels, kept, ages[i].start, memory)
        if i + 1 < len(ages):
            base = _provisional(base, ages, plan)
        whole = base if before is None else _after(before, base)
        if not is_over:
            if glance is not None and following_one is not None:
                glance = replace(glance, ready_ns=following_one.at_ns)
            return Lived(whole, None if now is None else Standing(i, before, now), glance)
        # What is remembered is of the age before.
        i, before, kept, memory = i + 1, whole, None, None


def grid_of(stream: Input, plan: Plan) -> preparing.Prepared:
    """A stream on the grid of the age that it is in."""
    ages = ages_of(stream, plan)
    for age in reversed(ages):
        prepared, rhythm = replaying.replay_grid(stream, age.plan, age.start)
        if len(prepared.series) > rhythm.first:
            return prepared
    return replaying.replay_grid(stream, ages[0].plan, ages[0].start)[0]


class Begin(NamedTuple):
    """When an age begins: the stamp of the first bin that it judges. has_come : whether that is there, else it is when it will be."""

    at_ns: int
    has_come: bool


def _begin_of(stream: Input, age: Age) -> Begin:
    prepared, rhythm = replaying.replay_grid(stream, age.plan, age.start)
    series, left = prepared.series, rhythm.first - len(prepared.series)
    if left < 0:
        return Begin(int(series.times[rhythm.first]), True)
    last = int(series.times[-1]) if len(series) else 0
    return Begin(last + (left + 1) * series.step_ns, False)


def _before(stream: Input, until_ns: int) -> Input:
    """The samples before a moment."""
    keep = stream.times < until_ns
    d = stream.denominators
    return replace(
        stream,
        times=stream.times[keep],
        values=stream.values[keep],
        denominators=None if d is None else d[keep],
    )


def _after(before: Baselined, base: Baselined) -> Baselined:
    """The ages before, and this one from its begin on."""
    whole = following.laid([before, base], [0, base.train_stop])
    rhythms = base.resolved["replay"]
    if "provisional" not in rhythms:
        rhythms = {
            **rhythms,
            "provisional": {**before.resolved["replay"]["provisional"], "until": _time(base)},
        }
    whole = replace(whole, train_stop=len(whole.series) - len(base.series) + base.train_stop)
    if len(whole.series) == len(base.series):
        # On one grid: the levels of the plan rest on what its own fits say of the first window.
        whole = replace(whole, held_out=base.held_out, clean=base.clean)
    return replace(whole, resolved={**base.resolved, "replay": rhythms})


def _time(base: Baselined) -> str | None:
    at = base.series.times[base.train_stop : base.train_stop + 1]
    return clock.format_time(int(at[0])) if len(at) else None


def _provisional(base: Baselined, ages: Sequence[Age], plan: Plan) -> Baselined:
    """The result of a young age, marked as provisional; the rhythm is the plan's own."""
    step = base.series.step_ns
    rhythm = replaying.rhythm_of(plan, step)
    begin = int(base.series.times[0])
    due = [
        clock.format_time(begin + (rhythm.first if a.start is None else a.start.rhythm.first) * step)
        for a in ages
    ]
    rhythms = {
        **base.resolved["replay"],
        **replaying.in_durations(rhythm, step),
        "provisional": {"from": due[0], "until": None, "full": due[-1]},
    }
    note = (
        f"provisional: judged by {base.resolved['baseline']['kind']} until the first full choice on {due[-1]}"
    )
    return replace(
        base,
        shift_candidates=base.shift_candidates[:0],
        in_force=replace(base.in_force, lacking=np.zeros(len(base.series), np.bool_)),
        resolved={**base.resolved, "replay": rhythms},
        notes=(*base.notes, note),
    )
