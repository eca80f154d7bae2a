"""Counting scans against the logbook: scorecards, levels under a constraint, scans beside one another; each kept."""

import hashlib
import json
import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import asdict, dataclass, replace
from datetime import datetime
from typing import Any
from zoneinfo import ZoneInfo

from django.db.models import Sum

from watchtide.core.scoring import breakdown, choice, compare
from watchtide.core.scoring.card import Scorecard
from watchtide.core.scoring.card import score as score_card
from watchtide.core.scoring.curve import LEVELS, Curve
from watchtide.core.scoring.outcomes import Setting
from watchtide.core.scoring.rows import Coverage, Finding, Label, Viewed
from watchtide.core.series import SECOND_NS, WEEK_S, keys
from watchtide.engine.many.together import family_of
from watchtide.engine.prepare import training
from watchtide.plan import Plan as PlanText
from watchtide.server.jobs import services as jobs
from watchtide.server.jobs.models import Job
from watchtide.server.logbook import services as logbook
from watchtide.server.problems import Problem
from watchtide.server.scans import services as scans
from watchtide.server.scans import sheets
from watchtide.server.scans.models import Card, Scan, ScanStream
from watchtide.server.scans.models import Finding as StoredFinding
from watchtide.server.scans.sheets import Sheet, points_of, scored_of
from watchtide.tables import clock

Progress = Callable[[int, int], None]
# More samples than this are counted by a job: in a request it would take longer than a second.
MOST_SAMPLES = 400_000
MOST_SCANS = 6
# So many missed and false ones are told one by one, the strongest of these.
MOST_ROWS = 200
DAY_NS = 86_400 * SECOND_NS


@dataclass(frozen=True)
class Selection:
    """Which part of a scan is counted: all of it, or some streams, some family, a closed span in ns."""

    streams: tuple[int, ...] = ()
    family: str = ""
    begin_ns: int | None = None
    end_ns: int | None = None

    @classmethod
    def of(cls, given: dict[str, Any]) -> "Selection":
        """A selection that was kept as JSON."""
        return cls(**{**given, "streams": tuple(given["streams"])})

    @property
    def key(self) -> str:
        """Under which it is kept; empty for all."""
        return "" if self == Selection() else digest_of("part", asdict(self))


# Of what is kept beside whole cards: raised when its form changes, so that what an earlier version kept is counted anew.
FORM = 2


def digest_of(kind: str, content: Any) -> str:
    text = json.dumps([FORM, content], sort_keys=True)
    return f"{kind} {hashlib.sha256(text.encode()).hexdigest()}"


def rows_of(scan: Scan, selection: Selection) -> list[ScanStream]:
    """The streams of a scan that are counted. Problem where none is."""
    if scan.finished_at is None:
        raise Problem("the scan has not finished", remedy="wait for its job", code=409)
    found = scan.streams.select_related("stream", "scan__plan_version")
    if selection.streams:
        found = found.filter(stream_id__in=selection.streams)
    if selection.family:
        found = found.filter(stream__metric=selection.family)
    rows = list(found.order_by("stream__metric", "stream_id"))
    if not rows:
        raise Problem("the scan has no such stream", place="streams", remedy="choose from its own", code=404)
    return rows


def setting_of(scan: Scan, selection: Selection) -> Setting:
    """How a part of a scan is counted. Weeks that were not scanned count for nothing, however wide a span is requested."""
    setting = scans.setting_of(scan)
    if selection.begin_ns is None and selection.end_ns is None:
        return setting
    first, last = scan.span_from_ns or 0, scan.span_to_ns or 0
    begin = first if selection.begin_ns is None else selection.begin_ns
    end = last if selection.end_ns is None else selection.end_ns
    if end < begin:
        raise Problem("the span ends before it begins", place="from", remedy="swap from and to")
    begin, end = max(begin, first), min(end, last)
    if end < begin:
        raise Problem(
            "nothing was scanned within this span", place="from", remedy="choose a span within the scan's"
        )
    return replace(setting, span=(begin, end))


def kept(scan: Scan, key: str) -> dict[str, Any] | None:
    """What was counted for the present logbook, if it was."""
    known = Card.objects.filter(scan=scan, logbook_version=logbook.version(), selection=key).first()
    return dict(known.content) if known is not None else None


def keep(scan: Scan, key: str, version: int, content: dict[str, Any]) -> dict[str, Any]:
    """Keep what was counted; what an older logbook gave goes, except the last whole card, which lists show."""
    older = Card.objects.filter(scan=scan, logbook_version__lt=version)
    (older.exclude(selection="") if key else older).delete()
    Card.objects.update_or_create(
        scan=scan, logbook_version=version, selection=key, defaults={"content": content}
    )
    return content


