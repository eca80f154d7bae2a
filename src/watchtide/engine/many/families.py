"""One network for all streams of a family, each scaled by itself: trained before any of them is judged."""

from collections.abc import Sequence
from dataclasses import fields, replace

from watchtide.core.expect import baselines
from watchtide.core.expect.baselines import LEARNED, learned
from watchtide.core.expect.baselines.learned import Shared
from watchtide.core.expect.baselines.networks import Schedule
from watchtide.core.scoring.rows import Coverage, Label
from watchtide.engine.many import together
from watchtide.engine.prepare import choices
from watchtide.engine.prepare.preparing import Input
from watchtide.engine.scan import stages
from watchtide.plan import Plan, durations

# Windows of a family in all: each stream gives as many, evenly spaced.
MOST_WINDOWS = 400_000


def is_wanted(plan: Plan) -> bool:
    """Whether a plan wants one network for all streams of a family."""
    return plan.baseline.kind in LEARNED and plan.baseline.options.get("per") == "family"


def with_shared(streams: Sequence[Input], plan: Plan, labels: Sequence[Label] = ()) -> list[Input]:
    """The streams with their family's network, where the plan wants one (`per: family`); else as they are.

    The order of the streams changes nothing. Raises ValueError for streams of a family that cannot share one: without stated
    seasons, or of unlike cadence.
    """
    if not is_wanted(plan):
        return list(streams)
    if plan.baseline.seasons == "auto":
        raise ValueError(
            "per: family needs stated seasons, such as seasons: [24h], the same for all of its streams"
        )
    if plan.baseline.form == "multiplicative":
        raise ValueError(
            "per: family takes values as they are: leave out form, or state prepare.transform: log"
        )
    members: dict[str, list[Input]] = {}
    for s in sorted(streams, key=lambda s: s.key):
        members.setdefault(together.family_of(s.key), []).append(s)
    shared = {name: _trained(family, plan, labels) for name, family in members.items()}
    return [replace(s, shared=shared[together.family_of(s.key)]) for s in streams]


def _trained(family: Sequence[Input], plan: Plan, labels: Sequence[Label]) -> Shared:
    most = max(MOST_WINDOWS // len(family), learned.LEAST_WINDOWS)
    known = Coverage(labels)
    ready = [stages.ready(stream, plan, known.of(stream.key)) for stream in family]
    steps = sorted({r.frame.step_ns for r in ready})
    if len(steps) > 1:
        words = ", ".join(durations.format_ns(step) for step in steps)
        raise ValueError(f"per: family: its streams have cadences of {words}; state one with prepare.every")
    parts = [r.frame.part(0, r.stop) for r in ready]
    periods = choices.stated_periods(plan, steps[0])
    options = choices.kind_options(plan, steps[0])
    # The longest history sets the window and the width.
    longest = max(parts, key=len)
    design = baselines.module(plan.baseline.kind).design(longest, periods, **options)
    found = [design.examples(part, periods) for part in parts]
    # A stream with too few windows learns from the others alone.
    enough = [e.part(slice(None, None, -(-len(e) // most))) for e in found if len(e) >= learned.LEAST_WINDOWS]
    if not enough:
        raise ValueError(
            f"none of the {len(family)} streams of a family has the {learned.LEAST_WINDOWS} windows that a network needs"
        )
    schedule = {f.name: options[f.name] for f in fields(Schedule) if f.name in options}
    return learned.learn(design, enough, Schedule(**schedule))
