"""What streams of a scan do for one another: a family lends its tail, and the fleet holds its share of false ones."""

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, replace
from functools import cache
from typing import Any, TypeVar

import numpy as np

from watchtide.core.judge import flagging, fleet, promises, watches
from watchtide.core.scoring.rows import Finding
from watchtide.core.series import Bools, Floats, Ints, keys
from watchtide.core.series.steps import WEEK_NS
from watchtide.engine.live import replaying
from watchtide.engine.prepare import training
from watchtide.engine.scan import stages
from watchtide.engine.scan.stages import Baselined, Scanned
from watchtide.plan import Plan, durations
from watchtide.plan.model import Fleet

T = TypeVar("T")

# In replay the fleet's tails are read anew after so many blocks.
REFIT_BLOCKS = 7
# Streams whose scores are pooled into the tail of a family.
MOST_LENDERS = 256


def family_of(key: str) -> str:
    """The family a stream belongs to: its metric; streams without one are one family."""
    return dict(keys.decode(key)).get("metric", "")


def finish(scanned: Sequence[Scanned], plan: Plan) -> list[Scanned]:
    """Streams with too little history of their own take their family's tail; then the fleet's rule, if the plan has one."""
    out = _with_families(list(scanned), plan)
    if plan.flag.fleet is None:
        return out
    units = [unit_of(s, durations.parse_ns(plan.flag.fleet.block)) for s in out]
    keeping = rejected([u.blocks.number for u in units], p_values(units), plan.flag.fleet)
    return [held(s, mine, plan.flag.fleet) for s, mine in zip(out, keeping, strict=True)]


def is_apart(plan: Plan) -> bool:
    """Whether streams do nothing for one another under this plan: `finish` would change nothing."""
    ((reading, _),) = plan.flag.level.items()
    return reading in training.OWN_READINGS and plan.flag.fleet is None


def lacks(s: Scanned, plan: Plan) -> bool:
    """Whether a stream has too little of its own to read its level from."""
    ((reading, _),) = plan.flag.level.items()
    if reading in training.OWN_READINGS or s.base.held.count == 0 or len(s.base.units):
        return False
    if s.base.mode == "replay":
        return replaying.is_lent(s.base) and bool(s.base.in_force.lacking.any())
    return s.base.mode == "fit" and (s.level.odds is None or s.level.per_week is None)


# What a family lends, by side, as far as it was known at a moment; None for all of it.
Lender = Callable[[int | None], stages.Family]


def lending(family: Sequence[Baselined], plan: Plan) -> Lender:
    """The tails of a family, each worked out once however many of its streams ask."""
    held, step = [b.held for b in family], family[0].series.step_ns

    @cache
    def at(now: int | None) -> stages.Family:
        past = held if now is None else [_until(h, now) for h in held]
        return cache(lambda side: _pooled(past, side, plan, step))

    return at


# A level lent to a replay: from when on (ns), above, below, and for what has no side; None where a side is not watched.
Lent = tuple[int, float | None, float | None, float | None]


