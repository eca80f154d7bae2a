"""What runs in the queue for streams."""

from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

from watchtide.server.jobs import services as jobs
from watchtide.server.people import trail
from watchtide.server.streams import catalogue, files, folding, identity, renewing, store, undoing
from watchtide.server.streams.models import Batch, Derived, Stream, Upload


@jobs.handles("intake", lane="bulk")
def intake(lease: jobs.Lease) -> dict[str, Any]:
    upload = Upload.objects.get(pk=lease.arguments["upload"])
    result = files.accept(upload, lease.arguments["given"], lease)
    ids = result.pop("ids")
    result |= {"streams": len(ids), "first_stream": ids[0] if ids else None}
    if lease.arguments.get("then_scan") and ids:
        from watchtide.server.scans import services as scans

        with lease.write():
            scan = scans.start_standing(ids, user=lease.job.created_by)
        result["scan"] = scan.pk
    return result


@jobs.handles("undo", lane="bulk")
def undo(lease: jobs.Lease) -> dict[str, Any]:
    batch = Batch.objects.get(pk=lease.arguments["batch"])
    if batch.undone_at is not None and lease.job.attempt > 1:
        # Done by a worker that was lost before it could say so.
        return {"batch": batch.pk}

    @contextmanager
    def begin() -> Iterator[None]:
        with lease.write(store.snapshot):
            trail.add("batch undone", f"{batch.pk} {batch.source}", **lease.arguments["who"])
            yield

    return {"batch": batch.pk, "streams": undoing.undo(batch, lease.job.created_by, begin)}


@jobs.handles("delete_stream", lane="bulk")
def delete_stream(lease: jobs.Lease) -> dict[str, Any]:
    key = lease.arguments["key"]
    with lease.write():
        stream = Stream.objects.filter(pk=lease.arguments["stream"], key=key).first()
        if stream is not None:
            catalogue.delete(stream, key)
            trail.add("stream deleted", key, **lease.arguments["who"])
    return {"key": key}


@jobs.handles("fold", lane="bulk")
def fold(lease: jobs.Lease) -> dict[str, Any]:
    def tell(done: int) -> None:
        lease.progress(done, done + 1)
        if lease.is_cancelled():
            raise jobs.Cancelled

    return {"samples": folding.fold(tell), "renewed": renewing.renew()}


@jobs.handles("join", lane="bulk")
def join(lease: jobs.Lease) -> dict[str, Any]:
    result = identity.join(
        lease.arguments["places"],
        lease.arguments.get("left") or [],
        lease.arguments.get("metrics") or [],
        lease,
    )
    folding.fold()
    if ids := result.pop("to_scan"):
        from watchtide.server.scans import services as scans

        with lease.write():
            result["scan"] = scans.start_standing(ids, user=lease.job.created_by).pk
    return result


@jobs.handles("retitle", lane="interactive")
def retitle(lease: jobs.Lease) -> dict[str, Any]:
    with lease.write():
        catalogue.retitle(lease.arguments["metrics"])
        jobs.tell("stream")
    return {"metrics": len(lease.arguments["metrics"])}


@jobs.handles("derive", lane="bulk")
def derive(lease: jobs.Lease) -> dict[str, Any]:
    formula = Derived.objects.get(pk=lease.arguments["derived"])
    streams = renewing.compute(formula, lease)
    folding.fold()
    return {"streams": streams}
