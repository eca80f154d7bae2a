"""What runs in the queue for scans."""

from typing import Any

from django.conf import settings
from django.utils import timezone

from watchtide.engine import kept, run
from watchtide.plan import load
from watchtide.server.jobs import services as jobs
from watchtide.server.logbook import services as logbook
from watchtide.server.scans import services
from watchtide.server.scans.models import Finding, Scan, ScanStream, Standing
from watchtide.server.streams.models import Stream


@jobs.handles("scan", lane="bulk")
def scan(lease: jobs.Lease) -> dict[str, Any]:
    """Scan the streams; all rows are written in one transaction at the end, or none."""
    row = Scan.objects.select_related("plan_version").get(pk=lease.arguments["scan"])
    if row.finished_at is not None:
        return {"scan": row.pk}
    plan = load(row.plan_version.text)
    streams = list(Stream.objects.filter(pk__in=lease.arguments["streams"]).order_by("metric", "pk"))
    version, labels = logbook.version(), logbook.labels()
    tasks = [services.task(s, plan, labels, row.mode) for s in streams]
    held: list[tuple[ScanStream, list[Finding]]] = []
    steps, seasons = [], [0]
    results = run.each(
        kept.scan_task,
        tasks,
        jobs=settings.SCAN_PROCESSES,
        progress=lease.progress,
        is_cancelled=lease.is_cancelled,
    )
    for stream, task, (scanned, key) in zip(streams, tasks, results, strict=True):
        held.append(services.record(row, stream, task, scanned, key))
        steps.append(scanned.base.series.step_ns)
        seasons += [p * scanned.base.series.step_ns for p, _ in scanned.base.found_seasons]
    if row.is_standing:
        services.carry_taken([f for _, found in held for f in found])
    with lease.write():
        ScanStream.objects.filter(scan=row).delete()
        Finding.objects.filter(scan=row).delete()
        ScanStream.objects.bulk_create([s for s, _ in held], batch_size=100)
        Finding.objects.bulk_create([f for _, found in held for f in found], batch_size=500)
        ends = [(s.ribbon_from_ns, s.ribbon_to_ns) for s, _ in held if s.ribbon_from_ns is not None]
        Scan.objects.filter(pk=row.pk).update(
            finished_at=timezone.now(),
            logbook_version=version,
            span_from_ns=min((a for a, _ in ends), default=None),
            span_to_ns=max((b for _, b in ends), default=None),
            step_ns=min(steps, default=0),
            longest_season_ns=max(seasons) or None,
        )
        if row.is_standing:
            for stream in streams:
                Standing.objects.update_or_create(
                    stream=stream, defaults={"plan_version": row.plan_version, "scan": row}
                )
    jobs.tell("scan", row.pk)
    services.scorecard(Scan.objects.get(pk=row.pk))
    return {"scan": row.pk, "findings": sum(len(found) for _, found in held)}
