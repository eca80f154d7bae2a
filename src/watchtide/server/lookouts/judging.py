"""One stream of a lookout judged as far as its bins are complete: exactly what a replay of the same samples says."""

import math
from collections.abc import Sequence
from dataclasses import asdict, dataclass, fields
from datetime import datetime, timedelta
from typing import Any

import numpy as np
import structlog
from django.db.models.functions import Now

from watchtide.core import keys
from watchtide.core.cadence import step_of
from watchtide.core.scoring.rows import Finding, Label
from watchtide.core.series import SECOND_NS, Floats, Ints
from watchtide.engine import upkeep
from watchtide.engine.based import Scanned
from watchtide.plan import Plan, durations
from watchtide.server import moments
from watchtide.server.logbook.models import Quiet
from watchtide.server.lookouts.models import (
    ADRIFT,
    FAILING,
    LEARNING,
    QUIET,
    SILENT,
    STEADY,
    Lookout,
    Watched,
)
from watchtide.server.problems import Problem
from watchtide.server.scans import services as scans
from watchtide.server.streams import store
from watchtide.server.streams.models import Stream
from watchtide.tables import clock

log = structlog.stdlib.get_logger("watchtide.lookouts")
# A stream is silent when nothing has come for its wait and so many bins, and a minute at least.
SILENT_BINS = 3
LEAST_SILENCE = timedelta(minutes=1)


@dataclass(frozen=True)
class Due:
    """The samples of the bins that are complete: until_ns, the end of the newest; step_ns, their length."""

    times: Ints
    values: Floats
    until_ns: int
    step_ns: int
    wait_ns: int
    newest_ns: int


def due(lookout: Lookout, stream: Stream, plan: Plan, now_ns: int) -> Due | None:
    """What can be judged now, None where nothing is there: bins that ended so long ago that their samples have come, up to
    the newest sample's and without the last few where the lookout leaves them out."""
    times, values = store.read(stream.pk)
    if not len(times):
        return None
    step = _step(plan, stream, times)
    wait = _wait(lookout, stream)
    # Bins lie where the first stamp puts them; the one of the newest sample is the last that is judged.
    begin = int(times[0])
    newest = begin + (int(times[-1]) - begin) // step * step
    complete = begin + (now_ns - wait - begin) // step * step
    until = min(newest + step, complete) - lookout.skip_last * step
    stop = int(np.searchsorted(times, until))
    return Due(times[:stop], values[:stop], until, step, wait, int(times[-1]))


def _step(plan: Plan, stream: Stream, times: Ints) -> int:
    every = plan.prepare.every
    return durations.parse_ns(every) if every != "auto" else stream.step_ns or step_of(times)


def _wait(lookout: Lookout, stream: Stream) -> int:
    """How long after its end a bin's samples may come: as stated, or as the stream's have come."""
    if lookout.wait != "auto":
        return int(durations.parse_ns(lookout.wait))
    return stream.lateness_ns or 0


def judge(watched: Watched, plan: Plan, labels: Sequence[Label], now_ns: int) -> dict[str, Any]:
    """What changes of this row; nothing is written."""
    stream, lookout = watched.stream, watched.lookout
    ready = due(lookout, stream, plan, now_ns)
    if ready is None or not len(ready.times):
        return _state(watched, LEARNING, "no sample has come yet", needs="samples")
    before = watched.judged_through_ns
    changes: dict[str, Any] = {}
    if watched.newest_ns is None or ready.newest_ns > watched.newest_ns:
        changes = {"newest_ns": ready.newest_ns, "newest_at": moments.now()}
    if before is None or ready.until_ns > before:
        try:
            given, _ = scans.stream_input(stream, plan, ready.times, ready.values)
            scanned, kept = upkeep.tick(given, plan, labels, bytes(watched.upkeep) or None)
        except Problem as error:
            return changes | _state(watched, FAILING, f"{error.body['title']}; {error.body['remedy']}")
        except ValueError as error:
            return changes | _state(watched, FAILING, str(error))
        changes |= {
            "judged_through_ns": ready.until_ns,
            "judged": int((~np.isnan(scanned.z)).sum()),
            "upkeep": kept or b"",
            "findings": _kept_findings(watched, scanned),
            "late": watched.late + _late(watched, ready, scanned),
        }
        if not changes["judged"]:
            return changes | _learning(watched, scanned, ready)
    changes["next_ns"] = ready.until_ns + ready.step_ns + ready.wait_ns
    findings = changes.get("findings", watched.findings)
    return changes | _now(watched, plan, ready, findings, changes.get("newest_at", watched.newest_at))


