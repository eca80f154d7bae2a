"""Files handed in: upload, a look before anything is stored, layouts that are kept, and storing in bounded memory."""

import csv
import gzip
import hashlib
import io
import json
import time
from collections.abc import Callable, Iterator
from dataclasses import replace
from datetime import timedelta
from pathlib import Path
from typing import Any

import numpy as np
from django.conf import settings
from django.db.models import Sum
from django.db.models.functions import Now

from watchtide.core.scoring.rows import Label
from watchtide.plan import durations
from watchtide.server import disk, moments, storage
from watchtide.server.jobs import services as jobs
from watchtide.server.jobs.models import OPEN, Job
from watchtide.server.problems import Problem
from watchtide.server.streams import catalogue, corrections, renewing, rolling, store
from watchtide.server.streams.models import CADENCE_STATED, Batch, KeptLayout, Stream, Upload
from watchtide.tables import chunks, clock, extract, layout, rollup, shape, survey
from watchtide.tables.chunks import Chunk
from watchtide.tables.layout import TRUE, Layout
from watchtide.tables.problems import TableError
from watchtide.tables.read import Raw
from watchtide.tables.safe import spreadsheet_safe

PREVIEW_STREAMS = 5
# What is still being written after a day was left; a copy of a file is read at once, or not again for long.
LEFT_S, COPY_S = 86_400, 3 * 3_600
MOST_STREAMS_A_FILE = catalogue.MOST_FRESH
# Rows set aside are counted without end and kept up to this many.
MOST_ASIDE = 200_000
SHAPE_KEYS = ("encoding", "delimiter", "quote", "decimal", "has_header", "pattern")
FACT_KEYS = ("metric", "unit", "bad_side", "zone")


def name_of(upload: Upload) -> str:
    """Name of an upload's bytes among the files: that of their content."""
    return f"{upload.sha}.bin"


def take_upload(name: str, parts: Any, user: Any) -> Upload:
    """Keep a file handed in; refused with 413 over the limit."""
    disk.check_room()
    if (Upload.objects.aggregate(held=Sum("size"))["held"] or 0) > settings.MOST_UPLOADS_BYTES:
        make_room(settings.MOST_UPLOADS_BYTES)
    sha = hashlib.sha256()
    size = 0
    store = storage.uploads()
    with store.begin() as begun:
        for part in parts:
            size += len(part)
            if size > settings.MOST_UPLOAD_BYTES:
                limit = settings.MOST_UPLOAD_BYTES // 2**20
                raise Problem(
                    f"the file is larger than {limit} MB", place=name, remedy="split it, or gzip it", code=413
                )
            disk.check_room(len(part))
            sha.update(part)
            begun.file.write(part)
        # The row first: a file that nobody names would never be forgotten.
        upload = Upload.objects.create(
            name=Path(name).name[:255], size=size, sha=sha.hexdigest(), created_by=user
        )
        try:
            begun.keep(name_of(upload))
        except BaseException:
            upload.delete()
            raise
    return upload


def forget(upload: Upload) -> None:
    """Forget an upload, and its bytes unless the same were handed in twice."""
    upload.delete()
    if not Upload.objects.filter(sha=upload.sha).exists():
        storage.uploads().remove(name_of(upload))


def make_room(most: int) -> int:
    """Forget the oldest files handed in until the others fit into so many bytes, and those over their age. Returns how many.

    A file that a job is storing stays.
    """
    busy = {job.arguments.get("upload") for job in Job.objects.filter(kind="intake", state__in=OPEN)}
    oldest_kept = moments.now() - timedelta(days=settings.UPLOAD_DAYS)
    held = gone = 0
    for upload in Upload.objects.order_by("-created_at", "-pk"):
        held += upload.size
        if upload.pk not in busy and (held > most or upload.created_at < oldest_kept):
            held -= upload.size
            forget(upload)
            gone += 1
    return gone


def sweep_uploads() -> int:
    """Forget old files handed in, and the parts of those whose upload was broken off."""
    now = time.time()
    for place in storage.every():
        place.sweep(parts_before=now - LEFT_S, copies_before=now - COPY_S)
    storage.stages().trim(settings.STAGE_CACHE_BYTES)
    return make_room(settings.MOST_UPLOADS_BYTES)


