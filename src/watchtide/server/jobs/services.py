"""Jobs from enqueue to end: put down, woken, cancelled, watched; `running` does them."""

import hashlib
import json
from datetime import timedelta
from typing import Any

from django.db import IntegrityError, transaction
from django.db.models import Q
from django.db.models.functions import Now
from django_tasks_db.models import DBTaskResult

from watchtide.server.jobs.models import OPEN, Event, Job
from watchtide.server.jobs.running import (
    MOST_ATTEMPTS,
    Cancelled,
    HandedBack,
    Lease,
    LeaseLost,
    claim,
    ending,
    hand_back,
    handles,
    held,
    lane_of,
    run,
    tell,
    worker,
)
from watchtide.server.jobs.tasks import work

__all__ = [
    "Cancelled", "HandedBack", "Lease", "LeaseLost", "cancel", "claim", "ending", "enqueue", "hand_back", "handles", "held", "prune", "run",
    "tell", "wake", "watch_once", "worker",
]  # fmt: skip

# A queued job whose wake-up got lost is woken again after this, and one that was never woken, after a moment.
WAKE_AGAIN = timedelta(seconds=30)
NEVER_WOKEN = timedelta(seconds=3)


def enqueue(
    kind: str,
    title: str,
    arguments: dict[str, Any],
    *,
    user: Any = None,
    lane: str | None = None,
    about: Any = None,
    prefers: str = "",
) -> Job:
    """Put a job down and wake a worker once the transaction is through.

    about : what it is about, as JSON; while a job of this kind about the same is open, that one is returned instead. prefers :
        the worker that should do it, as `worker()` names it; others wait a few seconds for that one.
    """
    once = None
    if about is not None:
        once = f"{kind} {hashlib.sha256(json.dumps(about, sort_keys=True).encode()).hexdigest()}"
    fields = {
        "kind": kind,
        "lane": lane or lane_of(kind),
        "title": title[:200],
        "arguments": arguments,
        "created_by": user if user is not None and user.is_authenticated else None,
        "once": once,
        "prefers": prefers,
    }
    try:
        with transaction.atomic():
            job = Job.objects.create(**fields)
    except IntegrityError:
        known = Job.objects.filter(once=once).first()
        if known is not None:
            return known
        # It ended this very moment.
        job = Job.objects.create(**fields)
    tell("job", job.pk)
    transaction.on_commit(lambda: wake(job))
    return job


def wake(job: Job) -> None:
    """Hand the job's number to the queue, whose only part is to rouse a worker."""
    Job.objects.filter(pk=job.pk).update(woken_at=Now())
    work.using(queue_name=job.lane).enqueue(job.pk)


def cancel(job: Job) -> None:
    """Ask a job to stop; a queued one ends at once."""
    Job.objects.filter(pk=job.pk, state__in=OPEN).update(is_cancel_asked=True)
    if Job.objects.filter(pk=job.pk, state="queued").update(
        state="cancelled", ended_at=Now(), once=None, message="cancelled before it began"
    ):
        tell("job", job.pk)


def watch_once() -> int:
    """Wake workers for jobs that lost theirs or were never woken, give up on those that keep failing. Returns how many."""
    count = 0
    lost = Job.objects.filter(state="running", lease_until__lt=Now())
    for job in lost.filter(attempt__gte=MOST_ATTEMPTS):
        Job.objects.filter(pk=job.pk, fence=job.fence).update(
            state="failed",
            ended_at=Now(),
            once=None,
            message=f"the worker was lost {job.attempt} times; see the log",
        )
        tell("job", job.pk)
    # A wake-up that waits in the queue is one already: a long queue is no reason for more.
    waiting = _woken()
    stale = Q(woken_at__lt=Now() - timedelta(seconds=5)) | Q(woken_at=None)
    unheard = Q(woken_at__lt=Now() - WAKE_AGAIN) | Q(woken_at=None, created_at__lt=Now() - NEVER_WOKEN)
    asleep = Job.objects.filter(unheard, state="queued")
    for job in [*lost.filter(stale, attempt__lt=MOST_ATTEMPTS), *asleep]:
        if job.pk not in waiting:
            wake(job)
            count += 1
    Event.objects.filter(created_at__lt=Now() - timedelta(hours=1)).delete()
    return count


def _woken() -> set[int]:
    """Jobs for which a wake-up waits in the queue."""
    return {
        int(arguments["args"][0])
        for arguments in DBTaskResult.objects.ready().values_list("args_kwargs", flat=True)
    }


def prune() -> int:
    """Delete wake-ups that were handled, and those whose worker was lost with them. Returns how many."""
    handled = DBTaskResult.objects.filter(finished_at__lt=Now() - timedelta(hours=1))
    dead = DBTaskResult.objects.filter(finished_at=None, started_at__lt=Now() - timedelta(days=1))
    return handled.delete()[0] + dead.delete()[0]
