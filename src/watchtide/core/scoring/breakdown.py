"""A scorecard's counts cut finer, and what its levels promised beside what was seen."""

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from functools import cache
from typing import Any

import numpy as np
from scipy.stats import chi2

from watchtide.core.scoring import spans
from watchtide.core.scoring.card import Scorecard
from watchtide.core.scoring.curve import Curve
from watchtide.core.scoring.outcomes import Outcome
from watchtide.core.scoring.rows import Coverage, Label
from watchtide.core.series import WEEK_S, Floats

Names = Callable[[Outcome], Iterable[str]]


def cut(
    card: Scorecard, of_finding: Names, of_label: Callable[[int], Iterable[str]]
) -> dict[str, dict[str, Any]]:
    """Counts, ratios with Wilson's intervals, and the median delay in seconds, by group and in the order of names.

    of_finding, of_label : the groups of an outcome and of a label row. An incident counts once in every group of its
    own; it is found there when a finding of that group met it.
    """
    findings: dict[str, list[Outcome]] = {}
    for o in card.outcomes:
        for name in of_finding(o):
            findings.setdefault(name, []).append(o)
    incidents: dict[str, list[int]] = {}
    for row in (*card.found, *card.missed):
        for name in of_label(row):
            incidents.setdefault(name, []).append(row)
    out = {}
    for name in sorted({*findings, *incidents}):
        own, rows = findings.get(name, []), incidents.get(name, [])
        met = {row for o in own for row in o.incidents}
        hit = [row for row in rows if row in met]
        late = [card.delays[row] for row in hit if row in card.delays]
        c = spans.count(
            sum(o.state == "true" for o in own),
            sum(o.state == "false" for o in own),
            len(hit),
            len(rows) - len(hit),
        )
        out[name] = {
            **vars(c),
            "unjudged": sum(o.state == "unjudged" for o in own),
            "delay_s": float(np.median(late)) if late else None,
        }
    return out


def by_stream(card: Scorecard, labels: Sequence[Label], step_ns: int | None = None) -> dict[str, Any]:
    """`cut` by stream; every stream that was scored has a row, with its false findings a week of observed time."""
    streams = list(card.observed.spans)
    covered = Coverage(labels).covered(streams)
    rows = cut(card, lambda o: (o.finding.series,), lambda row: covered.get(row, ()))
    false: dict[str, int] = {}
    for o in card.outcomes:
        if o.state == "false" and card.observed.touches(o.finding):
            false[o.finding.series] = false.get(o.finding.series, 0) + 1
    blank = {**vars(spans.count(0, 0, 0, 0)), "unjudged": 0, "delay_s": None}
    out = {}
    for series in sorted({*streams, *rows}):
        weeks = card.observed.seconds_of(series, step_ns) / WEEK_S
        out[series] = {
            **rows.get(series, blank),
            "weeks": weeks,
            "false_per_week": false.get(series, 0) / weeks if weeks > 0 else None,
        }
    return out


def by_family(
    card: Scorecard, labels: Sequence[Label], family_of: Callable[[str], str]
) -> dict[str, dict[str, Any]]:
    """`cut` by family of streams: an incident over several streams of one family counts once there."""
    # A thousand streams have a hundred thousand findings: each is asked for its family once.
    family_of = cache(family_of)
    covered = Coverage(labels).covered(list(card.observed.spans))
    return cut(
        card,
        lambda o: (family_of(o.finding.series),),
        lambda row: {family_of(s) for s in covered.get(row, ())},
    )


def by_cause(card: Scorecard, labels: Sequence[Label]) -> dict[str, dict[str, Any]]:
    """`cut` by the cause noted with the incidents; findings that met none have no cause and are in no row."""
    return cut(
        card,
        lambda o: {labels[row].cause for row in o.incidents},
        lambda row: (labels[row].cause,),
    )


def by_period(
    card: Scorecard, labels: Sequence[Label], period_of: Callable[[int], str]
) -> dict[str, dict[str, Any]]:
    """`cut` by the period a finding or an incident begins in; an incident is found in its own period or not at all."""
    rows = cut(card, lambda o: (period_of(o.finding.start),), lambda row: (period_of(labels[row].start),))
    found = set(card.found)
    for name, counts in rows.items():
        # A finding of the period after may have met it: recall is of incidents, whenever they were found.
        own = [row for row in (*card.found, *card.missed) if period_of(labels[row].start) == name]
        hit = sum(row in found for row in own)
        c = spans.count(counts["tp_findings"], counts["fp_findings"], hit, len(own) - hit)
        counts |= vars(c)
    return rows


@dataclass(frozen=True)
class Promise:
    """What one stream's tails promise: false findings a week at its level in force, and at the levels of the curve."""

    series: str
    per_week: float
    at_levels: Floats | None


def calibration(
    card: Scorecard, promises: Sequence[Promise], lines: Curve | None, step_ns: int | None = None
) -> dict[str, Any]:
    """Promised beside seen false findings a week, over the streams that promise anything and their observed time.

    Shifts are promised nothing and not counted. seen_ci : exact 95 % Poisson interval (Garwood, 1936) of the rate.
    lines : the curve of the streams that promise at every level, and of no others; None where there are none.
    levels : both a stream-week at the levels of that curve.
    """
    weeks = {p.series: card.observed.seconds_of(p.series, step_ns) / WEEK_S for p in promises}
    total = sum(weeks.values())
    if total <= 0:
        return {"promised": None, "seen": None, "seen_ci": None, "false": 0, "weeks": 0.0, "levels": None}
    seen = _false_seen(card, lambda o: o.finding.kind != "shift" and o.finding.series in weeks)
    low, high = poisson_interval(seen)
    told: dict[str, Any] = {
        "promised": sum(p.per_week * weeks[p.series] for p in promises) / total,
        "seen": seen / total,
        "seen_ci": [low / total, high / total],
        "false": seen,
        "weeks": total,
        "levels": None,
    }
    full = {p.series: p.at_levels for p in promises if p.at_levels is not None}
    if lines is not None and full and lines.stream_weeks > 0:
        own = sum(weeks[series] for series in full)
        shifts = _false_seen(card, lambda o: o.finding.kind == "shift" and o.finding.series in full)
        told["levels"] = {
            "promised": sum(rates * weeks[series] for series, rates in full.items()) / own,
            "seen": lines.false_per_week - shifts / lines.stream_weeks,
            "streams": len(full),
        }
    return told


def poisson_interval(count: int) -> tuple[float, float]:
    """Exact 95 % interval of a Poisson mean of which `count` was seen. Garwood (1936)."""
    low = float(chi2.ppf(0.025, 2 * count)) / 2 if count else 0.0
    return low, float(chi2.ppf(0.975, 2 * count + 2)) / 2


def _false_seen(card: Scorecard, belongs: Callable[[Outcome], bool]) -> int:
    return sum(o.state == "false" and belongs(o) and card.observed.touches(o.finding) for o in card.outcomes)


def delays(card: Scorecard) -> list[tuple[float, int]]:
    """(seconds, label row) of every found incident that has a first sign, the quickest first."""
    return sorted((seconds, row) for row, seconds in card.delays.items())
