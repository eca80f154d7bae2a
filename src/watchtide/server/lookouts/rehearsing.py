"""A lookout before it goes live: what it would have raised and sent over the past weeks, against the logbook."""

from collections.abc import Collection, Sequence
from dataclasses import dataclass
from functools import partial
from typing import Any

import numpy as np

from watchtide.core.expect.baselines import fixed
from watchtide.core.explain import incidents
from watchtide.core.explain.incidents import Piece
from watchtide.core.scoring import notices
from watchtide.core.scoring.card import score as score_card
from watchtide.core.scoring.outcomes import Setting
from watchtide.core.scoring.rows import Finding, Label, inside_any, touches
from watchtide.core.series.steps import WEEK_NS
from watchtide.engine.keep import kept
from watchtide.engine.live import watching
from watchtide.engine.prepare import training
from watchtide.engine.scan.based import Scanned
from watchtide.plan import Plan, dump, load
from watchtide.server.jobs import services as jobs
from watchtide.server.jobs.models import Job
from watchtide.server.logbook import services as logbook
from watchtide.server.lookouts import judging, services
from watchtide.server.lookouts.models import Lookout
from watchtide.server.lookouts.notices import Wishes
from watchtide.server.problems import Problem
from watchtide.server.scans import services as scans
from watchtide.server.scans import sheets, working
from watchtide.server.scans.sheets import Sheet
from watchtide.server.streams import store
from watchtide.server.streams.models import Stream
from watchtide.tables import clock

MOST_WEEKS, MOST_STREAMS, MOST_SHOWN = 52, 500, 200
KEPT = 8
Row = dict[str, Any]


def request(lookout: Lookout, weeks: int, plan_text: str | None, user: Any) -> Job:
    """Put down a rehearsal. plan_text : another plan than the lookout's own. Raises Problem or PlanError."""
    if plan_text is not None:
        load(plan_text)
    count = services.matching(lookout.scope).count()
    if not count:
        raise Problem(
            "no stream matches the scope", place="scope", remedy="change the lookout's scope", code=409
        )
    if count > MOST_STREAMS:
        raise Problem(
            f"{count:,} streams match; a rehearsal takes {MOST_STREAMS} at most",
            place="scope",
            remedy="rehearse a part of them, by another lookout that is off",
            code=409,
        )
    arguments = {"lookout": lookout.pk, "weeks": weeks, "plan": plan_text}
    return jobs.enqueue(
        "rehearse", f"Rehearsal of {lookout.name}, {weeks} weeks", arguments, user=user, about=arguments
    )


def latest(lookout: Lookout) -> list[Job]:
    """The rehearsals of a lookout that are done, the newest first."""
    found = Job.objects.filter(kind="rehearse", state="done", arguments__lookout=lookout.pk)
    return list(found.order_by("-pk")[:KEPT])


@jobs.handles("rehearse", lane="bulk")
def rehearse(lease: jobs.Lease) -> Row:
    """Replay each stream of the lookout, and join what that raises as the lookout would have."""
    lookout = Lookout.objects.select_related("plan_version").get(pk=lease.arguments["lookout"])
    stated = lease.arguments["plan"]
    plan = scans.plan_of(lookout.plan_version.text) if stated is None else load(stated)
    scans.refuse_as_if_live(plan)
    streams = list(services.matching(lookout.scope).order_by("pk")[:MOST_STREAMS])
    labels = logbook.labels()
    until = store.newest_ns(streams) or 0
    span = (until - lease.arguments["weeks"] * WEEK_NS, until)
    orders = working.orders_of(streams, plan, labels, "replay")
    results = list(working.each(lease, partial(_play, lookout=lookout, since_ns=span[0]), orders))
    played = [one for one, _ in results]
    limits = [row for _, row in results if row is not None]
    quiet = sheets.Quieting()
    joined = joined_of(played, Wishes.of(lookout), services.links_of({s.pk for s in streams}), quiet)
    return {
        "weeks": lease.arguments["weeks"],
        "limits": _proposed(limits, plan) if limits else None,
        "plan": dump(plan),
        "is_own": stated is None,
        "promised_a_week": plan.flag.level.get("per-week"),
        **summary(played, joined, labels, span, quiet),
    }