def _path(upload: Upload) -> Path:
    try:
        return storage.uploads().path(name_of(upload))
    except FileNotFoundError:
        raise Problem(
            "the uploaded file is gone", place=upload.name, remedy="hand it in again", code=410
        ) from None


def shape_of(given: dict[str, Any]) -> dict[str, Any]:
    """What the user stated about how the file is written."""
    return {k: given[k] for k in SHAPE_KEYS if given.get(k) not in (None, "")}


def choose(raw: Raw, given: dict[str, Any]) -> Layout:
    """The guess, with what the user set instead."""
    roles = given.get("roles") or {}
    for column, role in roles.items():
        if role not in layout.ROLES or column not in raw.columns:
            remedy = f"use one of {', '.join(layout.ROLES)}"
            raise Problem(f"{column!r} cannot be {role!r}", place="roles", remedy=remedy)
    pick = {role: tuple(c for c in raw.columns if roles.get(c) == role) for role in layout.ROLES}
    stated: dict[str, Any] = {
        "zone": given.get("zone") or "UTC",
        "missing_words": given.get("missing_words"),
        "time_form": given.get("time_form") or None,
        "keep": given.get("keep"),
        "duplicates": given.get("duplicates"),
        "wide_name": given.get("wide_name"),
        "metric": (given.get("metric") or "").strip(),
        "decimal": given.get("decimal") or None,
        "rollup": rollup_of(given.get("rollup")),
        "wave_step_ns": None if given.get("wave_step_s") is None else round(given["wave_step_s"] * 1e9),
    }
    if not roles:
        return layout.guess(raw, **stated)
    needed = ("time",) if stated["rollup"] else ("time", "value")
    for role in needed:
        if not pick[role]:
            raise Problem(f"no column is the {role}", place="roles", remedy=f"choose the {role} column")
    for role in ("time", "label", "denominator"):
        if len(pick[role]) > 1:
            raise Problem(f"two columns are the {role}", place="roles", remedy="choose one of them")
    guessed = layout.guess(
        raw, time=pick["time"][0], values=pick["value"], series=pick["series"] or (), covariates=pick["covariate"],
        denominator=next(iter(pick["denominator"]), None), label=next(iter(pick["label"]), None), **stated,
    )  # fmt: skip
    return layout.with_roles(guessed, {c: roles.get(c, "leave out") for c in raw.columns})


def rollup_of(given: dict[str, Any] | None) -> layout.RollUp | None:
    """A roll-up as the page writes it: {"every": "5m", "measures": [{"how": "count"}]}."""
    if not given:
        return None
    try:
        every = durations.parse_ns(given["every"])
    except (ValueError, KeyError) as error:
        raise Problem(f"every: {error}", place="rollup", remedy="write for example 5m") from error
    return layout.rollup_from({"every_ns": every, "measures": given.get("measures") or []})


def kept_for(upload: Upload, given: dict[str, Any]) -> KeptLayout | None:
    """The kept layout that the user named, else the latest whose pattern and columns fit the file."""
    if given.get("kept") == 0:
        return None
    if given.get("kept"):
        return KeptLayout.objects.get(pk=given["kept"])
    if given.get("roles"):
        return None
    for kept in KeptLayout.objects.order_by("-updated_at"):
        if not layout.matches(kept.pattern, upload.name):
            continue
        try:
            how = shape.sniff(_path(upload), upload.name, **shape_of(kept.facts | given))
            if layout.fits(layout.from_data(kept.data), chunks.columns_of(_path(upload), how, upload.name)):
                return kept
        except TableError:
            continue
    return None