def lent_in_replay(base: Baselined, lender: Lender, plan: Plan) -> list[Lent]:
    """Levels by what the family had seen, wherever a replay's own rest on too little; read anew about once a week.

    Every level rests on bins that had ended when it is taken, of all members.
    """
    if "cadences" in base.resolved["replay"]:
        # On several grids no week is as many samples as another.
        return []
    ((kind, amount),) = plan.flag.level.items()
    step, told = base.series.step_ns, base.resolved["replay"]
    first, refit = (durations.parse_ns(told[k], step_ns=step) // step for k in ("first", "refit"))
    every = refit * max(1, round(WEEK_NS / (refit * step)))
    group = training.group_of(plan, step)
    out: list[Lent] = []
    for at in range(first, len(base.series), every):
        if not base.in_force.lacking[at : at + every].any():
            continue
        now = int(base.series.axis[at])
        own = _until(base.held, now)
        level = flagging.resolve_level(kind, amount, own, plan.flag.side, group, family=lender(now))
        above, below, odd = (x if np.isfinite(x) else None for x in (level.above, level.below, level.odd))
        out.append((now, above, below, odd))
    return out


def _until(held: promises.Held, now: int) -> promises.Held:
    """What was known of a stream at a moment: its bins that had ended."""
    stop = int(np.searchsorted(held.times, now - held.step_ns, side="right"))
    e = held.evidence
    seen = watches.Evidence(e.score[:stop], e.side[:stop], e.window[:stop], e.first[:stop])
    return promises.Held(seen, held.clean[:stop], held.times[:stop], held.step_ns, held.grain, held.added)


def with_lent(base: Baselined, levels: Sequence[Lent]) -> Baselined:
    """A replay with levels lent by its family in place of its own, where it lacked them; kept in its resolved plan."""
    if not levels:
        return base
    own = {name: getattr(base.in_force, name).copy() for name in ("above", "below", "odd")}
    begins = np.searchsorted(base.series.axis, [x[0] for x in levels])
    until = np.append(begins[1:], len(base.series))
    for (_, *values), a, b in zip(levels, begins, until, strict=True):
        mine = np.arange(a, b)[base.in_force.lacking[a:b]]
        for name, value in zip(own, values, strict=True):
            own[name][mine] = np.inf if value is None else value
    told = {**base.resolved["replay"], "lent": [list(x) for x in levels]}
    note = "levels by the family's tail as far as it was known, where there was too little of its own"
    return replace(
        base, in_force=replace(base.in_force, **own), resolved={**base.resolved, "replay": told},
        notes=(*base.notes, note),
    )  # fmt: skip


def lenders(family: Sequence[T], key: Callable[[T], str]) -> list[T]:
    """Members of a family that lend, at most 256: those of evenly spaced keys. A tail of theirs is as sure, and all of a large family
    do not fit into memory at once."""
    every = -(-len(family) // MOST_LENDERS)
    return sorted(family, key=key)[::every]


def _with_families(scanned: list[Scanned], plan: Plan) -> list[Scanned]:
    members: dict[str, list[Baselined]] = {}
    for s in scanned:
        members.setdefault(family_of(s.base.key), []).append(s.base)
    lender = cache(lambda name: lending(lenders(members[name], lambda b: b.key), plan))
    out = []
    for s in scanned:
        name = family_of(s.base.key)
        is_lent = lacks(s, plan) and len(members[name]) > 1
        out.append(helped(s.base, lender(name), plan) if is_lent else s)
    return out


def helped(base: Baselined, lender: Lender, plan: Plan) -> Scanned:
    """A stream flagged anew by its family's tail; in replay by what was known of it at the time."""
    if base.mode == "replay":
        return stages.flag(with_lent(base, lent_in_replay(base, lender, plan)), plan)
    return stages.flag(base, plan, family=lender(None))


def _pooled(held: Sequence[promises.Held], side: str, plan: Plan, step_ns: int) -> promises.SideTails:
    """Tails of one side over all clean held-out scores of a family."""
    watched = len(promises.watched_sides(plan.flag.side))
    group = training.group_of(plan, step_ns)
    some = [h for h in held if h.count]
    samples = _joined([promises.side_scores(promises.alone(h), side, watched) for h in some])
    peaks = [p for h in some if (p := promises.side_findings(h, side, watched, group, least=1)) is not None]
    findings = _joined(peaks)
    return promises.side_tails(
        samples if samples and len(samples.values) >= promises.LEAST_SCORES else None,
        findings if findings and len(findings.values) >= promises.LEAST_FINDINGS else None,
        float(np.mean([h.added for h in some])) if some else 0.0,
        step_ns,
    )


def _joined(parts: Sequence[promises.Scores]) -> promises.Scores | None:
    if not parts:
        return None
    # The same day is one block for all of them: what strikes a family strikes it together.
    return promises.Scores(
        np.concatenate([p.values for p in parts]),
        np.concatenate([p.blocks for p in parts]),
        sum(p.exposure for p in parts),
        np.concatenate([p.weights for p in parts]),
        max(p.grain for p in parts),
        _mean(p.samples_a_finding for p in parts),
        _mean(p.a_cluster for p in parts),
    )


def _mean(values: Iterable[float | None]) -> float | None:
    known = [v for v in values if v is not None]
    return float(np.mean(known)) if known else None


@dataclass(frozen=True)
class Unit:
    """One stream before the fleet's rule: its family, its blocks, and whether each may know those before it only."""

    family: str
    blocks: fleet.Blocks
    is_replay: bool = False


def unit_of(s: Scanned, block_ns: int) -> Unit:
    is_replay = s.base.mode == "replay"
    # Samples that may speak for the noise; in replay all may, for nobody knew better.
    clean = s.base.clean | is_replay
    blocks = fleet.block_maxima(s.base.series.times, s.base.score, clean, block_ns)
    return Unit(family_of(s.base.key), blocks, is_replay)


def p_values(units: Sequence[Unit]) -> list[Floats]:
    """(k,) p-values of the blocks of each stream; in replay each by the blocks before it only."""
    mates: dict[str, list[fleet.Blocks]] = {}
    for u in units:
        mates.setdefault(u.family, []).append(u.blocks)
    pooled = cache(lambda family: fleet.tail_of(mates[family]))
    return [
        _p_in_replay(u.blocks, mates[u.family])
        if u.is_replay
        else fleet.p_values(u.blocks, fleet.tail_of([u.blocks]) or pooled(u.family))
        for u in units
    ]


def rejected(numbers: Sequence[Ints], p: Sequence[Floats], rule: Fleet) -> list[set[int]]:
    """Numbers of the blocks of each stream that keep their findings, from the p-values (k,) of its blocks."""
    out: list[set[int]] = [set() for _ in numbers]
    if not out:
        return out
    number, chances = np.concatenate(numbers), np.concatenate(p)
    owner = np.repeat(np.arange(len(numbers)), [len(n) for n in numbers])
    order = np.argsort(number, kind="stable")
    for part in np.split(order, np.flatnonzero(np.diff(number[order])) + 1):
        for at in part[fleet.reject(chances[part], rule.rate, is_strict=rule.strict)]:
            out[owner[at]].add(int(number[at]))
    return out


def held(s: Scanned, mine: set[int], rule: Fleet) -> Scanned:
    """The findings that overlap a rejected stream-block, and how many did not."""
    block_ns = durations.parse_ns(rule.block)
    kept = [
        _known_late(f, block_ns)
        for f in s.findings
        if f.kind != "outlier" or not mine.isdisjoint(fleet.numbers(f.start, f.end, block_ns))
    ]
    told = {
        "rate": rule.rate,
        "block": str(rule.block),
        "strict": rule.strict,
        "dropped": len(s.findings) - len(kept),
        "promise": fleet.PROMISE,
    }
    return only(s, kept, told)


def only(s: Scanned, kept: Sequence[Finding], told: dict[str, Any]) -> Scanned:
    """A stream with these of its findings, and what is told of the fleet's rule that dropped the others."""
    return replace(
        s, findings=tuple(kept), in_finding=_marks(s, kept), resolved={**s.resolved, "fleet": told}
    )


def _known_late(f: Finding, block_ns: int) -> Finding:
    """A finding that the fleet lets pass is known when its block closes."""
    if f.raised is None or f.kind != "outlier":
        return f
    return replace(f, raised=max(f.raised, (f.start // block_ns + 1) * block_ns))


def _marks(s: Scanned, kept: Sequence[Finding]) -> Bools:
    times = s.base.series.times
    inside = np.zeros(len(times), np.bool_)
    for f in kept:
        if f.kind == "outlier":
            inside[np.searchsorted(times, f.start) : np.searchsorted(times, f.end, side="right")] = True
    return inside & s.in_finding


def _p_in_replay(own: fleet.Blocks, mates: Sequence[fleet.Blocks]) -> Floats:
    out = np.ones(len(own.number))
    tail = None
    for k in range(len(own.number)):
        if k % REFIT_BLOCKS == 0:
            now = own.number[k]
            tail = fleet.tail_of([_before(own, now)]) or fleet.tail_of([_before(b, now) for b in mates])
        if tail is not None:
            out[k] = min(1.0, tail.rate_at(float(own.strongest[k])))
    return out


def _before(b: fleet.Blocks, number: int) -> fleet.Blocks:
    k = int(np.searchsorted(b.number, number))
    return fleet.Blocks(b.number[:k], b.strongest[:k], b.clean[:k])
