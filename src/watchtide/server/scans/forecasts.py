"""What comes next of stored streams: each with its interval, and when a limit is reached."""

import json
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from django.core.cache import caches

from watchtide.core.expect import passage
from watchtide.engine.scan import ahead, by_unit, stages
from watchtide.plan import Plan as PlanText
from watchtide.plan import dump
from watchtide.server import moments
from watchtide.server.problems import Problem
from watchtide.server.scans import services
from watchtide.server.scans.charts import for_chart
from watchtide.server.scans.models import Standing
from watchtide.server.streams import catalogue, store
from watchtide.server.streams.models import Stream

# All of it is computed while the request waits.
MOST_STREAMS, MOST_STEPS = 8, 20_000


@dataclass(frozen=True)
class Wanted:
    """How far, how sure, and past what: steps or until (ns) is stated; limit : (side, value)."""

    steps: int | None = None
    until: int | None = None
    skip_last: int = 0
    interval: float = 0.95
    limit: tuple[str, float] | None = None


def forecast(streams: Sequence[Stream], plan: PlanText | None, wanted: Wanted) -> list[dict[str, Any]]:
    """One row a stream. plan : None takes the one that stands for each, else the standard one.

    Problem where a stream cannot be forecast so, which names it.
    """
    stands = {
        s.stream_id: s.plan_version.text
        for s in Standing.objects.filter(stream__in=streams).select_related("plan_version")
    }
    rows = []
    for stream in streams:
        own = plan
        if own is None:
            own = services.plan_of(stands[stream.pk]) if stream.pk in stands else PlanText()
        rows.append(_one(stream, own, wanted))
    return rows


def _one(stream: Stream, plan: PlanText, wanted: Wanted) -> dict[str, Any]:
    given, digest = services.stream_input(stream, plan, *store.read(stream.pk))
    try:
        steps = _steps(given, plan, wanted)
        stated = [digest, stream.key, stream.zone, dump(plan), steps, wanted.skip_last, wanted.interval]
        f: ahead.Forecast = caches["forecasts"].get_or_set(
            catalogue.sha(json.dumps(stated)),
            lambda: ahead.forecast(given, plan, steps, skip_last=wanted.skip_last, interval=wanted.interval),
        )
    except ValueError as error:
        words, _, remedy = str(error).partition("; ")
        name = f"{stream.metric} {stream.title}"
        raise Problem(f"{name}: {words}", place="streams", remedy=remedy, code=422) from error
    reached = None
    if wanted.limit is not None:
        side, limit = wanted.limit
        drawn = ahead.reaching(f, limit, is_above=side == "above")
        reached = ahead.limit_reached(f, limit, is_above=side == "above", drawn=drawn)
        reached["by"] = _shares(drawn)
    return {
        "stream": stream.pk,
        "key": stream.key,
        "metric": stream.metric,
        "title": stream.title,
        "unit": stream.unit,
        "zone": stream.zone,
        "time": moments.each(f.times),
        "expected": for_chart(f.expected),
        "lower": for_chart(f.lower),
        "upper": for_chart(f.upper),
        "limit": reached,
        "notes": list(f.notes),
    }


def _shares(drawn: passage.Passage) -> list[float]:
    return [round(float(share), 4) for share in drawn.by]


def _steps(given: stages.Input, plan: PlanText, wanted: Wanted) -> int:
    if wanted.until is None:
        return wanted.steps or 1
    by_unit.refuse(plan, by_unit.FORECAST)
    series = stages.prepare(given, plan).series
    if not len(series):
        raise ValueError("has no samples; wait for some")
    last = int(series.times[max(0, len(series) - 1 - wanted.skip_last)])
    steps = -(-(wanted.until - last) // series.step_ns)
    if steps < 1:
        raise ValueError("has samples beyond this time already; take a later one")
    if steps > MOST_STEPS:
        raise ValueError(f"{steps:,} samples until then; take {MOST_STEPS:,} at most")
    return int(steps)