def _chooser(upload: Upload, given: dict[str, Any]) -> tuple[Any, dict[str, Any], KeptLayout | None]:
    """(how the layout is made from the first rows, all that is stated, the kept layout taken)."""
    kept = kept_for(upload, given)
    if kept is None:
        return (lambda raw: choose(raw, given)), given, None
    facts = {**kept.facts, **{k: v for k, v in given.items() if v not in (None, "")}}

    def make(raw: Raw) -> Layout:
        chosen = layout.from_data(kept.data)
        if not layout.fits(chosen, list(raw.columns)):
            there = ", ".join(raw.columns)
            raise TableError(
                upload.name,
                "columns",
                f"do not fit the layout {kept.name} (columns: {there})",
                "choose the roles anew",
            )
        changed = {k: facts[k] for k in ("zone", "metric", "duplicates", "keep", "time_form") if given.get(k)}
        return layout.checked(
            replace(chosen, **changed, reasons=dict.fromkeys(raw.columns, f"as in {kept.name}"))
        )

    return make, facts, kept


def preview(
    upload: Upload, given: dict[str, Any], progress: Callable[[int, int], None] | None = None
) -> dict[str, Any]:
    """What is in a file, what was guessed and why, what is wrong, and what it will become."""
    make, facts, kept = _chooser(upload, given)
    seen = survey.survey(
        _path(upload), upload.name, make, stated=shape_of(facts),
        most_bytes=settings.MOST_LOOKED_AT, seed=int(given.get("seed") or 0), progress=progress,
    )  # fmt: skip
    wanted = [(_metric(s.metric), s.attributes) for s in seen.streams[:MOST_STREAMS_A_FILE]]
    shas = [catalogue.sha(catalogue.stream_key(*w)) for w in wanted]
    known = sum(
        Stream.objects.filter(key_sha__in=shas[a : a + 2_000]).count() for a in range(0, len(shas), 2_000)
    )
    key = _batch_key(upload, seen.layout, facts)
    return {
        "upload": upload.pk,
        "name": upload.name,
        "size": upload.size,
        "rows": seen.rows,
        "rows_fit": seen.rows_fit,
        "rows_aside": seen.rows_aside,
        "rows_dropped": seen.dropped,
        "is_whole": seen.is_whole,
        "about_rows": seen.about_rows,
        "shape": {
            "kind": seen.shape.kind,
            "is_gzipped": seen.shape.is_gzipped,
            **{
                k: getattr(seen.shape, k)
                for k in ("encoding", "delimiter", "quote", "decimal", "has_header", "pattern")
            },
            "reasons": seen.shape.reasons,
        },
        "zone": seen.layout.zone,
        "duplicates": seen.layout.duplicates,
        "cadence": durations.format_every(seen.found.cadence),
        "cadence_share": seen.found.share,
        "first": clock.format_time(seen.first_ns) if seen.first_ns is not None else None,
        "last": clock.format_time(seen.last_ns) if seen.last_ns is not None else None,
        "metric": facts.get("metric") or seen.layout.metric or next(iter(seen.layout.values), "events"),
        "unit": facts.get("unit") or "",
        "bad_side": facts.get("bad_side") or "both",
        "kept": {"id": kept.pk, "name": kept.name} if kept else None,
        "columns": [vars(c) | {"picture": vars(c.picture)} for c in seen.columns],
        "sample": [vars(r) for r in seen.first_rows],
        "random": [vars(r) for r in seen.random_rows],
        "problems": [vars(p) for p in seen.problems],
        "streams": len(seen.streams),
        "streams_known": known,
        "samples": sum(len(s.times) for s in seen.streams),
        "waves": list(_waves_of(seen)),
        "wave_step_s": None if seen.layout.wave_step_ns is None else seen.layout.wave_step_ns / 1e9,
        "becomes": [
            {
                "title": " · ".join(v for _, v in s.attributes) or s.metric,
                "metric": s.metric,
                "samples": len(s.times),
                "line": survey.thumbnail(s.times, s.values),
            }
            for s in seen.streams[:PREVIEW_STREAMS]
        ],
        "is_stored": Batch.objects.filter(key=key, accepted_at__isnull=False).exists(),
    }


def _waves_of(seen: survey.Survey) -> tuple[str, ...]:
    """Columns that are one waveform a row, or may be."""
    if seen.layout.wave_step_ns:
        return seen.layout.values
    return layout.numbered_run([c.name for c in seen.columns if c.picture.kind == "numbers"])


