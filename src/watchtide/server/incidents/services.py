"""What may be done with incidents, and what they hold. Every change is one transaction and is written down."""

import math
import threading
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
from django.db import transaction
from django.db.models import Max

from watchtide.core.explain import incidents
from watchtide.core.explain.coincidence import Chance
from watchtide.core.explain.incidents import Piece
from watchtide.server import moments
from watchtide.server.incidents.models import APART, CLOSED, OPEN, Change, Incident, Part
from watchtide.server.jobs import services as jobs
from watchtide.server.logbook import services as logbook
from watchtide.server.logbook.models import Entry
from watchtide.server.problems import Problem
from watchtide.server.scans import reading
from watchtide.server.scans import services as scans
from watchtide.server.scans.models import Finding
from watchtide.server.streams.models import Stream
from watchtide.tables import clock

# Findings this near an incident that are not in it are offered to be put there.
NEARBY = np.timedelta64(incidents.LAG_NS, "ns")
MOST_NEARBY = 12
LONG_AGO = moments.at(clock.EARLIEST_NS)
MOST_FINDINGS = 2_000
# A group of which chance would bring about as many is none to look at.
MOST_BY_CHANCE = 0.5

Row = dict[str, Any]
# What is seen of the streams here: a thousand of them are read with every page.
SEEN = ("key", "metric", "title_given", "title_own", "unit", "zone", "bad_side", "step_ns")
# Requests are answered in several threads.
_lock = threading.Lock()
_latest: list[Any] = []


@dataclass(frozen=True)
class Survey:
    """The findings of all standing scans, and which of them lie in which incident."""

    rows: list[Row]

    @cached_property
    def streams(self) -> dict[int, Stream]:
        return Stream.objects.only(*SEEN).in_bulk({r["stream"] for r in self.rows})

    @cached_property
    def of_stream(self) -> dict[int, list[int]]:
        out: dict[int, list[int]] = {}
        for at, row in enumerate(self.rows):
            out.setdefault(row["stream"], []).append(at)
        return out

    @cached_property
    def incidents(self) -> dict[int, tuple[Incident, list[Part]]]:
        """All incidents by number, each with its parts."""
        out: dict[int, tuple[Incident, list[Part]]] = {
            i.pk: (i, []) for i in Incident.objects.order_by("-pk")
        }
        for part in Part.objects.select_related("stream").order_by("start_ns", "pk"):
            out[part.incident_id][1].append(part)
        return out

    @cached_property
    def places(self) -> dict[int, list[int]]:
        """Places in `rows` of the findings of each incident."""
        return {pk: self.touched(parts) for pk, (_, parts) in self.incidents.items()}

    def touched(self, parts: Sequence[Part]) -> list[int]:
        """Places of the findings that touch these spans, in order of time."""
        found = {
            at
            for p in parts
            for at in self.of_stream.get(p.stream_id, ())
            if self.rows[at]["start"] <= moments.at(p.end_ns)
            and self.rows[at]["end"] >= moments.at(p.start_ns)
        }
        return sorted(found, key=lambda at: (self.rows[at]["start"], at))

    @cached_property
    def pieces(self) -> list[Piece]:
        """Every finding, judged or not, in the order of `rows`."""
        starts, ends = (
            np.array([r[side] for r in self.rows], "datetime64[ns]").astype(np.int64).tolist()
            for side in ("start", "end")
        )
        scores = [math.nan if r["score"] is None else r["score"] for r in self.rows]
        return [
            Piece(a, b, *self.facts[r["stream"]], score)
            for a, b, r, score in zip(starts, ends, self.rows, scores, strict=True)
        ]

    @cached_property
    def facts(self) -> dict[int, tuple[int, str, int]]:
        """Number, key and step of each stream."""
        return {pk: (pk, s.key, s.step_ns) for pk, s in self.streams.items()}

    @cached_property
    def fed_by(self) -> set[tuple[int, int]]:
        return set(Stream.fed_by.through.objects.values_list("from_stream_id", "to_stream_id"))

    @cached_property
    def chance(self) -> Chance:
        return Chance(self.pieces, self.fed_by)

    @property
    def proposed(self) -> list[tuple[list[int], float]]:
        """Places of the open findings that go together and lie in no incident, and how many groups like each are to be
        expected by chance; the least likely first, those that chance would bring about too left out. Not to be changed:
        they are sought anew when findings, streams or incidents have changed, every change of which is written down."""
        return self._remembered[0]

    @property
    def proposals(self) -> list[Row]:
        """What is proposed, as it is listed. Not to be changed."""
        return self._remembered[1]

    @cached_property
    def _remembered(self) -> tuple[list[tuple[list[int], float]], list[Row]]:
        streams = {pk: [getattr(s, name) for name in SEEN] for pk, s in self.streams.items()}
        state = (Change.objects.aggregate(last=Max("pk"))["last"], self.fed_by, streams)
        with _lock:
            # Rows that have not changed are the same object.
            if _latest and _latest[0] is self.rows and _latest[1] == state:
                return _latest[2]
        found = self._sought()
        kept = found, [_row(self, None, places) | {"by_chance": chance} for places, chance in found]
        with _lock:
            _latest[:] = [self.rows, state, kept]
        return kept

    def _sought(self) -> list[tuple[list[int], float]]:
        held = {at for pk, (i, _) in self.incidents.items() if i.state != APART for at in self.places[pk]}
        free = [
            at for at, r in enumerate(self.rows) if r["verdict"] is None and not r["quiet"] and at not in held
        ]
        back = {at: k for k, at in enumerate(free)}
        apart = [
            {back[at] for at in self.places[pk] if at in back}
            for pk, (i, _) in self.incidents.items()
            if i.state == APART
        ]
        groups = incidents.propose([self.pieces[at] for at in free], self.fed_by, apart)
        found = [[free[k] for k in group] for group in groups]
        rated = [(places, self.chance.of([self.pieces[at] for at in places])) for places in found]
        return sorted((g for g in rated if g[1] < MOST_BY_CHANCE), key=lambda g: g[1])


