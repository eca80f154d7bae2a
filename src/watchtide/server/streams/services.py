"""Taking files in: upload, preview, store; and the catalogue."""

import csv
import gzip
import hashlib
import io
import json
import uuid
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import numpy as np
from django.conf import settings
from django.db import transaction
from django.utils import timezone

from watchtide.core import keys
from watchtide.core.series import infer_step
from watchtide.plan import durations
from watchtide.server.jobs import services as jobs
from watchtide.server.problems import Problem
from watchtide.server.streams import store
from watchtide.server.streams.models import Batch, Stream, Upload
from watchtide.tables import clock, layout, read

PREVIEW_ROWS = 8
PREVIEW_STREAMS = 5
MOST_STREAMS_A_FILE = 20_000


def upload_path(upload: Upload) -> Path:
    return Path(settings.DATA_FOLDER) / "uploads" / f"{upload.pk}.bin"


def take_upload(name: str, chunks: Any, user: Any) -> Upload:
    """Keep a file handed in; refused with 413 over the limit."""
    folder = Path(settings.DATA_FOLDER) / "uploads"
    folder.mkdir(parents=True, exist_ok=True)
    temporary = folder / f".{uuid.uuid4().hex}"
    sha = hashlib.sha256()
    size = 0
    try:
        with temporary.open("wb") as file:
            for chunk in chunks:
                size += len(chunk)
                if size > settings.MOST_UPLOAD_BYTES:
                    limit = settings.MOST_UPLOAD_BYTES // 2**20
                    raise Problem(
                        f"the file is larger than {limit} MB",
                        place=name,
                        remedy="split it, or gzip it",
                        code=413,
                    )
                sha.update(chunk)
                file.write(chunk)
        upload = Upload.objects.create(
            name=Path(name).name[:255], size=size, sha=sha.hexdigest(), created_by=user
        )
        temporary.rename(upload_path(upload))
    finally:
        temporary.unlink(missing_ok=True)
    return upload


def read_upload(upload: Upload, encoding: str | None = None) -> read.Raw:
    path = upload_path(upload)
    if not path.is_file():
        raise Problem("the uploaded file is gone", place=upload.name, remedy="hand it in again", code=410)
    return read.read(path.read_bytes(), upload.name, encoding=encoding)


def chosen_layout(raw: read.Raw, given: dict[str, Any]) -> layout.Layout:
    """The guess, with what the user set instead."""
    zone = given.get("zone") or "UTC"
    clock.zone(zone)
    roles = given.get("roles") or {}
    for column, role in roles.items():
        if role not in layout.ROLES or column not in raw.columns:
            raise Problem(
                f"{column!r} cannot be {role!r}",
                place="roles",
                remedy=f"use one of {', '.join(layout.ROLES)}",
            )
    pick = {role: tuple(c for c in raw.columns if roles.get(c) == role) for role in layout.ROLES}
    if not roles:
        return layout.guess(raw, zone=zone)
    for role in ("time", "value"):
        if not pick[role]:
            raise Problem(f"no column is the {role}", place="roles", remedy=f"choose the {role} column")
    if len(pick["time"]) > 1:
        raise Problem("two columns are the time", place="roles", remedy="choose one of them")
    guessed = layout.guess(
        raw,
        zone=zone,
        time=pick["time"][0],
        values=pick["value"],
        series=pick["series"] or (),
        label=next(iter(pick["label"]), None),
    )
    return layout.with_roles(guessed, {c: roles.get(c, "leave out") for c in raw.columns})


def metric_of(stream: layout.StreamRows, chosen: layout.Layout, given: dict[str, Any]) -> str:
    """The family's name: what the user wrote for a single value column, else the column's name."""
    stated = (given.get("metric") or "").strip()
    return stated if stated and len(chosen.values) == 1 else stream.metric


def stream_key(metric: str, attributes: Sequence[tuple[str, str]]) -> str:
    return keys.encode((("metric", metric), *attributes))


