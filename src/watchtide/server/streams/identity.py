"""Identity rules in force: which stream a pushed series belongs to, what a changed rule would do, and applying one.

Samples sent under attributes that the rules drop or rename are stored as received in a hidden *source* stream; the
visible stream is combined from its sources (`renewing`). So a rule can be changed and undone at any time.
"""

from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import timedelta
from typing import Any

from django.db import transaction
from django.db.models import Q

from watchtide.server import moments
from watchtide.server.jobs import services as jobs
from watchtide.server.problems import Problem
from watchtide.server.streams import catalogue, places, renewing, store
from watchtide.server.streams.models import Batch, IdentityVersion, Stream
from watchtide.server.streams.places import Place, in_force, place_of, place_of_stream
from watchtide.tables import identity
from watchtide.tables.identity import Rule
from watchtide.tables.points import BOUND, COUNTED, Series

# Preview looks at what came within the last hour, at most so many messages of it.
RECENT, MOST_BATCHES = timedelta(hours=1), 500


@dataclass
class FoundStreams:
    """numbers : of the streams that hold each series as it came, None for one that is refused; refused : why, by series;
    indirect : series whose visible stream is derived from what is stored."""

    numbers: list[int | None]
    refused: dict[Series, str] = field(default_factory=dict)
    indirect: set[Series] = field(default_factory=set)


def find_streams(series: Sequence[Series], zone: str) -> FoundStreams:
    """The streams that hold live series, made where they are new."""
    rules = in_force()
    places_of = [place_of(s.metric, s.attributes, rules) for s in series]
    out = FoundStreams([None] * len(series))
    _refuse_other_units(series, places_of, out)
    groups: dict[tuple[str, str, bool], list[int]] = {}
    for i, s in enumerate(series):
        if s in out.refused:
            continue
        kind, _ = places_of[i].holder(s.kind in ("counter", "bucket"))
        # By itself: one series that cannot be named holds up none that came with it.
        metric = s.metric + (COUNTED if kind == "counter" else "")
        if what := catalogue.unfit(metric, catalogue.stream_key(metric, s.attributes)):
            out.refused[s] = f"{s.metric[:40]}: a stream with {what}; {catalogue.NAMES}"
            continue
        if kind != "samples":
            out.indirect.add(s)
        groups.setdefault((kind, s.unit, s.kind == "amount"), []).append(i)
    for (kind, unit, is_additive), at in groups.items():
        wanted = [
            (series[i].metric + (COUNTED if kind == "counter" else ""), series[i].attributes) for i in at
        ]
        found = catalogue.find_or_make(
            wanted,
            own=[_facts(kind, places_of[i]) for i in at],
            unit=unit[:40],
            zone=zone,
            is_additive=is_additive,
            is_sent=kind != "counter",
        )
        changed = []
        for i, stream in zip(at, found, strict=True):
            out.numbers[i] = stream.pk
            if _settle(stream, _facts(kind, places_of[i]), is_additive):
                changed.append(stream)
        if changed:
            _keep_settled(changed)
    return out


def _facts(kind: str, place: Place) -> dict[str, str]:
    """What a place says of the stream that holds one of its series as it came."""
    _, sha = place.holder(kind == "counter")
    return {"kind": kind, "joins_sha": sha, "join": place.join}


def _settle(stream: Stream, facts: dict[str, str], is_additive: bool) -> bool:
    """Bring what a found stream is a part of up to date; whether something changed."""
    wanted = facts | {
        "is_additive": is_additive or stream.is_additive,
        "is_sent": stream.is_sent or facts["kind"] != "counter",
    }
    # Where a formula has taken this name, its results stand.
    if stream.kind == "derived" or all(getattr(stream, name) == value for name, value in wanted.items()):
        return False
    for name, value in wanted.items():
        setattr(stream, name, value)
    return True


def _keep_settled(changed: Sequence[Stream]) -> None:
    """Write streams that became sources, or ceased to be; a job combines their history."""
    with transaction.atomic():
        Stream.objects.bulk_update(
            changed, ["kind", "joins_sha", "join", "is_additive", "is_sent"], batch_size=500
        )
        catalogue.retitle({s.metric for s in changed})
        with_history = sorted({s.joins_sha for s in changed if s.joins_sha and s.samples})
        if with_history:
            jobs.enqueue("join", "Combine streams from their sources", {"places": with_history})


