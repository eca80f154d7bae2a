"""What runs in the queue for the logbook: taking in a large file of labels."""

from collections.abc import Sequence
from typing import Any

from watchtide.core.scoring.rows import Label
from watchtide.server.jobs import services as jobs
from watchtide.server.jobs.models import Job
from watchtide.server.logbook import services
from watchtide.tables import labels

# Rows up to which a file is taken in while the request waits.
MOST_ROWS = 2_000


def pending(rows: Sequence[Label], title: str, matches: str, user: Any) -> Job | None:
    """The job that takes them in, where they are too many for a request. The same file again gets the same job."""
    if len(rows) <= MOST_ROWS:
        return None
    text = labels.to_text(rows, "labels.json")
    arguments = {"labels": text, "title": title, "matches": matches, "by": user.get_username()}
    return jobs.enqueue("labels", f"Take in {title}", arguments, user=user, about=[matches, text])


@jobs.handles("labels", lane="interactive")
def take_in(lease: jobs.Lease) -> dict[str, Any]:
    a = lease.arguments
    rows = labels.read_labels(a["labels"].encode(), "labels.json")
    lease.progress(0, len(rows))
    with lease.write():
        added, skipped, done = services.take_in(rows, a["by"], title=a["title"], matches=a["matches"])
        # They are in the logbook now, and need not be kept twice.
        lease.mine().update(arguments={k: v for k, v in a.items() if k != "labels"})
    return result_of(added, skipped, done)


def result_of(added: int, skipped: int, done: Any) -> dict[str, Any]:
    return {
        "added": added, "skipped": skipped, "changed": done.changed if done else 0,
        "change_set": done.pk if done else None,
    }  # fmt: skip
