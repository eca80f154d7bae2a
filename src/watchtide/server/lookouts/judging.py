"""One stream of a lookout judged as far as its bins are complete: exactly what a replay of the same samples says."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from datetime import timedelta
from typing import Any, TypeVar

import numpy as np
from django.db.models.functions import Now

from watchtide.core.scoring.rows import Coverage, touches
from watchtide.core.series import SECOND_NS, Floats, Ints
from watchtide.engine.live import ages, upkeep, watching
from watchtide.engine.live.glancing import Glance
from watchtide.engine.live.upkeep import Complete
from watchtide.engine.live.watching import Followed, Step, as_data, as_finding
from watchtide.engine.prepare.preparing import Input
from watchtide.engine.scan import outcome
from watchtide.engine.scan.based import Scanned
from watchtide.plan import Plan, durations
from watchtide.server import moments
from watchtide.server.logbook import services as logbook
from watchtide.server.lookouts import models
from watchtide.server.lookouts.models import Lookout, Watched
from watchtide.server.problems import Problem
from watchtide.server.scans import services as scans
from watchtide.server.streams import store
from watchtide.server.streams.models import Stream
from watchtide.tables import clock, results

# A stream is silent when nothing has come for its wait and so many bins, and a minute at least.
SILENT_BINS = 3
LEAST_SILENCE_NS = 60 * SECOND_NS
Row = dict[str, Any]
T = TypeVar("T")


@dataclass(frozen=True)
class Rules:
    """What all streams of a lookout are judged by in one go: the plan, labels to leave out, planned work, and the time."""

    plan: Plan
    labels: Coverage
    quiet: Sequence[tuple[str, int, int]]
    now_ns: int
    # Of the logbook that these are of, or an earlier one.
    version: int

    @classmethod
    def now(cls, plan: Plan) -> "Rules":
        version = logbook.version()
        return cls(plan, Coverage(logbook.labels()), logbook.quiet_spans(), moments.now_ns(), version)

    def is_quiet(self, key: str, finding: Row) -> bool:
        """Whether a finding lies in planned work."""
        return touches(finding["start"], finding["end"], logbook.quiet_for(key, self.quiet))

    def is_open(self, finding: Row, reach: Complete) -> bool:
        """Whether another flagged sample would join a finding: it may go on, and a state does not flap with each sample."""
        return watching.is_open(as_finding(finding), self.plan, reach)


@dataclass(frozen=True)
class Judged:
    """changes : of the row, to be written. reach : how far it was judged, None where nothing new was; findings : as they are
    then; touched : identities of those that began or ended; scanned : the replay that says so; glance : by
    which what comes next can be judged while it is calm."""

    changes: Row
    reach: Complete | None = None
    findings: Sequence[Row] = ()
    touched: frozenset[watching.Identity] = frozenset()
    scanned: Scanned | None = None
    glance: Glance | None = None

    def points_csv(self, key: str, first_ns: int, last_ns: int) -> str:
        """The points of a closed span, as `watchtide scan --points` writes them."""
        return "" if self.scanned is None else points_csv(self.scanned, key, first_ns, last_ns)


@dataclass(frozen=True)
class Due:
    """A stream with bins to be judged. before, given, reach : as `engine.watching.step` takes them; come : samples of the bins
    after those; changes : of the row, whatever is found."""

    before: Followed
    given: Input
    reach: Complete
    come: tuple[Ints, Floats]
    changes: Row

    def arguments(self, rules: Rules) -> tuple[Any, ...]:
        """Those of `engine.watching.step`."""
        return self.before, self.given, rules.plan, rules.labels.of(self.given.key), self.reach


def judge(watched: Watched, rules: Rules) -> Judged:
    """A stream judged through the newest bin whose samples have come; nothing is written."""
    due = prepare(watched, rules)
    if isinstance(due, Judged):
        return due
    return conclude(watched, rules, due, lambda: watching.step(*due.arguments(rules)))


def prepare(watched: Watched, rules: Rules) -> Judged | Due:
    """What is due on a stream, or the result where nothing is."""
    return _tried(watched, lambda: _prepare(watched, rules))


def conclude(watched: Watched, rules: Rules, due: Due, step: Callable[[], Step]) -> Judged:
    """The result of a step. step : takes it, or waits for the process that does."""
    return _tried(watched, lambda: _conclude(watched, rules, due, step()))


def _tried(watched: Watched, act: Callable[[], T]) -> T | Judged:
    try:
        return act()
    except Problem as error:
        return Judged(_state(watched, models.FAILING, f"{error.body['title']}; {error.body['remedy']}"))
    except ValueError as error:
        return Judged(_state(watched, models.FAILING, str(error)))


def _prepare(watched: Watched, rules: Rules) -> Judged | Due:
    stream, lookout = watched.stream, watched.lookout
    times, values = store.read(stream.pk)
    if not len(times):
        return Judged(_state(watched, models.LEARNING, "no sample has come yet", needs="samples"))
    wait_ns = wait_of(lookout, stream)
    whole = Input(stream.key, times, values, stream.zone)
    reach = upkeep.complete(whole, rules.plan, rules.now_ns, wait_ns, lookout.skip_last)
    if reach is None:
        return Judged(_state(watched, models.LEARNING, "no bin is complete yet", needs="samples"))
    newest_ns = int(times[-1])
    changes: Row = {"next_ns": reach.until_ns + reach.step_ns + wait_ns}
    if watched.newest_ns is None or newest_ns > watched.newest_ns:
        changes |= {"newest_ns": newest_ns, "newest_at": moments.now()}
    before = watched.judged_through_ns
    if before is not None and reach.until_ns <= before:
        return Judged(changes | _now(watched, rules, reach, watched.findings, changes, watched.needs))
    known = tuple(map(as_finding, watched.findings))
    followed = Followed(before, bytes(watched.upkeep) or None, watched.judged, watched.late, known)
    k = int(np.searchsorted(times, reach.until_ns))
    given = scans.stream_input(stream, rules.plan, times[:k], values[:k])[0]
    return Due(followed, given, reach, (times[k:], values[k:]), changes)


def _conclude(watched: Watched, rules: Rules, due: Due, step: Step) -> Judged:
    findings, scanned = [as_data(f) for f in step.now.findings], step.scanned
    changes = due.changes | {
        "judged_through_ns": due.reach.until_ns,
        "judged": step.now.judged,
        "upkeep": step.now.upkeep or b"",
        "findings": findings,
        "late": step.now.late,
    }
    if changes["judged"]:
        lacks = _lacks(scanned, watched.stream.zone)
        now = _now(watched, rules, due.reach, findings, changes, lacks)
    else:
        now = _learning(watched, scanned, rules.plan)
    touched = frozenset(watching.identity(f) for f in (*step.began, *step.ended))
    # What has come for bins that are not complete yet goes along.
    times, values = due.come
    glance = step.glance and replace(step.glance, times=times, values=values)
    return Judged(changes | now, due.reach, findings, touched, scanned, glance)


def wait_of(lookout: Lookout, stream: Stream) -> int:
    """How long after a bin's end its samples may come, in ns."""
    return wait_for(lookout, stream.lateness_ns)


