"""Doing a job: lease, fencing, progress, hand-back, end."""

import os
import socket
import threading
import time
import traceback
from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager, contextmanager
from datetime import timedelta
from typing import Any

import structlog
from django.conf import settings
from django.db import Error, close_old_connections, connection, transaction
from django.db.models import Q
from django.db.models.functions import Now
from structlog.contextvars import bound_contextvars

from watchtide.engine.many.run import Cancelled
from watchtide.server import patience
from watchtide.server.jobs.models import Event, Job
from watchtide.server.problems import Problem
from watchtide.tables.problems import TableError

log = structlog.stdlib.get_logger("watchtide.jobs")
LEASE = timedelta(seconds=settings.JOB_LEASE_SECONDS)
RENEW_SECONDS = settings.JOB_LEASE_SECONDS / 5
MOST_ATTEMPTS = 3
# How long a job that is handed back waits for the database to say so.
HAND_BACK_S = 60.0
Handler = Callable[["Lease"], dict[str, Any] | None]
_handlers: dict[str, tuple[str, Handler]] = {}


class LeaseLost(RuntimeError):
    """Another worker has the job now; nothing more may be written for it."""


class HandedBack(RuntimeError):
    """This worker is to end: its job goes back to the queue, and that is no failed attempt."""


# Set when this process is to end; and the leases it has.
ending = threading.Event()
held: list["Lease"] = []


def handles(kind: str, *, lane: str) -> Callable[[Handler], Handler]:
    """Register the function that does jobs of this kind, and the lane they run in."""

    def register(function: Handler) -> Handler:
        _handlers[kind] = (lane, function)
        return function

    return register


def lane_of(kind: str) -> str:
    return _handlers[kind][0]


def tell(kind: str, subject: Any = "", **payload: Any) -> None:
    Event.objects.create(kind=kind, subject=str(subject), payload=payload)


