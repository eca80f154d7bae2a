"""Plans, scans and findings: what may be done, and what the screens read."""

import base64
import hashlib
import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from functools import lru_cache
from typing import Any, Protocol

import numpy as np
from django.conf import settings
from django.db import transaction

from watchtide import __version__
from watchtide.core.judge import flagging
from watchtide.core.scoring import rows as core_rows
from watchtide.core.scoring.curve import LEVELS, Curve, Scored, curve
from watchtide.core.scoring.outcomes import Setting
from watchtide.core.series import SECOND_NS, at_stamps
from watchtide.core.series.cadence import step_of
from watchtide.engine.keep import cache
from watchtide.engine.many import families, together
from watchtide.engine.prepare import preparing, training
from watchtide.engine.scan import by_unit, stages
from watchtide.plan import Plan as PlanText
from watchtide.plan import dump, durations, load
from watchtide.server import moments, storage
from watchtide.server.jobs import services as jobs
from watchtide.server.logbook import services as logbook
from watchtide.server.people.models import Person
from watchtide.server.problems import Problem
from watchtide.server.scans import standing
from watchtide.server.scans.models import Finding, Plan, PlanVersion, Scan, ScanStream, Standing
from watchtide.server.streams import calendars, store
from watchtide.server.streams.models import Calendar, Stream

RIBBON_BINS = 400
STANDARD = "harbour watch"
# Ends of a level that may be infinite, which JSON cannot hold.
ENDS = ("above", "below", "odd")
# The fleet's blocks as kept: days since 1970, and how likely a clean day is to be as strong.
BLOCK = np.dtype([("number", "<i4"), ("p", "<f4")])
BLOCK_NS = 24 * 3_600 * SECOND_NS


@lru_cache(maxsize=256)
def plan_of(text: str) -> PlanText:
    """The plan of a version's text; reading it takes longer than flagging a stream by it."""
    return load(text)


@transaction.atomic
def plan_version(name: str, plan: PlanText, author: str) -> PlanVersion:
    """The version of this plan with this text, made where it is new. Refused where it names a calendar not kept here."""
    _calendars(plan)
    owner, _ = Plan.objects.get_or_create(name=name)
    Plan.objects.select_for_update().get(pk=owner.pk)
    text = dump(plan)
    digest = hashlib.sha256(text.encode()).hexdigest()
    known = PlanVersion.objects.filter(plan=owner, digest=digest).first()
    if known is not None:
        return known
    last = PlanVersion.objects.filter(plan=owner).order_by("-number").first()
    return PlanVersion.objects.create(
        plan=owner, number=(last.number if last else 0) + 1, text=text, digest=digest, author=author
    )


@transaction.atomic
def start(
    version: PlanVersion,
    stream_ids: Sequence[int],
    *,
    user: Any = None,
    is_standing: bool = False,
    lane: str | None = None,
    mode: str = "fit",
) -> Scan:
    """Put down a scan and the job that runs it. mode : fit, or replay (as if live; never the standing one)."""
    if not stream_ids:
        raise Problem("no stream to scan", place="streams", remedy="choose at least one stream")
    plan = plan_of(version.text)
    if mode == "replay":
        refuse_as_if_live(plan)
    # Refused before anything is queued.
    for stream in Stream.objects.filter(pk__in=stream_ids) if plan.baseline.covariates else ():
        _covariates(stream, plan)
    scan = Scan.objects.create(
        plan_version=version,
        is_standing=is_standing,
        mode=mode,
        code_version=__version__,
        created_by=user.get_username() if user is not None and user.is_authenticated else "",
    )
    what = "Scan" if is_standing else "Replay" if mode == "replay" else "Trial"
    count = f"{len(stream_ids)} streams" if len(stream_ids) > 1 else "1 stream"
    scan.job = jobs.enqueue(
        "scan",
        f"{what} of {count}, {version.plan.name} v{version.number}",
        {"scan": scan.pk, "streams": list(stream_ids)},
        user=user,
        lane=lane or ("interactive" if len(stream_ids) <= 3 else "bulk"),
    )
    scan.save(update_fields=["job"])
    return scan


def refuse_as_if_live(plan: PlanText) -> None:
    """Raise Problem for a plan that judges units: those are judged by a fit."""
    if by_unit.is_wanted(plan):
        title, remedy = by_unit.AS_IF_LIVE
        raise Problem(title, place="prepare.unit", remedy=remedy)


def start_standing(stream_ids: Sequence[int], *, user: Any = None) -> Scan:
    """Scan streams by their standing plan; those that have none get the standard one."""
    held = list(Standing.objects.filter(stream_id__in=stream_ids).select_related("plan_version"))
    version = held[0].plan_version if held else plan_version(STANDARD, PlanText(), "")
    return start(version, stream_ids, user=user, is_standing=True)


