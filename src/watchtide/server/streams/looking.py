"""Previews of files: of small ones at once, of large ones by a job that keeps what it found for a while."""

import json
from datetime import timedelta
from typing import Any

from django.db.models.functions import Now

from watchtide.server.jobs import services as jobs
from watchtide.server.jobs.models import Job
from watchtide.server.streams import catalogue, files
from watchtide.server.streams.models import KeptLook, Upload
from watchtide.tables.problems import TableError

# Half a second's reading; what is packed holds several times its size.
MOST_AT_ONCE, PACKING = 8 << 20, 8
PACKED = (".gz", ".parquet")
# Streams and layouts change meanwhile.
KEPT_FOR = timedelta(minutes=10)
# These change nothing of what is seen in a file.
BESIDES = ("save_layout", "unit", "bad_side", "then_scan")


def is_large(upload: Upload) -> bool:
    return upload.size * (PACKING if upload.name.lower().endswith(PACKED) else 1) > MOST_AT_ONCE


def kept(upload: Upload, given: dict[str, Any]) -> dict[str, Any] | None:
    """What was found in a file, read in this way, a moment ago. Raises TableError where that was that it cannot be read."""
    row = KeptLook.objects.filter(
        upload=upload, digest=_digest(given), created_at__gte=Now() - KEPT_FOR
    ).first()
    if row is not None and row.problem:
        raise TableError(*row.problem)
    return None if row is None else dict(row.content)


def look(upload: Upload, given: dict[str, Any], user: Any) -> dict[str, Any] | Job:
    """`files.preview`, or the job that makes it. The same request while the job is open gets the same job."""
    if not is_large(upload):
        return files.preview(upload, given)
    if (found := kept(upload, given)) is not None:
        return found
    arguments = {"upload": upload.pk, "given": given}
    about = [upload.pk, _digest(given)]
    return jobs.enqueue("look", f"Look through {upload.name}", arguments, user=user, about=about)


def store(upload: Upload, given: dict[str, Any], user: Any) -> Job:
    """The job that stores an upload. Of a large one that nobody has looked through the job itself finds what is wrong."""
    seen = kept(upload, given)
    about = seen["about_rows"] if seen is not None else 0 if is_large(upload) else None
    return files.store_upload(upload, given, user, about)


@jobs.handles("look", lane="interactive")
def look_through(lease: jobs.Lease) -> dict[str, Any]:
    """Keep a preview, or what is wrong with the file, for the next request."""
    given = lease.arguments["given"]
    upload = Upload.objects.get(pk=lease.arguments["upload"])
    content: dict[str, Any] = {}
    problem: list[str] = []
    try:
        content = files.preview(upload, given, progress=lease.go_on)
    except TableError as error:
        problem = [error.file, error.place, error.message, error.remedy]
    with lease.write():
        KeptLook.objects.filter(created_at__lt=Now() - KEPT_FOR).delete()
        KeptLook.objects.update_or_create(
            upload=upload,
            digest=_digest(given),
            defaults={"content": content, "problem": problem, "created_at": Now()},
        )
    return {"upload": upload.pk}


def _digest(given: dict[str, Any]) -> str:
    reading = {k: v for k, v in given.items() if k not in BESIDES}
    return catalogue.sha(json.dumps(reading, sort_keys=True))
