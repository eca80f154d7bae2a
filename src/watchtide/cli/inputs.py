"""What scans read beside the table: known days, covariates and denominators, linked to their streams."""

import sys
from collections.abc import Sequence
from pathlib import Path

from watchtide.cli.exits import fail
from watchtide.core.series import keys
from watchtide.engine.prepare import preparing
from watchtide.engine.prepare.preparing import Beside, Input, KnownDay
from watchtide.plan import Plan
from watchtide.tables import calendars
from watchtide.tables.extract import StreamRows, without_doubles


def link(streams: Sequence[StreamRows], zone: str, duplicates: str) -> list[Input]:
    """Inputs of the value streams; covariates and denominators go to those whose attributes they share."""
    others = [s for s in streams if s.role != "value"]
    # The metric is part of a key only where there are several value columns.
    is_alone = bool(others) and len({s.metric for s in streams if s.role == "value"}) == 1
    inputs = []
    for s in streams:
        if s.role != "value":
            continue
        mates = [o for o in others if dict(o.attributes) == dict(s.attributes)]
        beside = tuple(Beside(o.metric, o.times, o.values) for o in mates if o.role == "covariate")
        below = next((o for o in mates if o.role == "denominator"), None)
        key = keys.encode(s.attributes) if is_alone else s.key
        times, values = s.times, s.values
        if duplicates != "mean" and below is None:
            # The grid averages equal stamps by itself.
            times, values, _ = without_doubles(times, values, duplicates)
        inputs.append(Input(key, times, values, zone, below.values if below is not None else None, beside))
    return inputs


def known_days(plan: Plan, streams: Sequence[Input], zone: str) -> tuple[KnownDay, ...]:
    """Occurrences of the plan's calendars over the span of the streams and a year ahead, widened by lead and lag."""
    ends = [(int(s.times.min()), int(s.times.max())) for s in streams if len(s.times)]
    if not ends:
        return ()

    def days(name: str, first: int, last: int) -> list[calendars.Day]:
        try:
            data = sys.stdin.buffer.read() if name == "-" else Path(name).read_bytes()
        except OSError:
            fail(f"{name}: there is no such calendar; check the path")
        return calendars.days(calendars.read(data, name), first, last, zone, name=name)

    return preparing.known_days(plan, min(a for a, _ in ends), max(b for _, b in ends), days)
