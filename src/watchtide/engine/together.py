"""What streams of a scan do for one another: a family lends its tail, and the fleet holds its share of false ones."""

from collections.abc import Sequence
from dataclasses import replace
from functools import cache

import numpy as np

from watchtide.core import flagging, fleet, keys
from watchtide.core.scoring.rows import Finding
from watchtide.core.series import Bools
from watchtide.engine import stages
from watchtide.engine.stages import Scanned
from watchtide.plan import Plan, durations

# In replay the fleet's tails are read anew after so many blocks.
REFIT_BLOCKS = 7


def family_of(key: str) -> str:
    """The family a stream belongs to: its metric; streams without one are one family."""
    return dict(keys.decode(key)).get("metric", "")


def finish(scanned: Sequence[Scanned], plan: Plan) -> list[Scanned]:
    """Streams with too little history of their own take their family's tail; then the fleet's rule, if the plan has one."""
    out = _with_families(list(scanned), plan)
    return _hold_fleet(out, plan) if plan.flag.fleet is not None else out


def _with_families(scanned: list[Scanned], plan: Plan) -> list[Scanned]:
    ((reading, _),) = plan.flag.level.items()
    if reading in ("sigmas", "share"):
        return scanned
    members: dict[str, list[Scanned]] = {}
    for s in scanned:
        members.setdefault(family_of(s.base.key), []).append(s)

    @cache
    def tails(family: str, side: str) -> flagging.SideTails:
        return _pooled(
            [s.base.held for s in members[family]], side, plan, members[family][0].base.series.step_ns
        )

    out = []
    for s in scanned:
        family = family_of(s.base.key)
        lacks = s.level.odds is None or s.level.per_week is None
        if lacks and s.base.mode == "fit" and len(members[family]) > 1 and s.base.held.count:
            out.append(stages.flag(s.base, plan, family=lambda side, f=family: tails(f, side)))  # type: ignore[misc]
        else:
            out.append(s)
    return out


def _pooled(held: Sequence[flagging.Held], side: str, plan: Plan, step_ns: int) -> flagging.SideTails:
    """Tails of one side over all clean held-out scores of a family."""
    watched = len(flagging.watched_sides(plan.flag.side))
    group = stages.group_of(plan, step_ns)
    some = [h for h in held if h.count]
    samples = _joined([flagging.side_scores(flagging.alone(h), side, watched) for h in some])
    peaks = [p for h in some if (p := flagging.side_findings(h, side, watched, group, least=1)) is not None]
    findings = _joined(peaks)
    return flagging.SideTails(
        flagging.tail_of(samples) if samples and len(samples.values) >= flagging.LEAST_SCORES else None,
        flagging.tail_of(findings, share=0.6)
        if findings and len(findings.values) >= flagging.LEAST_FINDINGS
        else None,
        float(np.mean([flagging.lasting(h, side, group) for h in some])) if some else 0.0,
    )


def _joined(parts: Sequence[flagging.Scores]) -> flagging.Scores | None:
    if not parts:
        return None
    # The same day is one block for all of them: what strikes a family strikes it together.
    return flagging.Scores(
        np.concatenate([p.values for p in parts]), np.concatenate([p.blocks for p in parts]),
        sum(p.exposure for p in parts), np.concatenate([p.weights for p in parts]),
        max(p.grain for p in parts),
    )  # fmt: skip


def _hold_fleet(scanned: list[Scanned], plan: Plan) -> list[Scanned]:
    """Drop the findings that overlap no rejected stream-block, and say how many."""
    assert plan.flag.fleet is not None
    rule = plan.flag.fleet
    block_ns = durations.parse_ns(rule.block)
    blocks = [fleet.block_maxima(s.base.series.times, s.base.score, _clean(s), block_ns) for s in scanned]
    rejected: list[set[int]] = [set() for _ in scanned]
    p = [_p_values(blocks, scanned, i) for i in range(len(scanned))]
    for number in sorted({int(b) for one in blocks for b in one.number}):
        units = [(i, int(np.searchsorted(b.number, number))) for i, b in enumerate(blocks)]
        units = [(i, k) for i, k in units if k < len(blocks[i].number) and blocks[i].number[k] == number]
        hit = fleet.reject(np.array([p[i][k] for i, k in units]), rule.rate, is_strict=rule.strict)
        for (i, _), is_hit in zip(units, hit, strict=True):
            if is_hit:
                rejected[i].add(number)
    out = []
    for s, mine in zip(scanned, rejected, strict=True):
        kept, dropped = [], 0
        for f in s.findings:
            spans = range(f.start // block_ns, f.end // block_ns + 1)
            if f.kind != "outlier" or any(b in mine for b in spans):
                kept.append(_known_late(f, block_ns))
            else:
                dropped += 1
        told = {
            "rate": rule.rate,
            "block": str(rule.block),
            "strict": rule.strict,
            "dropped": dropped,
            "promise": fleet.PROMISE,
        }
        out.append(
            replace(
                s, findings=tuple(kept), in_finding=_marks(s, kept), resolved={**s.resolved, "fleet": told}
            )
        )
    return out


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


def _clean(s: Scanned) -> Bools:
    """Samples that may speak for the noise: not in training's left-out spans, and not among the very strongest."""
    return s.base.clean | (s.base.mode == "replay")


def _p_values(blocks: Sequence[fleet.Blocks], scanned: Sequence[Scanned], i: int) -> np.ndarray:
    """(k,) p-values of one stream's blocks; in replay each by the blocks before it only."""
    family = family_of(scanned[i].base.key)
    mates = [b for b, s in zip(blocks, scanned, strict=True) if family_of(s.base.key) == family]
    if scanned[i].base.mode != "replay":
        return fleet.p_values(blocks[i], fleet.tail_of([blocks[i]]) or fleet.tail_of(mates))
    own = blocks[i]
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