def wait_for(lookout: Lookout, lateness_ns: int | None) -> int:
    """The same for a stream that is usually so late."""
    return int(durations.parse_ns(lookout.wait)) if lookout.wait != "auto" else lateness_ns or 0


def silence_of(step_ns: int, wait_ns: int) -> int:
    """After how long without a sample a stream is silent, in ns."""
    return max(wait_ns + SILENT_BINS * step_ns, LEAST_SILENCE_NS)


def _learning(watched: Watched, scanned: Scanned, plan: Plan) -> Row:
    first = scanned.resolved["replay"]["first"]
    times = scanned.base.series.times
    begins = int(times[0]) + int(durations.parse_ns(first))
    needs = "samples that can train it: so far there are too few"
    if begins > int(scanned.base.series.ends[-1]):
        needs = f"history until {moments.spoken(begins, watched.stream.zone)}: it learns from {first} first"
        if not ages.is_begin_stated(plan):
            needs = f"{_first_needs(scanned.base.series.values)} for a provisional judgement; {needs}"
    return _state(watched, models.LEARNING, "; ".join(scanned.base.notes), needs=needs)


def _first_needs(values: Floats) -> str:
    """What a young stream needs before anything is judged."""
    seen = values[~np.isnan(values)]
    if len(seen) >= ages.HOURS_SAMPLES and np.ptp(seen) == 0:
        return f"a second value, where all {len(seen):,} so far are {seen[0]:g},"
    return f"{ages.HOURS_SAMPLES} samples over six hours"