def _refuse_other_units(series: Sequence[Series], places_of: Sequence[Place], out: FoundStreams) -> None:
    """Refuse series in another unit than the stream they would become a part of: the sum of seconds and bytes is nothing."""
    indirect = {p.sha for p in places_of if not p.is_direct}
    units = dict(Stream.objects.filter(key_sha__in=indirect).values_list("key_sha", "unit"))
    for s, place in zip(series, places_of, strict=True):
        if place.is_direct:
            continue
        unit = _seen_unit(s)
        held = units.setdefault(place.sha, unit)
        if unit and held and unit != held:
            out.refused[s] = (
                f"{s.metric[:40]}: its unit is {unit}, that of its stream {held}; keep an attribute that distinguishes them"
            )


def _seen_unit(s: Series) -> str:
    return renewing.rate_unit(s.unit) if s.kind == "counter" else s.unit[:40]


# ------------------------------------------------------------------------------------------------- what rules would do


def preview(rules: Sequence[Rule]) -> dict[str, Any]:
    """What these rules would make of the last hour's series: streams before and after, and which are combined."""
    since = moments.now() - RECENT
    recent = Batch.objects.filter(door__in=("push", "pull"), accepted_at__gte=since, undone_at__isnull=True)
    batches = list(recent.order_by("-accepted_at")[:MOST_BATCHES])
    streams = _live().filter(pk__in=list(renewing.spans_of(batches)))
    return _effect(list(streams), rules) | {"messages": len(batches), "is_part": len(batches) == MOST_BATCHES}


def _live() -> Any:
    """Streams as senders name them: sources, counters, and streams whose attributes no rule changes."""
    return Stream.objects.filter(Q(kind__in=("source", "counter")) | Q(kind="samples", is_sent=True))


def _effect(streams: Sequence[Stream], rules: Sequence[Rule]) -> dict[str, Any]:
    now = in_force()
    before: dict[str, list[Stream]] = {}
    after: dict[str, list[Stream]] = {}
    seen: dict[str, Place] = {}
    was: dict[int, Place] = {}
    for stream in streams:
        old, new = place_of_stream(stream, now), place_of_stream(stream, rules)
        was[stream.pk] = old
        seen[new.sha] = new
        before.setdefault(old.sha, []).append(stream)
        after.setdefault(new.sha, []).append(stream)
    rows = []
    for sha, own in after.items():
        place = seen[sha]
        old_keys = sorted({catalogue.stream_key(was[s.pk].metric, was[s.pk].attributes) for s in own})
        key = catalogue.stream_key(place.metric, place.attributes)
        rows.append(
            {
                "key": key,
                "metric": place.metric,
                "attributes": [list(p) for p in place.attributes],
                "join": place.join,
                "sources": sorted({s.key for s in own})[:50],
                "source_count": len({s.key for s in own}),
                "was": old_keys[:50],
                "is_merged": len(old_keys) > 1,
                "is_new": old_keys != [key],
                "units": sorted({_unit_of(s) for s in own if _unit_of(s)}),
            }
        )
    rows.sort(key=lambda r: (not r["is_merged"], not r["is_new"], r["key"]))
    problems = [
        f"{r['key'][:120]} would join streams in {' and '.join(r['units'])}: keep an attribute that distinguishes them"
        for r in rows
        if len(r["units"]) > 1
    ]
    return {
        "before": len(before),
        "after": len(after),
        "merged": sum(r["is_merged"] for r in rows),
        "streams": rows[:500],
        "problems": problems[:20],
    }


def _unit_of(stream: Stream) -> str:
    is_bucket = bool(stream.attributes) and stream.attributes[-1][0] == BOUND
    return renewing.rate_unit(stream.unit) if stream.kind == "counter" and not is_bucket else stream.unit


# ----------------------------------------------------------------------------------------------------- changing rules