def _play(order: working.Order, lookout: Lookout, since_ns: int) -> "tuple[Played, Row | None]":
    """One stream replayed, and the limits proposed for it where the plan has fixed ones."""
    stream, task = order.task()
    scanned, _ = kept.scan_task(task)
    is_fixed = order.plan.baseline.kind == "fixed"
    limits = _limits_of(stream, scanned, order.plan, order.labels) if is_fixed else None
    return Played.of(stream, scanned, lookout, since_ns), limits


def _limits_of(stream: Stream, scanned: Scanned, plan: Plan, labels: Sequence[Label]) -> Row:
    """Limits proposed from a stream's own history, without what labels leave out, and the reason."""
    series = scanned.base.series
    spans = training.left_out_spans(plan, stream.key, labels)
    one = fixed.propose(np.where(inside_any(series.times, spans), np.nan, series.values))
    lower, upper = (None if np.isnan(x) else float(f"{x:.4g}") for x in (one.lower, one.upper))
    return {
        "stream": stream.pk,
        "title": stream.title,
        "metric": stream.metric,
        "unit": stream.unit,
        "lower": lower,
        "upper": upper,
        "beyond": one.beyond,
        "reason": one.reason,
    }


def _proposed(rows: Sequence[Row], plan: Plan) -> Row:
    """Limits by stream, the widest of them, and the plan with these; none for a side that one stream has no limit on."""
    widest = {
        name: pick(r[name] for r in rows)
        for name, pick in (("lower", min), ("upper", max))
        if all(r[name] is not None for r in rows)
    }
    baseline = plan.baseline.model_copy(update={"options": widest})
    with_them = dump(plan.model_copy(update={"baseline": baseline})) if widest else None
    return {"per_stream": rows[:MOST_SHOWN], "widest": widest, "plan": with_them}


@dataclass(frozen=True)
class Played:
    """A stream replayed: what was raised within the span, the scores that say so, when it fell silent, and why nothing was judged,
    where nothing was."""

    stream: Stream
    findings: tuple[Finding, ...]
    sheet: Sheet
    silent: tuple[int, ...]
    why: str
    step_ns: int

    @classmethod
    def of(cls, stream: Stream, scanned: Scanned, lookout: Lookout, since_ns: int) -> "Played":
        series = scanned.base.series
        sheet = sheets.of(scanned).since(since_ns)
        found = tuple(f for f in scanned.findings if (f.raised or f.end) >= since_ns)
        stamps = series.times[~np.isnan(series.values) & (series.times >= since_ns)]
        # A stamp is a bin's begin: what comes after the next bin has ended is that much later.
        longest = series.step_ns + judging.silence_of(series.step_ns, judging.wait_of(lookout, stream))
        gaps = np.flatnonzero(np.diff(stamps) > longest)
        why = "" if sheet.judged else "; ".join(scanned.base.notes)
        return cls(stream, found, sheet, tuple(stamps[gaps].tolist()), why, int(series.step_ns))

    def piece(self, finding: Finding) -> Piece:
        return Piece(finding.start, finding.end, self.stream.pk, self.stream.key, self.step_ns)


Part = tuple[Played, Finding]


@dataclass(frozen=True)
class Joined:
    """One notice that something began, and all that would have joined it. raised_ns : when the first was known."""

    raised_ns: int
    is_quiet: bool
    parts: tuple[Part, ...]

    @property
    def findings(self) -> list[Finding]:
        return [f for _, f in self.parts]

    @property
    def streams(self) -> set[int]:
        return {p.stream.pk for p, _ in self.parts}


def joined_of(
    played: Sequence[Played], wishes: Wishes, links: Collection[tuple[int, int]], quiet: sheets.Quieting
) -> list[Joined]:
    """Findings joined as they would have been while they came."""
    every = sorted(
        ((p, f) for p in played for f in p.findings), key=lambda x: (x[1].raised or x[1].end, x[0].stream.pk)
    )
    if wishes.together:
        groups = incidents.as_they_come([p.piece(f) for p, f in every], links)
    else:
        groups = [[i] for i in range(len(every))]
    return [_one([every[i] for i in group], quiet) for group in groups]


