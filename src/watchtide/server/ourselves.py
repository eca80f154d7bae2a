"""Figures about ourselves, for /metrics: what waits and for how long, what fails, how long requests take.

What must be summed over whole tables is counted once a minute by a keeper (`tally`) and not at every scrape.
"""

import contextlib
from collections.abc import Callable, Iterator
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

from django.conf import settings
from django.db import connection
from django.db.models import Count, F, Max, Min, Sum
from django.db.models.functions import Now
from prometheus_client.core import CounterMetricFamily, GaugeMetricFamily, Metric
from prometheus_client.openmetrics.exposition import generate_latest
from prometheus_client.registry import Collector, CollectorRegistry

from watchtide.server import disk, latency, moments
from watchtide.server.jobs import beats
from watchtide.server.jobs.models import OPEN, Job, Tally
from watchtide.server.scans.models import ScanStream
from watchtide.server.streams import store
from watchtide.server.streams.models import Batch, Feed, Stream, Upload

NS = 1e9


def tally() -> None:
    """Count what is kept. One row; a keeper's duty."""
    judged = ScanStream.objects.filter(scan__standing__stream=F("stream"), stream__last_ns__gt=F("last_ns"))
    lag = judged.aggregate(ns=Max(F("stream__last_ns") - F("last_ns")))["ns"]
    uploads = Upload.objects.aggregate(n=Sum("size"))["n"]
    figures = {
        "streams": _counts(Stream.objects.all(), "kind"),
        "samples": Stream.objects.aggregate(n=Sum("samples"))["n"] or 0,
        "batches": _counts(Batch.objects.exclude(accepted_at=None), "door"),
        "quarantined": Batch.objects.filter(quarantined_at__isnull=False).count(),
        "jobs": _counts(Job.objects.exclude(state__in=OPEN), "state"),
        "uploads_bytes": uploads or 0,
        "judging_lag_s": (lag or 0) / NS,
        "database_bytes": _tables(),
        "file_bytes": _folders(),
    }
    Tally.objects.update_or_create(name="counts", defaults={"figures": figures, "at": Now()})


# What the tables hold, by the first words of their names; what is none of these is counted as the rest.
TABLES = {
    "samples": ("segment",),
    "kept for undoing": ("intake_block", "displaced", "roll_part"),
    "plans, scans, scorecards": ("plan", "scan", "finding", "standing", "published"),
    "logbook, reviews, incidents": ("logbook_", "review_", "incident"),
    "audit trail, jobs, sessions": ("audit_entry", "job", "event", "django_", "sign_in", "beat", "tally"),
}


def _tables() -> dict[str, int]:
    """Bytes of data and indexes by what they are for, as MariaDB estimates them."""
    with connection.cursor() as cursor:
        cursor.execute(
            "SELECT table_name, data_length + index_length FROM information_schema.tables WHERE table_schema = DATABASE()"
        )
        sizes = [(str(name), int(size or 0)) for name, size in cursor.fetchall()]
    out = dict.fromkeys([*TABLES, "the rest"], 0)
    for name, size in sizes:
        out[next((what for what, begins in TABLES.items() if name.startswith(begins)), "the rest")] += size
    return out


def _folders() -> dict[str, int]:
    """Bytes of files by folder of the data folder."""
    root = Path(settings.DATA_FOLDER)
    out: dict[str, int] = {}
    for folder in sorted(root.iterdir()) if root.is_dir() else []:
        total = 0
        for path in [folder, *folder.rglob("*")]:
            # A file may go while it is counted.
            with contextlib.suppress(OSError):
                total += path.stat().st_size if path.is_file() else 0
        out[folder.name] = total
    return out


def _counts(found: Any, name: str) -> dict[str, int]:
    return {row[name]: row["n"] for row in found.order_by().values(name).annotate(n=Count("pk"))}


def exposition() -> bytes:
    """OpenMetrics text."""
    registry = CollectorRegistry()
    for part in (_waiting, _kept, _database, _machine):
        registry.register(_Part(part))
    # Two registries, one text: the mark of the end stands once.
    return generate_latest(latency.registry).removesuffix(b"# EOF\n") + generate_latest(registry)


class _Part(Collector):
    def __init__(self, metrics: Callable[[], Iterator[Metric]]) -> None:
        self._metrics = metrics

    def collect(self) -> Iterator[Metric]:
        yield from self._metrics()