def survey() -> Survey:
    return Survey(reading.standing_findings())


def listed(state: str = OPEN) -> list[Row]:
    """Incidents in this state, newest first; with the open ones those proposed, the least likely by chance first."""
    seen = survey()
    out = [
        _row(seen, i, seen.places[pk], parts) for pk, (i, parts) in seen.incidents.items() if i.state == state
    ]
    out.sort(key=lambda r: (LONG_AGO if r["start"] is None else r["start"], r["id"]), reverse=True)
    if state == OPEN:
        out += seen.proposals
    return out


def detail(pk: int) -> Row:
    seen = survey()
    if pk not in seen.incidents:
        raise Incident.DoesNotExist
    incident, parts = seen.incidents[pk]
    return _detail(seen, incident, seen.places[pk], parts)


def proposal(finding: int) -> Row:
    """What is proposed around an open finding. Problem where nothing goes with it."""
    seen = survey()
    for places, chance in seen.proposed:
        if any(seen.rows[at]["id"] == finding for at in places):
            return _detail(seen, None, places, ()) | {"by_chance": chance}
    raise Problem(
        "nothing is proposed around this finding any more",
        remedy="it was judged, put into an incident, or scanned again: look at the open incidents",
        code=404,
    )


def _row(seen: Survey, incident: Incident | None, places: Sequence[int], parts: Sequence[Part] = ()) -> Row:
    rows = [seen.rows[at] for at in places]
    starts = [r["start"] for r in rows] + [moments.at(p.start_ns) for p in parts]
    ends = [r["end"] for r in rows] + [moments.at(p.end_ns) for p in parts]
    streams = {s.pk: s for s in [seen.streams[r["stream"]] for r in rows] + [p.stream for p in parts]}
    strongest = max(rows, key=lambda r: r["score"] or 0.0, default=None)
    return {
        "id": incident.pk if incident else None,
        "finding": strongest["id"] if strongest else None,
        "title": incident.title
        if incident
        else title_of(list(streams.values()), {r["direction"] for r in rows}),
        "state": incident.state if incident else "proposed",
        "cause": incident.cause if incident else "",
        "taken_by": incident.taken_by if incident else "",
        "streams": len(streams),
        "metrics": sorted({s.metric for s in streams.values()}),
        "findings": len(rows),
        "open": sum(r["verdict"] is None for r in rows),
        "start": min(starts, default=None),
        "end": max(ends, default=None),
        "zone": next((s.zone for s in streams.values()), "UTC"),
        "score": strongest["score"] if strongest else None,
        "by_chance": None,
        "kind": strongest["kind"] if strongest else "",
        "direction": strongest["direction"] if strongest else "",
        "bad_side": seen.streams[strongest["stream"]].bad_side if strongest else "both",
    }


def title_of(streams: Sequence[Stream], directions: set[str]) -> str:
    """What these streams have in common, their metrics, and the side if it is one for all."""
    common = incidents.shared([s.key for s in streams])
    place = ", ".join(value for name, value in common if name != "metric")
    metrics = sorted({s.metric for s in streams})
    words = " and ".join(metrics) if len(metrics) < 3 else f"{metrics[0]} and {len(metrics) - 1} more"
    side = next(iter(directions)) if len(directions) == 1 else ""
    return f"{f'{place}: ' if place else ''}{words}{f' {side}' if side else ''}"


