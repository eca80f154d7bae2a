"""A lookout on a limit: announced before it is reached, once, with when and how surely."""

from dataclasses import dataclass
from typing import Any

import numpy as np

from watchtide.core.series import cadence
from watchtide.engine.scan import ahead
from watchtide.plan import Plan, durations
from watchtide.server import moments
from watchtide.server.lookouts import models, notices
from watchtide.server.lookouts.judging import Judged, Rules
from watchtide.server.lookouts.models import Watched
from watchtide.server.problems import Problem
from watchtide.server.scans import services as scans
from watchtide.server.streams import store
from watchtide.tables import clock

SIDES = ("above", "below")
# Looked for so often within the time it is foreseen for; and the chances at which it is announced, and taken back.
LOOKS = 24
SURE, UNSURE = 0.5, 0.25
MOST_STEPS = 5_000
Row = dict[str, Any]


@dataclass(frozen=True)
class Foreseen:
    """changes : of the row. words : of the notice, empty for none; facts : the same as data."""

    changes: Row
    words: str = ""
    facts: Row | None = None


def checked(limit: Row, plan: Plan) -> Row:
    """A limit as it is kept. Raises Problem for none or two, and for a plan that foresees nothing."""
    given = {k: v for k, v in limit.items() if v is not None}
    sides = [s for s in SIDES if s in given]
    if not sides:
        return {}
    if len(sides) > 1:
        raise Problem(
            "a limit lies above or below",
            place="limit",
            remedy='write for example {"above": 8, "within": "2d"}',
        )
    if plan.baseline.kind in ("rolling", "trailing", "isolation"):
        raise Problem(
            f"a {plan.baseline.kind} baseline cannot be carried forward",
            place="plan",
            remedy="take harmonic, loess or slot, or leave the limit out",
            code=422,
        )
    return given


def is_due(limit: Row, before_ns: int | None, until_ns: int) -> bool:
    """Whether a limit is to be looked for again. before_ns : the end of the bin through which it was last."""
    within = int(durations.parse_ns(limit["within"]))
    return before_ns is None or until_ns - before_ns >= within // LOOKS


def look(watched: Watched, judged: Judged, rules: Rules) -> Foreseen | None:
    """Whether a stream is on its way to the limit; None where that is not to be looked for now. Nothing is written."""
    limit, reach = watched.lookout.limit, judged.reach
    until_ns = reach.until_ns if reach is not None else watched.judged_through_ns
    if not limit or until_ns is None or not is_due(limit, watched.foreseen_through_ns, until_ns):
        return None
    within = int(durations.parse_ns(limit["within"]))
    side = next(s for s in SIDES if s in limit)
    bound, is_above = float(limit[side]), side == "above"
    changes: Row = {"foreseen_through_ns": until_ns}
    times, values = store.read(watched.stream_id, None, until_ns - 1)
    step_ns = reach.step_ns if reach is not None else cadence.step_of(times)
    given = scans.stream_input(watched.stream, rules.plan, times, values)[0]
    steps = int(np.clip(within // step_ns, 1, MOST_STEPS))
    try:
        f = ahead.forecast(given, rules.plan, steps)
    except ValueError:
        # Too little history yet: the next look may have it.
        return Foreseen(changes)
    drawn = ahead.reaching(f, bound, is_above=is_above)
    chance, half = float(drawn.by[-1]), drawn.at(SURE)
    seen = values[~np.isnan(values)][-1:]
    is_past = bool(len(seen)) and bool(seen[0] >= bound if is_above else seen[0] <= bound)
    if half is None or is_past:
        taken_back = watched.foreseen_ns is not None and chance < UNSURE and not is_past
        return Foreseen(changes | ({"foreseen_ns": None} if taken_back else {}))
    at_ns = int(f.times[half])
    changes["foreseen_ns"] = at_ns
    if watched.foreseen_ns is not None:
        return Foreseen(changes)
    reached = ahead.limit_reached(f, bound, is_above=is_above, drawn=drawn)
    return Foreseen(changes, _words(watched, reached, limit["within"]), reached)


def _words(watched: Watched, reached: Row, within: str) -> str:
    """When it is reached, in the stream's own time."""
    zone, by = watched.stream.zone, reached["reached_with"]
    half, tenth = (moments.spoken(clock.parse_one(by[c], "UTC"), zone) for c in ("0.5", "0.1"))
    chance = f"{100 * reached['chance_by_end']:.0f} %"
    return (
        f"Half of the futures have reached it by {half}, one in ten by {tenth}; {chance} do within {within}."
    )


def note(watched: Watched, foreseen: Foreseen | None) -> Row:
    """Write the notice where there is one; what changes in the row. Within the transaction that writes the rest of it."""
    if foreseen is None:
        return {}
    if foreseen.facts is not None:
        unit = f" {watched.stream.unit}" if watched.stream.unit else ""
        bound = f"{foreseen.facts['side']} {foreseen.facts['limit']:g}{unit}"
        notices.announce(
            watched, models.LIMIT, f"is foreseen to go {bound}", foreseen.words, forecast=foreseen.facts
        )
    return foreseen.changes
