"""What scans read beside the table: known days, covariates and denominators, linked to their streams."""

import sys
from collections.abc import Sequence
from pathlib import Path

from watchtide.cli.main import fail
from watchtide.core import keys
from watchtide.core.frame import DAY_NS
from watchtide.engine.preparing import Beside, Input, KnownDay
from watchtide.plan import Plan, durations
from watchtide.tables import calendars
from watchtide.tables.extract import StreamRows, without_doubles

# Known days may lie ahead of the data: a forecast asks for them.
AHEAD_NS = 400 * DAY_NS


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
    if not plan.baseline.calendars:
        return ()
    ends = [(int(s.times.min()), int(s.times.max())) for s in streams if len(s.times)]
    if not ends:
        return ()
    first, last = min(a for a, _ in ends), max(b for _, b in ends)
    out = []
    for entry in plan.baseline.calendars:
        lead, lag = durations.parse_ns(entry.lead), durations.parse_ns(entry.lag)
        try:
            data = sys.stdin.buffer.read() if entry.file == "-" else Path(entry.file).read_bytes()
        except OSError:
            fail(f"{entry.file}: there is no such calendar; check the path")
        for day in calendars.days(
            calendars.read(data, entry.file), first - lag, last + AHEAD_NS, zone, name=entry.file
        ):
            out.append(KnownDay(day.name, day.start_ns - lead, day.stop_ns + lag))
    return tuple(out)