def _metric(name: str) -> str:
    return name.strip() or "value"


def aside(upload: Upload, given: dict[str, Any]) -> bytes:
    """The rows of a file that would be set aside, as CSV."""
    make, facts, _ = _chooser(upload, given)
    book = _Aside()
    for extractor, chunk in _extractors(upload, make, facts):
        broken = extractor.take_events(chunk)[1] if extractor.layout.rollup else extractor.take(chunk)[1]
        book.add(broken)
    return gzip.decompress(book.packed())


class _Aside:
    """Rows set aside as gzipped CSV: line, column, what is wrong, the row as it stood."""

    def __init__(self) -> None:
        self.count = 0
        self._out = io.BytesIO()
        self._packed = gzip.GzipFile(fileobj=self._out, mode="wb", mtime=0)
        self._text = io.TextIOWrapper(self._packed, encoding="utf-8", newline="")
        self._writer = csv.writer(self._text, lineterminator="\n")
        self._writer.writerow(["line", "column", "problem", "row"])

    def add(self, broken: list[Any]) -> None:
        for b in broken[: max(0, MOST_ASIDE - self.count)]:
            self._writer.writerow(
                [b.line, spreadsheet_safe(b.column), spreadsheet_safe(b.problem), spreadsheet_safe(b.text)]
            )
        self.count += len(broken)

    def packed(self) -> bytes:
        if self.count > MOST_ASIDE:
            self._writer.writerow(["", "", f"{self.count - MOST_ASIDE:,} more were set aside", ""])
        self._text.close()
        return self._out.getvalue()


def _extractors(
    upload: Upload, make: Any, facts: dict[str, Any]
) -> Iterator[tuple[extract.Extractor, Chunk]]:
    """Each chunk of a file with the one extractor that reads it, made from the first."""
    path = _path(upload)
    how = shape.sniff(path, upload.name, **shape_of(facts))
    extractor: extract.Extractor | None = None
    for chunk in chunks.read_chunks(path, how, upload.name):
        if extractor is None:
            raw = Raw(upload.name, how, chunk.columns, chunk.rows, chunk.lines, upload.size, chunk.broken)
            extractor = extract.Extractor(make(raw), upload.name)
        yield extractor, chunk


def _batch_key(upload: Upload, chosen: Layout, facts: dict[str, Any]) -> str:
    """The same bytes read the same way are the same batch."""
    data = layout.to_data(chosen)
    return catalogue.sha(json.dumps([upload.sha, data, shape_of(facts)], sort_keys=True))


def store_upload(upload: Upload, given: dict[str, Any], user: Any, about: int | None = None) -> Any:
    """Put down the job that stores an upload. about : how many rows it has; not known, the layout is checked here first."""
    if about is None:
        about = preview(upload, given)["about_rows"]
    if given.get("save_layout"):
        keep_layout(upload, given, user)
    arguments = {"upload": upload.pk, "given": given, "then_scan": bool(given.get("then_scan")), "about": about}  # fmt: skip
    return jobs.enqueue("intake", f"Take in {upload.name}", arguments, user=user)


def keep_layout(upload: Upload, given: dict[str, Any], user: Any) -> KeptLayout:
    """Keep how this file is read under a name, for files whose names are like it."""
    make, facts, _ = _chooser(upload, given)
    wish = given["save_layout"]
    name, pattern = wish["name"].strip(), wish.get("pattern") or like(upload.name)
    chosen = next(iter(_extractors(upload, make, facts)))[0].layout
    kept, _ = KeptLayout.objects.update_or_create(
        name=name,
        defaults={
            "pattern": pattern,
            "data": layout.to_data(chosen),
            "facts": {k: facts[k] for k in (*SHAPE_KEYS, *FACT_KEYS) if facts.get(k) not in (None, "")},
            "created_by": user,
            "updated_at": Now(),
        },
    )
    kept.refresh_from_db()
    return kept