@transaction.atomic
def make_standing(scan: Scan, stream_ids: Sequence[int] | None = None) -> int:
    """Let a finished scan's plan stand for these of its streams, or for all of them, in place of what stood before."""
    if scan.finished_at is None:
        raise Problem("the trial has not finished", remedy="wait for it, then adopt it", code=409)
    if scan.mode != "fit":
        raise Problem(
            "a replay shows what would have been said; it cannot stand for a stream",
            remedy="adopt the trial of the same plan",
            code=409,
        )
    mine = set(ScanStream.objects.filter(scan=scan).values_list("stream_id", flat=True))
    stream_ids = sorted(mine) if stream_ids is None else stream_ids
    outside = [i for i in stream_ids if i not in mine]
    if outside:
        raise Problem(
            "the scan does not cover all of these streams",
            place="streams",
            remedy="run it over them first",
            code=409,
        )
    for stream_id in stream_ids:
        Standing.objects.update_or_create(
            stream_id=stream_id, defaults={"plan_version": scan.plan_version, "scan": scan}
        )
    Scan.objects.filter(pk=scan.pk).update(is_standing=True)
    jobs.tell("scan", scan.pk)
    return len(stream_ids)


def stream_input(stream: Stream, plan: PlanText, times: Any, values: Any) -> tuple[stages.Input, str]:
    """What a scan takes of a stream with all its plan names beside it, and the digest of the whole."""
    parts = [store.digest(times, values)]
    amounts = None
    if stream.denominator_id is not None:
        own, below = store.read(stream.denominator_id)
        amounts = at_stamps(own, below, times)
        parts.append(store.digest(times, amounts))
    # What a covariate says after the last bin is of no use here, and must not make another input of the same samples.
    until = int(times[-1]) + step_of(times) if len(times) else 0
    beside = tuple(
        preparing.Beside(c.metric, *_before(until, *store.read(c.pk))) for c in _covariates(stream, plan)
    )
    parts += [store.digest(b.times, b.values) for b in beside]
    days: tuple[preparing.KnownDay, ...] = ()
    if len(times) and (kept_here := _calendars(plan)):
        days = preparing.known_days(
            plan, int(times[0]), int(times[-1]), lambda name, a, b: calendars.days_of(kept_here[name], a, b)
        )
    parts += [f"{d.name} {d.start_ns} {d.stop_ns}" for d in days]
    whole = parts[0] if len(parts) == 1 else hashlib.sha256(" ".join(parts).encode()).hexdigest()
    return stages.Input(stream.key, times, values, stream.zone, amounts, beside, days), whole


def _before(until: int, times: Any, values: Any) -> tuple[Any, Any]:
    stop = int(np.searchsorted(times, until))
    return times[:stop], values[:stop]


def as_scanned(stream: Stream, plan: PlanText, samples_digest: str, until_ns: int) -> stages.Input | None:
    """What a scan took of a stream, made again from the samples held now; None where those are others.

    until_ns : end of the last bin it had. Samples that have only come since are left out.
    """
    times, values = store.read(stream.pk)
    for own in ((times, values), _before(until_ns, times, values)):
        given, digest = stream_input(stream, plan, *own)
        if digest == samples_digest:
            return given
    return None


def _covariates(stream: Stream, plan: PlanText) -> list[Stream]:
    """The covariates that the plan names, by metric. Problem where one is not tied to the stream."""
    if not plan.baseline.covariates:
        return []
    tied = {c.metric: c for c in stream.covariates.all()}
    for name in plan.baseline.covariates:
        if name not in tied:
            raise Problem(
                f"{stream.metric} {stream.title} has no covariate {name}",
                place="baseline.covariates",
                remedy="tie it to the stream under Intake, or leave it out",
            )
    return [tied[name] for name in plan.baseline.covariates]


def _calendars(plan: PlanText) -> dict[str, Calendar]:
    """The calendars that the plan names. Problem where one is not kept here."""
    named = {c.file for c in plan.baseline.calendars}
    held = {c.name: c for c in Calendar.objects.filter(name__in=named)} if named else {}
    if named - set(held):
        raise Problem(
            f"no calendar is called {', '.join(sorted(named - set(held)))}",
            place="baseline.calendars",
            remedy="hand it in under Intake, or take one of: "
            + (
                ", ".join(Calendar.objects.order_by("name").values_list("name", flat=True))
                or "none is kept yet"
            ),
        )
    return held