def _one(parts: Sequence[Part], quiet: sheets.Quieting) -> Joined:
    first = parts[0][1]
    is_quiet = touches(first.start, first.end, quiet.spans(first.series))
    return Joined(first.raised or first.end, is_quiet, tuple(parts))


def summary(
    played: Sequence[Played],
    joined: Sequence[Joined],
    labels: Sequence[Label],
    span: tuple[int, int],
    quiet: sheets.Quieting,
) -> Row:
    """Everything about a rehearsal, as the page shows it; recall and false findings are the scorecards' own."""
    sent = [n for n in joined if not n.is_quiet]
    states = notices.states([n.findings for n in sent], labels)
    # What planned work made quiet counts nowhere.
    points = {p.stream.key: quiet.sheet(p.sheet).points for p in played if p.sheet.judged}
    found = quiet.findings([f for n in sent for f in n.findings])
    steps = {p.step_ns for p in played}
    setting = Setting(step_ns=min(steps) if steps else None, span=span)
    card = score_card(found, labels, points, setting).figures
    silent = sorted(at for p in played for at in p.silent)
    return {
        "from": clock.format_time(span[0]),
        "to": clock.format_time(span[1]),
        "streams": len(played),
        "samples": sum(p.sheet.judged for p in played),
        "findings": sum(len(p.findings) for p in played),
        "notices": len(sent),
        "held": len(joined) - len(sent),
        "silent": len(silent),
        **notices.counts(states),
        "recall": card["events"]["recall"],
        "recall_ci": card["events"]["recall_ci"],
        "incidents": card["events"]["tp_labels"] + card["events"]["fn_labels"],
        "stream_weeks": card["false_per_week"]["stream_weeks"],
        "seen_a_week": card["false_per_week"]["per_stream"],
        "per_week": _per_week(played, sent, silent, span),
        "per_stream": _per_stream(played, sent, states)[:MOST_SHOWN],
        "latest": [_notice_row(n, s) for n, s in list(zip(sent, states, strict=True))[::-1][:MOST_SHOWN]],
    }


def _per_week(
    played: Sequence[Played], sent: Sequence[Joined], silent: Sequence[int], span: tuple[int, int]
) -> list[Row]:
    edges = np.arange(span[0], span[1] + WEEK_NS, WEEK_NS)
    counted = {
        "findings": [f.raised or f.end for p in played for f in p.findings],
        "notices": [n.raised_ns for n in sent],
        "silent": silent,
    }
    of = {name: np.histogram(times, edges)[0].tolist() for name, times in counted.items()}
    return [
        {"begin": clock.format_time(int(begin)), **{name: of[name][i] for name in of}}
        for i, begin in enumerate(edges[:-1])
    ]


def _per_stream(played: Sequence[Played], sent: Sequence[Joined], states: Sequence[str]) -> list[Row]:
    """One row a stream, the noisiest first."""
    of: dict[int, list[str]] = {}
    for n, state in zip(sent, states, strict=True):
        for pk in n.streams:
            of.setdefault(pk, []).append(state)
    rows = [
        {
            "stream": p.stream.pk,
            "title": p.stream.title,
            "metric": p.stream.metric,
            "findings": len(p.findings),
            "notices": len(of.get(p.stream.pk, ())),
            "not_real": of.get(p.stream.pk, []).count(notices.FALSE),
            "silent": len(p.silent),
            "why": p.why,
            "at": [clock.format_time(f.start) for f in p.findings[-MOST_SHOWN:]],
        }
        for p in played
    ]
    return sorted(rows, key=lambda r: (-r["findings"], r["title"]))


def _notice_row(joined: Joined, state: str) -> Row:
    one, finding = max(joined.parts, key=lambda x: np.nan_to_num(x[1].score))
    return {
        "raised": clock.format_time(joined.raised_ns),
        "stream": one.stream.pk,
        "title": one.stream.title,
        "streams": len(joined.streams),
        "start": clock.format_time(finding.start),
        "end": clock.format_time(finding.end),
        "kind": finding.kind,
        "direction": finding.direction,
        "score": watching.as_data(finding)["score"],
        "state": state,
    }
