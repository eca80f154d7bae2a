"""What runs in the queue for scans."""

import math
import pickle
import time
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from functools import partial
from typing import IO, Any

from watchtide.core.expect.baselines import networks
from watchtide.core.series import Floats
from watchtide.engine.many import families, together
from watchtide.engine.scan.based import Scanned
from watchtide.plan import Plan, durations
from watchtide.server import moments, storage
from watchtide.server.cards import counting as cards
from watchtide.server.jobs import services as jobs
from watchtide.server.logbook import services as logbook
from watchtide.server.scans import services, sheets, working
from watchtide.server.scans.models import Finding, Scan, ScanStream, Standing
from watchtide.server.scans.working import Order, Part
from watchtide.server.streams.models import Stream

# Seconds between two showings of a training.
SHOW_SECONDS = 0.3
# Streams whose rows are written by one statement.
BATCH = 100


class Spool:
    """Parts of a scan in a file, until all streams are judged and every row can be written at once."""

    def __init__(self, file: IO[bytes]) -> None:
        self._file = file

    def put(self, part: Part) -> int:
        """Where it lies from now on."""
        at = self._file.seek(0, 2)
        pickle.dump(part, self._file, pickle.HIGHEST_PROTOCOL)
        return at

    def get(self, at: int) -> Part:
        self._file.seek(at)
        # What this process wrote itself, into a file that nobody else can open.
        part: Part = pickle.load(self._file)
        return part


@dataclass
class Judged:
    """What a scan remembers of a stream; its rows lie in the spool at `at`. chances : the fleet's p-values of its blocks."""

    key: str
    order: Order
    at: int
    unit: together.Unit
    lacks_history: bool
    chances: Floats | None = None


@jobs.handles("scan", lane="bulk")
def scan(lease: jobs.Lease) -> dict[str, Any]:
    """Scan the streams; all rows are written in one transaction at the end, or none."""
    row = Scan.objects.select_related("plan_version").get(pk=lease.arguments["scan"])
    if row.finished_at is not None:
        return {"scan": row.pk}
    plan = services.plan_of(row.plan_version.text)
    version = logbook.version()
    with sheets.writing() as scores, storage.sheets().spool() as file:
        spool = Spool(file)
        judged = _judged(lease, row, plan, spool, scores)
        _lend(plan, judged, spool)
        _hold_fleet(plan, judged, spool)
        with lease.write():
            count = _write(row, judged, spool, version)
        # What family or fleet changed is not what was scored: the sheet is then made when it is first read.
        if plan.flag.fleet is None and not any(j.lacks_history for j in judged):
            scores.keep(row)
    jobs.tell("scan", row.pk)
    cards.card_of(Scan.objects.get(pk=row.pk), cards.Selection())
    return {"scan": row.pk, "findings": count}


def _judged(lease: jobs.Lease, row: Scan, plan: Plan, spool: Spool, scores: sheets.Writer) -> list[Judged]:
    """Each stream by itself, in the order of their names: its rows go into the spool, its scores into their file."""
    streams = list(Stream.objects.filter(pk__in=lease.arguments["streams"]).order_by("metric", "pk"))
    labels = logbook.labels()
    orders = working.orders_of(streams, plan, labels, row.mode)
    judged = []
    # A few streams, and a family's network, are trained in this process, where each epoch can be watched.
    with networks.watched(TrainingShown(lease)):
        if row.mode == "fit" and families.is_wanted(plan):
            inputs = families.with_shared([services.input_of(s, plan)[0] for s in streams], plan, labels)
            orders = [replace(o, shared=own.shared) for o, own in zip(orders, inputs, strict=True)]
        results = working.each(lease, partial(working.judge, scan=row.pk), orders)
        for order, (part, sheet) in zip(orders, results, strict=True):
            scores.add(order.stream, sheet)
            judged.append(Judged(sheet.key, order, spool.put(part), part.unit, part.lacks_history))
    return judged


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


