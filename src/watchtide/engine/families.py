"""One network for all streams of a family, each scaled by itself: trained before any of them is judged."""

from collections.abc import Sequence
from dataclasses import replace

from watchtide.core import baselines
from watchtide.core.baselines import LEARNED, networks
from watchtide.core.baselines.networks import Examples, Learnt
from watchtide.core.expectation import choose_periods
from watchtide.core.scoring.rows import Label
from watchtide.engine import choices, stages, together
from watchtide.engine.preparing import Input
from watchtide.plan import Plan, durations

# Windows of a family in all: each stream gives as many, evenly spaced.
MOST_WINDOWS = 400_000
# What training takes where the plan says nothing.
USUAL = {"epochs": 30, "patience": 5, "seed": 1}


def with_shared(streams: Sequence[Input], plan: Plan, labels: Sequence[Label] = ()) -> list[Input]:
    """The streams with their family's network, where the plan wants one (`per: family`); else as they are.

    Raises ValueError for streams of a family that cannot share one: without stated seasons, or of unlike cadence.
    """
    kind, options = plan.baseline.kind, plan.baseline.options
    if kind not in LEARNED or options.get("per") != "family":
        return list(streams)
    if plan.baseline.seasons == "auto":
        raise ValueError(
            "per: family needs stated seasons, such as seasons: [24h]: all of its streams are read alike"
        )
    if plan.baseline.form == "multiplicative":
        raise ValueError(
            "per: family takes values as they are: leave out form, or state prepare.transform: log"
        )
    members: dict[str, list[Input]] = {}
    for s in streams:
        members.setdefault(together.family_of(s.key), []).append(s)
    learnt = {name: _learnt(family, plan, labels) for name, family in members.items()}
    return [replace(s, shared=learnt[together.family_of(s.key)]) for s in streams]


def _learnt(family: Sequence[Input], plan: Plan, labels: Sequence[Label]) -> Learnt:
    given: list[Examples] = []
    most, steps = max(MOST_WINDOWS // len(family), networks.LEAST_WINDOWS), set()
    design = None
    # The longest first: how the network is built is read off it.
    for stream in sorted(family, key=lambda s: -len(s.times)):
        made = stages.ready(stream, plan, labels)
        step, part = made.frame.step_ns, made.frame.part(0, made.stop)
        steps.add(step)
        if len(steps) > 1:
            words = ", ".join(durations.format_ns(x) for x in sorted(steps))
            raise ValueError(
                f"per: family: its streams have cadences of {words}; state one with prepare.every"
            )
        assert plan.baseline.seasons != "auto"
        lengths = [durations.parse_ns(x, step_ns=step) / step for x in plan.baseline.seasons]
        periods = choices.by_clock(choose_periods(lengths, step), plan)
        design = design or baselines.module(plan.baseline.kind).design(
            part, periods, **choices.kind_options(plan, step)
        )
        found = design.examples(part, periods)
        every = -(-len(found.rows) // most) or 1
        found = Examples(found.rows[::every], found.targets[::every], found.scale)
        # One with too little to show learns from the others alone.
        given += [found] if len(found.rows) >= networks.LEAST_WINDOWS else []
    if design is None or not given:
        raise ValueError(
            f"none of the {len(family)} streams of a family has the {networks.LEAST_WINDOWS} windows that a network needs"
        )
    own = {name: plan.baseline.options.get(name, usual) for name, usual in USUAL.items()}
    return networks.learn(design, given, **own)
