"""What runs in the queue for scans."""

from collections.abc import Sequence
from typing import Any

from django.conf import settings

from watchtide.engine import kept, run, together
from watchtide.plan import Plan, durations
from watchtide.server import moments
from watchtide.server.cards import counting as cards
from watchtide.server.jobs import services as jobs
from watchtide.server.logbook import services as logbook
from watchtide.server.scans import services, sheets
from watchtide.server.scans.models import Finding, Scan, ScanStream, Standing
from watchtide.server.streams.models import Stream


@jobs.handles("scan", lane="bulk")
def scan(lease: jobs.Lease) -> dict[str, Any]:
    """Scan the streams; all rows are written in one transaction at the end, or none."""
    row = Scan.objects.select_related("plan_version").get(pk=lease.arguments["scan"])
    if row.finished_at is not None:
        return {"scan": row.pk}
    plan = services.plan_of(row.plan_version.text)
    streams = list(Stream.objects.filter(pk__in=lease.arguments["streams"]).order_by("metric", "pk"))
    version, labels = logbook.version(), logbook.labels()
    tasks = [services.task(s, plan, labels, row.mode) for s in streams]
    held: list[services.Recorded] = []
    units, short = [], []
    steps, seasons = [], [0]
    results = run.each(
        kept.scan_task,
        tasks,
        jobs=settings.SCAN_PROCESSES,
        progress=lease.progress,
        is_cancelled=lease.is_cancelled,
    )
    kept_scores: dict[int, sheets.Sheet] = {}
    for i, (stream, task, (scanned, key)) in enumerate(zip(streams, tasks, results, strict=True)):
        held.append(services.record(row, stream, task, scanned, key))
        kept_scores[stream.pk] = sheets.of(scanned)
        units.append(together.unit_of(scanned, services.BLOCK_NS))
        if together.lacks(scanned, plan):
            short.append(i)
        steps.append(scanned.base.series.step_ns)
        seasons += [p * scanned.base.series.step_ns for p, _ in scanned.base.found_seasons]
    _lend(row, plan, streams, tasks, held, units, short)
    _hold_fleet(row, plan, streams, tasks, held, units)
    # What family or fleet changed is not what was scored above: the sheet is then made when it is first read.
    relabelled = bool(short) or plan.flag.fleet is not None
    if row.is_standing:
        services.carry_taken([f for _, found in held for f in found])
    with lease.write():
        ScanStream.objects.filter(scan=row).delete()
        Finding.objects.filter(scan=row).delete()
        ScanStream.objects.bulk_create([s for s, _ in held], batch_size=100)
        Finding.objects.bulk_create([f for _, found in held for f in found], batch_size=500)
        ends = [(s.ribbon_from_ns, s.ribbon_to_ns) for s, _ in held if s.ribbon_from_ns is not None]
        Scan.objects.filter(pk=row.pk).update(
            finished_at=moments.now(),
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
    if not relabelled:
        sheets.keep(row, kept_scores.items())
    jobs.tell("scan", row.pk)
    cards.card_of(Scan.objects.get(pk=row.pk), cards.Selection())
    return {"scan": row.pk, "findings": sum(len(found) for _, found in held)}


def _lend(
    row: Scan, plan: Plan, streams: Sequence[Stream], tasks: Sequence[kept.Task], held: list[services.Recorded],
    units: list[together.Unit], short: Sequence[int],
) -> None:  # fmt: skip
    """Flag streams with too little history of their own anew, by their family's tail."""
    members: dict[str, list[int]] = {}
    for i, unit in enumerate(units):
        members.setdefault(unit.family, []).append(i)
    for family in sorted({units[i].family for i in short if len(members[units[i].family]) > 1}):
        lender = together.lending([kept.fitted(tasks[k]) for k in members[family]], plan)
        for i in [i for i in short if units[i].family == family]:
            scanned = together.helped(kept.fitted(tasks[i]), lender, plan)
            promised = held[i][0].promised
            held[i] = services.record(row, streams[i], tasks[i], scanned, held[i][0].stage_key)
            held[i][0].promised = promised


def _hold_fleet(
    row: Scan, plan: Plan, streams: Sequence[Stream], tasks: Sequence[kept.Task], held: list[services.Recorded],
    units: Sequence[together.Unit],
) -> None:  # fmt: skip
    """Drop what the plan's fleet rule drops, and keep each stream's p-values by day."""
    p = together.p_values(units)
    if plan.flag.fleet is not None:
        rule = plan.flag.fleet
        scans = [
            services.flagged(kept.fitted(t), plan, s.level) for t, (s, _) in zip(tasks, held, strict=True)
        ]
        block_ns = durations.parse_ns(rule.block)
        mine = units if block_ns == services.BLOCK_NS else [together.unit_of(s, block_ns) for s in scans]
        chances = p if mine is units else together.p_values(mine)
        keeping = together.rejected([u.blocks.number for u in mine], chances, rule)
        for i, (scanned, numbers) in enumerate(zip(scans, keeping, strict=True)):
            record = held[i][0]
            held[i] = services.record(
                row, streams[i], tasks[i], together.held(scanned, numbers, rule), record.stage_key
            )
            held[i][0].promised = record.promised
    for (record, _), unit, chance in zip(held, units, p, strict=True):
        record.blocks = services.blocks_of(unit.blocks.number, chance)