def input_of(stream: Stream, plan: PlanText) -> tuple[stages.Input, str]:
    """What a scan takes of a stream with all its plan names beside it, as it is now, and the digest of the whole."""
    return stream_input(stream, plan, *store.read(stream.pk))


def scan_stream(scan: int, stream: int) -> ScanStream:
    """A stream's row of a scan, with the plan it was scanned by. Raises DoesNotExist."""
    rows = ScanStream.objects.select_related("scan__plan_version__plan", "stream")
    return rows.get(scan_id=scan, stream_id=stream)


def rescan(row: ScanStream) -> stages.Scanned:
    """A stream's result again: its baseline stage, flagged by its plan, with what family and fleet had to say."""
    plan = plan_of(row.scan.plan_version.text)
    scanned = flagged(base_of(row), plan, row.level)
    if "fleet" not in row.resolved:
        return scanned
    known = {
        (f.start_ns, f.end_ns, f.kind): f.raised_ns
        for f in Finding.objects.filter(scan_id=row.scan_id, stream_id=row.stream_id)
    }
    kept_ones = [
        replace(f, raised=known[at]) for f in scanned.findings if (at := (f.start, f.end, f.kind)) in known
    ]
    return together.only(scanned, kept_ones, row.resolved["fleet"])


def flagged(base: stages.Baselined, plan: PlanText, settled: dict[str, Any]) -> stages.Scanned:
    """A fitted stream flagged by its plan, at the level it has settled on where that is known."""
    level = {k: math.inf if v is None and k in ENDS else v for k, v in settled.items()}
    return stages.flag(base, plan, level=flagging.Level(**level) if level else None)


def level_kept(level: flagging.Level) -> dict[str, Any]:
    """A level as JSON can hold it; `flagged` takes it back."""
    return {k: _finite(v) if k in ENDS else v for k, v in vars(level).items()}


def promises_kept(promised: tuple[Any, Any]) -> bytes:
    """What a stream's tails promise at the 201 levels, as kept; empty where they were not read."""
    if all(p is None for p in promised):
        return b""
    rows = [np.full(len(LEVELS), np.nan) if p is None else p for p in promised]
    return np.stack(rows).astype("<f4").tobytes()


def promises_of(row: ScanStream) -> tuple[Any, Any]:
    """(share of clean samples, findings a week) at the 201 levels; None for what there was too little history for."""
    if not row.promised:
        return None, None
    samples, findings = np.frombuffer(bytes(row.promised), "<f4").reshape(2, -1).astype(np.float64)
    return (None if np.isnan(samples).any() else samples), (None if np.isnan(findings).any() else findings)


def blocks_of(number: Any, p: Any) -> bytes:
    """The fleet's p-values (k,) of the days (k,) since 1970, as kept."""
    rows = np.empty(len(number), BLOCK)
    rows["number"], rows["p"] = number, p
    return rows.tobytes()


def given_again(row: ScanStream, plan: PlanText) -> stages.Input:
    """What a scan took of a stream. Problem (409) where its samples are others now."""
    step = durations.parse_ns(row.resolved["prepare"]["every"])
    given = as_scanned(row.stream, plan, row.samples_digest, (row.ribbon_to_ns or 0) + step)
    if given is None:
        name = f"{row.stream.metric} {row.stream.title}"
        raise Problem(f"the samples of {name} have changed since this scan", remedy="scan again", code=409)
    return given


def _left_out_again(row: ScanStream, plan: PlanText) -> list[core_rows.Label]:
    """Spans of any of the verdicts that were left out, under one that is."""
    verdict = plan.baseline.leave_out[0] if plan.baseline.leave_out else "incident"
    return [core_rows.Label(a, b, row.stream.key, verdict) for a, b in row.left_out]


def _in_its_family(row: ScanStream, plan: PlanText) -> stages.Input:
    """A stream with the network that its family trained in its scan, trained again."""
    own = together.family_of(row.stream.key)
    mates = [r for r in row.scan.streams.select_related("stream") if together.family_of(r.stream.key) == own]
    labels = [label for r in mates for label in _left_out_again(r, plan)]
    streams = families.with_shared([given_again(r, plan) for r in mates], plan, labels)
    return next(s for s in streams if s.key == row.stream.key)