class Lease:
    """A worker's hold on a job. `progress` also finds out whether to go on."""

    def __init__(self, job: Job) -> None:
        self.job = job
        self.fence = job.fence
        self.arguments = job.arguments
        self._reported = (-1, -1)
        self._stop = threading.Event()
        self._lost = False
        self._cancel = False
        self._thread = threading.Thread(target=self._keep, daemon=True)

    def mine(self) -> Any:
        return Job.objects.filter(pk=self.job.pk, fence=self.fence, state="running")

    def is_cancelled(self) -> bool:
        """Whether to stop; raises LeaseLost when the job is another's, HandedBack when this process is to end."""
        if self._lost:
            raise LeaseLost
        if ending.is_set():
            raise HandedBack
        return self._cancel

    def progress(self, done: int, total: int, message: str = "") -> None:
        """Report how far it is; written at most about a hundred times a job."""
        step = max(1, total // 100)
        if (done, total) == self._reported or (done % step and done != total):
            return
        self._reported = (done, total)
        changes: dict[str, Any] = {"done": done, "total": total}
        if message:
            changes["message"] = message
        if not self.mine().update(**changes):
            raise LeaseLost
        tell("job", self.job.pk)

    def show(self, result: dict[str, Any]) -> None:
        """Keep what there is of the result so far, for whoever watches. Raises Cancelled where that was requested."""
        if not self.mine().update(result=result):
            raise LeaseLost
        self._cancel = self.mine().values_list("is_cancel_asked", flat=True).first() or False
        if self.is_cancelled():
            raise Cancelled

    def go_on(self, done: int, total: int) -> None:
        """Report how far it is. Raises Cancelled where that was requested."""
        self.progress(done, total)
        if self.is_cancelled():
            raise Cancelled

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
        # By this process's own clock: once the lease may have run out unrenewed, another may have the job.
        held_until = time.monotonic() + LEASE.total_seconds()
        while not self._stop.wait(RENEW_SECONDS):
            try:
                close_old_connections()
                begun = time.monotonic()
                if not self.mine().update(lease_until=Now() + LEASE):
                    self._lost = True
                    return
                held_until = begun + LEASE.total_seconds()
                self._cancel = self.mine().values_list("is_cancel_asked", flat=True).first() or False
            except Error as error:
                patience.log.warning("the lease of job %s is not renewed: %s", self.job.pk, error)
            finally:
                connection.close()
            if time.monotonic() > held_until:
                self._lost = True
                return

    def __enter__(self) -> "Lease":
        self._thread.start()
        return self

    def __exit__(self, *_: object) -> None:
        self._stop.set()
        self._thread.join()


# How long a job waits for the worker that it prefers.
PREFERRED = timedelta(seconds=5)


def worker() -> str:
    """How this process is called where a job prefers one."""
    return f"{socket.gethostname()[:40]}-{os.getpid()}"


def lane_of_anothers(job_id: int) -> str | None:
    """The lane of a job that is still to be left to the worker it prefers; None where it may be done."""
    waits = Job.objects.filter(pk=job_id, state="queued", created_at__gte=Now() - PREFERRED)
    return waits.exclude(prefers__in=("", worker())).values_list("lane", flat=True).first()


@patience.retried
def claim(job_id: int) -> Lease | None:
    """Take a queued job, or one whose lease has run out. None when it is somebody's or over."""
    free = Q(state="queued") | Q(state="running", lease_until__lt=Now())
    with transaction.atomic():
        # Locked while it is taken: the number read is the one written.
        job = Job.objects.select_for_update().filter(free, pk=job_id).first()
        if job is None:
            return None
        job.state, job.fence, job.attempt = "running", job.fence + 1, job.attempt + 1
        job.save(update_fields=["state", "fence", "attempt"])
        Job.objects.filter(pk=job_id).update(lease_until=Now() + LEASE, started_at=Now())
    return Lease(job)


def run(job_id: int) -> None:
    """Do a job, whatever comes: its row says done, failed with the reason, cancelled, or it waits again.

    It waits again, and no attempt is counted, where this process is to end or the database was away.
    """
    with bound_contextvars(job=job_id):
        lease = claim(job_id)
        if lease is not None:
            with bound_contextvars(kind=lease.job.kind, attempt=lease.job.attempt):
                _do(lease)


def _do(lease: Lease) -> None:
    job_id, begun = lease.job.pk, time.monotonic()
    if lease.job.is_cancel_asked:
        _end(lease, "cancelled", "cancelled before it began")
        return
    if lease.job.attempt > 1:
        lease.log(f"taken over, attempt {lease.job.attempt}")
    _, handler = _handlers[lease.job.kind]
    held.append(lease)
    log.info("job begun")
    try:
        tell("job", job_id)
        with lease:
            result = handler(lease)
        _end(lease, "done", "", result or {})
    except Cancelled:
        _end(lease, "cancelled", "cancelled; nothing of it was kept")
    except LeaseLost:
        return
    except HandedBack:
        hand_back(lease, "handed back: its worker was stopped")
    except Problem as error:
        _end(lease, "failed", "; ".join(filter(None, (error.body["title"], error.body["remedy"])))[:1000])
    except (TableError, ValueError) as error:
        _end(lease, "failed", str(error)[:1000])
    except Exception as error:
        if patience.is_passing(error):
            hand_back(lease, f"handed back: the database did not answer ({error})")
            return
        # The row must say so before the defect goes on to the worker's log.
        lease.mine().update(log=traceback.format_exc()[-8000:])
        _end(lease, "failed", f"a defect: {type(error).__name__}: {error}"[:1000])
        raise
    finally:
        held.remove(lease)
        log.debug("job left", s=round(time.monotonic() - begun, 3))


def hand_back(lease: Lease, why: str) -> None:
    """Put a job back into the queue as if it had not been tried. Its fence grows, so that nothing more is written for it."""

    def put() -> None:
        with transaction.atomic():
            job = lease.mine().select_for_update().first()
            if job is None:
                return
            job.state, job.fence, job.attempt = "queued", job.fence + 1, max(job.attempt - 1, 0)
            job.lease_until, job.woken_at, job.done, job.total, job.result = None, None, 0, 0, {}
            job.log = (job.log + why[:500] + "\n")[-8000:]
            job.save()
            tell("job", job.pk)

    patience.forget()
    patience.outlasting(put, f"handing back job {lease.job.pk}", wait_s=HAND_BACK_S)


def _end(lease: Lease, state: str, message: str, result: dict[str, Any] | None = None) -> None:
    changes: dict[str, Any] = {
        "state": state,
        "ended_at": Now(),
        "lease_until": None,
        "once": None,
        "result": result or {},
    }
    if message:
        changes["message"] = message

    def put() -> None:
        with transaction.atomic():
            if lease.mine().update(**changes):
                tell("job", lease.job.pk)

    patience.outlasting(put, f"the end of job {lease.job.pk}")
    log.info("job ended", state=state, message=message)
