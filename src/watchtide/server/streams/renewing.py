"""Streams made of others: rates of counters, quantiles of histograms, and formulas; renewed where something changed."""

from collections.abc import Sequence
from typing import Any

import numpy as np
from django.db import transaction

from watchtide.core.series import SECOND_NS, Floats, Ints, joining
from watchtide.core.series.cadence import step_of
from watchtide.core.series.live import bucket_quantile, intervals
from watchtide.server import moments
from watchtide.server.jobs import services as jobs
from watchtide.server.problems import Problem
from watchtide.server.streams import catalogue, store
from watchtide.server.streams.models import CADENCE_STATED, HIDDEN, Batch, Derived, Stream
from watchtide.server.streams.places import in_force, place_of_stream
from watchtide.tables import clock, expressions, formulas, views
from watchtide.tables.expressions import ExpressionError
from watchtide.tables.identity import Rule
from watchtide.tables.points import BOUND, QUANTILES

HOUR_NS = 3_600 * SECOND_NS
# How far back the sample before a changed one is looked for.
LOOK_BACK_STEPS = 20
# Steps around a change within which streams of several sources are written anew.
REWRITTEN_STEPS = 5
Span = tuple[int, int]
Samples = tuple[Ints, Floats]
Output = tuple[int, Ints, Floats]


def renew() -> int:
    """Make anew what depends on batches accepted since the last time. Returns the streams written."""
    batches = list(Batch.objects.filter(is_renewed=False, accepted_at__isnull=False).order_by("pk")[:200])
    if not batches:
        return 0
    changed = spans_of(batches)
    name = f"renewed-{batches[0].pk}-{batches[-1].pk}"
    with store.snapshot():
        outputs = counters(changed)
        _write(outputs, f"rates after {len(batches)} batches", name)
        count = len(outputs)
        for formula in in_order(list(Derived.objects.all())):
            # What one formula makes may be what the next one reads.
            changed |= {stream: (int(t[0]), int(t[-1])) for stream, t, _ in outputs if len(t)}
            outputs = _formula_within(formula, changed)
            _write(outputs, f"formula {formula.metric}", f"{name}-{formula.pk}")
            count += len(outputs)
        Batch.objects.filter(pk__in=[b.pk for b in batches]).update(is_renewed=True)
    return count


def in_order(derived: list[Derived]) -> list[Derived]:
    """Formulas so that each stands behind those whose results it reads."""
    reads = {f.metric: _metrics(f.formula) for f in derived}
    out: list[Derived] = []
    waiting = list(derived)
    while waiting:
        names = {f.metric for f in waiting}
        free = [f for f in waiting if not reads[f.metric] & names] or waiting[:1]
        out += free
        waiting = [f for f in waiting if f not in free]
    return out


def _metrics(formula: str) -> set[str]:
    """The metrics a formula reads."""
    return {s.metric for s in expressions.sources_of(expressions.parse_formula(formula))}


def spans_of(batches: Sequence[Batch]) -> dict[int, Span]:
    """The span that these batches touched, by stream."""
    out: dict[int, Span] = {}
    for batch in batches:
        for data in batch.blocks.values_list("index", flat=True):
            entries = store.Index.from_bytes(bytes(data)).entries
            for stream, first, last in zip(
                *(entries[x].tolist() for x in ("stream", "first", "last")), strict=True
            ):
                a, b = out.get(stream, (first, last))
                out[stream] = (min(a, first), max(b, last))
    return out


def _write(outputs: Sequence[Output], source: str, key: str) -> None:
    outputs = [o for o in outputs if len(o[1])]
    if not outputs:
        return
    digest = catalogue.sha(key)
    Batch.objects.filter(key=digest).delete()
    batch = Batch.objects.create(key=digest, source=source[:255], door="derived", streams=len(outputs))
    samples = store.write_blocks(batch, outputs)
    Batch.objects.filter(pk=batch.pk).update(accepted_at=moments.now(), samples=samples)


def counters(changed: dict[int, Span], *, is_rewritten: bool = False) -> list[Output]:
    """What follows from changes of these streams: rates of counters, quantiles of histograms, streams of several
    sources. is_rewritten : stamps that a stream no longer has are written as missing, as they always are where several sources meet."""
    found = list(Stream.objects.filter(pk__in=list(changed), kind__in=("counter", "source")))
    if not found:
        return []
    rules = in_force()
    spans: dict[str, Span] = {}
    for stream in _with_places(found, rules):
        a, b = changed[stream.pk]
        first, last = spans.get(stream.joins_sha, (a, b))
        spans[stream.joins_sha] = (min(a, first), max(b, last))
    outputs: list[Output] = []
    for sha, span in spans.items():
        outputs += _place(sha, span, rules, is_rewritten=is_rewritten)
    return outputs


