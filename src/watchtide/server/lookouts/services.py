"""What may be done with lookouts: made, changed, ended; and which streams they watch."""

from collections.abc import Collection, Sequence
from datetime import timedelta
from typing import Any

from django.db import transaction
from django.db.models import Count, Exists, F, Max, OuterRef, Q, QuerySet

from watchtide.plan import durations, load
from watchtide.server import moments
from watchtide.server.jobs import services as jobs
from watchtide.server.jobs.models import Job
from watchtide.server.lookouts.models import FAILING, SILENT, Lookout, Watched
from watchtide.server.problems import Problem
from watchtide.server.scans import services as scans
from watchtide.server.scans.models import PlanVersion
from watchtide.server.streams import catalogue
from watchtide.server.streams.models import Batch, Stream

MOST_STREAMS = 20_000
# Bins that end without a new batch are looked for so often.
AT_LEAST_EVERY = timedelta(seconds=15)
NOTIFY = {"began": True, "ended": True, "silent": True, "remind": None, "together": True}


def matching(scope: dict[str, Any]) -> QuerySet[Stream]:
    """The visible streams of a scope, now."""
    found = catalogue.visible()
    if "streams" in scope:
        return found.filter(pk__in=scope["streams"])
    if metric := scope.get("metric"):
        found = found.filter(metric=metric)
    for name, value in sorted((scope.get("attributes") or {}).items()):
        found = found.filter(attributes__contains=[[name, value]])
    return found


def checked_scope(scope: dict[str, Any]) -> dict[str, Any]:
    """A scope as it is kept. Raises Problem for one that names nothing or unknown streams."""
    if "streams" in scope:
        ids = sorted(set(scope["streams"]))
        known = set(catalogue.visible().filter(pk__in=ids).values_list("pk", flat=True))
        if missing := [i for i in ids if i not in known]:
            raise Problem(
                f"no stream {missing[0]}", place="scope.streams", remedy="see /api/v1/catalogue", code=404
            )
        if not ids:
            raise Problem("no stream is named", place="scope.streams", remedy="name one, or a metric")
        return {"streams": ids}
    attributes = scope.get("attributes") or {}
    if not scope.get("metric") and not attributes:
        raise Problem(
            "the scope names neither streams nor a metric nor attributes",
            place="scope",
            remedy='write for example {"metric": "gate_taps"}',
        )
    return {"metric": scope.get("metric") or "", "attributes": attributes}


def checked_duration(text: str, place: str) -> str:
    """A duration as it is kept. Raises Problem for what is none."""
    try:
        durations.parse_ns(text)
    except ValueError as error:
        raise Problem(f"{text[:40]!r} is no duration", place=place, remedy="write for example 5m") from error
    return text


def version_of(plan: Any, name: str, by: str) -> PlanVersion:
    """The plan version that a lookout runs: one that is there, or that of a text. Raises Problem or PlanError."""
    if isinstance(plan, dict):
        found = PlanVersion.objects.filter(pk=plan.get("version")).first()
        if found is None:
            raise Problem(
                f"no plan version {plan.get('version')}", place="plan", remedy="see /api/v1/plans", code=404
            )
        scans.refuse_as_if_live(scans.plan_of(found.text))
        return found
    stated = load(str(plan))
    scans.refuse_as_if_live(stated)
    return scans.plan_version(name, stated, by)


def links_of(streams: Collection[int]) -> set[tuple[int, int]]:
    """(stream, stream that feeds it) of some streams."""
    found = Stream.fed_by.through.objects.filter(from_stream__in=streams)
    return set(found.values_list("from_stream_id", "to_stream_id"))


@transaction.atomic
def make(name: str, version: PlanVersion, by: str, routes: Sequence[int] = (), **facts: Any) -> Lookout:
    lookout = Lookout.objects.create(name=name, plan_version=version, created_by=by, **facts)
    lookout.routes.set(routes)
    join(lookout)
    return lookout


def join(lookout: Lookout) -> int:
    """Take in the streams that match by now. Returns how many are new."""
    known = set(lookout.watched.values_list("stream_id", flat=True))
    fresh = [
        pk for pk in matching(lookout.scope).values_list("pk", flat=True)[:MOST_STREAMS] if pk not in known
    ]
    # What is there already wakes nobody; a stream that is new since the lookout was made has nothing that is known.
    is_first = not known and lookout.looked_at is None
    newest = dict(Stream.objects.filter(pk__in=fresh).values_list("pk", "last_ns")) if is_first else {}
    rows = [Watched(lookout=lookout, stream_id=pk, known_ns=newest.get(pk)) for pk in fresh]
    Watched.objects.bulk_create(rows, ignore_conflicts=True, batch_size=1_000)
    return len(fresh)


@transaction.atomic
def begin_anew(lookout: Lookout) -> None:
    """Delete what was judged: it is of another plan or scope."""
    lookout.watched.all().delete()
    join(lookout)


def look() -> int:
    """Put down a job for each lookout that may have something to judge. Returns how many."""
    now, now_ns = moments.now(), moments.now_ns()
    newest = Batch.objects.filter(accepted_at__isnull=False).aggregate(at=Max("accepted_at"))["at"]
    # A bin has ended, or silence may have begun; of what is silent only new samples say anything.
    due = Q(next_ns=None, judged_through_ns=None) | Q(next_ns__lte=now_ns)
    open_ones = Watched.objects.filter(due, lookout=OuterRef("pk")).exclude(state__in=(SILENT, FAILING))
    count = 0
    for lookout in Lookout.objects.filter(is_on=True).annotate(has_due=Exists(open_ones)):
        since = lookout.looked_at
        has_new = since is None or (newest is not None and newest > since)
        is_time = since is None or now - since >= pause_of(lookout)
        if is_time and (has_new or (lookout.has_due and now - since >= AT_LEAST_EVERY)):
            request(lookout)
            count += 1
    return count


def pause_of(lookout: Lookout) -> timedelta:
    """The least time from one look to the next."""
    if lookout.every == "auto":
        return timedelta(0)
    return durations.parse_timedelta(lookout.every)


def request(lookout: Lookout, rest: Sequence[int] = ()) -> Job:
    """A job for what is due on a lookout; rest : only these rows, which an earlier job has left."""
    arguments: dict[str, Any] = {"lookout": lookout.pk} | ({"rest": list(rest)} if rest else {})
    about = [lookout.pk, rest[0]] if rest else lookout.pk
    # Whoever looked last remembers where its streams stand; any other would judge each of them as a whole first.
    return jobs.enqueue("watch", f"Lookout {lookout.name}", arguments, about=about, prefers=lookout.worker)


def due_now(lookout: Lookout) -> list[int]:
    """Numbers of the streams of a lookout whose next bin may be complete, those first that have waited longest; last those with
    a whole history to judge, which takes long and is awaited by nobody."""
    due = Q(next_ns=None) | Q(next_ns__lte=moments.now_ns())
    first = F("next_ns").asc(nulls_last=True)
    return list(lookout.watched.filter(due).order_by(first, "pk").values_list("pk", flat=True))


def counted(lookouts: Sequence[Lookout]) -> Sequence[Lookout]:
    """The same, each with how many of its streams are in which state."""
    found = Watched.objects.filter(lookout__in=lookouts).values("lookout", "state").annotate(n=Count("pk"))
    rows = list(found)
    for lookout in lookouts:
        lookout.states = {r["state"]: r["n"] for r in rows if r["lookout"] == lookout.pk}  # type: ignore[attr-defined]
    return lookouts