def card_of(scan: Scan, selection: Selection, progress: Progress | None = None) -> dict[str, Any]:
    """The scorecard of a part of a scan against the present logbook, kept until the logbook changes."""
    found = kept(scan, selection.key)
    if found is not None:
        return found
    version = logbook.version()
    return keep(scan, selection.key, version, content_of(counted(scan, selection, progress)))


def is_much(found: Sequence[Scan], selection: Selection) -> bool:
    """Whether what these scans judged is too much to be counted while a request waits."""
    samples = 0
    for scan in found:
        ids = [r.stream_id for r in rows_of(scan, selection)]
        sums = ScanStream.objects.filter(scan=scan, stream_id__in=ids).aggregate(n=Sum("samples"))
        samples += sums["n"] or 0
    return samples > MOST_SAMPLES


def job_for(
    kind: str, found: Sequence[Scan], selection: Selection, key: str, arguments: dict[str, Any], user: Any
) -> Job | None:
    """The job that computes what is kept of the first scan under this key, where that is too much for a request.

    None where it is little, or kept already. The same request while the job is open gets the same job.
    """
    if kept(found[0], key) is not None or not is_much(found, selection):
        return None
    title = f"{kind.capitalize()} of scan {', '.join(str(s.pk) for s in found)}"
    return jobs.enqueue(kind, title, arguments, user=user, about=arguments)


def pending(scan: Scan, selection: Selection, user: Any = None) -> Job | None:
    """The job that counts a scan, or a part of it, as `job_for`."""
    arguments = {"scan": scan.pk, "selection": asdict(selection)}
    return job_for("scorecard", [scan], selection, selection.key, arguments, user)


def comparison_pending(found: Sequence[Scan], selection: Selection, user: Any = None) -> Job | None:
    """The job that compares scans, as `job_for`. Too few scans are for `comparison` to refuse."""
    if len(found) < 2:
        return None
    arguments = {"scans": [s.pk for s in found], "selection": asdict(selection)}
    return job_for("comparison", found, selection, _beside(found, selection), arguments, user)


def _beside(found: Sequence[Scan], selection: Selection) -> str:
    return digest_of("beside", {**asdict(selection), "scans": [s.pk for s in found]})


@jobs.handles("comparison", lane="interactive")
def compare_apart(lease: jobs.Lease) -> dict[str, Any]:
    """Compare scans; the result is kept for the next request."""
    by_number = Scan.objects.select_related("plan_version__plan").in_bulk(lease.arguments["scans"])
    comparison([by_number[pk] for pk in lease.arguments["scans"]], Selection.of(lease.arguments["selection"]))
    return {"scans": lease.arguments["scans"]}


@jobs.handles("scorecard", lane="interactive")
def count(lease: jobs.Lease) -> dict[str, Any]:
    """Count a scan, or a part of it."""
    scan = Scan.objects.select_related("plan_version").get(pk=lease.arguments["scan"])
    card_of(scan, Selection.of(lease.arguments["selection"]), lease.go_on)
    jobs.tell("scorecard", lease.arguments["scan"])
    return {"scan": lease.arguments["scan"]}


@dataclass(frozen=True)
class Counted:
    """What a card was counted from, and the card. sheets : by key, in the order of the rows; each is read on access."""

    scan: Scan
    rows: Sequence[ScanStream]
    sheets: Mapping[str, Sheet]
    findings: Sequence[Finding]
    labels: Sequence[Label]
    setting: Setting
    card: Scorecard
    quiet: dict[str, list[tuple[int, int]]]
    quieted: int


def counted(scan: Scan, selection: Selection, progress: Progress | None = None) -> Counted:
    rows = rows_of(scan, selection)
    labels = covering(logbook.labels(), [r.stream.key for r in rows])
    setting = setting_of(scan, selection)
    quiet = sheets.Quieting()
    scores = Viewed(sheets.Sheets(scan, rows, progress), quiet.sheet)
    all_of = scans.findings_of(scan, {r.stream_id: r.stream.key for r in rows})
    findings = quiet.findings(all_of)
    card = score_card(findings, labels, Viewed(scores, points_of), setting)
    spans = {r.stream.key: quiet.spans(r.stream.key) for r in rows}
    quieted = len(all_of) - len(findings)
    return Counted(
        scan, rows, scores, findings, labels, setting, card, {k: v for k, v in spans.items() if v}, quieted
    )