def after_undo(changed: dict[int, Span], batch: Batch) -> None:
    """Recompute what is derived from streams that have just lost samples."""
    outputs = counters(changed, is_rewritten=True) if changed else []
    _write(outputs, f"after undoing batch {batch.pk}", f"undone-{batch.pk}-{moments.now().isoformat()}")


def compute_place(sha: str) -> list[Stream]:
    """Combine one place from the whole history of its sources. Returns its streams."""
    outputs = _place(sha, None, in_force())
    _write(outputs, "combined from sources", f"place-{sha}-{moments.now().isoformat()}")
    streams = list(Stream.objects.filter(pk__in=[o[0] for o in outputs]))
    Stream.objects.filter(pk__in=[s.pk for s in streams], kind="retired").update(kind="samples")
    return streams


def _with_places(streams: list[Stream], rules: Sequence[Rule]) -> list[Stream]:
    """Counters of releases before there were identity rules have no place yet: they get the one of the rules in force."""
    bare = [s for s in streams if not s.joins_sha]
    for stream in bare:
        place = place_of_stream(stream, rules)
        stream.joins_sha, stream.join = place.sha, place.join
    if bare:
        Stream.objects.bulk_update(bare, ["joins_sha", "join"], batch_size=500)
    return streams


def _place(sha: str, span: Span | None, rules: Sequence[Rule], *, is_rewritten: bool = False) -> list[Output]:
    """What becomes of one place: a stream of counters' rates, of a histogram, or of sources."""
    parts = list(Stream.objects.filter(joins_sha=sha, kind__in=("counter", "source")).order_by("pk"))
    if not parts:
        return []
    place = place_of_stream(parts[0], rules)
    sources = [s for s in parts if s.kind == "source"]
    plain = [s for s in parts if s.kind == "counter" and not _bound_of(s)]
    buckets = [s for s in parts if s.kind == "counter" and _bound_of(s)]
    out: list[Output] = []

    def put(target: Stream, samples: Samples, own: Sequence[Stream], has_several: bool) -> None:
        if target.kind == "source":
            # The key belongs to a source: nothing derived is written over what was received.
            return
        _bring_up_to_date(target, own)
        out.append(_output(target, *samples, span, is_rewritten=is_rewritten or has_several))

    if sources:
        [target] = catalogue.find_or_make(
            [(place.metric, place.attributes)], unit=sources[0].unit, zone=sources[0].zone
        )
        how = _how(sources, place.join)
        put(
            target,
            joining.joined([_read_around(s, span) for s in sources], how, _common_step(sources)),
            sources,
            len(sources) > 1,
        )
    if plain:
        unit = rate_unit(plain[0].unit)
        [target] = catalogue.find_or_make([(place.metric, place.attributes)], unit=unit, zone=plain[0].zone)
        put(target, _rates(plain, span), plain, len(plain) > 1)
    if buckets:
        names = [(f"{place.metric}_p{share * 100:g}", place.attributes) for share in QUANTILES]
        targets = catalogue.find_or_make(names, unit=buckets[0].unit, zone=buckets[0].zone)
        for target, samples in zip(targets, _quantiles(buckets, span), strict=False):
            put(target, samples, buckets, len(buckets) > len({_bound_of(s) for s in buckets}))
    return out


def _bring_up_to_date(target: Stream, own: Sequence[Stream]) -> None:
    """Set what follows from the sources: the stream is visible, and as late as the latest of them."""
    late = max((s.lateness_ns for s in own if s.lateness_ns is not None), default=target.lateness_ns)
    kind = "samples" if target.kind == "retired" else target.kind
    if (late, kind) != (target.lateness_ns, target.kind):
        target.lateness_ns, target.kind = late, kind
        target.save(update_fields=["lateness_ns", "kind"])


def _how(sources: Sequence[Stream], stated: str) -> str:
    """How sources are combined: as a rule states it, else sums of additive values and means of the rest."""
    return stated if stated != "auto" else "sum" if any(s.is_additive for s in sources) else "mean"


def _bound_of(stream: Stream) -> str | None:
    pairs = stream.attributes
    return str(pairs[-1][1]) if pairs and pairs[-1][0] == BOUND else None


def rate_unit(unit: str) -> str:
    """The unit of a counter's rate."""
    return f"{'' if unit in ('', '1') else unit}/s"[:40]


def _around(stream: Stream, span: Span) -> Span:
    """A span with the samples right before and behind it, as far as the cadence lets one hope for them."""
    reach = max(HOUR_NS, LOOK_BACK_STEPS * (stream.step_ns or 0))
    return span[0] - reach, span[1] + reach


