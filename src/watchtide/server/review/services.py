"""What may be done in a round of review. Every step is one transaction; what is served to one is served to nobody else."""

from collections.abc import Sequence
from datetime import timedelta
from typing import Any

import numpy as np
from django.db import transaction
from django.db.models import F, Q, QuerySet

from watchtide.core.scoring import rows as core_rows
from watchtide.core.scoring import sampling
from watchtide.core.scoring.agreement import agreement
from watchtide.server import moments
from watchtide.server.incidents import services as incidents
from watchtide.server.jobs import services as jobs
from watchtide.server.logbook import services as logbook
from watchtide.server.logbook.models import Entry
from watchtide.server.problems import Problem
from watchtide.server.review.models import SAMPLE, STRONGEST, UNFLAGGED, Item, Judgement, Round
from watchtide.server.scans import reading
from watchtide.server.scans import services as scans
from watchtide.server.scans.models import Finding, Scan, ScanStream

HOUR_NS = 3_600 * 10**9
MOST_ITEMS = 500
# What is before somebody goes back to the queue when nothing was heard of them for so long.
LEASE = timedelta(minutes=15)
# Every tenth item is looked at by two people, so that it is known how far they agree.
TWICE = 10
# Spans that nobody flagged: so long, and at least so many samples.
SPAN_NS, SPAN_SAMPLES = 6 * HOUR_NS, 24
# A span comes near the level when its strongest score reaches this share of it.
NEAR_SHARE = 0.75
# What may be said of a finding, and of a span that nobody flagged.
OF_FINDINGS = ("incident", "foreseen", "false-alarm", "unsure")
OF_SPANS = ("incident", "foreseen", "reviewed", "unsure")


def start(scan: Scan, kind: str, size: int, filters: dict[str, Any], by: str) -> Round:
    """Fill a round from a finished scan. Problem where nothing is there to be judged."""
    if scan.finished_at is None:
        raise Problem("the scan has not finished", place="scan", remedy="wait for its job", code=409)
    fill = {STRONGEST: _strongest, SAMPLE: _sample, UNFLAGGED: _unflagged}[kind]
    with transaction.atomic():
        round_ = Round.objects.create(scan=scan, kind=kind, filters=filters, created_by=by)
        items = fill(round_, size)
        if not items:
            raise Problem(
                "nothing is left to be judged here",
                place="size",
                remedy="take another scan, family or kind of round",
            )
        for place, item in enumerate(items):
            item.place = place
            item.looks = 2 if place % TWICE == TWICE - 1 else 1
        Item.objects.bulk_create(items, batch_size=500)
    jobs.tell("review", round_.pk)
    return round_


def _wanted(round_: Round) -> QuerySet[Finding]:
    f = round_.filters
    found = Finding.objects.filter(scan=round_.scan).select_related("stream")
    if f.get("metric"):
        found = found.filter(stream__metric=f["metric"])
    if f.get("begin_ns") is not None:
        found = found.filter(end_ns__gte=f["begin_ns"])
    if f.get("end_ns") is not None:
        found = found.filter(start_ns__lte=f["end_ns"])
    if f.get("least") is not None:
        found = found.filter(score__gte=f["least"])
    return found


def _with_verdicts(findings: Sequence[Finding]) -> dict[int, Entry]:
    return scans.verdicts(findings, {f.stream_id: f.stream.key for f in findings})


def _item(round_: Round, f: Finding, stratum: str = "", probability: float | None = None) -> Item:
    return Item(
        round=round_, stream=f.stream, finding=f, start_ns=f.start_ns, end_ns=f.end_ns, stratum=stratum,
        probability=probability,
    )  # fmt: skip


def _strongest(round_: Round, size: int) -> list[Item]:
    found = list(_wanted(round_).order_by("-score", "start_ns", "pk"))
    known = _with_verdicts(found)
    return [_item(round_, f) for f in found if f.pk not in known][:size]