def covering(labels: Sequence[Label], streams: Sequence[str]) -> list[Label]:
    """The labels that say something of at least one of the streams."""
    known = Coverage(labels).covered(streams)
    return [x for i, x in enumerate(labels) if i in known]


def content_of(c: Counted) -> dict[str, Any]:
    """Figures, curve, every breakdown, and what was missed and false."""
    lines = scans.curve_of(c.scan, Viewed(c.sheets, scored_of), c.findings, c.labels, c.setting)
    zones = [r.stream.zone for r in c.rows]
    zone = ZoneInfo(max(set(zones), key=zones.count))
    step = c.setting.step_ns
    id_of = {r.stream.key: r.stream_id for r in c.rows}
    title_of = {r.stream.key: r.stream.name for r in c.rows}
    promises = [
        breakdown.Promise(r.stream.key, rate, scans.promises_of(r)[1])
        for r in c.rows
        if (rate := r.resolved.get("flag", {}).get("per_week")) is not None
    ]
    calibration = breakdown.calibration(c.card, promises, _telling(c, promises, lines), step)
    if calibration["levels"] is not None:
        calibration["levels"] |= {k: scans.plain(calibration["levels"][k]) for k in ("promised", "seen")}
    return {
        "figures": c.card.figures,
        "curve": scans.curve_data(lines),
        "missed": [missed_row(c.labels[i], id_of, title_of) for i in c.card.missed[:MOST_ROWS]],
        "false": false_rows(c.card, id_of, title_of)[:MOST_ROWS],
        "labels": len(c.labels),
        "zone": str(zone),
        "judged_weeks": c.card.observed.judged_seconds(step) / WEEK_S,
        "by_stream": [
            {"stream": id_of[key], "name": title_of[key], **row}
            for key, row in breakdown.by_stream(c.card, c.labels, step).items()
        ],
        "by_family": _named(breakdown.by_family(c.card, c.labels, family_of)),
        "by_cause": _named(breakdown.by_cause(c.card, c.labels)),
        "by_month": _named(breakdown.by_period(c.card, c.labels, lambda ns: month_of(ns, zone))),
        "delays": [
            {"seconds": s, "cause": c.labels[row].cause, "kind": c.labels[row].kind, "start_ns": c.labels[row].start}
            for s, row in breakdown.delays(c.card)
        ],
        "calibration": calibration,
        "locked": _locked(c),
        "quiet": c.quiet,
        "quiet_findings": c.quieted,
    }  # fmt: skip


def _named(rows: dict[str, dict[str, Any]]) -> list[dict[str, Any]]:
    return [{"name": name, **row} for name, row in rows.items()]


def _telling(c: Counted, promises: Sequence[breakdown.Promise], lines: Curve) -> Curve | None:
    """The curve of the streams that promise something at every level."""
    promised = {p.series for p in promises if p.at_levels is not None}
    if len(promised) == len(c.sheets):
        return lines
    mine = [f for f in c.findings if f.series in promised]
    own = Viewed({key: key for key in c.sheets if key in promised}, lambda key: c.sheets[key].scored)
    return scans.curve_of(c.scan, own, mine, c.labels, c.setting) if own else None


def month_of(ns: int, zone: ZoneInfo) -> str:
    return datetime.fromtimestamp(ns / SECOND_NS, zone).strftime("%Y-%m")


def false_rows(card: Scorecard, id_of: dict[str, int], title_of: dict[str, str]) -> list[dict[str, Any]]:
    rows = [
        {
            "stream": id_of[o.finding.series],
            "title": title_of[o.finding.series],
            "start_ns": o.finding.start,
            "end_ns": o.finding.end,
            "kind": o.finding.kind,
            "direction": o.finding.direction,
            "score": o.finding.score if math.isfinite(o.finding.score) else None,
        }
        for o in card.outcomes
        if o.state == "false"
    ]
    return sorted(rows, key=lambda f: -(f["score"] or 0))


def false_findings(scan: Scan, card: dict[str, Any]) -> list[StoredFinding]:
    """The findings behind a card's false ones, in its order, as they are stored."""
    rows = card["false"]
    streams = {f["stream"] for f in rows}
    stored = {
        (f.stream_id, f.start_ns, f.end_ns, f.kind, f.direction): f
        for f in StoredFinding.objects.filter(scan=scan, stream_id__in=streams)
    }
    named = [(f["stream"], f["start_ns"], f["end_ns"], f["kind"], f["direction"]) for f in rows]
    return [stored[name] for name in named if name in stored]