def _waiting() -> Iterator[Metric]:
    now = moments.now()
    waiting = GaugeMetricFamily("watchtide_jobs_open", "Jobs that wait or run.", labels=["state", "lane"])
    ages = GaugeMetricFamily(
        "watchtide_queue_age_seconds", "How long the oldest queued job has waited.", labels=["lane"]
    )
    rows = Job.objects.filter(state__in=OPEN).order_by().values("state", "lane")
    for row in rows.annotate(n=Count("pk"), since=Min("created_at")):
        waiting.add_metric([row["state"], row["lane"]], row["n"])
        if row["state"] == "queued":
            ages.add_metric([row["lane"]], _age(now, row["since"]))
    yield waiting
    yield ages
    expired = Job.objects.filter(state="running", lease_until__lt=Now()).count()
    yield GaugeMetricFamily(
        "watchtide_leases_expired",
        "Running jobs whose worker is lost and that nobody has taken over.",
        expired,
    )
    unfolded = store.waiting_blocks().aggregate(n=Sum("samples"), since=Min("batch__accepted_at"))
    yield GaugeMetricFamily("watchtide_samples_unfolded", "Samples waiting to be folded.", unfolded["n"] or 0)
    yield GaugeMetricFamily(
        "watchtide_folding_lag_seconds", "Age of the oldest of them.", _age(now, unfolded["since"])
    )
    failing = Feed.objects.filter(is_on=True, is_fine=False).count()
    yield GaugeMetricFamily("watchtide_feeds_failing", "Feeds whose last fetch failed.", failing)
    yield GaugeMetricFamily(
        "watchtide_processes_lost", "Workers and keepers that should be there and are not.", len(beats.lost())
    )
    yield GaugeMetricFamily(
        "watchtide_duties_failing", "Duties of keepers whose last round failed.", len(beats.failing())
    )


def _kept() -> Iterator[Metric]:
    row = Tally.objects.filter(name="counts").first()
    if row is None:
        return
    counts = row.figures
    yield GaugeMetricFamily(
        "watchtide_tally_age_seconds", "Age of the counts that follow.", _age(moments.now(), row.at)
    )
    yield GaugeMetricFamily("watchtide_samples_held", "Samples in segments.", counts["samples"])
    yield _labelled(
        GaugeMetricFamily("watchtide_streams", "Streams by kind.", labels=["kind"]), counts["streams"]
    )
    # Gauges and no counters: old rows are deleted.
    yield _labelled(
        GaugeMetricFamily("watchtide_batches", "Batches kept.", labels=["door"]), counts["batches"]
    )
    yield _labelled(GaugeMetricFamily("watchtide_jobs_ended", "Jobs kept.", labels=["state"]), counts["jobs"])
    yield GaugeMetricFamily(
        "watchtide_batches_quarantined", "Batches that cannot be folded.", counts["quarantined"]
    )
    yield GaugeMetricFamily("watchtide_uploads_bytes", "Files handed in and kept.", counts["uploads_bytes"])
    yield GaugeMetricFamily(
        "watchtide_judging_lag_seconds",
        "Longest time by which the newest sample of a stream is ahead of its standing scan.",
        counts["judging_lag_s"],
    )


def _database() -> Iterator[Metric]:
    with connection.cursor() as cursor:
        cursor.execute(
            "SHOW GLOBAL STATUS WHERE Variable_name IN "
            "('Innodb_row_lock_waits', 'Innodb_row_lock_time', 'Innodb_deadlocks', 'Threads_connected')"
        )
        found = {name.lower(): float(value) for name, value in cursor.fetchall()}
    yield CounterMetricFamily(
        "watchtide_lock_waits",
        "Waits for a row's lock, since MariaDB began.",
        found.get("innodb_row_lock_waits", 0),
    )
    yield CounterMetricFamily(
        "watchtide_lock_wait_seconds", "Time spent in them.", found.get("innodb_row_lock_time", 0) / 1_000
    )
    yield CounterMetricFamily(
        "watchtide_deadlocks", "Deadlocks, since MariaDB began.", found.get("innodb_deadlocks", 0)
    )
    yield GaugeMetricFamily(
        "watchtide_connections", "Connections to MariaDB.", found.get("threads_connected", 0)
    )


def _machine() -> Iterator[Metric]:
    yield GaugeMetricFamily(
        "watchtide_disk_free_bytes", "Room where the data folder lies.", disk.free_bytes()
    )


def _labelled(family: GaugeMetricFamily, counts: dict[str, int]) -> GaugeMetricFamily:
    for label, count in sorted(counts.items()):
        family.add_metric([label], count)
    return family


def _age(now: datetime, since: datetime | None) -> float:
    if since is None:
        return 0.0
    return max((now - since) / timedelta(seconds=1), 0.0)
