"""What runs in the queue for lookouts."""

import time
from collections.abc import Iterator, Sequence
from typing import Any

from django.conf import settings

from watchtide.server import moments
from watchtide.server.jobs import services as jobs
from watchtide.server.lookouts import calm, foreseeing, judging, notices, services
from watchtide.server.lookouts.crew import FEWEST, Crew
from watchtide.server.lookouts.judging import Judged
from watchtide.server.lookouts.models import Lookout, Watched
from watchtide.server.scans import services as scans

# Seconds after which a job leaves the rest to the next one.
MOST_S = 5.0
# Streams after which it is shown how far it is.
SHOWN_EVERY = 10
# Calm streams written in one transaction.
AT_ONCE = 250

glances = calm.Glances()
crew = Crew()


@jobs.handles("watch", lane="watch")
def watch(lease: jobs.Lease) -> dict[str, Any]:
    """Judge what is due on the streams of a lookout: the calm ones at a glance, then the others by a replay of their whole
    history, each in one transaction.

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
    changed, whole = _look(lease, lookout, rows, rules)
    until = time.monotonic() + MOST_S
    left: list[int] = []

    def in_time() -> Iterator[Watched]:
        for i, pk in enumerate(whole):
            if i % SHOWN_EVERY == 0:
                lease.go_on(len(rows) - len(whole) + i, len(rows))
            if i and time.monotonic() >= until:
                left.extend(whole[i:])
                return
            if watched := _row(lookout, pk):
                yield watched

    if settings.SCAN_PROCESSES > 1 and len(whole) >= FEWEST:
        judged_ones = crew.judge(in_time(), rules)
    else:
        judged_ones = ((watched, judging.judge(watched, rules)) for watched in in_time())
    changed += sum(_write(lease, watched, judged, rules) for watched, judged in judged_ones)
    if not left:
        crew.dismiss()
    with lease.write():
        lookout.worker = jobs.worker()
        if left:
            services.request(lookout, left)
        if rest is None:
            Lookout.objects.filter(pk=lookout.pk).update(looked_at=begun, worker=lookout.worker)
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
        changed += len(calm_ones)
        for watched in filter(None, (_row(lookout, pk) for pk in stirred)):
            changed += _write(lease, watched, judging.judge(watched, rules), rules)
    return changed, left


def _row(lookout: Lookout, pk: int) -> Watched | None:
    """A row as it is now, with its stream; None where it is gone."""
    watched = Watched.objects.select_related("stream").filter(pk=pk).first()
    if watched is not None:
        # With its routes, which are read once.
        watched.lookout = lookout
    return watched


def _write(lease: jobs.Lease, watched: Watched, judged: Judged, rules: judging.Rules) -> bool:
    """Write what was judged of a stream, and what follows; whether anything has changed."""
    foreseen = foreseeing.look(watched, judged, rules)
    changes = _changed(watched, judged.changes)
    if foreseen is None and not changes:
        return False
    case = notices.prepare(watched, judged, rules)
    with lease.write():
        notices.note(case)
        Watched.objects.filter(pk=watched.pk).update(**changes, **foreseeing.note(watched, foreseen))
    glances.keep(watched, judged, rules)
    return True


def _changed(watched: Watched, changes: dict[str, Any]) -> dict[str, Any]:
    """What differs from the row as it was read: the replay's state, by far the largest part, only does after a fit."""
    return {name: value for name, value in changes.items() if getattr(watched, name) != value}
