"""A stream that is watched: judged on as its bins complete, and what begins and ends by that.

What was raised stays, whatever comes late; on samples that none of was late it is what `scan --mode replay` says.
"""

from collections.abc import Sequence
from dataclasses import asdict, dataclass, fields, replace
from typing import Any

import numpy as np

from watchtide.core.scoring.rows import Finding, Label
from watchtide.engine.live import upkeep
from watchtide.engine.live.glancing import Glance
from watchtide.engine.live.upkeep import Complete
from watchtide.engine.prepare.preparing import Input
from watchtide.engine.scan.based import Scanned
from watchtide.plan import Plan, durations

# Begin, kind and direction.
Identity = tuple[int, str, str]


@dataclass(frozen=True)
class Followed:
    """How far a stream is judged. through_ns : end of the newest bin that was; upkeep : the replay's state; judged : samples
    that were; late : samples that came after their bin was; findings : all that were raised, as they stand."""

    through_ns: int | None = None
    upkeep: bytes | None = None
    judged: int = 0
    late: int = 0
    findings: tuple[Finding, ...] = ()


@dataclass(frozen=True)
class Step:
    """A stream judged on: how far it is now, by which replay, and the findings that began and that are over. glance : by which
    the samples that come next can be judged while they are calm; None where one would not do."""

    now: Followed
    scanned: Scanned
    began: tuple[Finding, ...]
    ended: tuple[Finding, ...]
    glance: Glance | None = None


def step(before: Followed, stream: Input, plan: Plan, labels: Sequence[Label], reach: Complete) -> Step:
    """Judge a stream through a bin. stream : all its samples before the end of that bin."""
    scanned, state, glance = upkeep.tick(stream, plan, labels, before.upkeep, is_told=False)
    judged = ~np.isnan(scanned.z)
    findings = _merged(before, scanned, plan)
    now = Followed(
        reach.until_ns, state, int(judged.sum()), before.late + _late(before, scanned), tuple(findings)
    )
    known = {identity(f) for f in before.findings}
    began = tuple(f for f in findings if identity(f) not in known)
    # What goes on grows; what did before and does not now is over. One that began and ended at once is both.
    was_open = {identity(f) for f in before.findings if _was_open(f, before, plan, reach.step_ns)}
    ended = tuple(
        f
        for f in findings
        if not is_open(f, plan, reach) and (identity(f) in was_open or identity(f) not in known)
    )
    is_calm = not any(is_open(f, plan, reach) for f in findings)
    if glance is not None and not (is_calm and glance.until_ns == reach.until_ns):
        # What may end, and bins that were judged though nothing came for them, are for the whole.
        glance = None
    return Step(now, scanned, began, ended, glance)


def identity(finding: Finding) -> Identity:
    """What makes a finding of a stream the same one while it grows."""
    return (finding.start, finding.kind, finding.direction)


def is_open(finding: Finding, plan: Plan, reach: Complete) -> bool:
    """Whether another flagged sample would join a finding: it may go on, and a state does not flap with each sample."""
    merge = int(durations.parse_ns(plan.group.merge, step_ns=reach.step_ns))
    return finding.kind == "outlier" and finding.end + merge + reach.step_ns >= reach.until_ns


def _was_open(finding: Finding, before: Followed, plan: Plan, step_ns: int) -> bool:
    return before.through_ns is not None and is_open(finding, plan, Complete(before.through_ns, step_ns))


def _merged(before: Followed, scanned: Scanned, plan: Plan) -> list[Finding]:
    """What was raised stays; what may still go on grows, and what is new is added.

    A sample that came late may change what a replay says of the past. It changes nothing that was raised: a finding that was
    over is kept as it was, and none is added that would have been raised by then.
    """
    if before.through_ns is None:
        return list(scanned.findings)
    fresh = {identity(f): f for f in scanned.findings}
    out = []
    for old in before.findings:
        same = fresh.pop(identity(old), None)
        goes_on = same is not None and _was_open(old, before, plan, scanned.base.series.step_ns)
        out.append(replace(same, raised=old.raised) if same is not None and goes_on else old)
    out += [f for f in fresh.values() if (f.raised or f.end) > before.through_ns]
    return sorted(out, key=lambda f: (f.start, f.end))


def _late(before: Followed, scanned: Scanned) -> int:
    """Samples that came for bins judged before: by how many more of those are judged now."""
    if before.through_ns is None:
        return 0
    old = int(np.searchsorted(scanned.base.series.times, before.through_ns))
    return max(int((~np.isnan(scanned.z[:old])).sum()) - before.judged, 0)


# Fields that are NaN where there is no figure; JSON has null for them.
_FIGURES = {f.name for f in fields(Finding) if isinstance(f.default, float)}


def as_data(finding: Finding) -> dict[str, Any]:
    """A finding as JSON holds it."""
    return {k: None if k in _FIGURES and np.isnan(v) else v for k, v in asdict(finding).items()}


def as_finding(data: dict[str, Any]) -> Finding:
    given: dict[str, Any] = {k: np.nan if k in _FIGURES and v is None else v for k, v in data.items()}
    return Finding(**given)