def like(name: str) -> str:
    """A pattern for the files that come after this one: its numbers may differ."""
    import re

    stem = name.removesuffix(".gz")
    pattern = re.sub(r"\d+([-_.]\d+)*(?=.*\.)", "*", stem)
    return re.sub(r"\*+", "*", pattern)


def accept(upload: Upload, given: dict[str, Any], lease: jobs.Lease) -> dict[str, Any]:
    """Store an upload's rows as one batch, chunk by chunk; all of it becomes visible at once, or nothing."""
    make, facts, kept = _chooser(upload, given)
    batch: Batch | None = None
    book = _Aside()
    about = int(lease.arguments.get("about") or 0)
    taker: _Taker | None = None
    try:
        for extractor, chunk in _extractors(upload, make, facts):
            if taker is None:
                key = _batch_key(upload, extractor.layout, facts)
                done = Batch.objects.filter(key=key, accepted_at__isnull=False).first()
                if done is not None:
                    lease.log("this file was taken in before; nothing changed")
                    return {"batch": done.pk, "rows": 0, "ids": _ids_of(done)}
                batch = _begin(upload, key, extractor.layout, lease, kept)
                taker = _Taker(batch, extractor, facts)
            book.add(taker.take(chunk))
            lease.progress(extractor.rows + extractor.aside, max(about, extractor.rows + extractor.aside + 1))
            if lease.is_cancelled():
                raise jobs.Cancelled
        if taker is None or batch is None or not taker.extractor.rows:
            raise Problem("not one row can be used", place=upload.name, remedy="correct the column roles")
        ids = _end(batch, taker, book, lease)
    except BaseException:
        if batch is not None and not Batch.objects.filter(pk=batch.pk, accepted_at__isnull=False).exists():
            from watchtide.server.streams.undoing import discard

            discard(batch)
        raise
    lease.progress(max(about, 1), max(about, 1))
    jobs.tell("batch", batch.pk)
    return {"batch": batch.pk, "rows": taker.extractor.rows, "ids": ids}


def _into_logbook(batch: Batch, taker: "_Taker") -> int:
    """Rows whose class is not normal as incidents over their waveforms; those that stand there are skipped."""
    from watchtide.server.logbook import services as logbook

    rows = [
        Label(
            c.start,
            c.end,
            taker.streams[c.code].key,
            "incident",
            "shape",
            c.word if c.word.lower() not in TRUE else "",
        )
        for c in taker.extractor.classed
    ]
    by = batch.created_by.get_username() if batch.created_by else ""
    return logbook.take_in(rows, by, title=f"classes of {batch.source}")[0]


def _ids_of(batch: Batch) -> list[int]:
    from watchtide.server.streams.undoing import streams_of

    return streams_of(batch) or [int(i) for i in batch.layout.get("ids", [])]


def _begin(upload: Upload, key: str, chosen: Layout, lease: jobs.Lease, kept: KeptLayout | None) -> Batch:
    from watchtide.server.streams.undoing import discard

    with lease.write():
        # What an earlier attempt left behind was never visible.
        for dead in Batch.objects.filter(key=key, accepted_at__isnull=True):
            discard(dead)
        return Batch.objects.create(
            key=key, source=upload.name, layout={"layout": layout.to_data(chosen), "kept": kept.name if kept else None},
            created_by=lease.job.created_by,
        )  # fmt: skip


