"""Streams of a lookout that are calm, judged at a glance: many in one transaction, without their histories.

A worker remembers where each stream stood when it was last judged as a whole (`engine.glancing`). What is found, ends, is late,
chosen anew or silent is for the whole, and so is every stream once after a worker has begun. What other workers have judged
meanwhile it judges too, and writes nothing of it: calm bins leave the same behind, whoever judges them.
"""

from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any

import orjson
from cachetools import LRUCache
from django.db import connection

from watchtide.core.series import SECOND_NS, Floats, Ints
from watchtide.engine.live.glancing import Glance
from watchtide.engine.prepare.training import left_out_spans
from watchtide.server import moments
from watchtide.server.lookouts import foreseeing, judging, models
from watchtide.server.lookouts.arrivals import Arrivals
from watchtide.server.lookouts.judging import Judged, Rules
from watchtide.server.lookouts.models import Lookout, Watched
from watchtide.server.streams import store

MOST_BYTES = 512 << 20
# What of a row and of its stream decides whether a glance still holds.
FIELDS = ("pk", "state", "needs", "judged_through_ns", "next_ns", "judged", "newest_ns", "newest_at")
FIELDS += ("foreseen_through_ns", "stream__key", "stream__zone", "stream__lateness_ns", "stream__first_ns")
WRITTEN = ("judged_through_ns", "next_ns", "judged", "newest_ns", "newest_at", "why")
Row = dict[str, Any]


@dataclass
class _Remembered:
    """A glance, what it rests on, the spans that labels left out under a version of the logbook, and what has come since."""

    glance: Glance
    facts: tuple[Any, ...]
    labels: tuple[int, list[tuple[int, int]]]
    arrived: list[tuple[Ints, Floats]] = field(default_factory=list)


class Glances:
    """The glances of a worker, by row; the ones not used for longest go first."""

    def __init__(self, most: int = MOST_BYTES) -> None:
        self._kept: LRUCache[int, _Remembered] = LRUCache(most, getsizeof=lambda kept: kept.glance.size)
        self._of_stream: dict[int, set[int]] = {}
        self._arrivals = Arrivals()

    def clear(self) -> None:
        self._kept.clear()
        self._of_stream.clear()

    def look(self) -> None:
        """Take in what has come."""
        come = self._arrivals.look()
        if come is None:
            self.clear()
            return
        for stream, times, values in come:
            rows = self._of_stream.get(stream, ())
            for pk in list(rows):
                kept = self._kept.get(pk)
                if kept is None:
                    self._of_stream[stream].discard(pk)
                else:
                    kept.arrived.append((times, values))

    def keep(self, watched: Watched, judged: Judged, rules: Rules) -> None:
        """Remember where a stream stands, after it was judged as a whole."""
        self._kept.pop(watched.pk, None)
        if judged.glance is None:
            return
        stream = watched.stream
        facts = (stream.key, stream.zone, stream.first_ns, watched.lookout.plan_version_id)
        labels = rules.version, left_out_spans(rules.plan, stream.key, rules.labels.of(stream.key))
        kept = _Remembered(judged.glance, facts, labels)
        if judged.glance.size <= self._kept.maxsize:
            self._kept[watched.pk] = kept
            self._of_stream.setdefault(stream.pk, set()).add(watched.pk)

    def judge(
        self, lookout: Lookout, rows: Sequence[int], rules: Rules
    ) -> tuple[list[Row], list[int], list[int]]:
        """(changes of the rows that are calm; rows that were and that a replay of the whole has to judge now; rows of which
        nothing is remembered); nothing is written."""
        known = {pk: kept for pk in rows if (kept := self._kept.get(pk)) is not None}
        calm, stirred, unknown = [], [], [pk for pk in rows if pk not in known]
        if not known:
            return calm, stirred, unknown
        now = moments.now()
        for row in Watched.objects.filter(pk__in=known).values(*FIELDS):
            pk, changes = row["pk"], None
            kept = known[pk]
            if self._is_current(kept, row, lookout, rules):
                changes = _judge(kept, row, lookout, now, rules.now_ns)
            if changes is None:
                # What it was is over, also where the whole finds nothing new.
                self._kept.pop(pk, None)
                stirred.append(pk)
            elif changes:
                calm.append({"pk": pk, **changes})
        return calm, stirred, unknown

    def _is_current(self, kept: _Remembered, row: Row, lookout: Lookout, rules: Rules) -> bool:
        """Whether nothing has changed but for what came."""
        facts = (
            row["stream__key"],
            row["stream__zone"],
            row["stream__first_ns"],
            lookout.plan_version_id,
        )
        through_ns = row["judged_through_ns"]
        if facts != kept.facts or through_ns is None or through_ns < kept.glance.until_ns:
            return False
        if rules.version != kept.labels[0]:
            key = row["stream__key"]
            spans = left_out_spans(rules.plan, key, rules.labels.of(key))
            if spans != kept.labels[1]:
                return False
            kept.labels = rules.version, spans
        return True


