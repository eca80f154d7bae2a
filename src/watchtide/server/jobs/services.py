"""Jobs from enqueue to end: lease, fencing, progress, cancel, take-over."""

import threading
import traceback
from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager, contextmanager
from datetime import timedelta
from typing import Any

from django.conf import settings
from django.db import close_old_connections, connection, transaction
from django.db.models import F, Q
from django.utils import timezone

from watchtide.engine.run import Cancelled
from watchtide.server.jobs.models import OPEN, Event, Job
from watchtide.server.problems import Problem
from watchtide.tables.problems import TableError

LEASE = timedelta(seconds=settings.JOB_LEASE_SECONDS)
RENEW_SECONDS = settings.JOB_LEASE_SECONDS / 5
MOST_ATTEMPTS = 3
# A queued job whose wake-up got lost is woken again after this.
WAKE_AGAIN = timedelta(seconds=30)

Handler = Callable[["Lease"], dict[str, Any] | None]
_handlers: dict[str, tuple[str, Handler]] = {}


class LeaseLost(RuntimeError):
    """Another worker has the job now; nothing more may be written for it."""


def handles(kind: str, *, lane: str) -> Callable[[Handler], Handler]:
    """Register the function that does jobs of this kind, and the lane they run in."""

    def register(function: Handler) -> Handler:
        _handlers[kind] = (lane, function)
        return function

    return register


def tell(kind: str, subject: Any = "", **payload: Any) -> None:
    Event.objects.create(kind=kind, subject=str(subject), payload=payload)


def enqueue(
    kind: str, title: str, arguments: dict[str, Any], *, user: Any = None, lane: str | None = None
) -> Job:
    """Put a job down and wake a worker once the transaction is through."""
    job = Job.objects.create(
        kind=kind,
        lane=lane or _handlers[kind][0],
        title=title[:200],
        arguments=arguments,
        created_by=user if user is not None and user.is_authenticated else None,
    )
    tell("job", job.pk)
    transaction.on_commit(lambda: wake(job))
    return job


def wake(job: Job) -> None:
    """Hand the job's number to the queue, whose only part is to rouse a worker."""
    from watchtide.server.jobs.tasks import work

    Job.objects.filter(pk=job.pk).update(woken_at=timezone.now())
    work.using(queue_name=job.lane).enqueue(job.pk)