def base_of(row: ScanStream) -> stages.Baselined:
    """A stream's baseline stage, as kept; made anew where the cache has lost it.

    Refused with 409 when its samples have changed since, because it would be another result; later ones do not matter.
    """
    base = cache.load(storage.stages(), row.stage_key)
    if base is None:
        plan = plan_of(row.scan.plan_version.text)
        given = given_again(row, plan)
        if families.is_wanted(plan) and row.scan.mode == "fit":
            given = _in_its_family(row, plan)
        base = stages.based(given, plan, _left_out_again(row, plan), row.scan.mode)
        cache.keep(storage.stages(), row.stage_key, base, most_bytes=settings.STAGE_CACHE_BYTES)
    # What its family lent to a replay was known only once all of them were through.
    return together.with_lent(base, (row.resolved.get("replay") or {}).get("lent") or [])


Recorded = tuple[ScanStream, list[Finding]]


@dataclass(frozen=True)
class Origin:
    """What a stream's rows are of: scan and stream by number, the digest of the samples, the spans that did not train, and the key that
    its stage is kept under."""

    scan_id: int
    stream_id: int
    samples_digest: str
    left_out: list[tuple[int, int]]
    stage_key: str


def record(origin: Origin, scanned: stages.Scanned) -> Recorded:
    """Rows of one stream's result."""
    base = scanned.base
    seen = np.flatnonzero(~np.isnan(base.series.values))
    ribbon, a, b = ribbon_of(base.series.times, scanned.z)
    row = ScanStream(
        **vars(origin),
        resolved=scanned.resolved,
        notes=list(base.notes),
        level_above=_finite(scanned.level.above),
        level_below=_finite(scanned.level.below),
        level=level_kept(scanned.level),
        promised=promises_kept(scanned.promised),
        samples=len(base.series),
        last_value=_finite(base.series.values[seen[-1]]) if len(seen) else None,
        last_ns=int(base.series.times[seen[-1]]) if len(seen) else None,
        strongest=max((f.score for f in scanned.findings if not math.isnan(f.score)), default=0.0),
        ribbon=ribbon,
        ribbon_from_ns=a,
        ribbon_to_ns=b,
    )
    found = [
        Finding(
            scan_id=origin.scan_id, stream_id=origin.stream_id, start_ns=f.start, end_ns=f.end, kind=f.kind, direction=f.direction,
            score=_finite(f.score), peak_ns=f.peak_time, peak_value=_finite(f.peak_value), expected=_finite(f.expected),
            points=f.points, window=f.window, size=_finite(f.size), confidence=_finite(f.confidence),
            raised_ns=f.raised,
        )
        for f in scanned.findings
    ]  # fmt: skip
    return row, found


def taken_now() -> dict[int, list[Finding]]:
    """Findings of the standing scans that somebody has taken, by stream."""
    taken: dict[int, list[Finding]] = {}
    current = Standing.objects.filter(scan__isnull=False).values_list("scan_id", flat=True)
    for old in Finding.objects.filter(scan_id__in=set(current)).exclude(taken_by=""):
        taken.setdefault(old.stream_id, []).append(old)
    return taken


def carry_taken(found: Sequence[Finding], taken: dict[int, list[Finding]]) -> None:
    """Findings of a new standing scan stay with who took the ones they overlap on the same stream. taken : as `taken_now` has them."""
    for f in found:
        for old in taken.get(f.stream_id, ()):
            if f.start_ns <= old.end_ns and old.start_ns <= f.end_ns:
                f.taken_by = old.taken_by


def take(finding: Finding, name: str) -> None:
    """Let somebody look after a finding; an empty name lets go. Refused with 409 where another has it."""
    free = Finding.objects.filter(pk=finding.pk)
    if name:
        free = free.filter(taken_by__in=("", name))
    # One statement, so that of two at once only one gets it. MariaDB counts changed rows only: taking twice is fine.
    if not free.update(taken_by=name) and Finding.objects.get(pk=finding.pk).taken_by != name:
        other = Finding.objects.get(pk=finding.pk).taken_by
        raise Problem(
            f"{other} has taken it", place="finding", remedy=f"ask {other} to let go of it", code=409
        )
    jobs.tell("scan", finding.scan_id)


def ribbon_of(times: Any, z: Any) -> tuple[bytes, int | None, int | None]:
    """Strongest signed score in each of 400 equal bins of time, in tenths of a sigma; -128 where nothing is judged.

    times holds one row per step of the stream's grid, gaps too. A row fills all bins until the next one begins, so
    that a stream of days or months shows no gaps where it has none.
    """
    if len(times) == 0:
        return b"", None, None
    since = np.asarray(times, np.float64) - float(times[0])
    bins = np.minimum((since * (RIBBON_BINS / max(since[-1], 1.0))).astype(int), RIBBON_BINS - 1)
    strongest = np.zeros(RIBBON_BINS)
    np.maximum.at(strongest, bins, np.nan_to_num(np.abs(z)))
    sign = np.zeros(RIBBON_BINS)
    for side in (1, -1):
        own = np.zeros(RIBBON_BINS)
        np.maximum.at(own, bins, np.nan_to_num(side * z))
        sign[(own == strongest) & (own > 0)] = side
    judged = np.bincount(bins[~np.isnan(z)], minlength=RIBBON_BINS) > 0
    tenths = np.clip(np.round(strongest * 10), 0, 127) * sign
    begun = np.zeros(RIBBON_BINS, int)
    begun[bins] = bins
    held = np.where(judged, tenths, -128).astype(np.int8)[np.maximum.accumulate(begun)]
    return held.tobytes(), int(times[0]), int(times[-1])