def _judge(kept: _Remembered, row: Row, lookout: Lookout, now: datetime, now_ns: int) -> Row | None:
    """What changes in the row of a calm stream; None where the whole has to judge."""
    if row["state"] != models.STEADY and not (row["state"] == models.LEARNING and row["needs"]):
        return None
    times, values = store.merge(kept.arrived)
    kept.arrived = []
    wait_ns = judging.wait_for(lookout, row["stream__lateness_ns"])
    before = _caught_up(kept.glance.with_samples(times, values), row["judged_through_ns"], wait_ns)
    seen = None if before is None else before.go_on(now_ns, wait_ns, lookout.skip_last)
    if before is None or seen is None:
        return None
    kept.glance, judged = seen
    step_ns, until_ns = kept.glance.tail.step_ns, kept.glance.until_ns
    # A limit may be another one since, without a new bin.
    if lookout.limit and foreseeing.is_due(lookout.limit, row["foreseen_through_ns"], until_ns):
        return None
    changes: Row = {}
    newest_ns = kept.glance.newest_ns
    if newest_ns > row["newest_ns"]:
        changes |= {"newest_ns": newest_ns, "newest_at": now}
    elif (now - row["newest_at"]).total_seconds() * SECOND_NS > judging.silence_of(step_ns, wait_ns):
        return None
    next_ns = until_ns + step_ns + wait_ns
    if next_ns != row["next_ns"]:
        # Also where the wait has changed, by hand or as it was learned.
        changes["next_ns"] = next_ns
    if until_ns != before.until_ns:
        changes |= {
            "judged_through_ns": until_ns,
            "judged": row["judged"] + judged,
            "why": judging.calm_words(row["state"], until_ns, row["stream__zone"]),
        }
    return changes


def _caught_up(glance: Glance, through_ns: int, wait_ns: int) -> Glance | None:
    """The glance after the bins that another worker has judged meanwhile; None where they are not calm by it."""
    if glance.until_ns == through_ns:
        return glance
    seen = glance.go_on(through_ns + wait_ns, wait_ns)
    return seen[0] if seen is not None and seen[0].until_ns == through_ns else None


def write(rows: Sequence[Row]) -> None:
    """Write changes of rows, those of the same columns in one statement: the rows go along as a table."""
    # Moments are written as the database reads them.
    as_they_are = orjson.OPT_PASSTHROUGH_DATETIME
    by_fields: dict[tuple[str, ...], list[list[Any]]] = {}
    for row in rows:
        names = tuple(name for name in WRITTEN if name in row)
        by_fields.setdefault(names, []).append([row["pk"], *(row[name] for name in names)])
    with connection.cursor() as cursor:
        for names, values in by_fields.items():
            kinds = [Watched._meta.get_field(name).db_type(connection) for name in names]
            columns = [
                f"{name} {kind} PATH '$[{i}]' ERROR ON ERROR"
                for i, (name, kind) in enumerate(zip(names, kinds, strict=True), 1)
            ]
            table = f"JSON_TABLE(%s, '$[*]' COLUMNS (id BIGINT PATH '$[0]', {', '.join(columns)})) AS fresh"
            places = ", ".join(f"lookout_stream.{name} = fresh.{name}" for name in names)
            cursor.execute(
                f"UPDATE {table} STRAIGHT_JOIN lookout_stream ON lookout_stream.id = fresh.id SET {places}",
                [orjson.dumps(values, connection.ops.adapt_datetimefield_value, as_they_are).decode()],
            )
