"""What the workbench draws of one scanned stream: histogram, operating curve, fold, two forms, the edges of the band."""

import math
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from typing import Any

import numpy as np

from watchtide.core.expect import rivals
from watchtide.core.expect.frame import LONG_NS, MONDAY_NS, Period
from watchtide.core.explain import explaining
from watchtide.core.scoring import compare
from watchtide.core.scoring.card import score as score_card
from watchtide.core.scoring.rows import inside_any
from watchtide.core.series import SECOND_NS, Floats, Ints, Series, keys
from watchtide.core.series.coarser import By, Coarse, coarser
from watchtide.core.series.steps import YEAR_NS
from watchtide.engine.scan import forms, reduce, stages
from watchtide.engine.scan.based import Baselined
from watchtide.server import moments
from watchtide.server.logbook import services as logbook
from watchtide.server.logbook.models import Entry
from watchtide.server.problems import Problem
from watchtide.server.scans import services, sheets
from watchtide.server.scans.models import ScanStream
from watchtide.server.streams import store
from watchtide.server.streams.models import Stream
from watchtide.tables import clock

# Decimal places beyond which nothing is rounded.
MOST_PLACES = 12
WEEK_NS = 7 * 86_400 * SECOND_NS
# A season fold shows so many cycles, of so many slots each.
MOST_CYCLES, MOST_SLOTS = 26, 700
MOST_FOLD_NS = 2 * YEAR_NS
# Forms are laid side by side over so many samples at most, ending where the span ends.
MOST_FORM_SAMPLES = 40_000
# Levels whose values a chart of counts is given beside the one in force: those of the operating curve's ends, nearly.
EDGE_LEVELS = (2.0, 12.0)


def histogram(scanned: stages.Scanned, entries: Sequence[Entry]) -> dict[str, list[int]]:
    """Counts of scores in half-sigma bins from 0 to 12, the last one open: unlabelled beside incidents, training beside what
    came after."""
    size = np.abs(scanned.z)
    seen = ~np.isnan(size)
    spans = [(e.start_ns, e.end_ns) for e in entries if e.verdict == "incident"]
    incident = inside_any(scanned.base.series.times, spans)
    training = np.arange(len(size)) < scanned.base.train_stop
    bins = np.minimum((size[seen] * 2).astype(np.int64), 24)

    def counts(of: np.ndarray) -> list[int]:
        return [int(n) for n in np.bincount(bins[of[seen]], minlength=25)]

    return {
        "unlabelled": counts(~incident),
        "incident": counts(incident),
        "training": counts(training),
        "after": counts(~training),
    }


def stream_curve(row: ScanStream) -> dict[str, Any]:
    """One stream's curve, and its figures at the level in force."""
    scanned = services.rescan(row)
    setting = services.setting_of(row.scan)
    labels = [x for x in logbook.labels() if keys.covers(x.series, scanned.base.key)]
    quiet = sheets.Quieting()
    sheet, findings = quiet.sheet(sheets.of(scanned)), quiet.findings(scanned.findings)
    step = scanned.base.series.step_ns
    lines = services.curve_of(row.scan, [sheet.scored], findings, labels, setting, step)
    points = {sheet.key: sheet.points}
    figures = score_card(findings, labels, points, setting).figures
    return {
        "curve": services.curve_data(lines),
        "in_force": {
            "above": row.level_above,
            "below": row.level_below,
            "findings": len(scanned.findings),
            "odds": scanned.level.odds,
            "per_week": scanned.level.per_week,
            "events": figures["events"],
            "delay": figures["delay"],
            "false_per_week": figures["false_per_week"],
            "excluded": figures["excluded"],
        },
        "promised": promised(row),
        "logbook_version": logbook.version(),
    }


def against(row: ScanStream, other: ScanStream) -> dict[str, Any]:
    """Two scans of one stream over what both of them judged: figures, agreement, paired intervals."""
    one, two = services.rescan(row), services.rescan(other)
    span = compare.judged_by_all([[sheets.of(s).scored] for s in (one, two)])
    if span is None:
        raise Problem("the two judged no common span", remedy="compare scans that reach as far", code=409)
    labels = [x for x in logbook.labels() if keys.covers(x.series, one.base.key)]
    quiet = sheets.Quieting()
    cards, found = [], []
    for s, r in ((one, row), (two, other)):
        setting = replace(services.setting_of(r.scan), span=span)
        mine = [f for f in quiet.findings(s.findings) if f.start <= span[1] and f.end >= span[0]]
        points = {s.base.key: quiet.sheet(sheets.of(s)).points}
        cards.append(score_card(mine, labels, points, setting))
        found.append(mine)
    paired = compare.paired(cards[0], cards[1], labels, block_ns=WEEK_NS)
    both, only_one, only_other = compare.shared(found[0], found[1])

    def figures(card: Any, findings: Any) -> dict[str, Any]:
        return {
            "findings": len(findings),
            "events": card.figures["events"],
            "delay": card.figures["delay"],
            "false_per_week": card.figures["false_per_week"],
        }

    return {
        "span_from": moments.at(span[0]),
        "span_to": moments.at(span[1]),
        "one": figures(cards[0], found[0]),
        "other": figures(cards[1], found[1]),
        "shared": both,
        "one_only": only_one,
        "other_only": only_other,
        "precision": paired["precision"],
        "recall": paired["recall"],
    }