def _read_around(stream: Stream, span: Span | None) -> tuple[Ints, Floats]:
    return store.read(stream.pk, *(_around(stream, span) if span is not None else (None, None)))


def _rates(parts: Sequence[Stream], span: Span | None) -> Samples:
    return joining.joined_rates([intervals(*_read_around(s, span)) for s in parts], _common_step(parts))


def _common_step(parts: Sequence[Stream]) -> int:
    """The coarsest cadence that sources are known to have: what one window shows of it changes from one to the next."""
    return max(s.step_ns or 0 for s in parts)


def _output(target: Stream, times: Ints, values: Floats, span: Span | None, *, is_rewritten: bool) -> Output:
    """What of these samples has to be written: those in the span; where it is rewritten also the stamps that the stream had
    there before and has no more, as missing."""
    reach = REWRITTEN_STEPS * max(target.step_ns, SECOND_NS) if is_rewritten else 0
    if span is not None:
        # The interval that ends in the span begins before it.
        a = max(int(np.searchsorted(times, span[0] - reach)) - 1, 0)
        b = int(np.searchsorted(times, span[1] + reach, side="right"))
        times, values = times[a:b], values[a:b]
    if (span is not None and not is_rewritten) or target.is_sent:
        # Samples sent to this very key stay beside the derived ones.
        return target.pk, times, values
    window = (None, None) if span is None else (span[0] - reach, span[1] + reach)
    held, before = store.read(target.pk, *window)
    stale = held[~np.isin(held, times) & ~np.isnan(before)]
    if len(stale):
        times, values = np.r_[times, stale], np.r_[values, np.full(len(stale), np.nan)]
        order = np.argsort(times, kind="stable")
        times, values = times[order], values[order]
    return target.pk, times, values


def _quantiles(buckets: Sequence[Stream], span: Span | None) -> list[tuple[Ints, Floats]]:
    """(times, values) of each of `QUANTILES`, of the buckets of all sources together; none where bounds are missing."""
    by_bound: dict[float, list[Stream]] = {}
    for stream in buckets:
        by_bound.setdefault(float(_bound_of(stream) or "nan"), []).append(stream)
    per_bound = [(bound, *_rates(parts, span)) for bound, parts in sorted(by_bound.items())]
    if len(per_bound) < 2 or not np.isinf(per_bound[-1][0]):
        return []
    times = per_bound[-1][1]
    for _, t, _ in per_bound:
        times = np.intersect1d(times, t)
    upto = np.array([r[np.searchsorted(t, times)] for _, t, r in per_bound])
    # Buckets read at slightly different moments may seem to shrink; none holds less than nothing.
    counts = np.maximum(np.diff(upto, axis=0, prepend=0.0), 0.0)
    bounds = [b for b, _, _ in per_bound[:-1]]
    return [
        (times, np.array([bucket_quantile(bounds, counts[:, i].tolist(), share) for i in range(len(times))]))
        for share in QUANTILES
    ]


def groups_of(tree: expressions.Formula, by: Sequence[str]) -> list[formulas.Group]:
    """The outputs of a formula over the catalogue's streams. Raises Problem where it has none."""

    def members(metric: str) -> list[formulas.Member]:
        found = Stream.objects.filter(metric=metric).exclude(kind__in=HIDDEN).order_by("pk")
        rows = found.values_list("pk", "metric", "attributes")
        return [formulas.Member(pk, m, tuple((str(a), str(b)) for a, b in pairs)) for pk, m, pairs in rows]

    try:
        return formulas.groups_of(tree, by, members)
    except ExpressionError as error:
        raise _problem(error) from error


def _problem(error: ExpressionError) -> Problem:
    message, _, remedy = str(error).partition("; ")
    return Problem(message, place="formula", remedy=remedy or "see docs/formats.md, Formulas")


def define(data: dict[str, Any], user: Any) -> tuple[Derived, Any]:
    """Make or change a formula stream, and put down the job that computes it. Raises Problem where it cannot be."""
    try:
        tree = expressions.parse_formula(data["formula"])
    except ExpressionError as error:
        raise _problem(error) from error
    clock.zone(data.get("zone") or "UTC")
    if any(s.metric == data["metric"] for s in expressions.sources_of(tree)):
        raise Problem("a formula cannot read itself", place="metric", remedy="give the result another name")
    groups = groups_of(tree, data.get("by") or [])
    taken = Stream.objects.filter(metric=data["metric"]).exclude(kind="derived")
    if taken.exists():
        raise Problem(
            "streams with this metric exist", place="metric", remedy="give the result another name", code=409
        )
    _refuse_circles(data["metric"], tree)
    kept = ("formula", "by", "every_ns", "unit", "bad_side", "zone")
    formula, _ = Derived.objects.update_or_create(
        metric=data["metric"],
        defaults={**{k: data[k] for k in kept if data.get(k) is not None}, "created_by": user, "message": ""},
    )
    catalogue.changed()
    job = jobs.enqueue("derive", f"Compute {formula.metric}", {"derived": formula.pk}, user=user)
    return formula, {"job": job, "streams": len(groups)}


