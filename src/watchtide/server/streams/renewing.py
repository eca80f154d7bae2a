"""Streams made of others: rates of counters, quantiles of histograms, and formulas; renewed where something changed."""

from collections.abc import Sequence
from typing import Any

import numpy as np
from django.db import transaction
from django.utils import timezone

from watchtide.core.live import bucket_quantile, rates
from watchtide.core.series import SECOND_NS, Floats, Ints, infer_step
from watchtide.server.jobs import services as jobs
from watchtide.server.problems import Problem
from watchtide.server.streams import catalogue, store
from watchtide.server.streams.live import COUNTED
from watchtide.server.streams.models import Batch, Derived, Stream
from watchtide.tables import clock, expressions, formulas, views
from watchtide.tables.expressions import ExpressionError
from watchtide.tables.points import BOUND, QUANTILES

HOUR_NS = 3_600 * SECOND_NS
# How far back the sample before a changed one is looked for.
LOOK_BACK_STEPS = 20
Span = tuple[int, int]
Output = tuple[int, Ints, Floats]


def renew() -> int:
    """Make anew what depends on batches accepted since the last time. Returns the streams written."""
    batches = list(Batch.objects.filter(is_renewed=False, accepted_at__isnull=False).order_by("pk")[:200])
    if not batches:
        return 0
    changed = spans_of(batches)
    name = f"renewed-{batches[0].pk}-{batches[-1].pk}"
    with transaction.atomic():
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
            for e in store.Index.from_bytes(bytes(data)).entries:
                stream, first, last = int(e["stream"]), int(e["first"]), int(e["last"])
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
    Batch.objects.filter(pk=batch.pk).update(accepted_at=timezone.now(), samples=samples)


def counters(changed: dict[int, Span]) -> list[Output]:
    """Rates of the counters among the changed streams, and quantiles of the histograms whose buckets are."""
    found = Stream.objects.filter(pk__in=list(changed), kind="counter").in_bulk()
    plain, buckets = [], {}
    for stream in found.values():
        pairs = tuple((str(a), str(b)) for a, b in stream.attributes)
        metric = stream.metric.removesuffix(COUNTED)
        if pairs and pairs[-1][0] == BOUND:
            buckets.setdefault((metric, pairs[:-1]), []).append((float(pairs[-1][1]), stream))
        else:
            plain.append((metric, pairs, stream))
    outputs: list[Output] = []
    for unit, group in _by_unit(plain).items():
        targets = catalogue.find_or_make([(m, p) for m, p, _ in group], unit=unit, zone=group[0][2].zone)
        for target, (_, _, stream) in zip(targets, group, strict=True):
            outputs.append((target.pk, *_rates_within(stream, changed[stream.pk])))
    for (metric, pairs), parts in buckets.items():
        outputs += _quantiles(metric, pairs, sorted(parts, key=lambda p: p[0]), changed)
    return outputs


def _by_unit(plain: Sequence[tuple[str, Any, Stream]]) -> dict[str, list[tuple[str, Any, Stream]]]:
    out: dict[str, list[tuple[str, Any, Stream]]] = {}
    for row in plain:
        unit = row[2].unit
        out.setdefault(f"{'' if unit in ('', '1') else unit}/s"[:40], []).append(row)
    return out


def _around(stream: Stream, span: Span) -> Span:
    """A span with the samples right before and behind it, as far as the cadence lets one hope for them."""
    reach = max(HOUR_NS, LOOK_BACK_STEPS * (stream.step_ns or 0))
    return span[0] - reach, span[1] + reach


def _rates_within(stream: Stream, span: Span) -> tuple[Ints, Floats]:
    times, values = store.read(stream.pk, *_around(stream, span))
    at, rate = rates(times, values)
    # The interval that ends in the span begins before it.
    a = max(int(np.searchsorted(at, span[0])) - 1, 0)
    b = int(np.searchsorted(at, span[1], side="right"))
    return at[a:b], rate[a:b]