def _detail(seen: Survey, incident: Incident | None, places: Sequence[int], parts: Sequence[Part]) -> Row:
    row = _row(seen, incident, places, parts)
    inside, streams = set(places), {seen.rows[at]["stream"] for at in places}
    held = {at for mine in seen.places.values() for at in mine}
    near = [
        r
        for at, r in enumerate(seen.rows)
        if at not in inside | held
        and r["verdict"] is None
        and row["start"] is not None
        and row["start"] - NEARBY <= r["start"] <= row["end"] + NEARBY
    ]
    entries = incident.entries.filter(deleted_at__isnull=True).order_by("start_ns", "pk") if incident else ()
    changes = incident.changes.order_by("pk") if incident else ()
    return row | {
        "note": incident.note if incident else "",
        "created_by": incident.created_by if incident else "",
        "created_at": incident.created_at if incident else None,
        "shared": [
            f"{name}={value}"
            for name, value in incidents.shared([seen.streams[s].key for s in sorted(streams)])
        ],
        "fed_by": [
            list(pair)
            for pair in Stream.fed_by.through.objects.filter(
                from_stream__in=streams, to_stream__in=streams
            ).values_list("from_stream_id", "to_stream_id")
        ],
        "members": [seen.rows[at] for at in places],
        # Spans kept from a scan whose findings no longer touch them.
        "bare": [
            {
                "stream": p.stream_id,
                "metric": p.stream.metric,
                "title": p.stream.title,
                "start": moments.at(p.start_ns),
                "end": moments.at(p.end_ns),
            }
            for p in parts
            if not seen.touched([p])
        ],
        "nearby": near[:MOST_NEARBY],
        "entries": list(entries),
        "changes": [{"action": c.action, "content": _content(c), "by": c.by, "at": c.at} for c in changes],
    }


def _content(change: Change) -> dict[str, Any]:
    """What a change was, its spans as answers have them."""
    spans = [
        {"series": key, "start": moments.at(start), "end": moments.at(end)}
        for key, start, end in change.content.get("spans", ())
    ]
    return change.content | ({"spans": spans} if spans else {})


def _note(incident: Incident, action: str, by: str, **content: Any) -> None:
    Change.objects.create(incident=incident, action=action, content=content, by=by)
    jobs.tell("incident", incident.pk)


def _findings(ids: Sequence[int]) -> list[Finding]:
    found = list(Finding.objects.filter(pk__in=ids).select_related("stream"))
    if not ids or len(found) < len(set(ids)):
        raise Problem(
            "some of these findings are no longer there" if ids else "no finding is named",
            place="findings",
            remedy="a scan has replaced them; open the incident anew",
            code=409 if ids else 400,
        )
    return found


@transaction.atomic
def make(finding_ids: Sequence[int], title: str, by: str, *, state: str = OPEN) -> Incident:
    """Put findings together: as an incident, or as what was proposed and is not one (state apart)."""
    found = _findings(finding_ids)
    streams = {f.stream_id: f.stream for f in found}
    incident = Incident.objects.create(
        title=title or title_of(list(streams.values()), {f.direction for f in found}),
        state=state,
        created_by=by,
    )
    _put(incident, found)
    _note(incident, "apart" if state == APART else "make", by, title=incident.title, spans=_spans(found))
    return incident


def _put(incident: Incident, found: Sequence[Finding]) -> None:
    Part.objects.bulk_create(
        [Part(incident=incident, stream_id=f.stream_id, start_ns=f.start_ns, end_ns=f.end_ns) for f in found],
        ignore_conflicts=True,
    )


def _spans(found: Sequence[Finding]) -> list[list[Any]]:
    return [[f.stream.key, f.start_ns, f.end_ns] for f in found]


CHANGEABLE = ("title", "cause", "note", "state", "taken_by")


@transaction.atomic
def change(
    pk: int, content: dict[str, Any], by: str, check: Callable[[Incident], None] = lambda incident: None
) -> Incident:
    """Change an incident's words or state. check : called with the row locked, before anything is changed."""
    incident = Incident.objects.select_for_update().get(pk=pk)
    check(incident)
    before = {name: getattr(incident, name) for name in content if name in CHANGEABLE}
    if content.get("title", "x").strip() == "":
        raise Problem(
            "an incident needs a title", place="title", remedy="write what happened, in a few words"
        )
    for name in before:
        setattr(incident, name, content[name])
    incident.save()
    _note(incident, "change", by, before=before, after={name: content[name] for name in before})
    return incident


