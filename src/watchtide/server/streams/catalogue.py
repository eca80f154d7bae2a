"""The catalogue: streams found or made by key, searched, changed, and deleted on request."""

import hashlib
from collections.abc import Callable, Iterable, Sequence
from typing import Any
from urllib.parse import urlsplit

from django.db import connection, transaction
from django.db.models import Count, Max, Q, QuerySet, TextField, Value
from django.db.models.functions import Concat, Lower

from watchtide.core.series import keys
from watchtide.server.jobs import services as jobs
from watchtide.server.jobs.models import Event, Job
from watchtide.server.problems import Problem
from watchtide.server.streams.models import HIDDEN, Batch, Stream
from watchtide.tables import clock
from watchtide.tables.points import MOST_KEY

MOST_METRIC = 200
NAMES = f"metrics have 1 to {MOST_METRIC} characters, keys {MOST_KEY:,}"
# New streams may change the titles of so many others before a job does it: a push waits for what happens at once.
RETITLED_AT_ONCE = 50


def stream_key(metric: str, attributes: Sequence[tuple[str, str]]) -> str:
    return keys.encode((("metric", metric), *attributes))


def sha(text: str) -> str:
    return hashlib.sha256(text.encode()).hexdigest()


def usual_zone() -> str | None:
    """The zone that most streams are in; None without streams."""
    rows = visible().order_by().values("zone").annotate(n=Count("pk")).order_by("-n", "zone")
    first = rows.first()
    return str(first["zone"]) if first else None


Wanted = tuple[str, tuple[tuple[str, str], ...]]
Attributes = Sequence[Sequence[str]]


# New streams of one batch. Making them takes seconds, while a sender waits.
MOST_FRESH = 20_000


def find_or_make(
    wanted: Sequence[Wanted],
    *,
    batch: Batch | None = None,
    own: Sequence[dict[str, Any]] | None = None,
    **facts: Any,
) -> list[Stream]:
    """The streams of these (metric, attributes), made where they are new. Raises Problem for a key too long.

    facts : of all that are made; own : of each, beside them.
    """
    by_sha: dict[str, tuple[Wanted, dict[str, Any]]] = {}
    shas = []
    for i, (metric, attributes) in enumerate(wanted):
        key = stream_key(metric, attributes)
        if what := unfit(metric, key):
            raise Problem(f"a stream with {what}", place=key[:80], remedy=NAMES)
        digest = sha(key)
        by_sha[digest] = (metric, attributes), {**facts, **(own[i] if own else {})}
        shas.append(digest)
    known = _by_sha(by_sha)
    fresh = [
        Stream(
            metric=metric, key=stream_key(metric, attributes), key_sha=digest, attributes=[list(p) for p in attributes],
            made_by=batch, **given,
        )
        for digest, ((metric, attributes), given) in by_sha.items()
        if digest not in known
    ]  # fmt: skip
    if len(fresh) > MOST_FRESH:
        raise Problem(
            f"{len(fresh):,} new streams at once", place="series", code=413,
            remedy=f"send at most {MOST_FRESH:,} in one batch; or drop the attribute that makes a stream of every value",
        )  # fmt: skip
    if fresh:
        _entitle(fresh)
        # Another writer may make the same streams at this moment; theirs are then found.
        Stream.objects.bulk_create(fresh, batch_size=500, ignore_conflicts=True)
        retitle({s.metric for s in fresh if s.kind not in HIDDEN}, at_once=RETITLED_AT_ONCE)
        known |= _by_sha({s.key_sha for s in fresh})
    return [known[digest] for digest in shas]


def unfit(metric: str, key: str) -> str:
    """Why a stream cannot be called so, or nothing."""
    if not metric:
        return "no name"
    if len(metric) > MOST_METRIC or len(key) > MOST_KEY:
        return f"a name of {max(len(metric), len(key)):,} characters"
    return ""