def _refuse_circles(metric: str, tree: expressions.Formula) -> None:
    reads = {d.metric: _metrics(d.formula) for d in Derived.objects.all()}
    reads[metric] = {s.metric for s in expressions.sources_of(tree)}
    seen, todo = set(), set(reads[metric])
    while todo:
        name = todo.pop()
        if name == metric:
            raise Problem(
                "the formula reads itself by way of another", place="formula", remedy="break the circle"
            )
        if name not in seen:
            seen.add(name)
            todo |= reads.get(name, set())


def compute(formula: Derived, lease: jobs.Lease | None = None) -> int:
    """Compute a formula over the whole history. Returns its streams."""
    tree = expressions.parse_formula(formula.formula)
    groups = groups_of(tree, formula.by)
    outputs = []
    for i, group in enumerate(groups):
        if lease is not None:
            lease.progress(i, len(groups))
            if lease.is_cancelled():
                raise jobs.Cancelled
        outputs += _evaluate(formula, tree, group, None)
    with transaction.atomic():
        _write(outputs, f"formula {formula.metric}", f"formula-{formula.pk}-{moments.now().isoformat()}")
        Derived.objects.filter(pk=formula.pk).update(renewed_at=moments.now(), message="")
    return len(groups)


def _formula_within(formula: Derived, changed: dict[int, Span]) -> list[Output]:
    """What of a formula's streams has to be written anew after these changes."""
    try:
        tree = expressions.parse_formula(formula.formula)
        groups = groups_of(tree, formula.by)
    except (ExpressionError, Problem) as error:
        Derived.objects.filter(pk=formula.pk).update(message=str(error)[:500])
        return []
    outputs = []
    for group in groups:
        spans = [changed[n] for n in group.numbers if n in changed]
        if spans:
            span = (min(a for a, _ in spans), max(b for _, b in spans))
            outputs += _evaluate(formula, tree, group, span)
    Derived.objects.filter(pk=formula.pk).update(renewed_at=moments.now(), message="")
    return outputs


def _evaluate(
    formula: Derived, tree: expressions.Formula, group: formulas.Group, span: Span | None
) -> list[Output]:
    """A formula for one group: its samples, and those of its denominator where it is a ratio."""
    members = list(Stream.objects.filter(pk__in=group.numbers))
    step = formula.every_ns or max((s.step_ns or 0 for s in members), default=0)
    if step <= 0:
        step = max((step_of(store.read(s.pk)[0]) for s in members), default=HOUR_NS)
    if span is not None:
        edges = clock.bin_starts(np.array(span, np.int64), step, formula.zone)
        # The bin is read whole, also where only one sample of it is new.
        span = (int(edges[0]), int(edges[1]) + 2 * step)
    result = formulas.evaluate(tree, group, {s.pk: _gridded(s, step, formula.zone, span) for s in members})
    if len(result.times) == 0:
        return []
    facts = {"kind": "derived", "unit": formula.unit, "zone": formula.zone, "bad_side": formula.bad_side}
    [target] = catalogue.find_or_make([(formula.metric, group.attributes)], **facts)
    if target.step_ns != step or target.cadence_of != CADENCE_STATED:
        Stream.objects.filter(pk=target.pk).update(step_ns=step, cadence_of=CADENCE_STATED)
    target.fed_by.set(members)
    outputs: list[Output] = [(target.pk, *_within(result.times, result.values, span, step))]
    if result.amounts is not None:
        [denominator] = catalogue.find_or_make(
            [(f"{formula.metric} denominator", group.attributes)], **(facts | {"unit": ""})
        )
        Stream.objects.filter(pk=target.pk).update(denominator=denominator)
        outputs.append((denominator.pk, *_within(result.times, result.amounts, span, step)))
    return outputs


def _within(times: Ints, values: Floats, span: Span | None, step: int) -> tuple[Ints, Floats]:
    if span is None:
        return times, values
    keep = (times >= span[0]) & (times < span[1] - step)
    return times[keep], values[keep]


def _gridded(stream: Stream, step: int, zone: str, span: Span | None) -> tuple[Ints, Floats]:
    """A stream at the formula's cadence: counts add up, other values are averaged."""
    times, values = store.read(stream.pk, *(span or (None, None)))
    return views.at_cadence(times, values, step, zone, unit=stream.unit, own_ns=stream.step_ns)
