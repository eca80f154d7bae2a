"""What runs in the queue for scans."""

import math
import time
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

from watchtide.core.expect.baselines import networks
from watchtide.engine import families, kept, together
from watchtide.engine.based import Scanned
from watchtide.plan import Plan, durations
from watchtide.server import moments
from watchtide.server.cards import counting as cards
from watchtide.server.jobs import services as jobs
from watchtide.server.logbook import services as logbook
from watchtide.server.scans import services, sheets
from watchtide.server.scans.models import Finding, Scan, ScanStream, Standing
from watchtide.server.streams.models import Stream

# Seconds between two showings of a training.
SHOW_SECONDS = 0.3


@dataclass
class Part:
    """One stream of a scan: how it is scanned, and the rows that will be written of it.

    unit : what family and fleet see of it; lacks_history : whether its own tail says too little.
    """

    stream: Stream
    task: kept.Task
    record: ScanStream
    findings: list[Finding]
    unit: together.Unit
    sheet: sheets.Sheet
    lacks_history: bool
    step_ns: int
    seasons_ns: list[float]

    def flag_anew(self, row: Scan, scanned: Scanned) -> None:
        """Take the rows from another flagging of the same expectation; what its own tail promised stays."""
        promised = self.record.promised
        self.record, self.findings = services.record(
            row, self.stream, self.task, scanned, self.record.stage_key
        )
        self.record.promised = promised


@jobs.handles("scan", lane="bulk")
def scan(lease: jobs.Lease) -> dict[str, Any]:
    """Scan the streams; all rows are written in one transaction at the end, or none."""
    row = Scan.objects.select_related("plan_version").get(pk=lease.arguments["scan"])
    if row.finished_at is not None:
        return {"scan": row.pk}
    plan = services.plan_of(row.plan_version.text)
    version = logbook.version()
    parts = _scanned(lease, row, plan)
    _lend(row, plan, parts)
    _hold_fleet(row, plan, parts)
    if row.is_standing:
        services.carry_taken([f for part in parts for f in part.findings])
    with lease.write():
        _write(row, parts, version)
    # What family or fleet changed is not what was scored: the sheet is then made when it is first read.
    if plan.flag.fleet is None and not any(part.lacks_history for part in parts):
        sheets.keep(row, {part.stream.pk: part.sheet for part in parts}.items())
    jobs.tell("scan", row.pk)
    cards.card_of(Scan.objects.get(pk=row.pk), cards.Selection())
    return {"scan": row.pk, "findings": sum(len(part.findings) for part in parts)}


def _scanned(lease: jobs.Lease, row: Scan, plan: Plan) -> list[Part]:
    """Each stream by itself, in the order of their names."""
    streams = list(Stream.objects.filter(pk__in=lease.arguments["streams"]).order_by("metric", "pk"))
    labels = logbook.labels()
    tasks = [services.task(s, plan, labels, row.mode) for s in streams]
    # A few streams, and a family's network, are trained in this process, where each epoch can be watched.
    with networks.watched(TrainingShown(lease)):
        if row.mode == "fit":
            inputs = families.with_shared([t.stream for t in tasks], plan, labels)
            tasks = [replace(t, stream=own) for t, own in zip(tasks, inputs, strict=True)]
        results = services.scan_each(lease, tasks)
        return [
            _part(row, plan, stream, task, scanned, key)
            for stream, task, (scanned, key) in zip(streams, tasks, results, strict=True)
        ]


class TrainingShown:
    """Shows the errors of the network that a scan is training, and ends the training where somebody cancels it."""

    def __init__(self, lease: jobs.Lease) -> None:
        self.lease = lease
        self.number = 0
        self.losses: list[list[float | None]] = []
        self.shown_at = -math.inf

    def __call__(self, epoch: int, training: float, validation: float) -> None:
        if epoch == 1:
            self.number, self.losses = self.number + 1, []
        self.losses.append([training, None if math.isnan(validation) else validation])
        # A quick network has dozens of epochs a second: nobody could follow them.
        if time.monotonic() - self.shown_at < SHOW_SECONDS:
            return
        self.lease.show({"training": {"number": self.number, "epoch_losses": self.losses}})
        self.shown_at = time.monotonic()


def _part(row: Scan, plan: Plan, stream: Stream, task: kept.Task, scanned: Scanned, key: str) -> Part:
    record, findings = services.record(row, stream, task, scanned, key)
    step_ns = scanned.base.series.step_ns
    return Part(
        stream=stream,
        task=task,
        record=record,
        findings=findings,
        unit=together.unit_of(scanned, services.BLOCK_NS),
        sheet=sheets.of(scanned),
        lacks_history=together.lacks(scanned, plan),
        step_ns=step_ns,
        seasons_ns=[p * step_ns for p, _ in scanned.base.found_seasons],
    )


def _lend(row: Scan, plan: Plan, parts: Sequence[Part]) -> None:
    """Flag streams with too little history of their own anew, by their family's tail."""
    members: dict[str, list[Part]] = {}
    for part in parts:
        members.setdefault(part.unit.family, []).append(part)
    for _, family in sorted(members.items()):
        short = [part for part in family if part.lacks_history]
        if not short or len(family) == 1:
            continue
        lender = together.lending([kept.fitted(part.task) for part in family], plan)
        for part in short:
            part.flag_anew(row, together.helped(kept.fitted(part.task), lender, plan))


def _hold_fleet(row: Scan, plan: Plan, parts: Sequence[Part]) -> None:
    """Drop what the plan's fleet rule drops, and keep each stream's p-values by day."""
    units = [part.unit for part in parts]
    chances = together.p_values(units)
    rule = plan.flag.fleet
    if rule is not None:
        scans = [services.flagged(kept.fitted(part.task), plan, part.record.level) for part in parts]
        block_ns = durations.parse_ns(rule.block)
        is_daily = block_ns == services.BLOCK_NS
        mine = units if is_daily else [together.unit_of(s, block_ns) for s in scans]
        by_rule = chances if is_daily else together.p_values(mine)
        keeping = together.rejected([u.blocks.number for u in mine], by_rule, rule)
        for part, scanned, numbers in zip(parts, scans, keeping, strict=True):
            part.flag_anew(row, together.held(scanned, numbers, rule))
    for part, chance in zip(parts, chances, strict=True):
        part.record.blocks = services.blocks_of(part.unit.blocks.number, chance)


def _write(row: Scan, parts: Sequence[Part], version: int) -> None:
    """Put the rows of a scan in place of any that an earlier attempt wrote. version : of the logbook it was scanned with."""
    ScanStream.objects.filter(scan=row).delete()
    Finding.objects.filter(scan=row).delete()
    ScanStream.objects.bulk_create([part.record for part in parts], batch_size=100)
    Finding.objects.bulk_create([f for part in parts for f in part.findings], batch_size=500)
    records = [part.record for part in parts]
    begins = [r.ribbon_from_ns for r in records if r.ribbon_from_ns is not None]
    ends = [r.ribbon_to_ns for r in records if r.ribbon_from_ns is not None]
    longest = max((season for part in parts for season in part.seasons_ns), default=0)
    Scan.objects.filter(pk=row.pk).update(
        finished_at=moments.now(),
        logbook_version=version,
        span_from_ns=min(begins, default=None),
        span_to_ns=max(ends, default=None),
        step_ns=min((part.step_ns for part in parts), default=0),
        longest_season_ns=longest or None,
    )
    if row.is_standing:
        for part in parts:
            Standing.objects.update_or_create(
                stream=part.stream, defaults={"plan_version": row.plan_version, "scan": row}
            )