def _quantiles(
    metric: str,
    pairs: tuple[tuple[str, str], ...],
    parts: list[tuple[float, Stream]],
    changed: dict[int, Span],
) -> list[Output]:
    own = _siblings(metric, pairs, parts)
    span = (min(changed[s.pk][0] for _, s in parts), max(changed[s.pk][1] for _, s in parts))
    per_bound = [(bound, *_rates_within(stream, span)) for bound, stream in own]
    if not per_bound or not np.isinf(per_bound[-1][0]) or len(per_bound) < 2:
        return []
    times = per_bound[-1][1]
    for _, t, _ in per_bound:
        times = np.intersect1d(times, t)
    upto = np.array([r[np.searchsorted(t, times)] for _, t, r in per_bound])
    # Buckets read at slightly different moments may seem to shrink; none holds less than nothing.
    counts = np.maximum(np.diff(upto, axis=0, prepend=0.0), 0.0)
    bounds = [b for b, _, _ in per_bound[:-1]]
    names = [(f"{metric}_p{share * 100:g}", pairs) for share in QUANTILES]
    targets = catalogue.find_or_make(names, unit=parts[0][1].unit, zone=parts[0][1].zone)
    return [
        (
            t.pk,
            times,
            np.array([bucket_quantile(bounds, counts[:, i].tolist(), share) for i in range(len(times))]),
        )
        for t, share in zip(targets, QUANTILES, strict=True)
    ]


def _siblings(
    metric: str, pairs: tuple[tuple[str, str], ...], parts: list[tuple[float, Stream]]
) -> list[tuple[float, Stream]]:
    """All buckets of a histogram, also those that did not change."""
    out = dict(parts)
    for stream in Stream.objects.filter(metric=metric + COUNTED, kind="counter"):
        own = tuple((str(a), str(b)) for a, b in stream.attributes)
        if own and own[-1][0] == BOUND and own[:-1] == pairs:
            out[float(own[-1][1])] = stream
    return sorted(out.items(), key=lambda p: p[0])


def groups_of(tree: expressions.Formula, by: Sequence[str]) -> list[formulas.Group]:
    """The outputs of a formula over the catalogue's streams. Raises Problem where it has none."""

    def members(metric: str) -> list[formulas.Member]:
        found = Stream.objects.filter(metric=metric).exclude(kind="counter").order_by("pk")
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
        _write(outputs, f"formula {formula.metric}", f"formula-{formula.pk}-{timezone.now().isoformat()}")
        Derived.objects.filter(pk=formula.pk).update(renewed_at=timezone.now(), message="")
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
    Derived.objects.filter(pk=formula.pk).update(renewed_at=timezone.now(), message="")
    return outputs


def _evaluate(
    formula: Derived, tree: expressions.Formula, group: formulas.Group, span: Span | None
) -> list[Output]:
    """A formula for one group: its samples, and those of its denominator where it is a ratio."""
    members = list(Stream.objects.filter(pk__in=group.numbers))
    step = formula.every_ns or max((s.step_ns or 0 for s in members), default=0)
    if step <= 0:
        step = max((infer_step(store.read(s.pk)[0]) for s in members), default=HOUR_NS)
    if span is not None:
        edges = clock.bin_starts(np.array(span, np.int64), step, formula.zone)
        # The bin is read whole, also where only one sample of it is new.
        span = (int(edges[0]), int(edges[1]) + 2 * step)
    result = formulas.evaluate(tree, group, {s.pk: _gridded(s, step, formula.zone, span) for s in members})
    if len(result.times) == 0:
        return []
    facts = {"kind": "derived", "unit": formula.unit, "zone": formula.zone, "bad_side": formula.bad_side}
    [target] = catalogue.find_or_make([(formula.metric, group.attributes)], **facts)
    if target.step_ns != step:
        Stream.objects.filter(pk=target.pk).update(step_ns=step)
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