def _lend(plan: Plan, judged: Sequence[Judged], spool: Spool) -> None:
    """Flag streams with too little history of their own anew, by their family's tail."""
    members: dict[str, list[Judged]] = {}
    for one in judged:
        members.setdefault(one.unit.family, []).append(one)
    for _, family in sorted(members.items()):
        short = [one for one in family if one.lacks_history]
        if not short or len(family) == 1:
            continue
        lending = together.lenders(family, lambda one: one.key)
        lender = together.lending([working.base_of(one.order, spool.get(one.at)) for one in lending], plan)
        for one in short:
            part = spool.get(one.at)
            scanned = together.helped(working.base_of(one.order, part), lender, plan)
            one.at = spool.put(working.flag_anew(part, scanned))


def _hold_fleet(plan: Plan, judged: Sequence[Judged], spool: Spool) -> None:
    """Drop what the plan's fleet rule drops, and note each stream's p-values by day."""
    units = [one.unit for one in judged]
    chances = together.p_values(units)
    for one, chance in zip(judged, chances, strict=True):
        one.chances = chance
    rule = plan.flag.fleet
    if rule is None:
        return
    block_ns = durations.parse_ns(rule.block)
    if block_ns != services.BLOCK_NS:
        units = [together.unit_of(_flagged(one, spool.get(one.at), plan), block_ns) for one in judged]
        chances = together.p_values(units)
    keeping = together.rejected([u.blocks.number for u in units], chances, rule)
    for one, numbers in zip(judged, keeping, strict=True):
        part = spool.get(one.at)
        scanned = together.held(_flagged(one, part, plan), numbers, rule)
        one.at = spool.put(working.flag_anew(part, scanned))


def _flagged(one: Judged, part: Part, plan: Plan) -> Scanned:
    return services.flagged(working.base_of(one.order, part), plan, part.record.level)


def _write(row: Scan, judged: Sequence[Judged], spool: Spool, version: int) -> int:
    """Put the rows of a scan in place of any that an earlier attempt wrote. version : of the logbook it was scanned with. Returns
    how many findings there are."""
    ScanStream.objects.filter(scan=row).delete()
    Finding.objects.filter(scan=row).delete()
    taken = services.taken_now() if row.is_standing else {}
    seen = Seen()
    for parts in _batches(judged, spool):
        found = [f for part in parts for f in part.findings]
        services.carry_taken(found, taken)
        ScanStream.objects.bulk_create([part.record for part in parts])
        Finding.objects.bulk_create(found, batch_size=500)
        if row.is_standing:
            Standing.objects.bulk_create(
                [
                    Standing(stream_id=p.record.stream_id, plan_version=row.plan_version, scan=row)
                    for p in parts
                ],
                update_conflicts=True,
                update_fields=["plan_version", "scan"],
            )
        seen.add(parts)
    Scan.objects.filter(pk=row.pk).update(
        finished_at=moments.now(),
        logbook_version=version,
        span_from_ns=seen.begin,
        span_to_ns=seen.end,
        step_ns=seen.step_ns or 0,
        longest_season_ns=seen.longest or None,
    )
    return seen.findings


@dataclass
class Seen:
    """What all streams of a scan have in common: the span judged, the shortest step, the longest season, and their findings."""

    begin: int | None = None
    end: int | None = None
    step_ns: int | None = None
    longest: float = 0.0
    findings: int = 0

    def add(self, parts: Sequence[Part]) -> None:
        for part in parts:
            a, b = part.record.ribbon_from_ns, part.record.ribbon_to_ns
            if a is not None and b is not None:
                self.begin = a if self.begin is None else min(self.begin, a)
                self.end = b if self.end is None else max(self.end, b)
            self.step_ns = part.step_ns if self.step_ns is None else min(self.step_ns, part.step_ns)
            self.longest = max(self.longest, *part.seasons_ns, 0.0)
            self.findings += len(part.findings)


def _batches(judged: Sequence[Judged], spool: Spool) -> Iterator[list[Part]]:
    """The parts, a batch at a time, with the fleet's p-values in their rows."""
    for a in range(0, len(judged), BATCH):
        parts = []
        for one in judged[a : a + BATCH]:
            part = spool.get(one.at)
            part.record.blocks = services.blocks_of(one.unit.blocks.number, one.chances)
            parts.append(part)
        yield parts