def missed_row(label: Label, id_of: dict[str, int], title_of: dict[str, str]) -> dict[str, Any]:
    covered = [k for k in id_of if keys.covers(label.series, k)]
    return {
        "stream": id_of[covered[0]] if covered else None,
        "title": title_of[covered[0]] if len(covered) == 1 else label.series or "every stream",
        "streams": len(covered),
        "start_ns": label.start,
        "end_ns": label.end,
        "kind": label.kind,
        "cause": label.cause,
    }


def locked_span(rows: Sequence[ScanStream]) -> tuple[int, int] | None:
    """The span that a scan's plan locked away, in ns; of shares, from the first stream's to the last one's."""
    stated = [r.resolved.get("split", {}).get("locked") for r in rows]
    ends = [tuple(clock.parse_one(x, "UTC") for x in span) for span in stated if span]
    return (min(a for a, _ in ends), max(b for _, b in ends)) if ends else None


def _locked(c: Counted) -> dict[str, Any] | None:
    """Figures on the locked span alone, and which scans of earlier versions had learnt from it."""
    span = locked_span(c.rows)
    if span is None:
        return None
    points = Viewed(c.sheets, points_of)
    figures = score_card(c.findings, c.labels, points, replace(c.setting, span=span)).figures
    return {
        "span": {"from": span[0], "to": span[1]},
        "events": figures["events"],
        "false_per_week": figures["false_per_week"],
        "broken": broken_lock(c.scan, span),
    }


def broken_lock(scan: Scan, span: tuple[int, int]) -> str:
    """Who had seen a locked span before it was locked, in words; empty when nobody had."""
    earlier = Scan.objects.filter(
        plan_version__plan_id=scan.plan_version.plan_id, plan_version__number__lt=scan.plan_version.number,
        finished_at__isnull=False, span_to_ns__gte=span[0], span_from_ns__lte=span[1],
    ).select_related("plan_version")  # fmt: skip
    seen: set[int] = set()
    for old in earlier:
        held = locked_span(list(old.streams.all()[:50]))
        if held is None or held[0] > span[0] or held[1] < span[1]:
            seen.add(old.plan_version.number)
    if not seen:
        return ""
    names = ", ".join(f"v{n}" for n in sorted(seen))
    return f"{names} of this plan had trained on or shown figures of this span before it was locked: what was chosen since has seen it"


def best_level(scan: Scan, selection: Selection, constraint: choice.Constraint, by: str) -> dict[str, Any]:
    """The best common level under a constraint, chosen without the plan's locked span; kept until the logbook changes."""
    key = digest_of("level", {**asdict(selection), "constraint": vars(constraint), "by": by})
    found = kept(scan, key)
    if found is not None:
        return found
    version = logbook.version()
    rows = rows_of(scan, selection)
    plan = scans.plan_of(scan.plan_version.text)
    quiet = sheets.Quieting()
    try:
        told = choice.best_level(
            Viewed(sheets.Sheets(scan, rows), lambda s: quiet.sheet(s).scored), covering(logbook.labels(), [r.stream.key for r in rows]), constraint, by=by,
            group=training.group_of(plan, scan.step_ns), side=plan.flag.side,
            setting=setting_of(scan, selection), locked=locked_span(rows),
        )  # fmt: skip
    except ValueError as error:
        raise Problem(
            str(error).replace("--by points", "samples"), place="constraint", remedy="state another"
        ) from error
    del told["curve"]
    return keep(scan, key, version, json.loads(json.dumps(told)))


def adopt_level(scan: Scan, level: float, user: Any) -> Scan:
    """A new version of the scan's plan at this level, run over the scan's streams; standing where the scan was."""
    if not LEVELS[0] <= level <= 40:
        raise Problem(f"{level:g} sigmas is no level", place="level", remedy="give one from 2 to 40")
    plan = scans.plan_of(scan.plan_version.text)
    data = plan.as_data()
    data["flag"]["level"] = {"sigmas": round(level, 2)}
    version = scans.plan_version(
        scan.plan_version.plan.name, PlanText.model_validate(data), user.get_username()
    )
    ids = list(scan.streams.values_list("stream_id", flat=True))
    return scans.start(version, ids, user=user, is_standing=scan.is_standing)


def replay_of(scan: Scan) -> Scan | None:
    """The latest finished replay of the same plan version over all of the scan's streams, if there is one."""
    mine = set(scan.streams.values_list("stream_id", flat=True))
    found = Scan.objects.filter(
        plan_version_id=scan.plan_version_id, mode="replay", finished_at__isnull=False
    )
    for replayed in found.order_by("-pk")[:20]:
        if set(replayed.streams.values_list("stream_id", flat=True)) >= mine:
            return replayed
    return None