class Lease:
    """A worker's hold on a job. `progress` also asks whether to go on."""

    def __init__(self, job: Job) -> None:
        self.job = job
        self.fence = job.fence
        self.arguments = job.arguments
        self._told = (-1, -1)
        self._stop = threading.Event()
        self._lost = False
        self._cancel = False
        self._thread = threading.Thread(target=self._keep, daemon=True)

    def mine(self) -> Any:
        return Job.objects.filter(pk=self.job.pk, fence=self.fence, state="running")

    def is_cancelled(self) -> bool:
        """Whether to stop; raises LeaseLost when the job is another's."""
        if self._lost:
            raise LeaseLost
        return self._cancel

    def progress(self, done: int, total: int, message: str = "") -> None:
        """Say how far it is. Told at most about a hundred times a job."""
        step = max(1, total // 100)
        if (done, total) == self._told or (done % step and done != total):
            return
        self._told = (done, total)
        changes: dict[str, Any] = {"done": done, "total": total}
        if message:
            changes["message"] = message
        if not self.mine().update(**changes):
            raise LeaseLost
        tell("job", self.job.pk)

    def log(self, line: str) -> None:
        job = self.mine().first()
        if job is None:
            raise LeaseLost
        self.mine().update(log=(job.log + line + "\n")[-8000:])

    @contextmanager
    def write(self, begin: Callable[[], AbstractContextManager[Any]] = transaction.atomic) -> Iterator[None]:
        """A transaction that only goes through while the job is ours. begin : what begins it, as a snapshot does."""
        with begin():
            if not self.mine().select_for_update().exists():
                raise LeaseLost
            yield

    def _keep(self) -> None:
        while not self._stop.wait(RENEW_SECONDS):
            close_old_connections()
            try:
                if not self.mine().update(lease_until=timezone.now() + LEASE):
                    self._lost = True
                    return
                self._cancel = self.mine().values_list("is_cancel_asked", flat=True).first() or False
            finally:
                connection.close()

    def __enter__(self) -> "Lease":
        self._thread.start()
        return self

    def __exit__(self, *_: object) -> None:
        self._stop.set()
        self._thread.join()


def claim(job_id: int) -> Lease | None:
    """Take a queued job, or one whose lease has run out. None when it is somebody's or over."""
    now = timezone.now()
    free = Q(state="queued") | Q(state="running", lease_until__lt=now)
    taken = Job.objects.filter(free, pk=job_id).update(
        state="running",
        fence=F("fence") + 1,
        attempt=F("attempt") + 1,
        lease_until=now + LEASE,
        started_at=now,
    )
    return Lease(Job.objects.get(pk=job_id)) if taken else None


def run(job_id: int) -> None:
    """Do a job, whatever comes: its row says done, failed with the reason, or cancelled."""
    lease = claim(job_id)
    if lease is None:
        return
    if lease.job.is_cancel_asked:
        _end(lease, "cancelled", "cancelled before it began")
        return
    if lease.job.attempt > 1:
        lease.log(f"taken over, attempt {lease.job.attempt}")
    tell("job", job_id)
    _, handler = _handlers[lease.job.kind]
    try:
        with lease:
            result = handler(lease)
        _end(lease, "done", "", result or {})
    except Cancelled:
        _end(lease, "cancelled", "cancelled; nothing of it was kept")
    except LeaseLost:
        return
    except Problem as error:
        _end(lease, "failed", "; ".join(filter(None, (error.body["title"], error.body["remedy"])))[:1000])
    except (TableError, ValueError) as error:
        _end(lease, "failed", str(error)[:1000])
    except Exception as error:
        # The row must say so before the defect goes on to the worker's log.
        lease.mine().update(log=traceback.format_exc()[-8000:])
        _end(lease, "failed", f"a defect: {type(error).__name__}: {error}"[:1000])
        raise


def _end(lease: Lease, state: str, message: str, result: dict[str, Any] | None = None) -> None:
    changes: dict[str, Any] = {
        "state": state,
        "ended_at": timezone.now(),
        "lease_until": None,
        "result": result or {},
    }
    if message:
        changes["message"] = message
    if lease.mine().update(**changes):
        tell("job", lease.job.pk)


def cancel(job: Job) -> None:
    """Ask a job to stop; a queued one ends at once."""
    Job.objects.filter(pk=job.pk, state__in=OPEN).update(is_cancel_asked=True)
    if Job.objects.filter(pk=job.pk, state="queued").update(
        state="cancelled", ended_at=timezone.now(), message="cancelled before it began"
    ):
        tell("job", job.pk)


def watch_once() -> int:
    """Wake workers for jobs that lost theirs, give up on those that keep failing. Returns how many."""
    now = timezone.now()
    count = 0
    lost = Job.objects.filter(state="running", lease_until__lt=now)
    for job in lost.filter(attempt__gte=MOST_ATTEMPTS):
        Job.objects.filter(pk=job.pk, fence=job.fence).update(
            state="failed", ended_at=now, message=f"the worker was lost {job.attempt} times; see the log"
        )
        tell("job", job.pk)
    stale = Q(woken_at__lt=now - timedelta(seconds=5)) | Q(woken_at=None)
    asleep = Job.objects.filter(state="queued", woken_at__lt=now - WAKE_AGAIN)
    for job in [*lost.filter(stale, attempt__lt=MOST_ATTEMPTS), *asleep]:
        wake(job)
        count += 1
    Event.objects.filter(created_at__lt=now - timedelta(hours=1)).delete()
    return count
