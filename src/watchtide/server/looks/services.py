"""The last finished day or week against the same one of the n before it, with what pushed it up and pulled it down."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, timedelta
from typing import Any

import numpy as np

from watchtide.core import cadence, coarser, explaining, recurring
from watchtide.core.cadence import DAY_NS, MONDAY_NS, WEEK_NS
from watchtide.core.coarser import By
from watchtide.core.series import Floats, Ints, Series
from watchtide.engine import preparing
from watchtide.server import moments
from watchtide.server.lookouts.services import matching
from watchtide.server.problems import Problem
from watchtide.server.scans import charts, explain
from watchtide.server.streams import store
from watchtide.server.streams.models import Stream
from watchtide.tables import clock

MOST_STREAMS, MOST_BEFORE, MOST_PARTS_SHOWN = 500, 26, 12
# How many periods are listed, to be chosen from; and after how many of them the same one comes again.
SHOWN: dict[By, int] = {"day": 56, "week": 26}
EVERY: dict[By, int] = {"day": 7, "week": 1}
LENGTH_NS: dict[By, int] = {"day": DAY_NS, "week": WEEK_NS}
Row = dict[str, Any]


@dataclass(frozen=True)
class Wanted:
    """stream, or metric and attributes : of what. at : a moment of the period, None for the last finished one."""

    by: By
    n: int
    stream: int | None = None
    metric: str = ""
    attributes: dict[str, str] | None = None
    at: int | None = None

    def streams(self) -> list[Stream]:
        """Raises Problem where there is none, or too many."""
        if self.stream is not None:
            return [Stream.objects.get(pk=self.stream)]
        found = matching({"metric": self.metric, "attributes": self.attributes or {}}).order_by("pk")
        rows = list(found[: MOST_STREAMS + 1])
        if not rows:
            raise Problem("no stream matches", place="metric", remedy="see /api/v1/catalogue", code=404)
        if len(rows) > MOST_STREAMS:
            raise Problem(
                f"more than {MOST_STREAMS} streams match", place="metric", remedy="name attributes too"
            )
        return rows


@dataclass(frozen=True)
class Totals:
    """By periods: numbers (m,) counted on, starts and ends (m,) in ns; totals, share (k, m) of each stream; step_ns : the longest
    of their steps."""

    numbers: Ints
    starts: Ints
    ends: Ints
    totals: Floats
    share: Floats
    is_sum: bool
    step_ns: int

    def together(self) -> tuple[Floats, Floats]:
        """(m,) totals and shares over all streams: sums of what adds up, else means; NaN where none was seen."""
        known = ~np.isnan(self.totals)
        count = known.sum(axis=0)
        whole = np.where(known, self.totals, 0.0).sum(axis=0)
        with np.errstate(divide="ignore", invalid="ignore"):
            whole = np.where(count > 0, whole if self.is_sum else whole / count, np.nan)
        return whole, self.share.mean(axis=0)


def look(wanted: Wanted) -> Row:
    """A period and what it is set beside, plain data. Raises Problem where there is no finished one."""
    streams = wanted.streams()
    first = streams[0]
    newest = max((s.last_ns or 0) for s in streams)
    length = LENGTH_NS[wanted.by]
    until = newest if wanted.at is None else max(min(newest, wanted.at + 2 * length), 0)
    span = (until - (EVERY[wanted.by] * wanted.n + SHOWN[wanted.by] + 2) * length, None)
    totals = _totals(streams, wanted.by, first.zone, span)
    value, share = totals.together()
    at = _chosen(totals, wanted, newest)
    usual = recurring.usual_of(totals.numbers, value, share, every=EVERY[wanted.by], n=wanted.n)
    low = max(at - SHOWN[wanted.by] + 1, 0) if wanted.at is None else max(len(value) - SHOWN[wanted.by], 0)
    shown = slice(min(low, at), len(value))
    own, far = recurring.references(
        totals.numbers, value, share, int(totals.numbers[at]), every=EVERY[wanted.by], n=wanted.n
    )
    beside = np.searchsorted(totals.numbers, own)
    bad_side = first.bad_side
    # What is not over, or was not seen, is neither high nor low.
    judged = np.where((share >= recurring.WHOLE) & (totals.ends <= newest + totals.step_ns), value, np.nan)
    side = _side(judged[at], usual.lower[at], usual.upper[at])
    return {
        "by": wanted.by,
        "n": wanted.n,
        "stream": wanted.stream,
        "metric": first.metric,
        "title": first.name if wanted.stream is not None else _name(wanted, len(streams)),
        "streams": len(streams),
        "unit": _unit(first.unit, is_sum=totals.is_sum),
        "zone": first.zone,
        "adds_up": totals.is_sum,
        "start": moments.at(totals.starts[at]),
        "end": moments.at(totals.ends[at]),
        "value": _figure(value[at]),
        "usual": _figure(usual.usual[at]),
        "lower": _figure(usual.lower[at]),
        "upper": _figure(usual.upper[at]),
        "seen": float(share[at]),
        "outside": side,
        "is_bad": bool(side) and bad_side in ("both", side),
        "beside": [
            {"start": moments.at(totals.starts[i]), "value": _figure(value[i]), "left_out": bool(x)}
            for i, x in zip(beside, far, strict=True)
        ],
        **_pushes(streams, wanted, totals, at, beside[~far]),
        "periods": {
            "start": moments.each(totals.starts[shown]),
            "value": charts.for_chart(value[shown]),
            "usual": charts.for_chart(usual.usual[shown]),
            "lower": charts.for_chart(usual.lower[shown]),
            "upper": charts.for_chart(usual.upper[shown]),
            "outside": [
                _side(*x) for x in zip(judged[shown], usual.lower[shown], usual.upper[shown], strict=True)
            ],
        },
    }


def _name(wanted: Wanted, count: int) -> str:
    words = [wanted.metric, *(f"{k} {v}" for k, v in sorted((wanted.attributes or {}).items()))]
    return f"{', '.join(filter(None, words))} ({count} streams)"


def _unit(unit: str, *, is_sum: bool) -> str:
    """Of a total it is no longer so many a quarter of an hour."""
    return unit.partition("/")[0].strip() if is_sum else unit


def _figure(value: float) -> float | None:
    return None if np.isnan(value) else float(value)


def _side(value: float, lower: float, upper: float) -> str:
    """On which side of its limits a value lies; empty within them, and where there are none."""
    return "above" if value > upper else "below" if value < lower else ""


def _chosen(totals: Totals, wanted: Wanted, newest: int) -> int:
    """Index of the period that is looked at: the one stated, or the last finished one."""
    if wanted.at is not None:
        found = np.flatnonzero((totals.starts <= wanted.at) & (totals.ends > wanted.at))
        if not len(found):
            raise Problem(
                f"there are no samples of that {wanted.by}", place="day", remedy="take another one", code=404
            )
        return int(found[0])
    # A sample stands for the step after it.
    finished = np.flatnonzero(totals.ends <= newest + totals.step_ns)
    if not len(finished):
        raise Problem(
            f"no {wanted.by} is finished yet", place="by", remedy="wait for its end, or state a day", code=409
        )
    return int(finished[-1])


def _totals(streams: Sequence[Stream], by: By, zone: str, span: tuple[int | None, int | None]) -> Totals:
    """Every stream by periods of one clock; NaN where it has no samples."""
    read = [_seen(*store.read(stream.pk, *span)) for stream in streams]
    is_sum = all(s.is_additive or preparing.are_counts(v) for s, (_, v) in zip(streams, read, strict=True))
    found = {i: _by_period(t, v, by, zone) for i, (t, v) in enumerate(read) if len(t)}
    if not found:
        raise Problem("there are no samples yet", place="stream", remedy="wait for some", code=409)
    numbers = np.unique(np.concatenate([one.numbers for one in found.values()]))
    starts, ends = np.zeros(len(numbers), np.int64), np.zeros(len(numbers), np.int64)
    totals = np.full((len(streams), len(numbers)), np.nan)
    share = np.zeros((len(streams), len(numbers)))
    for row, one in found.items():
        at = np.searchsorted(numbers, one.numbers)
        starts[at], ends[at] = one.periods.starts, one.periods.ends
        totals[row, at] = one.sums if is_sum else one.sums / one.count
        share[row, at] = np.minimum(one.count * one.step_ns / (one.periods.ends - one.periods.starts), 1.0)
    return Totals(numbers, starts, ends, totals, share, is_sum, max(one.step_ns for one in found.values()))


def _seen(times: Ints, values: Floats) -> tuple[Ints, Floats]:
    seen = ~np.isnan(values)
    return times[seen], values[seen]


@dataclass(frozen=True)
class _Own:
    """One stream by its periods, each (m,)."""

    periods: coarser.Periods
    numbers: Ints
    sums: Floats
    count: Ints
    step_ns: int


def _by_period(times: Ints, values: Floats, by: By, zone: str) -> _Own:
    step = cadence.step_of(times) if len(times) > 1 else 1
    try:
        periods = coarser.periods(Series(times, values, step, clock.utc_offsets(times, zone)), by)
    except ValueError as error:
        raise Problem(str(error), place="by", remedy="take week") from error
    count = np.diff(np.r_[periods.first, len(times)])
    return _Own(periods, _numbers(periods, by, zone), np.add.reduceat(values, periods.first), count, step)


def _numbers(periods: coarser.Periods, by: By, zone: str) -> Ints:
    """(m,) days or weeks counted on the local clock."""
    # Half an hour in, so that a begin at midnight is never taken for the day before.
    local = periods.starts + clock.utc_offsets(periods.starts, zone) + DAY_NS // 48
    return (local - (MONDAY_NS if by == "week" else 0)) // LENGTH_NS[by]


def _pushes(streams: Sequence[Stream], wanted: Wanted, totals: Totals, at: int, beside: Ints) -> Row:
    """What pushed a period up and pulled it down against the mean of those it is set beside, by the attribute that sets one
    part most apart."""
    nothing: Row = {"pushed_by": "", "up": [], "down": []}
    parts: Sequence[Stream] = streams
    if len(streams) == 1:
        parts, is_total = explain.parts_of(streams[0])
        if not (is_total or totals.is_sum) or not 2 <= len(parts) <= MOST_STREAMS:
            return nothing
        span = (int(totals.starts[min([at, *beside.tolist()])]), int(totals.ends[at]) - 1)
        whole, number = totals.numbers, int(totals.numbers[at])
        totals = _totals(parts, wanted.by, streams[0].zone, span)
        place = {int(n): i for i, n in enumerate(totals.numbers)}
        if number not in place:
            return nothing
        at, beside = (
            place[number],
            np.array([place[int(whole[i])] for i in beside if int(whole[i]) in place], np.int64),
        )
    if not totals.is_sum or not len(beside):
        return nothing
    usual = np.array([_mean(row) for row in totals.totals[:, beside]])
    own = totals.totals[:, at]
    known = ~np.isnan(own) & ~np.isnan(usual)
    members = [dict(p.attributes) for p, ok in zip(parts, known, strict=True) if ok]
    varied = explaining.varied(members)
    if len(members) < 2 or not varied:
        return nothing
    by = explaining.by_attribute(members, varied, own[known][:, None], usual[known][:, None])
    name = explaining.most_apart(by)
    rows = [
        {"name": p.name, "value": p.observed, "usual": p.expected, "change": p.push} for p in by[name].parts
    ]
    return {
        "pushed_by": name,
        "up": [r for r in rows if r["change"] > 0][:MOST_PARTS_SHOWN],
        "down": [r for r in rows if r["change"] < 0][:MOST_PARTS_SHOWN],
    }


def _mean(row: Floats) -> float:
    seen = row[~np.isnan(row)]
    return float(seen.mean()) if len(seen) else float("nan")


def day_of(text: str, zone: str) -> int:
    """A moment within a day as one writes it, by the clock of a zone, in ns. Raises Problem for what is none."""
    try:
        day = date.fromisoformat(text)
    except ValueError as error:
        raise Problem(
            f"{text[:40]!r} is no day", place="day", remedy="write for example 2026-11-28"
        ) from error
    noon = int((day - date(1970, 1, 1)) / timedelta(days=1)) * DAY_NS + DAY_NS // 2
    return noon - int(clock.utc_offsets(np.array([noon], np.int64), zone)[0])