def comparison(found: Sequence[Scan], selection: Selection) -> dict[str, Any]:
    """Two to six scans over the streams and the span that all of them judged, each against the first.

    Problem where they have no stream or no span in common.
    """
    if not 2 <= len(found) <= MOST_SCANS or len({s.pk for s in found}) != len(found):
        raise Problem(
            f"a comparison takes two to {MOST_SCANS} different scans", place="scans", remedy="choose so many"
        )
    key = _beside(found, selection)
    known = kept(found[0], key)
    if known is not None:
        return known
    version = logbook.version()
    shared = set.intersection(*({r.stream_id for r in rows_of(s, selection)} for s in found))
    if not shared:
        raise Problem(
            "these scans share no stream", place="scans", remedy="choose scans of the same streams", code=409
        )
    part = replace(selection, streams=tuple(sorted(shared)))
    rows = rows_of(found[0], part)
    labels = covering(logbook.labels(), [r.stream.key for r in rows])
    quiet = sheets.Quieting()
    scores = [Viewed(sheets.Sheets(s, rows_of(s, part)), quiet.sheet) for s in found]
    span = compare.judged_by_all([Viewed(own, scored_of).values() for own in scores])
    stated = setting_of(found[0], part).span
    if span is not None and stated is not None:
        span = max(span[0], stated[0]), min(span[1], stated[1])
    if span is None or span[0] >= span[1]:
        raise Problem("these scans judged no common span", remedy="compare scans that reach as far", code=409)
    key_of = {r.stream_id: r.stream.key for r in rows}
    cards, shown = [], []
    for scan, own in zip(found, scores, strict=True):
        every = quiet.findings(scans.findings_of(scan, key_of))
        findings = [f for f in every if f.start <= span[1] and f.end >= span[0]]
        points = Viewed(own, points_of)
        card = score_card(findings, labels, points, replace(scans.setting_of(scan), span=span))
        cards.append(card)
        shown.append(
            {"scan": scan.pk, "plan": scan.plan_version.plan.name, "version": scan.plan_version.number, "mode": scan.mode,
             "findings": len(findings), **{k: card.figures[k] for k in ("events", "points", "delay", "false_per_week")}}
        )  # fmt: skip
    longest = max((s.longest_season_ns or 0 for s in found), default=0)
    block = max(longest, 7 * DAY_NS)
    for i, one in enumerate(shown):
        one["against"] = (
            compare.paired(cards[0], cards[i], labels, block_ns=block, names=_names(shown[0], one))
            if i
            else None
        )
    told = {
        "streams": len(shared), "span_from": clock.format_time(span[0]), "span_to": clock.format_time(span[1]),
        "labels": len(labels), "scans": shown,
    }  # fmt: skip
    return keep(found[0], key, version, json.loads(json.dumps(told)))


def _names(one: dict[str, Any], other: dict[str, Any]) -> tuple[str, str]:
    """What tells two scans apart: the plan, its version, or how it was run."""
    if one["plan"] != other["plan"]:
        return f"{one['plan']} v{one['version']}", f"{other['plan']} v{other['version']}"
    if one["version"] != other["version"]:
        return f"v{one['version']}", f"v{other['version']}"
    words = {"fit": "in-sample", "replay": "the replay"}
    if one["mode"] != other["mode"]:
        return words[one["mode"]], words[other["mode"]]
    return f"scan {one['scan']}", f"scan {other['scan']}"


def trend(plan_id: int) -> list[dict[str, Any]]:
    """Precision and recall by month, for one in-sample scan of each version of a plan: of the most streams, the latest."""
    widest: dict[int, Card] = {}
    found = Card.objects.filter(
        scan__plan_version__plan_id=plan_id, selection="", scan__mode="fit"
    ).select_related("scan__plan_version")
    for card in found.order_by("scan_id"):
        known = widest.get(card.scan.plan_version.number)
        if known is None or len(card.content["by_stream"]) >= len(known.content["by_stream"]):
            widest[card.scan.plan_version.number] = card
    return [
        {
            "version": number,
            "scan": card.scan_id,
            "author": card.scan.plan_version.author,
            "created_at": card.scan.plan_version.created_at,
            "streams": len(card.content["by_stream"]),
            "precision": card.content["figures"]["events"]["precision"],
            "recall": card.content["figures"]["events"]["recall"],
            "months": card.content["by_month"],
        }
        for number, card in sorted(widest.items())
    ]