def preview(upload: Upload, given: dict[str, Any]) -> dict[str, Any]:
    """What is in a file, what was guessed and why, what is wrong, and what it will become."""
    raw = read_upload(upload, given.get("encoding"))
    chosen = chosen_layout(raw, given)
    taken = layout.extract(raw, chosen, missing_words=given.get("missing_words") or ())
    shas = {_sha(stream_key(metric_of(s, chosen, given), s.attributes)) for s in taken.streams}
    known = Stream.objects.filter(key_sha__in=list(shas)[:MOST_STREAMS_A_FILE]).count()
    first = min((int(s.times.min()) for s in taken.streams), default=None)
    last = max((int(s.times.max()) for s in taken.streams), default=None)
    bad = {b.line: b.column for b in taken.broken}
    return {
        "upload": upload.pk,
        "name": upload.name,
        "size": upload.size,
        "rows": raw.rows + len(raw.broken),
        "rows_fit": taken.rows,
        "rows_aside": len(taken.broken),
        "encoding": raw.encoding,
        "delimiter": raw.delimiter,
        "zone": chosen.zone,
        "cadence": durations.format_ns(taken.step_ns),
        "cadence_share": taken.step_share,
        "first": clock.format_time(first) if first is not None else None,
        "last": clock.format_time(last) if last is not None else None,
        "metric": given.get("metric") or chosen.values[0],
        "columns": [_column(raw, chosen, name) for name in raw.columns],
        "sample": _sample(raw, bad),
        "problems": [
            {
                "kind": p.kind,
                "count": p.count,
                "first_line": p.first_line,
                "column": p.column,
                "message": p.message,
                "remedy": p.remedy,
                "sets_aside": p.sets_aside,
            }
            for p in taken.problems
        ],
        "streams": len(taken.streams),
        "streams_known": known,
        "becomes": [
            {
                "title": " · ".join(v for _, v in s.attributes) or metric_of(s, chosen, given),
                "samples": len(s.times),
                "line": _thumbnail(s.times, s.values),
            }
            for s in taken.streams[:PREVIEW_STREAMS]
        ],
        "is_stored": Batch.objects.filter(
            key=_batch_key(upload, chosen, given), accepted_at__isnull=False
        ).exists(),
    }


def _column(raw: read.Raw, chosen: layout.Layout, name: str) -> dict[str, Any]:
    """A column's role, why, and a picture: a histogram of numbers or the most frequent texts."""
    column = raw.columns[name]
    values, wrong, _ = layout.numbers_of(column.slice(0, 100_000), ())
    seen = values[~np.isnan(values)]
    picture: dict[str, Any] = {"kind": "texts", "bars": [], "labels": []}
    role = chosen.role(name)
    if role == "time":
        picture = {"kind": "times", "bars": _density(column), "labels": []}
    elif (
        len(seen) > 0.5 * max(len(values) - int(np.isnan(values).sum()) + int(wrong.sum()), 1)
        and role != "series"
    ):
        counts, edges = np.histogram(seen, bins=24)
        picture = {"kind": "numbers", "bars": counts.tolist(), "labels": [f"{edges[0]:g}", f"{edges[-1]:g}"]}
    else:
        words, counts = np.unique(
            np.array(column.slice(0, 100_000).cast("string").fill_null("").to_pylist()), return_counts=True
        )
        top = np.argsort(-counts)[:6]
        picture = {"kind": "texts", "bars": counts[top].tolist(), "labels": [str(w)[:40] for w in words[top]]}
    missing = float(np.mean(np.isnan(values) & ~wrong)) if role == "value" else 0.0
    return {
        "name": name,
        "role": role,
        "reason": chosen.reasons.get(name, "not used"),
        "missing": missing,
        "picture": picture,
    }


def _density(column: Any) -> list[int]:
    parsed = clock.parse(column)
    good = parsed.times[~parsed.bad]
    return np.histogram(good, bins=40)[0].tolist() if len(good) else []


def _sample(raw: read.Raw, bad: dict[int, str]) -> list[dict[str, Any]]:
    """The first rows, with the first broken ones among them."""
    lines = {raw.line(i): i for i in range(min(raw.rows, 2000))}
    broken = [i for line, i in lines.items() if line in bad][:2]
    rows = sorted({*range(min(raw.rows, PREVIEW_ROWS - len(broken))), *broken})
    out = []
    for i in rows:
        cells = ["" if (v := column[i].as_py()) is None else str(v)[:60] for column in raw.columns.values()]
        out.append({"line": raw.line(i), "cells": cells, "broken_column": bad.get(raw.line(i))})
    return out


