"""What runs in the queue for reviews: filling a round from a large scan."""

import hashlib
import json
from typing import Any

from django.db.models import Sum

from watchtide.server.jobs import services as jobs
from watchtide.server.jobs.models import Job
from watchtide.server.review import services
from watchtide.server.scans.models import Scan

# Samples of a scan up to which a round is filled while the request waits.
MOST_SAMPLES = 400_000


def pending(scan: Scan, kind: str, size: int, filters: dict[str, Any], user: Any) -> Job | None:
    """The job that fills a round, where that is too much for a request. Another request for the same gets the same job."""
    samples = scan.streams.aggregate(n=Sum("samples"))["n"] or 0
    if samples <= MOST_SAMPLES or scan.finished_at is None:
        return None
    arguments = {"scan": scan.pk, "kind": kind, "size": size, "filters": filters, "by": user.get_username()}
    once = hashlib.sha256(json.dumps(["round", arguments], sort_keys=True).encode()).hexdigest()
    return jobs.enqueue("round", f"Fill a round from scan {scan.pk}", arguments, user=user, once=once)


@jobs.handles("round", lane="interactive")
def fill(lease: jobs.Lease) -> dict[str, Any]:
    a = lease.arguments
    with lease.write():
        made = services.start(Scan.objects.get(pk=a["scan"]), a["kind"], a["size"], a["filters"], a["by"])
    return {"round": made.pk}
