"""Freezing scorecards, and telling what has changed since."""

import gzip
import hashlib
import io
import json
from collections.abc import Sequence
from dataclasses import asdict
from typing import Any

import numpy as np
import pyarrow as pa
from django.db.models import Max

from watchtide.core.scoring.rows import Label, Points
from watchtide.core.series.cadence import step_of
from watchtide.engine.keep import arrays
from watchtide.plan import Plan
from watchtide.server.cards import counting
from watchtide.server.cards.counting import Selection
from watchtide.server.cards.models import Published, PublishedStream
from watchtide.server.jobs import services as jobs
from watchtide.server.jobs.models import Job
from watchtide.server.logbook import services as logbook
from watchtide.server.problems import Problem
from watchtide.server.scans import services as scans
from watchtide.server.scans.models import Scan, ScanStream
from watchtide.tables import clock, labels, results


def start(scan: Scan, selection: Selection, title: str, user: Any) -> Job:
    """Put down the job that freezes a scorecard against the logbook as it is now."""
    counting.rows_of(scan, selection)
    arguments = {
        "scan": scan.pk, "selection": asdict(selection), "title": title, "logbook": logbook.version(),
        "author": user.get_username(),
    }  # fmt: skip
    return jobs.enqueue("publish", f"Publish {title}", arguments, user=user)


@jobs.handles("publish", lane="interactive")
def publish(lease: jobs.Lease) -> dict[str, Any]:
    """Count and copy all that was counted; all of it is stored, or nothing."""
    given = lease.arguments
    if logbook.version() != given["logbook"]:
        raise Problem(
            "the logbook has changed since you asked",
            remedy="look at the figures again, then publish",
            code=409,
        )
    scan = Scan.objects.select_related("plan_version__plan").get(pk=given["scan"])
    # One count for figures and copies, so that the copies give these figures again.
    c = counting.counted(scan, Selection.of(given["selection"]), lease.go_on)
    content = counting.content_of(c)
    with lease.write():
        row = Published.objects.create(
            title=given["title"], scan=scan, plan_name=scan.plan_version.plan.name, plan_number=scan.plan_version.number,
            plan_text=scan.plan_version.text, mode=scan.mode, selection=given["selection"], content=content,
            findings=gzip.compress(results.findings_text(c.findings).encode()),
            labels=gzip.compress(labels.to_json(c.labels).encode()),
            logbook_version=given["logbook"], code_version=scan.code_version, author=given["author"],
        )  # fmt: skip
        for own in c.rows:
            PublishedStream.objects.create(
                published=row, stream_id=own.stream_id, key=own.stream.key, samples_digest=own.samples_digest,
                points=pack(c.sheets[own.stream.key].points),
            )  # fmt: skip
    jobs.tell("published", row.pk)
    return {"published": row.pk}


def pack(p: Points) -> bytes:
    """Times, scores and flags of a stream, compressed; `unpack` gives them back to the bit."""
    out = io.BytesIO()
    np.savez_compressed(
        out, begin=p.times[:1], steps=np.diff(p.times), score=p.score, flagged=np.packbits(p.flagged)
    )
    return out.getvalue()


def unpack(data: bytes) -> Points:
    kept = arrays.load(io.BytesIO(bytes(data)))
    times = np.cumsum(np.r_[kept["begin"], kept["steps"]]).astype(np.int64)
    return Points(times, kept["score"], np.unpackbits(kept["flagged"], count=len(times)).astype(np.bool_))


def findings_csv(row: Published) -> bytes:
    return gzip.decompress(bytes(row.findings))


def frozen_labels(row: Published) -> list[Label]:
    return labels.read_labels(labels_json(row), "labels.json")


def labels_json(row: Published) -> bytes:
    return gzip.decompress(bytes(row.labels))


