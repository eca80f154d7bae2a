"""What runs in the queue for streams."""

from typing import Any

from watchtide.server.jobs import services as jobs
from watchtide.server.streams import services, store
from watchtide.server.streams.models import Upload


@jobs.handles("intake", lane="bulk")
def intake(lease: jobs.Lease) -> dict[str, Any]:
    upload = Upload.objects.get(pk=lease.arguments["upload"])
    result = services.accept(upload, lease.arguments["given"], lease)
    ids = result.pop("ids")
    result |= {"streams": len(ids), "first_stream": ids[0]}
    if lease.arguments.get("then_scan"):
        from watchtide.server.scans import services as scans

        with lease.write():
            scan = scans.start_standing(ids, user=lease.job.created_by)
        result["scan"] = scan.pk
    return result


@jobs.handles("fold", lane="bulk")
def fold(lease: jobs.Lease) -> dict[str, Any]:
    ids = lease.arguments["streams"]
    count = 0
    for i in range(0, len(ids), 20):
        lease.progress(i, len(ids))
        if lease.is_cancelled():
            raise jobs.Cancelled
        count += store.fold(ids[i : i + 20])
    lease.progress(len(ids), len(ids))
    return {"samples": count}