def _learning(watched: Watched, scanned: Scanned, ready: Due) -> dict[str, Any]:
    first = durations.parse_ns(scanned.resolved["replay"]["first"])
    begins = int(ready.times[0]) + first
    if begins <= ready.until_ns:
        needs = "samples that can train it: so far there are too few"
    else:
        needs = f"history until {clock.format_time(begins)}: it learns from {scanned.resolved['replay']['first']} first"
    return _state(watched, LEARNING, "; ".join(scanned.base.notes)[:500], needs=needs)


def _kept_findings(watched: Watched, scanned: Scanned) -> list[dict[str, Any]]:
    """What was raised stays as it was; what goes on grows, what is new is added.

    A sample that came late may change what a replay would say of the past. It does not change what was said: a finding that
    was raised by the newest bin judged before is kept, and none is added behind it.
    """
    now = [as_data(f) for f in scanned.findings]
    through = watched.judged_through_ns
    if through is None:
        return now
    known = {(f["start"], f["kind"], f["direction"]): f for f in now}
    out = []
    for old in watched.findings:
        same = known.pop((old["start"], old["kind"], old["direction"]), None)
        out.append(same | {"raised": old["raised"]} if same is not None else old)
    out += [f for f in known.values() if (f["raised"] or f["end"]) > through]
    return sorted(out, key=lambda f: (f["start"], f["end"]))


def _late(watched: Watched, ready: Due, scanned: Scanned) -> int:
    """Samples that came for bins judged before: those there are more of now."""
    if watched.judged_through_ns is None:
        return 0
    was = int(np.searchsorted(scanned.base.series.times, watched.judged_through_ns))
    return max(int((~np.isnan(scanned.z[:was])).sum()) - watched.judged, 0)


def _now(
    watched: Watched, plan: Plan, ready: Due, findings: list[dict[str, Any]], newest_at: datetime | None
) -> dict[str, Any]:
    stream = watched.stream
    silence = max((ready.wait_ns + SILENT_BINS * ready.step_ns) / SECOND_NS, LEAST_SILENCE.total_seconds())
    if newest_at is not None and moments.now() - newest_at > timedelta(seconds=silence):
        usual = durations.format_ns(ready.step_ns)
        return _state(
            watched,
            SILENT,
            f"nothing newer than {clock.format_time(ready.newest_ns)} has come; usual is one every {usual}",
        )
    # A finding goes on while another flagged sample would join it: so the state does not flap with each sample.
    merge = durations.parse_ns(plan.group.merge, step_ns=ready.step_ns)
    open_ones = [
        f for f in findings if f["kind"] == "outlier" and f["end"] + merge + ready.step_ns >= ready.until_ns
    ]
    if not open_ones:
        return _state(watched, STEADY, f"judged through {clock.format_time(ready.until_ns)}")
    worst = max(open_ones, key=lambda f: f["score"] or 0.0)
    words = f"{worst['score']:.1f} sigmas {worst['direction'] or 'without a side'} since {clock.format_time(worst['start'])}"
    quiet = Quiet.objects.filter(start_ns__lte=worst["end"], end_ns__gte=worst["start"])
    if any(keys.covers(q.scope, stream.key) for q in quiet):
        return _state(watched, QUIET, f"planned work; {words}")
    return _state(watched, ADRIFT, words)


def _state(watched: Watched, state: str, why: str, needs: str = "") -> dict[str, Any]:
    changes: dict[str, Any] = {"state": state, "why": why[:500], "needs": needs[:300]}
    if state != watched.state:
        changes["since"] = Now()
    return changes


def points(watched: Watched, plan: Plan, labels: Sequence[Label] = ()) -> Scanned | None:
    """All that was judged of this stream, again; None where nothing was."""
    if watched.judged_through_ns is None:
        return None
    times, values = store.read(watched.stream_id)
    stop = int(np.searchsorted(times, watched.judged_through_ns))
    given, _ = scans.stream_input(watched.stream, plan, times[:stop], values[:stop])
    return upkeep.tick(given, plan, labels, bytes(watched.upkeep) or None)[0]


def as_data(finding: Finding) -> dict[str, Any]:
    """A finding as JSON holds it: no number is NaN."""
    return {k: None if isinstance(v, float) and math.isnan(v) else v for k, v in asdict(finding).items()}


def as_finding(data: dict[str, Any]) -> Finding:
    missing = {f.name for f in fields(Finding) if f.type is float or f.type == "float"}
    return Finding(**{k: math.nan if v is None and k in missing else v for k, v in data.items()})
