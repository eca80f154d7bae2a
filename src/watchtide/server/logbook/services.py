"""What may be done to the logbook: every change is one transaction and leaves a revision."""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from django.db import transaction
from django.db.models import F, Max, Q, QuerySet

from watchtide.core.scoring.rows import VERDICTS, Label
from watchtide.core.series import keys
from watchtide.server import moments
from watchtide.server.jobs import services as jobs
from watchtide.server.logbook.models import ChangeSet, Entry, Quiet, Revision
from watchtide.server.problems import Problem

# A row of a file and an entry are about the same when they share this much of the time they cover.
LEAST_SHARED = 0.5
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


def _note(entries: Sequence[Entry], action: str, by: str, done: ChangeSet | None = None) -> None:
    if not entries:
        return
    Revision.objects.bulk_create(
        [
            Revision(
                entry=e, action=action, content={f: getattr(e, f) for f in FIELDS}, by=by, change_set=done
            )
            for e in entries
        ]
    )
    jobs.tell("logbook", entries[0].pk if len(entries) == 1 else "")


def _check(content: dict[str, Any]) -> None:
    if content["end_ns"] < content["start_ns"]:
        raise Problem("the entry ends before it starts", place="end", remedy="swap start and end")
    # One entry with a word that is none would stop everything that counts by the logbook.
    if "verdict" in content and content["verdict"] not in VERDICTS:
        raise Problem(
            f"{content['verdict']!r} is no verdict",
            place="verdict",
            remedy=f"use one of {', '.join(VERDICTS)}",
        )
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
def remove_all(entries: Sequence[Entry], by: str, done: ChangeSet | None = None) -> None:
    """Take entries out; they stay in the history and can be put back."""
    now = moments.now()
    Entry.objects.filter(pk__in=[e.pk for e in entries]).update(deleted_at=now)
    _note(entries, "remove", by, done)


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


@dataclass(frozen=True)
class Match:
    """One row of a file beside the logbook: new, same (stands there already), or changes (the entry it is about)."""

    label: Label
    state: str
    entry: Entry | None = None


def matched(rows: Sequence[Label]) -> list[Match]:
    """What each row of a file would do. A row is about an entry of the same scope and verdict, or the very same span, that
    shares at least half of the time the two cover; the closest pair first, each entry once."""
    entries = list(live())
    known = {_content(as_label(e)): e for e in entries}
    seen: set[tuple[Any, ...]] = set()
    out: list[Match | None] = []
    taken: set[int] = set()
    for label in rows:
        content = _content(label)
        same = known.get(content)
        if same is not None:
            taken.add(same.pk)
        out.append(Match(label, "same", same) if same is not None or content in seen else None)
        seen.add(content)
    by_scope: dict[str, list[Entry]] = {}
    for e in entries:
        if e.pk not in taken:
            by_scope.setdefault(e.scope, []).append(e)
    pairs = []
    for i, label in enumerate(rows):
        if out[i] is None:
            for e in by_scope.get(label.series, ()):
                share = _shared(label, e)
                if share >= LEAST_SHARED and (share == 1 or e.verdict == label.verdict):
                    pairs.append((-share, i, e.pk, e))
    for _, i, pk, e in sorted(pairs, key=lambda p: p[:3]):
        if out[i] is None and pk not in taken:
            taken.add(pk)
            out[i] = Match(rows[i], "changes", e)
    return [m or Match(rows[i], "new") for i, m in enumerate(out)]


def _shared(label: Label, e: Entry) -> float:
    """Share of the time the two cover that both cover; 1 for the very same span."""
    both = min(label.end, e.end_ns) - max(label.start, e.start_ns)
    either = max(label.end, e.end_ns) - min(label.start, e.start_ns)
    return 1.0 if either == 0 else max(both, 0) / either


@transaction.atomic
def take_in(
    rows: Sequence[Label], by: str, *, title: str = "an import", matches: str = "skip"
) -> tuple[int, int, ChangeSet | None]:
    """Add labels of a file, all of them or none; those that stand in the logbook already are skipped.

    matches : what becomes of rows that are about an entry: skip them, change the entry, or add them beside it.
    Returns (added, skipped, what can be undone).
    """
    fresh, changed = [], []
    for m in matched(rows):
        content = {**fields(m.label), "author": m.label.author or by}
        if m.state == "new" or (m.state == "changes" and matches == "add"):
            fresh.append(Entry(**content))
        elif m.state == "changes" and matches == "change" and m.entry is not None:
            for name, value in content.items():
                setattr(m.entry, name, value)
            changed.append(m.entry)
    for content in [{f: getattr(e, f) for f in FIELDS} for e in fresh]:
        _check(content)
    if not fresh and not changed:
        return 0, len(rows), None
    done = ChangeSet.objects.create(title=title[:200], added=len(fresh), changed=len(changed), by=by)
    for entry in [*fresh, *changed]:
        entry.save()
    _note(fresh, "import", by, done)
    _note(changed, "change", by, done)
    return len(fresh), len(rows) - len(fresh) - len(changed), done


