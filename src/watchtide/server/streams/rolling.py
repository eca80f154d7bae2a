"""Roll-ups that grow over batches: what each batch added is kept, and the figures are made from all of it.

Events that arrive late, in a later file, therefore land in their interval instead of replacing it; and undoing a
batch takes its events out again.
"""

import hashlib
import json
from collections.abc import Sequence
from datetime import datetime

from django.db import transaction

from watchtide.core.series import Floats, Ints, keys
from watchtide.server import moments
from watchtide.server.streams import store
from watchtide.server.streams.models import Batch, RollPart, Stream
from watchtide.tables import layout, rollup
from watchtide.tables.layout import Layout
from watchtide.tables.rollup import State

AGAIN = "again-"


def spec_of(chosen: Layout) -> dict[str, object]:
    """What makes two roll-ups the same: interval, zone, measures and metric."""
    assert chosen.rollup is not None
    return {
        "every_ns": chosen.rollup.every_ns,
        "zone": chosen.zone,
        "metric": chosen.metric,
        "measures": [[m.how, m.field] for m in chosen.rollup.measures],
    }


def group_sha(spec: dict[str, object], pairs: Sequence[tuple[str, str]]) -> str:
    text = json.dumps([spec, [list(p) for p in pairs]], sort_keys=True)
    return hashlib.sha256(text.encode()).hexdigest()


def span_of(state: State) -> tuple[int, int]:
    bins = state.moments[""].bins
    return int(bins.min()), int(bins.max())


@transaction.atomic
def add(
    batch: Batch, chosen: Layout, roller: rollup.Roller, stream_of: dict[tuple[int, str], Stream]
) -> list[tuple[int, Ints, Floats]]:
    """Keep what a batch adds, and give the samples its streams now have in the intervals it touched.

    stream_of : by (code of the attributes, metric). The streams stay locked until the caller's transaction ends,
    so that two batches that add to the same interval do so one after the other.
    """
    assert chosen.rollup is not None
    spec = spec_of(chosen)
    ids = sorted(s.pk for s in stream_of.values())
    list(Stream.objects.select_for_update().filter(pk__in=ids).order_by("pk").values_list("pk", flat=True))
    out: list[tuple[int, Ints, Floats]] = []
    for code, pairs in enumerate(roller.extractor.attributes):
        own = rollup.of_group(roller.state, code)
        if len(own.moments[""].bins) == 0:
            continue
        first, last = span_of(own)
        sha = group_sha(spec, pairs)
        RollPart.objects.create(
            batch=batch, group_sha=sha, first_ns=first, last_ns=last, payload=rollup.to_bytes(own)
        )
        whole = _whole(sha, first, last)
        for measure in chosen.rollup.measures:
            stream = stream_of[code, rollup.metric_name(chosen, measure)]
            times, values = _samples(whole, measure, chosen, first, last)
            out.append((stream.pk, times, values))
    return out


def _whole(sha: str, first: int, last: int) -> State:
    """The state of all accepted batches, and of those of this transaction, over a span."""
    state = State()
    parts = RollPart.objects.filter(
        group_sha=sha, last_ns__gte=first, first_ns__lte=last, batch__undone_at__isnull=True
    )
    for payload in parts.order_by("pk").values_list("payload", flat=True):
        state = rollup.merge(state, rollup.from_bytes(bytes(payload)))
    return state


def _samples(
    state: State, measure: layout.Measure, chosen: Layout, first: int, last: int
) -> tuple[Ints, Floats]:
    assert chosen.rollup is not None
    _, bins, values = rollup.figures(state, measure)
    inside = (bins >= first) & (bins <= last)
    bins, values = bins[inside], values[inside]
    if rollup.is_zero_when_empty(measure.how):
        return rollup.filled(bins, values, first, last, chosen.rollup.every_ns, chosen.zone)
    return bins, values


def corrections(batch: Batch, streams: Sequence[int]) -> list[Batch]:
    """What was written after earlier undos, to streams of this batch: it has to be made anew as well."""
    assert batch.accepted_at is not None
    later = Batch.objects.filter(
        key__startswith=AGAIN, accepted_at__gte=batch.accepted_at, undone_at__isnull=True
    )
    wanted = set(streams)
    return [
        b
        for b in later.order_by("-accepted_at", "-pk")
        if any(
            wanted & set(store.Index.from_bytes(bytes(i)).entries["stream"].tolist())
            for i in b.blocks.values_list("index", flat=True)
        )
    ]


def take_back(batch: Batch, anew: Sequence[Batch]) -> bool:
    """After a batch was undone: give its intervals the figures of the batches that remain. True if there are any.

    anew : corrections of earlier undos that were taken out with it; their intervals are made again too.
    """
    parts = RollPart.objects.filter(batch=batch)
    spans = [[p.group_sha, p.first_ns, p.last_ns] for p in parts.defer("payload")]
    if not spans:
        return False
    parts.delete()
    for correction in anew:
        spans += correction.layout["spans"]
    chosen = layout.from_data(batch.layout["layout"])
    assert chosen.rollup is not None
    groups = [*batch.layout["groups"], *(g for c in anew for g in c.layout["groups"])]
    by_sha = {group_sha(spec_of(chosen), [tuple(p) for p in g]): g for g in groups}
    rows: list[tuple[int, Ints, Floats]] = []
    for sha, first, last in spans:
        whole = _whole(sha, first, last)
        if "" not in whole.moments:
            continue
        for measure in chosen.rollup.measures:
            metric = rollup.metric_name(chosen, measure)
            key = keys.encode([("metric", metric), *(tuple(p) for p in by_sha[sha])])
            stream = Stream.objects.filter(key_sha=hashlib.sha256(key.encode()).hexdigest()).first()
            _, bins, values = rollup.figures(whole, measure)
            inside = (bins >= first) & (bins <= last)
            if stream is not None and inside.any():
                rows.append((stream.pk, bins[inside], values[inside]))
    if rows:
        again = Batch.objects.create(
            key=f"{AGAIN}{batch.pk}", source=f"after undoing {batch.source}"[:255], door="derived",
            layout={"spans": spans, "groups": groups}, accepted_at=moments.now(),
        )  # fmt: skip
        store.write_blocks(again, rows)
    return bool(rows)


def compact(before: datetime) -> int:
    """Put the parts of batches that can no longer be undone into one an interval's span. Returns parts merged."""
    merged = 0
    old = RollPart.objects.filter(batch__accepted_at__lt=before)
    for sha in old.values_list("group_sha", flat=True).distinct():
        with transaction.atomic():
            parts = list(old.filter(group_sha=sha).select_for_update().order_by("pk"))
            if len(parts) < 8:
                continue
            state = State()
            for part in parts:
                state = rollup.merge(state, rollup.from_bytes(bytes(part.payload)))
            first, last = span_of(state)
            keep, *rest = parts
            keep.first_ns, keep.last_ns, keep.payload = first, last, rollup.to_bytes(state)
            keep.save()
            RollPart.objects.filter(pk__in=[p.pk for p in rest]).delete()
            merged += len(parts)
    return merged