class _Taker:
    """Chunks of one file into the blocks of its batch, with the streams they need."""

    def __init__(self, batch: Batch, extractor: extract.Extractor, facts: dict[str, Any]) -> None:
        self.batch, self.extractor, self.facts = batch, extractor, facts
        self.writer = store.BlockWriter(batch, extractor.layout.duplicates)
        self.streams: list[Stream] = []
        self.roller = rollup.Roller(extractor) if extractor.layout.rollup else None
        self._numbers = np.empty(0, np.int64)

    def take(self, chunk: Chunk) -> list[Any]:
        if self.roller is not None:
            events, broken = self.extractor.take_events(chunk)
            self.roller.add(events)
            return broken
        rows, broken = self.extractor.take(chunk)
        self._find(self.extractor.streams)
        self.writer.add(self._numbers[rows.codes], rows.times, rows.values)
        return broken

    def _find(self, names: list[extract.StreamName]) -> None:
        new = names[len(self.streams) :]
        if new:
            if len(names) > MOST_STREAMS_A_FILE:
                raise Problem(
                    f"more than {MOST_STREAMS_A_FILE:,} streams in one file", place="roles",
                    remedy="choose fewer series columns, or split the file",
                )  # fmt: skip
            self.streams += self._make([(_metric(n.metric), n.attributes) for n in new])
            self._numbers = np.array([s.pk for s in self.streams], np.int64)

    def _make(self, wanted: list[catalogue.Wanted]) -> list[Stream]:
        return catalogue.find_or_make(
            wanted, batch=self.batch, unit=self.facts.get("unit") or "", zone=self.extractor.layout.zone,
            bad_side=self.facts.get("bad_side") or "both",
        )  # fmt: skip

    def finish(self) -> None:
        """Write what is held; a roll-up's figures are made of this batch's events and those before it."""
        if self.roller is not None:
            chosen, attributes = self.extractor.layout, self.extractor.attributes
            assert chosen.rollup is not None
            wanted = [
                (code, rollup.metric_name(chosen, m))
                for code in range(len(attributes))
                for m in chosen.rollup.measures
            ]
            if len(wanted) > MOST_STREAMS_A_FILE:
                raise Problem(
                    f"{len(wanted):,} streams of a roll-up, at most {MOST_STREAMS_A_FILE:,}", place="rollup",
                    remedy="tell them apart by fewer columns",
                )  # fmt: skip
            self.streams = self._make([(metric, attributes[code]) for code, metric in wanted])
            Stream.objects.filter(pk__in=[s.pk for s in self.streams], step_ns=0).update(
                step_ns=chosen.rollup.every_ns, cadence_of=CADENCE_STATED
            )
            of = dict(zip(wanted, self.streams, strict=True))
            for stream, times, values in rolling.add(self.batch, chosen, self.roller, of):
                self.writer.add(np.full(len(times), stream, np.int64), times, values)
        self.writer.finish()
        self._link()

    def _link(self) -> None:
        """Tie values to the covariates and the denominator beside them in the file."""
        names = self.extractor.streams
        if self.roller is not None or all(n.role == "value" for n in names):
            return
        beside: dict[tuple[Any, str], list[Stream]] = {}
        for name, stream in zip(names, self.streams, strict=True):
            beside.setdefault((name.attributes, name.role), []).append(stream)
        for (attributes, role), streams in beside.items():
            if role != "value":
                continue
            for stream in streams:
                if covariates := beside.get((attributes, "covariate")):
                    stream.covariates.add(*covariates)
                if denominators := beside.get((attributes, "denominator")):
                    Stream.objects.filter(pk=stream.pk).update(denominator=denominators[0])


def _end(batch: Batch, taker: _Taker, book: _Aside, lease: jobs.Lease) -> list[int]:
    """The one transaction that makes the batch visible."""
    extractor = taker.extractor
    if taker.roller is None:
        # Most of the work, outside the transaction: unaccepted blocks are seen by nobody.
        taker.finish()
    with lease.write():
        if taker.roller is not None:
            taker.finish()
        facts = dict(batch.layout)
        if taker.roller is not None:
            facts["groups"] = [[list(p) for p in pairs] for pairs in extractor.attributes]
        Batch.objects.filter(pk=batch.pk).update(
            accepted_at=moments.now(), rows_taken=extractor.rows, rows_aside=book.count, rows_dropped=extractor.dropped,
            samples=taker.writer.samples, aside=book.packed() if book.count else b"", streams=len(taker.streams),
            first_ns=taker.writer.first_ns, last_ns=taker.writer.last_ns, layout=facts,
        )  # fmt: skip
        if extractor.classed:
            added = _into_logbook(batch, taker)
            lease.log(f"{added} waveforms whose class is not normal went into the logbook")
        corrections.report(batch, corrections.IMPORTED, renewing.spans_of([batch]))
        jobs.enqueue("fold", f"Fold {batch.source}", {})
    return [s.pk for s in taker.streams]
