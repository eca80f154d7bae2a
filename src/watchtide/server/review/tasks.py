"""What runs in the queue for reviews: filling a round from a large scan."""

from typing import Any

from watchtide.server.cards import counting
from watchtide.server.jobs import services as jobs
from watchtide.server.jobs.models import Job
from watchtide.server.review import services
from watchtide.server.scans.models import Scan


def pending(scan: Scan, kind: str, size: int, filters: dict[str, Any], user: Any) -> Job | None:
    """The job that fills a round, where that is too much for a request. Another request for the same gets the same job."""
    if scan.finished_at is None or not counting.is_much([scan], counting.Selection()):
        return None
    arguments = {"scan": scan.pk, "kind": kind, "size": size, "filters": filters, "by": user.get_username()}
    return jobs.enqueue("round", f"Fill a round from scan {scan.pk}", arguments, user=user, about=arguments)


@jobs.handles("round", lane="interactive")
def fill(lease: jobs.Lease) -> dict[str, Any]:
    a = lease.arguments
    with lease.write():
        made = services.start(Scan.objects.get(pk=a["scan"]), a["kind"], a["size"], a["filters"], a["by"])
    return {"round": made.pk}