def fields(label: Label) -> dict[str, Any]:
    return {
        "scope": label.series, "start_ns": label.start, "end_ns": label.end, "verdict": label.verdict, "kind": label.kind,
        "cause": label.cause, "note": label.note, "origin": label.origin, "stratum": label.stratum,
        "probability": label.probability,
    }  # fmt: skip


@transaction.atomic
def change_all(entries: Sequence[Entry], content: dict[str, Any], by: str) -> ChangeSet:
    """Give many entries the same values in one go."""
    for entry in entries:
        _check({**{f: getattr(entry, f) for f in FIELDS}, **content})
        for name, value in content.items():
            setattr(entry, name, value)
        entry.save()
    words = ", ".join(name.removesuffix("_ns") for name in content)
    done = ChangeSet.objects.create(title=f"{words} by hand", changed=len(entries), by=by)
    _note(entries, "change", by, done)
    return done


@transaction.atomic
def take_out_all(entries: Sequence[Entry], by: str) -> ChangeSet:
    """Take many entries out in one go."""
    done = ChangeSet.objects.create(title="taken out by hand", removed=len(entries), by=by)
    remove_all(entries, by, done)
    return done


@transaction.atomic
def undo(done: ChangeSet, by: str) -> tuple[int, int]:
    """Make the entries of a change what they were before it; those changed again since are left. (undone, left)."""
    locked = ChangeSet.objects.select_for_update().get(pk=done.pk)
    if locked.undone_at is not None:
        raise Problem(
            f"{locked.undone_by} has undone this already", remedy="look at the entries' history", code=409
        )
    back, left = 0, 0
    for r in locked.revisions.select_related("entry").order_by("pk"):
        entry = r.entry
        if entry.revisions.filter(pk__gt=r.pk).exists():
            left += 1
            continue
        before = entry.revisions.filter(pk__lt=r.pk).order_by("-pk").first()
        if before is None:
            remove(entry, by)
        elif r.action == "remove":
            restore(entry, by)
        else:
            change(entry, before.content, by)
        back += 1
    locked.undone_by, locked.undone_at = by, moments.now()
    locked.save(update_fields=["undone_by", "undone_at"])
    return back, left


def found(
    *, verdict: str = "", text: str = "", stream: str | None = None, begin_ns: int | None = None,
    end_ns: int | None = None, origin: str = "",
) -> QuerySet[Entry]:  # fmt: skip
    """Live entries that fit all that is asked. stream : a key that they cover; begin, end : a closed span they touch."""
    rows = live()
    if verdict:
        rows = rows.filter(verdict=verdict)
    if origin:
        rows = rows.filter(origin=origin)
    for word in text.split():
        fits = Q()
        for name in ("cause", "note", "scope", "kind", "author"):
            fits |= Q(**{f"{name}__icontains": word})
        rows = rows.filter(fits)
    if begin_ns is not None:
        rows = rows.filter(end_ns__gte=begin_ns)
    if end_ns is not None:
        rows = rows.filter(start_ns__lte=end_ns)
    if stream is not None:
        scopes = live().order_by().values_list("scope", flat=True).distinct()
        rows = rows.filter(scope__in=[s for s in scopes if keys.covers(s, stream)])
    return rows


def quiet_spans() -> list[tuple[str, int, int]]:
    """(scope, start, end) of all planned work, closed spans in ns."""
    return list(Quiet.objects.filter(end_ns__gte=F("start_ns")).values_list("scope", "start_ns", "end_ns"))


def quiet_for(series: str, spans: Sequence[tuple[str, int, int]]) -> list[tuple[int, int]]:
    return [(a, b) for scope, a, b in spans if keys.covers(scope, series)]


def make_quiet(scope: str, start_ns: int, end_ns: int, reason: str, by: str) -> Quiet:
    """Note planned work. It changes figures: the logbook's version goes up with it."""
    _check({"scope": scope, "start_ns": start_ns, "end_ns": end_ns})
    with transaction.atomic():
        row = Quiet.objects.create(scope=scope, start_ns=start_ns, end_ns=end_ns, reason=reason, by=by)
        _note_quiet(row, "add", by)
    return row


def end_quiet(row: Quiet, now_ns: int, by: str) -> None:
    """End planned work now; what has not begun, or is over, is taken away altogether."""
    runs = row.start_ns <= now_ns < row.end_ns
    with transaction.atomic():
        row.end_ns, row.ended_by = (now_ns if runs else row.start_ns - 1), by
        row.save(update_fields=["end_ns", "ended_by"])
        _note_quiet(row, "remove", by)


def _note_quiet(row: Quiet, action: str, by: str) -> None:
    content = {"scope": row.scope, "start_ns": row.start_ns, "end_ns": row.end_ns, "note": row.reason}
    Revision.objects.create(entry=None, quiet=row, action=action, content=content, by=by)
    jobs.tell("logbook", "")


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
