"""The last finished day or week against the same one of the n before it, with what pushed it up and pulled it down."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date
from typing import Any

import numpy as np

from watchtide.core.explain import explaining, recurring
from watchtide.core.explain.recurring import Totals
from watchtide.core.series import Bools, Floats, Ints, Series, cadence
from watchtide.core.series.coarser import LEAST_NS, By, Coarse, coarser
from watchtide.engine.prepare import preparing
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
Row = dict[str, Any]
_Totals = tuple[Totals, int]


@dataclass(frozen=True)
class Wanted:
    """stream, or metric and attributes : of what. day : one of the period, as text; empty for the last finished one."""

    by: By
    n: int
    stream: int | None = None
    metric: str = ""
    attributes: dict[str, str] | None = None
    day: str = ""

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


def look(wanted: Wanted) -> Row:
    """A period and what it is set beside, plain data. Raises Problem where there is no finished one."""
    streams = wanted.streams()
    first = streams[0]
    newest = newest_of(streams)
    stated = _noon_of(wanted.day, first.zone) if wanted.day else None
    reach = (EVERY[wanted.by] * wanted.n + SHOWN[wanted.by] + 2) * LEAST_NS[wanted.by]
    begin = (newest if stated is None else min(newest, stated)) - reach
    totals, step = _totals(streams, wanted.by, first.zone, (begin, None))
    value, share = totals.together()
    # A sample stands for the step after it.
    is_over = totals.ends <= newest + step
    at = _chosen(totals, is_over, wanted.by, stated)
    usual = recurring.usual_of(totals.numbers, value, share, every=EVERY[wanted.by], n=wanted.n)
    shown = slice(min(max(len(value) - SHOWN[wanted.by], 0), at), len(value))
    own, far = recurring.references(
        totals.numbers, value, share, int(totals.numbers[at]), every=EVERY[wanted.by], n=wanted.n
    )
    beside = np.searchsorted(totals.numbers, own)
    bad_side = first.bad_side
    # What is not over, or was not seen, is neither high nor low.
    judged = np.where((share >= recurring.WHOLE) & is_over, value, np.nan)
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


def _chosen(totals: Totals, is_over: Bools, by: By, stated: int | None) -> int:
    """Index of the period that is looked at: the one that holds a moment, or the last finished one."""
    if stated is not None:
        found = np.flatnonzero((totals.starts <= stated) & (totals.ends > stated))
        if not len(found):
            raise Problem(
                f"there are no samples of that {by}", place="day", remedy="take another one", code=404
            )
        return int(found[0])
    finished = np.flatnonzero(is_over)
    if not len(finished):
        raise Problem(
            f"no {by} is finished yet", place="by", remedy="wait for its end, or state a day", code=409
        )
    return int(finished[-1])


def newest_of(streams: Sequence[Stream]) -> int:
    """The newest sample of some streams, in ns; 0 without any."""
    return max((s.last_ns or 0) for s in streams)


def _noon_of(day: str, zone: str) -> int:
    """Noon of a day as one writes it, by the clock of a zone, in ns. Raises Problem for what is none."""
    try:
        return clock.parse_one(f"{date.fromisoformat(day)}T12:00:00", zone)
    except ValueError as error:
        raise Problem(
            f"{day[:40]!r} is no day", place="day", remedy="write for example 2026-11-28"
        ) from error


def _totals(streams: Sequence[Stream], by: By, zone: str, span: tuple[int | None, int | None]) -> _Totals:
    """Every stream by periods of one clock, and the longest of their steps."""
    read = [_seen(*store.read(stream.pk, *span)) for stream in streams]
    is_sum = all(s.is_additive or preparing.are_counts(v) for s, (_, v) in zip(streams, read, strict=True))
    if not any(len(t) for t, _ in read):
        raise Problem("there are no samples yet", place="stream", remedy="wait for some", code=409)
    steps = [cadence.step_of(t) if len(t) > 1 else 1 for t, _ in read]
    rows = [
        _by_period(t, v, step, by, zone, is_sum=is_sum) if len(t) else None
        for (t, v), step in zip(read, steps, strict=True)
    ]
    return recurring.totals_of(rows, by, is_sum=is_sum), max(steps)


def _seen(times: Ints, values: Floats) -> tuple[Ints, Floats]:
    seen = ~np.isnan(values)
    return times[seen], values[seen]


def _by_period(
    times: Ints, values: Floats, step: int, by: By, zone: str, *, is_sum: bool
) -> tuple[Coarse, Ints]:
    """One stream by its periods, and the local offsets at which they begin."""
    nothing = np.full(len(times), np.nan)
    try:
        got = coarser(
            Series(times, values, step, clock.utc_offsets(times, zone)),
            by,
            is_sum=is_sum,
            expected=nothing,
            z=nothing,
        )
    except ValueError as error:
        raise Problem(str(error), place="by", remedy="take week") from error
    return got, clock.utc_offsets(got.times, zone)


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
        numbers, own = totals.numbers[beside], totals.numbers[at]
        totals, _ = _totals(parts, wanted.by, streams[0].zone, span)
        if own not in totals.numbers:
            return nothing
        at = int(np.searchsorted(totals.numbers, own))
        beside = np.flatnonzero(np.isin(totals.numbers, numbers))
    if not totals.is_sum or not len(beside):
        return nothing
    usual, value = np.array([_mean(row) for row in totals.values[:, beside]]), totals.values[:, at]
    known = ~np.isnan(value) & ~np.isnan(usual)
    members = [dict(p.attributes) for p, ok in zip(parts, known, strict=True) if ok]
    led = explaining.led_by(members, value[known], usual[known])
    if led is None:
        return nothing
    name, pushes = led
    rows = [
        {"name": p.name, "value": p.observed, "usual": p.expected, "change": p.push} for p in pushes.parts
    ]
    return {
        "pushed_by": name,
        "up": [r for r in rows if r["change"] > 0][:MOST_PARTS_SHOWN],
        "down": [r for r in rows if r["change"] < 0][:MOST_PARTS_SHOWN],
    }


def _mean(row: Floats) -> float:
    seen = row[~np.isnan(row)]
    return float(seen.mean()) if len(seen) else float("nan")