@transaction.atomic
def put_in_force(rules: Sequence[Rule], user: Any) -> tuple[IdentityVersion, jobs.Job]:
    """Apply these rules from now on; a job combines the history of the streams that they join.

    Raises Problem (409) where they would join streams of different units; nothing is changed then.
    """
    streams = list(_live().select_for_update().order_by("pk"))
    effect = _effect(streams, rules)
    if effect["problems"]:
        raise Problem(
            effect["problems"][0],
            place="rules",
            remedy="change the rule, or the unit of one of them",
            code=409,
        )
    version = IdentityVersion.objects.create(rules=identity.to_data(rules), created_by=user)
    moved = _move(streams, rules)
    version.moved = len(moved.streams)
    version.save(update_fields=["moved"])
    return version, _follow(version, moved, user)


@transaction.atomic
def undo(version: IdentityVersion, user: Any) -> jobs.Job:
    """Undo rules: series are distinguished as before, also those that arrived since, and streams that only these rules
    made are hidden."""
    newest = places.newest(is_locked=True)
    if newest is None or newest.pk != version.pk:
        raise Problem(
            "only the newest rules can be undone",
            place=f"version {version.pk}",
            remedy="undo the newer ones first",
            code=409,
        )
    version.undone_at, version.undone_by = moments.now(), user
    version.save(update_fields=["undone_at", "undone_by"])
    return _follow(version, _move(list(_live().select_for_update().order_by("pk")), in_force()), user)


@dataclass(frozen=True)
class Moved:
    """streams : whose place has changed; now, left : digests of their new places, and of the previous ones."""

    streams: list[Stream]
    now: set[str]
    left: set[str]


def _move(streams: Sequence[Stream], rules: Sequence[Rule]) -> Moved:
    """Assign streams to the places that these rules give them."""
    out = Moved([], set(), set())
    for stream in streams:
        place = place_of_stream(stream, rules)
        kind, sha = place.holder(stream.kind == "counter")
        if (kind, sha, place.join) == (stream.kind, stream.joins_sha, stream.join):
            continue
        out.left.add(stream.joins_sha)
        out.now.add(sha)
        stream.kind, stream.joins_sha, stream.join = kind, sha, place.join
        out.streams.append(stream)
    Stream.objects.bulk_update(out.streams, ["kind", "joins_sha", "join"], batch_size=500)
    return out


def _follow(version: IdentityVersion, moved: Moved, user: Any) -> jobs.Job:
    """Enqueue the job behind a change of rules: streams to combine, and those without a source."""
    catalogue.changed()
    arguments = {
        "places": sorted(moved.now - {""}),
        "left": sorted(moved.left - {""}),
        "metrics": sorted({s.metric for s in moved.streams if s.kind != "counter"}),
        "version": version.pk,
    }
    return jobs.enqueue("join", "Combine streams by the rules in force", arguments, user=user)


def join(
    places: Sequence[str], left: Sequence[str], metrics: Sequence[str], lease: jobs.Lease
) -> dict[str, Any]:
    """Combine the whole history of these places, hide streams that have no source left, and renew titles.

    metrics : whose streams moved, beside those of the places.
    """
    made: list[Stream] = []
    for i, sha in enumerate(places):
        lease.progress(i, len(places))
        if lease.is_cancelled():
            raise jobs.Cancelled
        with lease.write(store.snapshot):
            made += renewing.compute_place(sha)
    with lease.write():
        catalogue.retitle({*metrics, *_retire(left), *(s.metric for s in made)})
        catalogue.changed()
        jobs.tell("stream")
    return {"streams": len(made), "to_scan": _unscanned(made, places)}


def _unscanned(made: Sequence[Stream], places: Sequence[str]) -> list[int]:
    """Combined streams without a scan of which some source had one."""
    scanned = set(
        Stream.objects.filter(joins_sha__in=list(places), standing__isnull=False).values_list(
            "joins_sha", flat=True
        )
    )
    wanted = [s.pk for s in made if s.key_sha in scanned]
    return list(Stream.objects.filter(pk__in=wanted, standing__isnull=True).values_list("pk", flat=True))


def _retire(left: Sequence[str]) -> set[str]:
    """Hide combined streams that have no source left. Returns their metrics."""
    fed = set(Stream.objects.filter(joins_sha__in=list(left)).values_list("joins_sha", flat=True))
    bare = [sha for sha in left if sha not in fed]
    gone = Stream.objects.filter(kind="samples", is_sent=False, key_sha__in=bare)
    metrics = set(gone.values_list("metric", flat=True))
    gone.update(kind="retired")
    return metrics
