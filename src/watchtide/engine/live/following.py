"""Replay of a stream whose cadence becomes coarser: each stretch on the grid known at the time, concatenated."""

from collections.abc import Iterator, Sequence
from dataclasses import fields, replace
from typing import Any

import numpy as np

from watchtide.core.series import Series, cadence, distinct
from watchtide.core.series.cadence import KNOWN_STAMPS
from watchtide.core.series.steps import Change
from watchtide.engine.prepare.preparing import Input
from watchtide.engine.scan.based import Baselined
from watchtide.plan import Plan, durations
from watchtide.tables import clock

# Arrays of one entry a sample that are put one behind the other; what they hold where a stretch has none is NaN.
_BY_SAMPLE = ("expected", "spread", "trend", "level_series", "clean")


def changes(stream: Input, plan: Plan) -> list[Change]:
    """Changes to a coarser cadence on the way, each from what was known then; none where the plan states the cadence."""
    if plan.prepare.every != "auto" or len(stream.times) < KNOWN_STAMPS:
        return []
    times = distinct(stream.times)
    begun = cadence.find(times[:KNOWN_STAMPS], lambda t: clock.utc_locals(t, stream.zone)).cadence
    return cadence.follow(times, begun) if begun.is_even else []


def pieces(stream: Input, plan: Plan, found: Sequence[Change]) -> Iterator[tuple[Input, Plan]]:
    """Per stretch the samples up to its end and the plan with its cadence; the first keeps the plan as it is."""
    ends = [c.known_ns for c in found] + [None]
    for i, end in enumerate(ends):
        keep = np.ones(len(stream.times), np.bool_) if end is None else stream.times < end
        d = stream.denominators
        own = replace(
            stream,
            times=stream.times[keep],
            values=stream.values[keep],
            denominators=None if d is None else d[keep],
        )
        every = "auto" if i == 0 else durations.format_ns(found[i - 1].after.step_ns)
        part = plan.prepare.model_copy(update={"every": every})
        yield own, plan.model_copy(update={"prepare": part})


def joined(parts: Sequence[Baselined], found: Sequence[Change]) -> Baselined:
    """The stretches as one stage: of each the bins from the one in which its cadence was known until the next one's first."""
    begins = [0]
    for part, change in zip(parts[1:], found, strict=True):
        begins.append(max(int(np.searchsorted(part.series.times, change.known_ns, side="right")) - 1, 0))
    whole = laid(parts, begins)
    last = parts[-1]
    cadences = [
        {
            "from": clock.format_time(c.known_ns),
            "before": durations.format_ns(c.before.step_ns),
            "after": durations.format_ns(c.after.step_ns),
        }
        for c in found
    ]
    notes = tuple(
        f"the cadence changed from {c['before']} to {c['after']}; judged on the coarser grid from {c['from']} on"
        for c in cadences
    )
    return replace(
        whole,
        train_stop=min(parts[0].train_stop, len(whole.series)),
        resolved={**last.resolved, "replay": {**last.resolved["replay"], "cadences": cadences}},
        notes=(*notes, *last.notes),
    )


def laid(parts: Sequence[Baselined], begins: Sequence[int]) -> Baselined:
    """Replays of one stream as one stage: of each the bins from `begins` on, until the next one's first; all else is the
    last one's."""
    slices = []
    for i, (part, a) in enumerate(zip(parts, begins, strict=True)):
        b = len(part.series)
        if i + 1 < len(parts):
            later = parts[i + 1].series.times[begins[i + 1] : begins[i + 1] + 1]
            b = int(np.searchsorted(part.series.ends, later[0], side="right")) if len(later) else b
        slices.append(slice(a, max(a, b)))
    last = parts[-1]

    def whole(of: Sequence[Any], name: str) -> Any:
        return np.concatenate([getattr(one, name)[s] for one, s in zip(of, slices, strict=True)])

    def record(name: str) -> Any:
        """A record of arrays, each laid one behind the other."""
        own = [getattr(p, name) for p in parts]
        return type(own[0])(**{f.name: whole(own, f.name) for f in fields(own[0])})

    rows = [p.series for p in parts]
    series = Series(
        whole(rows, "times"),
        whole(rows, "values"),
        last.series.step_ns,
        whole(rows, "offsets_ns"),
        None,
        whole(rows, "ends"),
    )
    arrays = {name: whole(parts, name) for name in _BY_SAMPLE}
    most = max(len(p.seasons) for p in parts)
    seasons = np.zeros((most, len(series)))
    first, shifts = [], []
    at = 0
    for part, s in zip(parts, slices, strict=True):
        n = s.stop - s.start
        seasons[: len(part.seasons), at : at + n] = part.seasons[:, s]
        # A window that began before the stretch begins with it.
        first.append(np.maximum(part.evidence.first[s] - s.start, 0) + at)
        pairs = part.shift_candidates.reshape(-1, 2)
        own = pairs[(pairs[:, 0] >= s.start) & (pairs[:, 1] < s.stop)]
        shifts.append((own - s.start + at).ravel())
        at += n
    return replace(
        last,
        series=series,
        seasons=seasons,
        counted=record("counted"),
        evidence=replace(record("evidence"), first=np.concatenate(first)),
        held_out=replace(record("held_out"), first=np.concatenate(first)),
        in_force=record("in_force"),
        shift_candidates=np.concatenate(shifts),
        **arrays,
    )
