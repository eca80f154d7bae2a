"""What runs in the queue for lookouts."""

import time
from collections.abc import Sequence
from typing import Any

from watchtide.server import moments
from watchtide.server.jobs import services as jobs
from watchtide.server.lookouts import calm, foreseeing, judging, notices, services
from watchtide.server.lookouts.models import Lookout, Watched
from watchtide.server.scans import services as scans

# Seconds after which a job leaves the rest to the next one.
MOST_S = 5.0
# Streams after which it is shown how far it is.
SHOWN_EVERY = 10
# Calm streams written in one transaction.
AT_ONCE = 250

glances = calm.Glances()


@jobs.handles("watch", lane="watch")
def watch(lease: jobs.Lease) -> dict[str, Any]:
    """Judge what is due on the streams of a lookout: the calm ones at a glance, then the others one after another, each in one
    transaction.

    A job ends after a while though streams are left, so that what waits behind it in the lane comes first; another goes on.
    Killed anywhere, the next worker judges what is left: what was written is the state that it goes on from, so nothing is
    raised twice.
    """
    found = Lookout.objects.select_related("plan_version").prefetch_related("routes")
    lookout = found.filter(pk=lease.arguments["lookout"]).first()
    if lookout is None or not lookout.is_on:
        return {"streams": 0}
    begun = moments.now()
    services.join(lookout)
    rules = judging.Rules.now(scans.plan_of(lookout.plan_version.text))
    rest = lease.arguments.get("rest")
    rows = services.due_now(lookout) if rest is None else rest
    until = time.monotonic() + MOST_S
    changed, whole = _look(lease, lookout, rows, rules)
    left: Sequence[int] = []
    for i, pk in enumerate(whole):
        if i % SHOWN_EVERY == 0:
            lease.go_on(len(rows) - len(whole) + i, len(rows))
        if i and time.monotonic() >= until:
            left = whole[i:]
            break
        changed += _judge(lease, lookout, pk, rules)
    with lease.write():
        if left:
            services.request(lookout, left)
        if rest is None:
            Lookout.objects.filter(pk=lookout.pk).update(looked_at=begun)
    if changed:
        jobs.tell("lookout", lookout.pk)
    return {"streams": len(rows) - len(left), "changed": changed}


def _look(
    lease: jobs.Lease, lookout: Lookout, rows: Sequence[int], rules: judging.Rules
) -> tuple[int, list[int]]:
    """Judge at a glance, and what that finds not calm at once: how many rows changed, and those of which nothing is
    remembered, which take longest."""
    changed = 0
    left: list[int] = []
    for i in range(0, len(rows), AT_ONCE):
        if i:
            lease.go_on(i, len(rows))
        glances.look()
        calm_ones, stirred, unknown = glances.judge(lookout, rows[i : i + AT_ONCE], rules)
        left += unknown
        if calm_ones:
            with lease.write():
                calm.write(calm_ones)
        changed += len(calm_ones) + sum(_judge(lease, lookout, pk, rules) for pk in stirred)
    return changed, left


def _judge(lease: jobs.Lease, lookout: Lookout, pk: int, rules: judging.Rules) -> bool:
    """Judge a stream by a replay of its whole history, and write what follows; whether anything has changed."""
    watched = Watched.objects.select_related("stream").filter(pk=pk).first()
    if watched is None:
        return False
    # With its routes, which are read once.
    watched.lookout = lookout
    judged = judging.judge(watched, rules)
    foreseen = foreseeing.look(watched, judged, rules)
    changes = _changed(watched, judged.changes)
    if foreseen is None and not changes:
        return False
    case = notices.prepare(watched, judged, rules)
    with lease.write():
        notices.note(case)
        Watched.objects.filter(pk=pk).update(**changes, **foreseeing.note(watched, foreseen))
    glances.keep(watched, judged, rules)
    return True


def _changed(watched: Watched, changes: dict[str, Any]) -> dict[str, Any]:
    """What differs from the row as it was read: the replay's state, by far the largest part, only does after a fit."""
    return {name: value for name, value in changes.items() if getattr(watched, name) != value}