def _thumbnail(times: Any, values: Any, n: int = 120) -> list[float | None]:
    """The first stretch of a stream as a line of at most n points."""
    order = np.argsort(times, kind="stable")[: 8 * n]
    y = values[order]
    step = max(1, len(y) // n)
    return [None if np.isnan(v) else float(v) for v in y[::step][:n]]


def _sha(text: str) -> str:
    return hashlib.sha256(text.encode()).hexdigest()


def _batch_key(upload: Upload, chosen: layout.Layout, given: dict[str, Any]) -> str:
    """The same bytes read the same way are the same batch."""
    parts = [
        upload.sha,
        chosen.time,
        chosen.values,
        chosen.series,
        chosen.zone,
        given.get("metric") or "",
        sorted(given.get("missing_words") or ()),
    ]
    return _sha(json.dumps(parts))


def store_upload(upload: Upload, given: dict[str, Any], user: Any) -> Any:
    """Put down the job that stores an upload. The layout is checked here, before anything is queued."""
    raw = read_upload(upload, given.get("encoding"))
    chosen_layout(raw, given)
    title = f"Take in {upload.name}"
    return jobs.enqueue(
        "intake",
        title,
        {"upload": upload.pk, "given": given, "then_scan": bool(given.get("then_scan"))},
        user=user,
    )


def accept(upload: Upload, given: dict[str, Any], lease: jobs.Lease) -> dict[str, Any]:
    """Store an upload's rows as one batch: blocks first, then all of it visible at once."""
    raw = read_upload(upload, given.get("encoding"))
    chosen = chosen_layout(raw, given)
    taken = layout.extract(raw, chosen, missing_words=given.get("missing_words") or ())
    key = _batch_key(upload, chosen, given)
    done = Batch.objects.filter(key=key, accepted_at__isnull=False).first()
    if done is not None:
        lease.log("this file was taken in before; nothing changed")
        return {"batch": done.pk, "rows": 0, "ids": [s.pk for s in _catalogue(taken, chosen, given)]}
    if not taken.streams:
        raise Problem("not one row can be used", place=upload.name, remedy="correct the column roles")
    with lease.write():
        # What an earlier attempt left behind was never visible.
        Batch.objects.filter(key=key, accepted_at__isnull=True).delete()
        batch = Batch.objects.create(
            key=key, source=upload.name, layout={"given": given}, rows_taken=taken.rows, rows_aside=len(taken.broken),
            aside=aside_csv(taken), streams=len(taken.streams), created_by=lease.job.created_by,
        )  # fmt: skip
        streams = _catalogue(taken, chosen, given)
    total = len(taken.streams)

    def rows() -> Any:
        for i, (row, stream) in enumerate(zip(taken.streams, streams, strict=True)):
            lease.progress(i, total)
            if lease.is_cancelled():
                raise jobs.Cancelled
            times, values = _mean_of_doubles(row.times, row.values)
            yield stream.pk, times, values

    try:
        store.write_blocks(batch, rows())
    except jobs.Cancelled:
        batch.delete()
        raise
    ids = [s.pk for s in streams]
    with lease.write():
        Batch.objects.filter(pk=batch.pk).update(accepted_at=timezone.now())
        jobs.enqueue("fold", f"Fold {upload.name}", {"streams": ids})
    lease.progress(total, total)
    jobs.tell("batch", batch.pk)
    return {"batch": batch.pk, "rows": taken.rows, "ids": ids}


def _mean_of_doubles(times: Any, values: Any) -> tuple[Any, Any]:
    """Sorted samples; those of one stamp in one file combine to their mean, as a scan of the file does."""
    distinct, inverse = np.unique(times, return_inverse=True)
    if len(distinct) == len(times):
        order = np.argsort(times, kind="stable")
        return times[order], values[order]
    seen = ~np.isnan(values)
    sums = np.bincount(inverse[seen], values[seen], len(distinct))
    counts = np.bincount(inverse[seen], minlength=len(distinct))
    with np.errstate(invalid="ignore"):
        return distinct, np.where(counts > 0, sums / counts, np.nan)


def _catalogue(taken: layout.Extracted, chosen: layout.Layout, given: dict[str, Any]) -> list[Stream]:
    """The streams of a file, made where they are new."""
    if len(taken.streams) > MOST_STREAMS_A_FILE:
        raise Problem(
            f"{len(taken.streams):,} streams, at most {MOST_STREAMS_A_FILE:,} a file",
            place="roles",
            remedy="choose fewer series columns",
        )
    wanted = {}
    for s in taken.streams:
        metric = metric_of(s, chosen, given)
        key = stream_key(metric, s.attributes)
        wanted[_sha(key)] = (metric, key, s)
    known = {s.key_sha: s for s in Stream.objects.filter(key_sha__in=wanted)}
    fresh = [
        Stream(
            metric=metric, key=key, key_sha=sha, attributes=[list(p) for p in s.attributes], unit=given.get("unit") or "",
            zone=chosen.zone, bad_side=given.get("bad_side") or "both", step_ns=infer_step(s.times),
        )
        for sha, (metric, key, s) in wanted.items()
        if sha not in known
    ]  # fmt: skip
    Stream.objects.bulk_create(fresh, batch_size=500, ignore_conflicts=True)
    known = {s.key_sha: s for s in Stream.objects.filter(key_sha__in=wanted)}
    return [known[sha] for sha in wanted]


def aside_csv(taken: layout.Extracted) -> bytes:
    """Rows set aside as gzipped CSV: line, column, what is wrong, the row as it stood."""
    if not taken.broken:
        return b""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(["line", "column", "problem", "row"])
    for b in taken.broken:
        writer.writerow([b.line, b.column, b.problem, spreadsheet_safe(b.text)])
    return gzip.compress(out.getvalue().encode(), mtime=0)


def spreadsheet_safe(text: str) -> str:
    """Text that a spreadsheet will not run as a formula."""
    return (
        "'" + text
        if text[:1] in ("=", "+", "@", "\t", "\r") or (text[:1] == "-" and not text[1:2].isdigit())
        else text
    )


@transaction.atomic
def edit(stream: Stream, changes: dict[str, Any]) -> Stream:
    if "zone" in changes:
        clock.zone(changes["zone"])
    for name, value in changes.items():
        setattr(stream, name, value)
    stream.save(update_fields=list(changes))
    jobs.tell("stream", stream.pk)
    return stream