def promised(row: ScanStream) -> dict[str, Any]:
    """One in how many clean samples, and how many false findings a week, at each of the 201 levels: by the stream's tails.

    None for a figure that this stream has too little history for.
    """
    samples, findings = services.promises_of(row)
    return {
        "odds": None if samples is None else [float(f"{1 / r:.3g}") if r > 0 else None for r in samples],
        "per_week": None if findings is None else [float(f"{r:.3g}") for r in findings],
    }


def season_folds(row: ScanStream, hours: float, at_ns: int | None = None) -> dict[str, Any]:
    """Cycles of one season over one another up to the one that holds `at_ns` (the newest without it), and what was
    expected of that one."""
    base = services.base_of(row)
    step = base.series.step_ns
    period = round(hours * 3_600e9)
    if not 2 * step <= period <= MOST_FOLD_NS:
        raise Problem(
            f"a season of {hours:g} h cannot be folded here",
            place="hours",
            remedy="give one between two samples and two years",
        )
    is_local = rivals.is_calendar(Period(period, False))
    # A fold of many slots is drawn as no more than the eye can distinguish.
    slot = max(step, period // MOST_SLOTS)
    series = base.series
    offsets = series.offsets_ns if series.axis_ns is None else np.zeros_like(series.times)
    arguments = series.axis, offsets
    # Weeks begin on Monday, months and years with January 1970.
    origin = MONDAY_NS if period <= LONG_NS else 0
    numbers, seen = explaining.season_fold(*arguments, series.values, period, origin, slot, is_local)
    _, due = explaining.season_fold(*arguments, base.expected, period, origin, slot, is_local)
    last = len(numbers) - 1
    if at_ns is not None and len(numbers):
        place = int(np.clip(np.searchsorted(series.times, at_ns, side="right") - 1, 0, len(series) - 1))
        moment = int(series.axis[place]) + (int(offsets[place]) if is_local else 0)
        last = int(np.clip((moment - origin) // period - numbers[0], 0, last))
    some = slice(max(0, last + 1 - MOST_CYCLES), last + 1)
    starts = numbers[some] * period + origin
    clocks = series.axis + offsets if is_local else series.axis
    places = np.minimum(np.searchsorted(clocks, starts), len(series) - 1)
    return {
        "hours": hours,
        "step_s": slot / 1e9,
        "clock": "local" if is_local else "utc",
        "starts": moments.each(series.times[places] - clocks[places] + starts),
        "cycles": [_rounded(c) for c in seen[some]],
        "expected": _rounded(due[last]) if len(due) else [],
    }


def both_forms(row: ScanStream, begin_ns: int | None, end_ns: int | None, points: int) -> dict[str, Any]:
    """The stream decomposed with parts that add and with parts that multiply, over a span widened to hold its seasons."""
    base = services.base_of(row)
    series, step = base.series, base.series.step_ns
    lengths = sorted({round(p) for p, _ in base.found_seasons if abs(p - round(p)) < 1e-6 and p >= 2})
    if not lengths:
        raise Problem(
            "no season of whole samples was found",
            place="seasons",
            remedy="forms differ by how a season grows with the trend; without one both say the same",
            code=409,
        )
    last = len(series) if end_ns is None else int(np.searchsorted(series.times, end_ns, side="right"))
    first = 0 if begin_ns is None else int(np.searchsorted(series.times, begin_ns))
    shown = max(first, last - MOST_FORM_SAMPLES)
    # Six cycles or more, so that a season is distinguished from its trend.
    low = max(0, min(shown, last - 6 * lengths[-1]))
    part = series.part(low, last)
    fitting = [float(x) for x in lengths if 2 * x <= len(part)]
    if not fitting:
        raise Problem("two cycles of the season are needed", remedy="choose a longer span", code=409)
    both = forms.side_by_side(part, fitting, is_count=base.resolved["prepare"]["as"] == "count")
    shown_forms: dict[str, Any] = {}
    for form, got in both.forms.items():
        if isinstance(got, str):
            shown_forms[form] = {"why_not": got, "added": None}
            continue
        at = reduce.indices(got.remainder, None, np.empty(0, np.int64), points)
        at = at[at >= shown - low]
        shown_forms[form] = {
            "time": moments.each(part.times[at]),
            "trend": _rounded(got.trend[at]),
            "seasons": [_rounded(s[at]) for s in got.seasons],
            "remainder": _rounded(got.remainder[at]),
            "why_not": "",
            "added": both.added if form == "multiplicative" else None,
        }
    return {
        **shown_forms,
        "seasons": [x * step / 3.6e12 for x in fitting],
        "leftover": both.leftover,
        "taken": base.resolved["baseline"].get("form", "additive"),
        "held_out": base.resolved["facts"].get("losses") or {},
    }


def _rounded(values: Any) -> list[float | None]:
    return [None if math.isnan(v) else float(f"{v:.6g}") for v in values.tolist()]


def for_chart(values: np.ndarray) -> list[float | None]:
    """Numbers for JSON: null for what is missing or without end, seven digits for the rest (charts, not figures)."""
    return [float(f"{v:.7g}") if math.isfinite(v) else None for v in values.tolist()]


def column(values: np.ndarray, places: int | None = None) -> np.ndarray | list[float | None]:
    """The same in single precision, which has seven digits too and is written many times as fast, where its range is enough.

    places : decimal places it is rounded to, None for all it has.
    """
    if places is not None:
        values = np.round(values, places)
    with np.errstate(over="ignore"):
        single = np.ascontiguousarray(values, np.float32)
    return single if np.array_equal(np.isinf(single), np.isinf(values)) else for_chart(values)


Span = tuple[int | None, int | None]


def by_period(stream: Stream, by: By, span: Span, points: int) -> dict[str, Any]:
    """A stream as stored by longer periods, without a scan. Raises Problem where its samples are further apart."""
    times, values = store.read(stream.pk)
    nothing = np.full(len(times), np.nan)
    series = Series(times, values, stream.step_ns, clock.utc_offsets(times, stream.zone))
    return _coarse_body(_coarser(series, by, stream, nothing, nothing), span, points)


def scanned_by_period(
    row: ScanStream, scanned: stages.Scanned, by: By, span: Span, points: int
) -> dict[str, Any]:
    """A scanned stream by longer periods, with what was expected of each and its score furthest from 0; nothing is fitted
    anew. Without spreads: those of a sum do not follow from those of its samples."""
    series = scanned.base.series
    return _coarse_body(_coarser(series, by, row.stream, scanned.base.expected, scanned.z), span, points)


def _coarser(series: Series, by: By, stream: Stream, expected: Floats, z: Floats) -> Coarse:
    try:
        return coarser(series, by, is_sum=stream.is_additive, expected=expected, z=z)
    except ValueError as error:
        raise Problem(str(error), place="by", remedy="week or month, or leave it out") from error


def _coarse_body(got: Coarse, span: Span, points: int) -> dict[str, Any]:
    first, last = span
    low = 0 if first is None else max(int(np.searchsorted(got.times, first, side="right")) - 1, 0)
    high = len(got.times) if last is None else int(np.searchsorted(got.times, last, side="right"))
    part = slice(low, high)
    score: Floats = got.score[part]
    at: Ints = reduce.indices(got.values[part], score, np.empty(0, np.int64), points) + low
    return {
        "total": max(high - low, 0),
        "reduced": len(at) < high - low,
        "time": moments.each(got.times[at]),
        "value": column(got.values[at]),
        "expected": column(got.expected[at]),
        "score": column(got.score[at]),
        "share": column(got.share[at]),
    }


def band_at(scanned: stages.Scanned, times: Ints) -> dict[str, Floats]:
    """What was expected at these stamps, and the edges of the band at the level in force; NaN where a scan has no such stamp."""
    base = scanned.base
    place = np.minimum(np.searchsorted(base.series.times, times), max(len(base.series) - 1, 0))
    is_there = base.series.times[place] == times
    columns = {
        "expected": base.expected[place],
        "lower": base.values_at(-scanned.level.below, place),
        "upper": base.values_at(scanned.level.above, place),
    }
    return {name: np.where(is_there, column, np.nan) for name, column in columns.items()}


def places_of(spreads: Floats) -> int:
    """Decimal places with which a chart shows a thousandth of the usual spread: more only takes time on the way."""
    there = spreads[np.isfinite(spreads) & (spreads > 0)]
    return int(np.clip(3 - np.floor(np.log10(np.median(there) if there.size else 1.0)), 0, MOST_PLACES))


def edges(
    base: Baselined, at: np.ndarray, in_force: Sequence[float | None], places: int
) -> dict[str, Any] | None:
    """Values at which three levels are reached at these samples; None for a symmetrical law, whose spread says all.

    A counting law is skewed: a chart that drags the level interpolates between these.
    """
    if np.isnan(base.counted.event[at]).all():
        return None
    usual = next(
        (x for x in in_force if x is not None and EDGE_LEVELS[0] + 0.5 < x < EDGE_LEVELS[1] - 0.5), 5.0
    )
    levels = [EDGE_LEVELS[0], float(usual), EDGE_LEVELS[1]]

    def rows(sign: float) -> list[Any]:
        return [column(base.values_at(sign * x, at), places) for x in levels]

    # Somebody waits for it, and the kernels let go of the interpreter.
    with ThreadPoolExecutor(2) as pool:
        upper, lower = pool.map(rows, (1.0, -1.0))
    return {"levels": levels, "upper": upper, "lower": lower}