@transaction.atomic
def put_in(pk: int, finding_ids: Sequence[int], by: str) -> None:
    incident = Incident.objects.select_for_update().get(pk=pk)
    found = _findings(finding_ids)
    _put(incident, found)
    _note(incident, "put in", by, spans=_spans(found))


@transaction.atomic
def take_out(pk: int, finding_ids: Sequence[int], by: str) -> None:
    """Take findings out: every part of their streams that they touch goes. The last part stays."""
    incident = Incident.objects.select_for_update().get(pk=pk)
    found = _findings(finding_ids)
    parts = incident.parts.all()
    gone = [
        p.pk
        for p in parts
        for f in found
        if p.stream_id == f.stream_id and p.start_ns <= f.end_ns and p.end_ns >= f.start_ns
    ]
    if len(set(gone)) == len(parts):
        raise Problem(
            "an incident keeps at least one span", place="findings", remedy="close it, or say that it is none"
        )
    incident.parts.filter(pk__in=gone).delete()
    _note(incident, "take out", by, spans=_spans(found))


@transaction.atomic
def judge(pk: int, content: dict[str, Any], by: str, *, but: int | None = None) -> list[Entry]:
    """The same verdict for every finding of the incident that has none: one entry a finding, of that stream alone.

    but : a finding that is judged by itself.
    """
    incident = Incident.objects.select_for_update().get(pk=pk)
    seen = survey()
    open_rows = [seen.rows[at] for at in seen.places[pk] if seen.rows[at]["verdict"] is None]
    rows = [r for r in open_rows if r["id"] != but]
    if not rows:
        raise Problem(
            "every finding of this incident has a verdict", remedy="change it in the logbook", code=409
        )
    found = _findings([r["id"] for r in rows])
    cause = content.get("cause") or incident.cause
    entries = logbook.add_all(
        [scans.entry_of(f, content["verdict"], cause, content.get("note", "")) for f in found], by
    )
    incident.entries.add(*entries)
    if cause and cause != incident.cause:
        incident.cause = cause
        incident.save(update_fields=["cause"])
    _note(incident, "judge", by, verdict=content["verdict"], entries=[e.pk for e in entries])
    return entries


@transaction.atomic
def unjudge(pk: int, entry_ids: Sequence[int], by: str) -> list[int]:
    """Take back entries that a verdict on the incident made; those that were still there."""
    incident = Incident.objects.select_for_update().get(pk=pk)
    mine = list(incident.entries.filter(pk__in=entry_ids, deleted_at__isnull=True))
    logbook.remove_all(mine, by)
    gone = [e.pk for e in mine]
    _note(incident, "take back", by, entries=gone)
    return gone


def _around(finding: Finding) -> tuple[Survey, int | None, list[int]]:
    """The incident that a finding of a standing scan lies in, or None for what is only proposed; and all its findings."""
    seen = survey()
    for pk, (incident, _) in seen.incidents.items():
        if incident.state in (OPEN, CLOSED) and any(
            seen.rows[at]["id"] == finding.pk for at in seen.places[pk]
        ):
            return seen, pk, seen.places[pk]
    for places, _ in seen.proposed:
        if any(seen.rows[at]["id"] == finding.pk for at in places):
            return seen, None, places
    return seen, None, []


def mates(finding: Finding) -> dict[str, Any] | None:
    """What a finding belongs to, and how many others of it have no verdict; None for a lone one."""
    seen, pk, places = _around(finding)
    others = [at for at in places if seen.rows[at]["id"] != finding.pk and seen.rows[at]["verdict"] is None]
    if not others:
        return None
    row = _row(seen, seen.incidents[pk][0] if pk else None, places, seen.incidents[pk][1] if pk else ())
    return {name: row[name] for name in ("id", "finding", "title", "state", "streams")} | {
        "open": len(others)
    }


@transaction.atomic
def judge_rest(finding: Finding, content: dict[str, Any], by: str) -> tuple[Incident | None, list[Entry]]:
    """A verdict for what is open beside a finding in its incident; what was only proposed is kept by it."""
    seen, pk, places = _around(finding)
    if not any(seen.rows[at]["id"] != finding.pk and seen.rows[at]["verdict"] is None for at in places):
        return None, []
    if pk is None:
        pk = make([seen.rows[at]["id"] for at in places], "", by).pk
    return Incident.objects.get(pk=pk), judge(pk, content, by, but=finding.pk)