def points_parquet(row: Published) -> bytes:
    """Every score that was counted, in the columns that `watchtide score --points` reads."""
    parts = []
    for s in row.streams.order_by("key").iterator(chunk_size=1):
        p = unpack(s.points)
        parts.append(
            pa.table(
                {
                    "series": pa.array([s.key] * len(p.times), pa.string()),
                    "time": pa.array(clock.format_times(p.times), pa.string()),
                    "score": pa.array(p.score, pa.float64(), from_pandas=True),
                    "in_finding": pa.array(np.where(p.flagged, "true", "false"), pa.string()),
                }
            )
        )
    return results.table_bytes(pa.concat_tables(parts), "points.parquet")


def staleness(row: Published) -> dict[str, Any]:
    """What has changed since a scorecard was frozen, and the same figures counted today; nothing where nothing has.

    Entries that were changed count once as gone and once as new.
    """
    frozen = frozen_labels(row)
    keys_of = list(row.streams.values_list("key", flat=True))
    now = counting.covering(logbook.labels(), keys_of) if logbook.version() != row.logbook_version else frozen
    before, after = _counts(frozen), _counts(now)
    newer = _changed_samples(row)
    told: dict[str, Any] = {
        "entries_new": sum(max(0, n - before.get(k, 0)) for k, n in after.items()),
        "entries_gone": sum(max(0, n - after.get(k, 0)) for k, n in before.items()),
        "streams_changed": newer,
        "is_scan_gone": row.scan_id is None,
        "figures": None,
    }
    spans = logbook.quiet_spans()
    quiet = {k: own for k in keys_of if (own := [list(x) for x in logbook.quiet_for(k, spans)])}
    told["quiet_changed"] = quiet != {k: [list(x) for x in v] for k, v in row.content["quiet"].items()}
    changed = bool(told["entries_new"] or told["entries_gone"] or told["quiet_changed"])
    told["is_stale"] = changed or bool(newer)
    if changed and row.scan is not None:
        told["figures"] = counting.card_of(row.scan, Selection.of(row.selection))["figures"]
    return told


def _counts(rows: Sequence[Label]) -> dict[Label, int]:
    out: dict[Label, int] = {}
    for x in rows:
        out[x] = out.get(x, 0) + 1
    return out


def _changed_samples(row: Published) -> int:
    """Of how many streams the samples that were counted are others now; what has only come since changes nothing.

    Only those are read again of which a later scan had other samples.
    """
    held = dict(row.streams.exclude(stream=None).values_list("stream_id", "samples_digest"))
    last = ScanStream.objects.filter(stream_id__in=held).values("stream_id").annotate(pk=Max("pk"))
    newest = ScanStream.objects.filter(pk__in=[x["pk"] for x in last])
    asked = [s for s, digest in newest.values_list("stream_id", "samples_digest") if held[s] != digest]
    plan = scans.plan_of(row.plan_text)
    own = row.streams.filter(stream_id__in=asked).select_related("stream").iterator(chunk_size=1)
    return sum(not _is_held(s, plan) for s in own)


def _is_held(frozen: PublishedStream, plan: Plan) -> bool:
    """Whether the samples of a stream that were counted are still the ones held."""
    times = unpack(frozen.points).times
    until = int(times[-1]) + step_of(times) if len(times) else 0
    try:
        return scans.as_scanned(frozen.stream, plan, frozen.samples_digest, until) is not None
    except Problem:
        # A covariate or calendar that the plan names is gone.
        return False


def head_of(row: Published) -> dict[str, Any]:
    """What a list of published scorecards shows of one."""
    events = row.content["figures"]["events"]
    return {
        "id": row.pk, "title": row.title, "scan": row.scan_id, "plan": row.plan_name, "version": row.plan_number,
        "mode": row.mode, "author": row.author, "created_at": row.created_at, "logbook_version": row.logbook_version,
        "code_version": row.code_version, "precision": events["precision"], "recall": events["recall"],
        "streams": len(row.content["by_stream"]),
    }  # fmt: skip


def data_digest(digests: Sequence[str]) -> str:
    return hashlib.sha256("".join(digests).encode()).hexdigest()


def as_json(content: dict[str, Any]) -> str:
    return json.dumps(content, indent=1, allow_nan=False) + "\n"