def visible() -> QuerySet[Stream]:
    """Streams that screens list: without counters, sources and retired ones."""
    return Stream.objects.exclude(kind__in=HIDDEN)


def retitle(metrics: Iterable[str], at_once: int | None = None) -> None:
    """Update titles: of each stream the attributes that distinguish it within its metric, and no others.

    at_once : where more titles of a metric than this change, a job does it.
    """
    later = []
    for metric in sorted(metrics):
        rows = _family(metric)
        titles = _titles([attributes for _, attributes, _ in rows])
        changed = [
            (title, number) for (number, _, now), title in zip(rows, titles, strict=True) if title != now
        ]
        if at_once is not None and len(changed) > at_once:
            later.append(metric)
        elif changed:
            # One statement of 5,000 cases takes the ORM seconds.
            table = Stream._meta.db_table
            with transaction.atomic(), connection.cursor() as cursor:
                cursor.executemany(f"UPDATE {table} SET title_own = %s WHERE id = %s", changed)
    if later:
        # A job that has not begun yet sees these streams too.
        waiting = Job.objects.filter(kind="retitle", state="queued").values_list("arguments", flat=True)
        later = sorted(set(later).difference(*(arguments["metrics"] for arguments in waiting)))
    if later:
        jobs.enqueue("retitle", "Renew titles beside new streams", {"metrics": later})


def _entitle(fresh: Sequence[Stream]) -> None:
    """Set the titles of streams that are about to be made, by those that are there and those made with them."""
    families: dict[str, list[Stream]] = {}
    for stream in fresh:
        if stream.kind not in HIDDEN:
            families.setdefault(stream.metric, []).append(stream)
    for metric, streams in families.items():
        there = [attributes for _, attributes, _ in _family(metric)]
        titles = _titles(there + [s.attributes for s in streams])[len(there) :]
        for stream, title in zip(streams, titles, strict=True):
            stream.title_own = title


def _family(metric: str) -> list[tuple[int, Attributes, str]]:
    """(number, attributes, title) of the visible streams of a metric."""
    return list(visible().filter(metric=metric).values_list("pk", "attributes", "title_own"))


def _titles(family: Sequence[Attributes]) -> list[str]:
    values: dict[str, set[str]] = {}
    counts: dict[str, int] = {}
    for attributes in family:
        for name, value in attributes:
            values.setdefault(name, set()).add(value)
            counts[name] = counts.get(name, 0) + 1
    apart = {name for name, seen in values.items() if len(seen) > 1 or counts[name] < len(family)}
    return [" · ".join(value for name, value in one if name in apart)[:500] for one in family]


def _by_sha(shas: Iterable[str]) -> dict[str, Stream]:
    wanted, out = list(shas), {}
    for a in range(0, len(wanted), 2_000):
        out |= {s.key_sha: s for s in Stream.objects.filter(key_sha__in=wanted[a : a + 2_000])}
    return out


def search(text: str = "", *, kind: str = "", family: str = "", owner: str = "") -> QuerySet[Stream]:
    """Streams whose metric, attributes, title, owner or family hold every word; `name=value` asks for an attribute."""
    found = Stream.objects.all()
    if kind:
        found = found.filter(kind=kind)
    if family:
        found = found.filter(Q(family=family) | Q(family="", metric=family))
    if owner:
        found = found.filter(owner=owner)
    # Columns compare byte by byte; a search does not.
    parts = ("key", Value(" "), "title_given", Value(" "), "owner", Value(" "), "family", Value(" "), "unit")
    found = found.annotate(words=Lower(Concat(*parts, output_field=TextField())))
    for word in text.split()[:10]:
        name, equals, value = word.partition("=")
        if equals and name and value:
            found = found.filter(key__contains=keys.encode([(name, value)]))
        else:
            encoded = keys.encode([("x", word)])[2:]
            found = found.filter(Q(words__contains=word.lower()) | Q(words__contains=encoded.lower()))
    return found


def changed() -> None:
    """Tell every process that keys of streams are not what they were."""
    jobs.tell("catalogue")