def _sample(round_: Round, size: int) -> list[Item]:
    """A fair sample of the findings that nobody judged by hand, more where verdicts have differed so far.

    What was drawn in rounds before counts as drawn: the chance of each is that of having been drawn by now, and entries
    written from them take it too.
    """
    found = list(_wanted(round_).order_by("start_ns", "pk"))
    known = _with_verdicts(found)
    free = [f for f in found if f.pk not in known or known[f.pk].origin == "sampled"]
    if not free:
        return []
    same = Round.objects.filter(scan=round_.scan, kind=SAMPLE, filters=round_.filters).exclude(pk=round_.pk)
    before = Item.objects.filter(round__in=same, finding__isnull=False)
    # What another entry has judged meanwhile is passed over, and holds up nothing.
    if before.filter(done=0).exclude(finding__in=list(known)).exists():
        raise Problem(
            "an earlier sample of this scan is not judged to its end",
            place="kind", remedy="finish that round first: half a sample says nothing fair", code=409,
        )  # fmt: skip
    place = {f.pk: i for i, f in enumerate(free)}
    drawn = sorted({place[pk] for pk in before.values_list("finding_id", flat=True) if pk in place})
    strata = sampling.strata_of([_row(f) for f in free], [f.stream.metric for f in free])
    judged = [(strata[i], known[free[i].pk]) for i in drawn if free[i].pk in known]
    told = [(name, e.verdict == "incident") for name, e in judged if e.verdict != "unsure"]
    spread = sampling.spread_of(told) if drawn else None
    got = sampling.draw(strata, size, seed=round_.pk, spread=spread, drawn=drawn)
    for name, entry in judged:
        logbook.change(entry, {"stratum": name, "probability": got.chances[name]}, round_.created_by)
    items = [
        _item(round_, free[i], name, float(chance))
        for i, name, chance in zip(got.index, got.stratum, got.probability, strict=True)
    ]
    return _shuffled(round_, items)


def _shuffled(round_: Round, items: list[Item]) -> list[Item]:
    """In any order: what is judged so far is then a fair part of the sample."""
    return [items[i] for i in np.random.default_rng(round_.pk).permutation(len(items))]


def _row(f: Finding) -> core_rows.Finding:
    return core_rows.Finding(
        f.stream.key,
        f.start_ns,
        f.end_ns,
        f.kind,
        f.direction,
        f.score if f.score is not None else float("nan"),
    )


