"""History that was corrected: judged anew, with what that changed written down; nothing is sent."""

from collections.abc import Sequence
from typing import Any

import numpy as np
from django.dispatch import receiver

from watchtide.core.scoring.rows import Finding
from watchtide.engine.live import upkeep, watching
from watchtide.engine.live.upkeep import Complete
from watchtide.engine.live.watching import Identity, as_data, as_finding
from watchtide.server import moments
from watchtide.server.jobs import services as jobs
from watchtide.server.lookouts.judging import Rules
from watchtide.server.lookouts.models import Correction, Group, Lookout, Raised, Watched
from watchtide.server.problems import Problem
from watchtide.server.scans import services as scans
from watchtide.server.streams import store
from watchtide.server.streams.corrections import Corrected, corrected

Row = dict[str, Any]
# A finding differs where its end does, or its size by over a tenth: any correction moves the fits after it a little.
AS_LARGE = 0.1
AT_ONCE = 5_000


@receiver(corrected, dispatch_uid="lookouts")
def note(sender: object, change: Corrected, **_: object) -> None:
    """Write down for which streams of lookouts a correction lies behind what they were judged through, and a job for each."""
    streams = list(change.first_ns)
    behind = [
        row
        for a in range(0, len(streams), AT_ONCE)
        for row in Watched.objects.filter(
            stream__in=streams[a : a + AT_ONCE], judged_through_ns__isnull=False
        ).values_list("lookout", "stream", "judged_through_ns")
    ]
    rows = [
        Correction(
            lookout_id=lookout,
            stream_id=stream,
            batch=change.batch,
            why=change.why,
            since_ns=change.first_ns[stream],
        )
        for lookout, stream, through in behind
        if change.first_ns[stream] < through
    ]
    Correction.objects.bulk_create(rows, batch_size=1_000)
    for lookout in Lookout.objects.filter(pk__in={r.lookout_id for r in rows}):
        request(lookout)


def request(lookout: Lookout) -> None:
    jobs.enqueue(
        "correct",
        f"Judge corrected history anew: {lookout.name}",
        {"lookout": lookout.pk},
        about=["correct", lookout.pk],
    )


def look() -> int:
    """A job for each lookout with a correction that none has judged: one that came while a job was ending, or failed. Returns how
    many."""
    found = list(Lookout.objects.filter(corrections__judged_at=None, corrections__isnull=False).distinct())
    for lookout in found:
        request(lookout)
    return len(found)


@jobs.handles("correct", lane="watch")
def correct(lease: jobs.Lease) -> dict[str, Any]:
    """Judge anew the streams of a lookout whose history was corrected, each in one transaction; killed anywhere, the next worker
    judges those that are left."""
    lookout = Lookout.objects.select_related("plan_version").filter(pk=lease.arguments["lookout"]).first()
    if lookout is None:
        return {"streams": 0}
    rows = lookout.corrections.filter(judged_at=None).order_by("stream").values_list("stream", flat=True)
    streams = list(rows.distinct())
    rules = Rules.now(scans.plan_of(lookout.plan_version.text))
    changed = 0
    for i, stream in enumerate(streams):
        lease.go_on(i, len(streams))
        changed += judge(lookout, stream, rules, lease)
    jobs.tell("lookout", lookout.pk)
    return {"streams": len(streams), "changed": changed}