def version() -> int | None:
    """Changes whenever `changed` is called."""
    return Event.objects.filter(kind="catalogue").aggregate(last=Max("pk"))["last"]


@transaction.atomic
def edit(
    number: int, changes: dict[str, Any], check: Callable[[Stream], None] = lambda stream: None
) -> Stream:
    """Change a stream's facts, and nothing that others count meanwhile. Renaming its metric or attributes changes its key, and is
    refused where that is taken. check : called with the row locked, before anything is changed."""
    stream = Stream.objects.select_for_update().get(pk=number)
    check(stream)
    plain = {k: v for k, v in changes.items() if k not in ("fed_by", "covariates", "metric", "attributes")}
    if "zone" in plain:
        clock.zone(plain["zone"])
    if plain.get("runbook"):
        check_link(plain["runbook"])
    before = stream.metric
    if "metric" in changes or "attributes" in changes:
        _rename(stream, changes.get("metric", stream.metric), changes.get("attributes", stream.attributes))
        changed()
    for name, value in plain.items():
        setattr(stream, name, value)
    stream.save(update_fields=[*plain, "metric", "attributes", "key", "key_sha"])
    if "metric" in changes or "attributes" in changes:
        retitle({before, stream.metric})
        stream.refresh_from_db(fields=["title_own"])
    for name in ("fed_by", "covariates"):
        if name in changes:
            ids = changes[name]
            if stream.pk in ids:
                raise Problem("a stream cannot stand under itself", place=name, remedy="leave it out")
            if Stream.objects.filter(pk__in=ids).count() < len(set(ids)):
                raise Problem("a stream is not there", place=name, remedy="choose from the catalogue")
            getattr(stream, name).set(ids)
    jobs.tell("stream", stream.pk)
    return stream


def _rename(stream: Stream, metric: str, attributes: Sequence[Sequence[str]]) -> None:
    pairs = tuple((str(a), str(b)) for a, b in attributes)
    if len({name for name, _ in pairs}) < len(pairs):
        raise Problem("an attribute stands twice", place="attributes", remedy="give each name once")
    key = stream_key(metric, pairs)
    if what := unfit(metric, key):
        raise Problem(f"a stream with {what}", place="metric", remedy=NAMES)
    taken = Stream.objects.filter(key_sha=sha(key)).exclude(pk=stream.pk)
    if taken.exists():
        raise Problem("another stream has this name", place="metric", remedy="choose another, or delete that one", code=409)  # fmt: skip
    stream.metric, stream.attributes, stream.key, stream.key_sha = (
        metric,
        [list(p) for p in pairs],
        key,
        sha(key),
    )


def check_link(text: str) -> None:
    """Refuse links that a click should not follow."""
    parts = urlsplit(text)
    if parts.scheme not in ("http", "https") or not parts.netloc:
        raise Problem("is no web address", place="runbook", remedy="write one that begins with https://")


def what_goes(stream: Stream) -> dict[str, int]:
    """What deleting a stream takes along."""
    return {
        "samples": stream.samples,
        "segments": stream.segments.count(),
        "findings": stream.finding_set.count(),
        "scans": stream.scanstream_set.count(),
    }


@transaction.atomic
def check_delete(stream: Stream, confirm: str) -> None:
    """Raise Problem (409) that says what would go, unless the stream's key was repeated."""
    if confirm != stream.key:
        gone = what_goes(stream)
        raise Problem(
            f"this deletes {gone['samples']:,} samples and {gone['findings']:,} findings for good", place="confirm",
            remedy=f"repeat the stream's key to confirm: {stream.key}", code=409, goes=gone,
        )  # fmt: skip


def delete(stream: Stream, confirm: str) -> None:
    """Delete a stream with its samples and findings, once its key has been repeated."""
    check_delete(stream, confirm)
    number = stream.pk
    stream.delete()
    retitle({stream.metric})
    changed()
    jobs.tell("stream", number)