def _lacks(scanned: Scanned, zone: str) -> str:
    """What a stream that is judged provisionally lacks, and when it will be there; empty for one that is not."""
    mark = scanned.resolved["replay"].get("provisional")
    if mark is None or mark["until"] is not None:
        return ""
    kind = scanned.resolved["baseline"]["kind"]
    seasons = " and ".join(scanned.resolved["baseline"]["seasons"]) or "no season yet"
    full = moments.spoken(clock.parse_one(mark["full"], "UTC"), zone)
    return f"history until {full} for the first full choice; provisional so far: {kind}, {seasons}"


def _now(
    watched: Watched, rules: Rules, reach: Complete, findings: Sequence[Row], changes: Row, lacks: str
) -> Row:
    """The state of a stream that is judged. lacks : what it still learns."""
    newest_at = changes.get("newest_at", watched.newest_at)
    newest_ns = changes.get("newest_ns", watched.newest_ns)
    silence_ns = silence_of(reach.step_ns, changes["next_ns"] - reach.until_ns - reach.step_ns)
    if moments.now() - newest_at > timedelta(seconds=silence_ns / SECOND_NS):
        usual = durations.format_ns(reach.step_ns)
        why = f"nothing newer than {moments.spoken(newest_ns, watched.stream.zone)} has come; usual is one every {usual}"
        return _state(watched, models.SILENT, why, lacks)
    ongoing = [f for f in findings if rules.is_open(f, reach)]
    if not ongoing:
        state = models.LEARNING if lacks else models.STEADY
        return _state(watched, state, calm_words(state, reach.until_ns, watched.stream.zone), lacks)
    worst = max(ongoing, key=lambda f: f["score"] or 0.0)
    side = worst["direction"] or "without a side"
    words = f"{worst['score']:.1f} sigmas {side} since {moments.spoken(worst['start'], watched.stream.zone)}"
    if rules.is_quiet(watched.stream.key, worst):
        return _state(watched, models.QUIET, f"planned work; {words}", lacks)
    return _state(watched, models.ADRIFT, words, lacks)


def calm_words(state: str, until_ns: int, zone: str) -> str:
    """Through when a stream was judged on which nothing is going on."""
    provisionally = "provisionally " if state == models.LEARNING else ""
    return f"judged {provisionally}through {moments.spoken(until_ns, zone)}"


def _state(watched: Watched, state: str, why: str, needs: str = "") -> Row:
    changes: Row = {"state": state, "why": why[:500], "needs": needs[:300]}
    return changes if state == watched.state else changes | {"since": Now()}


def points_csv(scanned: Scanned, key: str, first_ns: int, last_ns: int | None = None) -> str:
    """Judged points from a stamp on, through the last one or a stated one."""
    rows = outcome.points_of(scanned)
    inside = rows["time"] >= first_ns
    if last_ns is not None:
        inside &= rows["time"] <= last_ns
    table = results.points_table({key: {k: v[inside] for k, v in rows.items()}})
    return results.table_bytes(table, "points.csv").decode()


def rejudged(watched: Watched) -> Scanned | None:
    """All that was judged of this stream, again from its kept state; None where nothing was."""
    if watched.judged_through_ns is None:
        return None
    plan = scans.plan_of(watched.lookout.plan_version.text)
    times, values = store.read(watched.stream_id, None, watched.judged_through_ns - 1)
    given = scans.stream_input(watched.stream, plan, times, values)[0]
    return upkeep.tick(given, plan, logbook.labels(), bytes(watched.upkeep) or None)[0]