def _unflagged(round_: Round, size: int) -> list[Item]:
    """Spans of the scan where nothing was flagged, half of them from where the score came near the level."""
    f = round_.filters
    streams = ScanStream.objects.filter(scan=round_.scan, samples__gt=0).select_related("stream")
    if f.get("metric"):
        streams = streams.filter(stream__metric=f["metric"])
    of_key = {s.stream.key: s for s in streams if s.ribbon_from_ns is not None}
    length = max(SPAN_NS, SPAN_SAMPLES * max((s.stream.step_ns for s in of_key.values()), default=0))
    times = []
    for key, s in sorted(of_key.items()):
        first = max(s.ribbon_from_ns or 0, f.get("begin_ns") or 0)
        last = min(s.ribbon_to_ns or 0, f["end_ns"] if f.get("end_ns") is not None else s.ribbon_to_ns or 0)
        times.append((key, first, last))
    flagged = [_row(x) for x in Finding.objects.filter(scan=round_.scan).select_related("stream")]
    near = {key: _near_bins(s) for key, s in of_key.items()}

    def is_near(key: str, first: int, last: int) -> bool:
        row = of_key[key]
        whole = (row.ribbon_to_ns or 0) - (row.ribbon_from_ns or 0) or 1
        a, b = (
            int((t - (row.ribbon_from_ns or 0)) * scans.RIBBON_BINS // (whole + 1)) for t in (first, last)
        )
        return bool(near[key][max(a, 0) : b + 1].any())

    drawn = sampling.unflagged_spans(times, flagged, length, size, seed=round_.pk, is_near=is_near)
    items = [
        Item(
            round=round_, stream=of_key[x.series].stream, start_ns=x.start, end_ns=x.end, stratum=x.stratum,
            probability=x.probability,
        )
        for x in drawn
    ]  # fmt: skip
    return _shuffled(round_, items)


def _near_bins(row: ScanStream) -> np.ndarray:
    """(400,) whether the strongest score of each bin of the ribbon comes near the level."""
    tenths = np.frombuffer(bytes(row.ribbon), np.int8).astype(np.float64)
    levels = [x for x in (row.level_above, row.level_below) if x is not None]
    return (tenths > -128) & (np.abs(tenths) / 10 >= NEAR_SHARE * min(levels, default=np.inf))


# Serving and judging


def _for(round_: Round, by: str) -> QuerySet[Item]:
    """Items that this person may be served: not done, not judged by them, and before nobody else."""
    stale = moments.now() - LEASE
    mine = Judgement.objects.filter(item__round=round_, by=by, undone_at=None).values("item_id")
    free = Q(claimed_by="") | Q(claimed_by=by) | Q(claimed_at__lt=stale)
    return round_.items.filter(done__lt=F("looks")).exclude(pk__in=mine).filter(free)


@transaction.atomic
def serve(round_: Round, by: str) -> Item | None:
    """The item before this person: the one they had, else the next that nobody has. None at the end.

    Findings that meanwhile have a verdict by another entry are passed over.
    """
    waiting = list(_for(round_, by).select_related("finding__stream").order_by("place", "pk"))
    known = _with_verdicts([i.finding for i in waiting if i.finding is not None])
    for item in sorted(waiting, key=lambda i: i.claimed_by != by):
        if item.claimed_by != by and item.done == 0 and item.finding_id in known:
            continue
        # Locked one by one, so that others are served the next ones at the same moment.
        locked = Item.objects.select_for_update(skip_locked=True).filter(pk=item.pk).first()
        if locked is not None and _is_free(locked, by):
            return _claim(locked, by)
    return None


def _is_free(item: Item, by: str) -> bool:
    """Whether an item is still to be had, now that it is locked."""
    is_stale = item.claimed_at is None or item.claimed_at < moments.now() - LEASE
    return item.done < item.looks and (item.claimed_by in ("", by) or is_stale)


def _claim(item: Item, by: str) -> Item:
    item.claimed_by, item.claimed_at = by, moments.now()
    item.save(update_fields=["claimed_by", "claimed_at"])
    return item


@transaction.atomic
def skip(round_: Round, pk: int, by: str) -> None:
    """To the end of the queue with it."""
    item = _mine(round_, pk, by)
    last = round_.items.order_by("-place").values_list("place", flat=True).first() or 0
    item.place, item.claimed_by, item.claimed_at = last + 1, "", None
    item.save(update_fields=["place", "claimed_by", "claimed_at"])


def _mine(round_: Round, pk: int, by: str) -> Item:
    item = round_.items.select_for_update().select_related("stream", "finding").get(pk=pk)
    if item.claimed_by != by or item.done >= item.looks:
        raise Problem("this one is before somebody else, or done", remedy="go on to the next", code=409)
    return item


@transaction.atomic
def judge(round_: Round, pk: int, content: dict[str, Any], by: str) -> Judgement:
    """Say what an item is. content : verdict, cause, note, start_ns, end_ns, split_ns (the rest stays to be judged), rest
    (the same for the open findings of its incident).

    The first look writes the entry; a second one is kept beside it, and who settles a difference changes the entry.
    """
    item = _mine(round_, pk, by)
    verdict = content["verdict"]
    allowed = OF_SPANS if round_.kind == UNFLAGGED else OF_FINDINGS
    if verdict not in allowed:
        raise Problem(
            f"{verdict} cannot be said here", place="verdict", remedy=f"take one of: {', '.join(allowed)}"
        )
    said = Judgement(item=item, verdict=verdict, by=by)
    if item.done == 0:
        start, end = content.get("start_ns", item.start_ns), content.get("end_ns", item.end_ns)
        split = content.get("split_ns")
        if split is not None:
            if not start < split <= end:
                raise Problem(
                    "the cut lies outside the span", place="split", remedy="cut between start and end"
                )
            said.split = Item.objects.create(
                round=round_, place=item.place, stream=item.stream, finding=item.finding, start_ns=split, end_ns=end,
                stratum=item.stratum, probability=item.probability, claimed_by=by, claimed_at=moments.now(),
            )  # fmt: skip
            end = split - max(item.stream.step_ns, 1)
        incident, others = None, []
        if content.get("rest") and item.finding is not None:
            incident, others = incidents.judge_rest(item.finding, content, by)
        said.entry = logbook.add(_entry(item, content, start, max(end, start)), by)
        said.also = [e.pk for e in others]
        if incident is not None:
            incident.entries.add(said.entry)
    said.save()
    Item.objects.filter(pk=item.pk).update(done=F("done") + 1, claimed_by="", claimed_at=None)
    jobs.tell("review", round_.pk)
    return said


def _entry(item: Item, content: dict[str, Any], start: int, end: int) -> dict[str, Any]:
    is_sampled = item.probability is not None
    return {
        "scope": item.stream.key,
        "start_ns": start,
        "end_ns": end,
        "verdict": content["verdict"],
        "kind": "step" if item.finding is not None and item.finding.kind == "shift" else "",
        "cause": content.get("cause", ""),
        "note": content.get("note", ""),
        "origin": "sampled" if is_sampled else "finding",
        "stratum": item.stratum,
        "probability": item.probability,
    }


@transaction.atomic
def undo(round_: Round, by: str) -> Item:
    """Take back what this person said last in the round, with all it wrote; the item is before them again."""
    last = (
        Judgement.objects.select_for_update()
        .filter(item__round=round_, by=by, undone_at=None)
        .select_related("item", "entry", "split")
        .order_by("-pk")
        .first()
    )
    if last is None:
        raise Problem("there is nothing of yours to take back in this round", remedy="go on", code=409)
    item = last.item
    if (last.entry is not None and item.done > 1) or (last.split is not None and last.split.done):
        raise Problem(
            "somebody else has judged it, or the rest of it, since",
            remedy="change the entry in the logbook",
            code=409,
        )
    gone = list(logbook.live().filter(pk__in=[*last.also, *([last.entry_id] if last.entry_id else [])]))
    logbook.remove_all(gone, by)
    if last.split is not None:
        last.split.delete()
        last.split = None
    last.undone_at = moments.now()
    last.save(update_fields=["undone_at"])
    round_.items.filter(claimed_by=by).update(claimed_by="", claimed_at=None)
    item.done -= 1
    item.settled_by = ""
    item.save(update_fields=["done", "settled_by"])
    jobs.tell("review", round_.pk)
    return _claim(item, by)


@transaction.atomic
def settle(round_: Round, pk: int, verdict: str, by: str) -> None:
    """Decide where two people differed: the entry takes this verdict."""
    item = round_.items.select_for_update().get(pk=pk)
    first = _said([item]).get(item.pk, [])
    if len(first) < 2 or first[0].verdict == first[1].verdict:
        raise Problem(
            "nothing is disputed here", place="item", remedy="look at the list of disputes anew", code=409
        )
    if verdict not in {j.verdict for j in first}:
        raise Problem("neither of the two said that", place="verdict", remedy="take what one of them said")
    if first[0].entry is not None:
        logbook.change(first[0].entry, {"verdict": verdict}, by)
    item.settled_by = by
    item.save(update_fields=["settled_by"])
    jobs.tell("review", round_.pk)


def _said(items: Sequence[Item]) -> dict[int, list[Judgement]]:
    """What stands of what was said of each item, first looks first."""
    out: dict[int, list[Judgement]] = {}
    found = Judgement.objects.filter(item__in=[i.pk for i in items], undone_at=None).select_related("entry")
    for j in found.order_by("pk"):
        out.setdefault(j.item_id, []).append(j)
    return out


# What is shown


def summary(round_: Round) -> dict[str, Any]:
    """How far a round is, what it says so far, and how far its people agree."""
    items = list(round_.items.select_related("stream", "finding__stream"))
    waiting = [i for i in items if i.done == 0]
    covered = _with_verdicts([i.finding for i in waiting if i.finding is not None])
    passed = sum(i.finding_id in covered for i in waiting)
    said = _said(items)
    firsts = [(i, said[i.pk][0]) for i in items if i.pk in said]
    pairs = [(i, *said[i.pk][:2]) for i in items if len(said.get(i.pk, ())) > 1]
    agreed = agreement([a.verdict for _, a, _ in pairs], [b.verdict for _, _, b in pairs])
    return {
        "id": round_.pk,
        "scan": round_.scan_id,
        "plan": f"{round_.scan.plan_version.plan.name} v{round_.scan.plan_version.number}",
        "kind": round_.kind,
        "metric": round_.filters.get("metric", ""),
        "created_by": round_.created_by,
        "created_at": round_.created_at,
        "total": len(items),
        "judged": len(firsts),
        "passed_over": passed,
        "second_looks": sum(i.looks > 1 for i in items),
        "left": len(waiting) - passed + sum(1 for i in items if 0 < i.done < i.looks),
        **_estimate(round_, firsts, len(items) - passed),
        "agreement": {"n": agreed.n, "same": agreed.same, "kappa": agreed.kappa},
        "disputed": [
            {"item": i.pk, "title": i.stream.title, "metric": i.stream.metric, "start": moments.at(i.start_ns), "end": moments.at(i.end_ns),
             "zone": i.stream.zone, "finding": i.finding_id,
             "verdicts": [{"by": j.by, "verdict": j.verdict} for j in (a, b)]}
            for i, a, b in pairs
            if a.verdict != b.verdict and not i.settled_by
        ],
    }  # fmt: skip


def _estimate(round_: Round, firsts: Sequence[tuple[Item, Judgement]], total: int) -> dict[str, Any]:
    """Precision of what is judged so far (of spans: the share with an incident), its interval, and the half width at the end.

    Weighted by the chance of having been drawn, where it was by chance; the half width shrinks with the root of the count.
    """
    sure = [(i, (j.entry.verdict if j.entry else j.verdict)) for i, j in firsts]
    sure = [(i, v) for i, v in sure if v != "unsure"]
    hits = [v == "incident" for _, v in sure]
    share, ends = sampling.share_of(hits, [i.probability for i, _ in sure], [i.stratum for i, _ in sure])
    half = (ends[1] - ends[0]) / 2 if ends else None
    return {
        "share": share,
        "share_ci": ends,
        "counts": [sum(hits), len(sure)],
        "half": half,
        "half_at_end": half * (len(sure) / total) ** 0.5 if half is not None and total else None,
    }


def item_row(item: Item, by: str) -> dict[str, Any]:
    """An item as the page shows it; a second look does not see what the first one said."""
    finding = None
    if item.finding is not None:
        [finding] = reading.finding_rows([item.finding])
        if item.done:
            finding |= {"verdict": None, "entry": None}
    found = incidents.mates(item.finding) if item.finding is not None and not item.done else None
    return {
        "id": item.pk,
        "place": item.place,
        "stream": item.stream_id,
        "scan": item.round.scan_id,
        "metric": item.stream.metric,
        "title": item.stream.title,
        "scope": item.stream.key,
        "unit": item.stream.unit,
        "zone": item.stream.zone,
        "step_s": item.stream.step_ns / 1e9,
        "start": moments.at(item.start_ns),
        "end": moments.at(item.end_ns),
        "stratum": item.stratum,
        "probability": item.probability,
        "is_second": item.done > 0,
        "finding": finding,
        "incident": found,
    }