def judge(lookout: Lookout, stream: int, rules: Rules, lease: jobs.Lease) -> bool:
    """Judge a stream anew through the bin that it was judged through, and write what that changed; whether anything has."""
    rows = list(lookout.corrections.filter(judged_at=None, stream=stream))
    watched = Watched.objects.select_related("stream").filter(lookout=lookout, stream=stream).first()
    if watched is None or watched.judged_through_ns is None:
        # It has begun anew since, or is watched no more.
        lookout.corrections.filter(pk__in=[r.pk for r in rows]).delete()
        return False
    now, changes, step_ns = _anew(watched, watched.judged_through_ns, rules)
    gone, come, changed = compared(list(map(as_finding, watched.findings)), now)
    reach = Complete(watched.judged_through_ns, step_ns)
    with lease.write():
        _settle(watched, gone, come, rules, reach)
        Watched.objects.filter(pk=watched.pk, judged_through_ns=watched.judged_through_ns).update(**changes)
        # One line for what came together; the rest of them had no part of it.
        first, *others = rows
        Correction.objects.filter(pk=first.pk).update(
            judged_at=moments.now(),
            since_ns=min(r.since_ns for r in rows),
            gone=[as_data(f) for f in gone],
            come=[as_data(f) for f in come],
            changed=[[as_data(a), as_data(b)] for a, b in changed],
        )
        Correction.objects.filter(pk__in=[r.pk for r in others]).delete()
    return bool(gone or come or changed)


def _anew(watched: Watched, through_ns: int, rules: Rules) -> tuple[list[Finding], Row, int]:
    """What a replay of the corrected history raises through a moment, what changes in the row, and how long a bin is."""
    times, values = store.read(watched.stream_id, None, through_ns - 1)
    # Its state is found anew by the next look.
    changes: Row = {"next_ns": None}
    try:
        if not len(times):
            raise ValueError("nothing is left of it")
        given = scans.stream_input(watched.stream, rules.plan, times, values)[0]
        scanned, state, _ = upkeep.tick(given, rules.plan, rules.labels.of(given.key), None, is_told=False)
    except (ValueError, Problem):
        # It begins anew with what comes; what is known by now wakes nobody.
        nothing = {
            "judged_through_ns": None,
            "findings": [],
            "upkeep": b"",
            "judged": 0,
            "known_ns": through_ns,
        }
        return [], changes | nothing, watched.stream.step_ns
    found = list(scanned.findings)
    judged = int((~np.isnan(scanned.z)).sum())
    changes |= {"findings": [as_data(f) for f in found], "upkeep": state or b"", "judged": judged}
    return found, changes, scanned.base.series.step_ns


def compared(
    before: Sequence[Finding], now: Sequence[Finding]
) -> tuple[list[Finding], list[Finding], list[tuple[Finding, Finding]]]:
    """(findings that are gone, that have come, and those that are others than they were, each before and now)."""
    old = {watching.identity(f): f for f in before}
    new = {watching.identity(f): f for f in now}
    changed = [(f, new[i]) for i, f in old.items() if i in new and not _are_alike(f, new[i])]
    return [f for i, f in old.items() if i not in new], [f for i, f in new.items() if i not in old], changed


def _are_alike(one: Finding, other: Finding) -> bool:
    near = np.isclose(one.score, other.score, rtol=AS_LARGE, equal_nan=True)
    return one.end == other.end and bool(near)


def _settle(
    watched: Watched, gone: Sequence[Finding], come: Sequence[Finding], rules: Rules, reach: Complete
) -> None:
    """Nobody is to be woken by a correction: what is gone ends in silence, what has come counts as known."""
    known: dict[Identity, Raised] = {
        (r.start_ns, r.kind, r.direction): r
        for r in Raised.objects.filter(lookout=watched.lookout, stream=watched.stream)
    }
    for finding in gone:
        raised = known.get(watching.identity(finding))
        if raised is not None:
            Raised.objects.filter(pk=raised.pk).update(is_open=False)
            if not Raised.objects.filter(group=raised.group_id, is_open=True).exists():
                Group.objects.filter(pk=raised.group_id, ended_at=None).update(ended_at=moments.now())
    for finding in come:
        if watching.identity(finding) in known:
            continue
        is_open = watching.is_open(finding, rules.plan, reach)
        group = Group.objects.create(
            lookout=watched.lookout,
            start_ns=finding.start,
            is_quiet=True,
            ended_at=None if is_open else moments.now(),
        )
        Raised.objects.create(
            group=group,
            lookout=watched.lookout,
            stream=watched.stream,
            start_ns=finding.start,
            end_ns=finding.end,
            kind=finding.kind,
            direction=finding.direction,
            is_open=is_open,
        )
