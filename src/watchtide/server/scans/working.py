"""What a process does for one stream of a scan: it reads the stream, judges it, keeps its stage, and forgets it.

An order names a stream and does not carry its samples, so that a scan has in memory what is being judged and no more.
"""

from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, replace
from typing import TypeVar

from django.conf import settings

from watchtide.core.expect.baselines.learned import Shared
from watchtide.core.scoring.rows import Coverage, Label
from watchtide.engine.keep import cache, kept
from watchtide.engine.keep.files import Store
from watchtide.engine.many import clusters, run, together
from watchtide.engine.prepare.training import left_out_spans
from watchtide.engine.scan import stages
from watchtide.engine.scan.based import Scanned
from watchtide.plan import Plan
from watchtide.server import alongside, patience, storage
from watchtide.server.jobs import services as jobs
from watchtide.server.scans import services, sheets
from watchtide.server.scans.models import Finding, ScanStream
from watchtide.server.streams.models import Stream

R = TypeVar("R")


@dataclass(frozen=True)
class Order:
    """One stream to scan. labels : those that cover it; store, most_bytes : of the kept stages; shared : its family's network."""

    stream: int
    plan: Plan
    labels: tuple[Label, ...]
    mode: str
    store: Store
    most_bytes: int
    shared: Shared | None = None

    def task(self) -> tuple[Stream, kept.Task]:
        """The stream, and what a scan takes of it now."""
        stream = Stream.objects.get(pk=self.stream)
        given, digest = services.input_of(stream, self.plan)
        given = replace(given, shared=self.shared)
        return stream, kept.Task(
            given, self.plan, self.labels, digest, self.store, self.most_bytes, self.mode
        )


def orders_of(streams: Sequence[Stream], plan: Plan, labels: Sequence[Label], mode: str) -> list[Order]:
    """An order for each stream."""
    store, most, known = storage.stages(), settings.STAGE_CACHE_BYTES, Coverage(labels)
    return [Order(s.pk, plan, known.of(s.key), mode, store, most) for s in streams]


def each(lease: jobs.Lease, work: Callable[[Order], R], orders: Sequence[Order]) -> Iterator[R]:
    """Within a job: what `work` gives for each order, in their order; on the cluster, where one is named. Raises Cancelled between
    two of them."""
    with _cluster() as cluster:
        yield from run.each(
            work,
            orders,
            jobs=cluster.jobs if cluster else settings.SCAN_PROCESSES,
            executor=cluster.executor if cluster else None,
            ready=alongside.ready(),
            progress=lease.progress,
            is_cancelled=lease.is_cancelled,
        )


@contextmanager
def _cluster() -> Iterator[clusters.Cluster | None]:
    if not settings.DASK:
        yield None
        return
    files = {name: path or None for name, path in settings.DASK_FILES.items()}
    address = clusters.Address(settings.DASK, **files, is_plain_allowed=settings.DASK_PLAIN)
    with clusters.joined(address, alongside.check_joined) as cluster:
        yield cluster


@dataclass
class Part:
    """One stream of a scan: the rows that will be written of it, and what other streams need of it.

    unit : what family and fleet see of it; lacks_history : whether its own tail says too little; step_ns, seasons_ns : as resolved.
    """

    origin: services.Origin
    record: ScanStream
    findings: list[Finding]
    unit: together.Unit
    lacks_history: bool
    step_ns: int
    seasons_ns: list[float]


def judge(order: Order, scan: int) -> tuple[Part, sheets.Sheet]:
    """Scan one stream: its part, and its scores. scan : which one the rows will be of. Raises ValueError that names the stream."""
    stream, task = patience.outlasting(order.task, "reading a stream")
    scanned, stage_key = kept.scan_task(task)
    left_out = left_out_spans(order.plan, stream.key, order.labels)
    origin = services.Origin(scan, stream.pk, task.digest, left_out, stage_key)
    record, findings = services.record(origin, scanned)
    step_ns = scanned.base.series.step_ns
    part = Part(
        origin=origin,
        record=record,
        findings=findings,
        unit=together.unit_of(scanned, services.BLOCK_NS),
        lacks_history=together.lacks(scanned, order.plan),
        step_ns=step_ns,
        seasons_ns=[p * step_ns for p, _ in scanned.base.found_seasons],
    )
    return part, sheets.of(scanned)


def base_of(order: Order, part: Part) -> stages.Baselined:
    """The baseline stage of a stream that was judged before; made anew, from the same samples, where the cache has lost it.

    Problem (409) where they have changed meanwhile; later ones do not matter.
    """
    found = cache.load(storage.stages(), part.origin.stage_key)
    if found is not None:
        return found
    given = replace(services.given_again(part.record, order.plan), shared=order.shared)
    return stages.based(given, order.plan, order.labels, order.mode)


def flag_anew(part: Part, scanned: Scanned) -> Part:
    """The part with the rows of another flagging of the same expectation; what its own tail promised stays."""
    record, findings = services.record(part.origin, scanned)
    record.promised = part.record.promised
    return replace(part, record=record, findings=findings)
