"""What may be done to the logbook: every change is one transaction and leaves a revision."""

from collections.abc import Sequence
from typing import Any

from django.db import transaction
from django.db.models import Max, QuerySet
from django.utils import timezone

from watchtide.core import keys
from watchtide.core.scoring.rows import Label
from watchtide.server.jobs import services as jobs
from watchtide.server.logbook.models import Entry, Revision
from watchtide.server.problems import Problem

FIELDS = (
    "scope",
    "start_ns",
    "end_ns",
    "verdict",
    "kind",
    "cause",
    "note",
    "author",
    "origin",
    "stratum",
    "probability",
)


def live() -> QuerySet[Entry]:
    return Entry.objects.filter(deleted_at__isnull=True)


def version() -> int:
    """The logbook's version: the number of its last revision."""
    return Revision.objects.aggregate(last=Max("pk"))["last"] or 0


def labels() -> list[Label]:
    """All live entries as labels, in the order they were made."""
    return [as_label(entry) for entry in live().order_by("pk")]


def as_label(e: Entry) -> Label:
    return Label(
        e.start_ns,
        e.end_ns,
        e.scope,
        e.verdict,
        e.kind,
        e.cause,
        e.note,
        e.author,
        e.origin,
        e.stratum,
        e.probability,
    )


def _note(entries: Sequence[Entry], action: str, by: str) -> None:
    Revision.objects.bulk_create(
        [Revision(entry=e, action=action, content={f: getattr(e, f) for f in FIELDS}, by=by) for e in entries]
    )
    jobs.tell("logbook", entries[0].pk if len(entries) == 1 else "")


def _check(content: dict[str, Any]) -> None:
    if content["end_ns"] < content["start_ns"]:
        raise Problem("the entry ends before it starts", place="end", remedy="swap start and end")
    try:
        keys.decode(content["scope"])
    except ValueError as error:
        raise Problem(
            str(error).partition(";")[0], place="scope", remedy="write name=value pairs joined by commas"
        ) from error


def add(content: dict[str, Any], by: str) -> Entry:
    return add_all([content], by)[0]


@transaction.atomic
def add_all(contents: Sequence[dict[str, Any]], by: str) -> list[Entry]:
    """Add entries, all of them or none."""
    for content in contents:
        _check(content)
    entries = [Entry.objects.create(**{"author": by, **content}) for content in contents]
    _note(entries, "add", by)
    return entries


@transaction.atomic
def change(entry: Entry, content: dict[str, Any], by: str) -> Entry:
    _check({**{f: getattr(entry, f) for f in FIELDS}, **content})
    for name, value in content.items():
        setattr(entry, name, value)
    entry.save()
    _note([entry], "change", by)
    return entry


def remove(entry: Entry, by: str) -> None:
    remove_all([entry], by)


@transaction.atomic
def remove_all(entries: Sequence[Entry], by: str) -> None:
    """Take entries out; they stay in the history and can be put back."""
    now = timezone.now()
    Entry.objects.filter(pk__in=[e.pk for e in entries]).update(deleted_at=now)
    if entries:
        _note(entries, "remove", by)


@transaction.atomic
def restore(entry: Entry, by: str) -> None:
    entry.deleted_at = None
    entry.save(update_fields=["deleted_at"])
    _note([entry], "restore", by)


@transaction.atomic
def return_to(entry: Entry, revision: Revision, by: str) -> Entry:
    """Make an entry again what it was at one of its revisions; one that was taken out is put back."""
    if revision.entry_id != entry.pk:
        raise Problem(
            "this is a revision of another entry", place="revision", remedy="take one of this entry"
        )
    if entry.deleted_at is not None:
        restore(entry, by)
    return change(entry, revision.content, by)


def history(entry: Entry) -> list[dict[str, Any]]:
    """Every revision of an entry, newest first, with what each changed: name, before, after."""
    out: list[dict[str, Any]] = []
    before: dict[str, Any] = {}
    for r in entry.revisions.order_by("pk"):
        changed = [
            {"name": name, "before": before.get(name), "after": r.content.get(name)}
            for name in FIELDS
            if before and before.get(name) != r.content.get(name)
        ]
        out.append({"id": r.pk, "action": r.action, "by": r.by, "at": r.at, "changed": changed})
        before = r.content
    return out[::-1]


@transaction.atomic
def take_in(rows: Sequence[Label], by: str) -> tuple[int, int]:
    """Add labels of a file; those that stand in the logbook already are skipped. (added, skipped)"""
    known = {_content(as_label(e)) for e in live()}
    fresh = []
    for label in rows:
        if _content(label) in known:
            continue
        known.add(_content(label))
        fresh.append(
            Entry(
                scope=label.series, start_ns=label.start, end_ns=label.end, verdict=label.verdict, kind=label.kind,
                cause=label.cause, note=label.note, author=label.author or by, origin=label.origin,
                stratum=label.stratum, probability=label.probability,
            )
        )  # fmt: skip
    if fresh:
        for entry in fresh:
            entry.save()
        _note(fresh, "import", by)
    return len(fresh), len(rows) - len(fresh)


def _content(label: Label) -> tuple[Any, ...]:
    return (
        label.start,
        label.end,
        label.series,
        label.verdict,
        label.kind,
        label.cause,
        label.note,
        label.origin,
        label.stratum,
    )