def ribbon_text(ribbon: bytes) -> str:
    return base64.b64encode(bytes(ribbon)).decode()


def _finite(value: float | None) -> float | None:
    return float(value) if value is not None and math.isfinite(value) else None


def verdicts(findings: Sequence[Finding], key_of: dict[int, str]) -> dict[int, Any]:
    """The entry whose verdict each finding takes: one that covers its peak, else half of its span."""
    if not findings:
        return {}
    entries = standing.Entries((min(f.start_ns for f in findings), max(f.end_ns for f in findings)))
    by_stream: dict[int, list[Finding]] = {}
    for f in findings:
        by_stream.setdefault(f.stream_id, []).append(f)
    taken: dict[int, int] = {}
    for stream, own in by_stream.items():
        start, end = (np.array([getattr(f, n) for f in own], np.int64) for n in ("start_ns", "end_ns"))
        peak = np.array([f.start_ns if f.peak_ns is None else f.peak_ns for f in own], np.int64)
        pk, _ = entries.taken(key_of[stream], start, end, peak)
        taken |= {f.pk: int(n) for f, n in zip(own, pk, strict=True) if n}
    known = logbook.live().in_bulk(set(taken.values()))
    return {finding: known[n] for finding, n in taken.items() if n in known}


class Spanned(Protocol):
    """A finding of a scan, or one that a lookout announced."""

    stream: Any
    start_ns: Any
    end_ns: Any
    kind: Any


def entry_of(finding: Spanned, verdict: str, cause: str, note: str) -> dict[str, Any]:
    """What a verdict on a finding writes into the logbook, over the finding's own span."""
    return {
        "scope": finding.stream.key,
        "start_ns": finding.start_ns,
        "end_ns": finding.end_ns,
        "verdict": verdict,
        "kind": "step" if finding.kind == "shift" else "",
        "cause": cause,
        "note": note,
        "origin": "finding",
    }


def setting_of(scan: Scan) -> Setting:
    return Setting(step_ns=scan.step_ns or None, longest_season_ns=scan.longest_season_ns)


def findings_of(scan: Scan, key_of: dict[int, str]) -> list[core_rows.Finding]:
    """The findings of some streams of a scan, by their keys, as the scorer takes them: by stream, then start."""

    def number(value: float | None) -> float:
        return math.nan if value is None else value

    found = Finding.objects.filter(scan=scan, stream_id__in=key_of).order_by("stream_id", "start_ns", "pk")
    return [
        core_rows.Finding(
            key_of[f.stream_id], f.start_ns, f.end_ns, f.kind, f.direction, number(f.score), f.peak_ns,
            number(f.peak_value), number(f.expected), f.points, f.window, number(f.size), number(f.confidence), f.raised_ns,
        )
        for f in found
    ]  # fmt: skip


def curve_of(
    scan: Scan, scored: Sequence[Scored] | Mapping[str, Scored], shifts: Sequence[core_rows.Finding], labels: Sequence[core_rows.Label],
    setting: Setting, step_ns: int | None = None,
) -> Curve:  # fmt: skip
    """The operating curve over these streams of a scan. step_ns : of a single stream, else the scan's finest."""
    plan = plan_of(scan.plan_version.text)
    return curve(
        scored, labels, group=training.group_of(plan, step_ns or scan.step_ns), side=plan.flag.side, shifts=[f for f in shifts if f.kind == "shift"],
        setting=setting,
    )  # fmt: skip


def plain(values: Any) -> list[Any]:
    """An array as a list; what has no value is null."""
    return [None if isinstance(v, float) and math.isnan(v) else v for v in values.tolist()]


def curve_data(lines: Curve) -> dict[str, Any]:
    """A curve as plain lists; what has no value is null."""

    out: dict[str, Any] = {}
    for name, value in vars(lines).items():
        out[name] = plain(value) if isinstance(value, np.ndarray) else value
    return out


def looked(user: Any) -> None:
    Person.objects.update_or_create(user=user, defaults={"last_looked": moments.now()})
