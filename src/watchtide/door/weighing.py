"""Levels and scans weighed against labels, and what to judge next: what `threshold`, `compare` and `sample` give."""

import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any, Literal

import numpy as np
import pyarrow as pa

from watchtide.core.scoring import choice, sampling
from watchtide.core.scoring import compare as comparing
from watchtide.core.scoring.card import score as score_card
from watchtide.core.scoring.curve import Scored
from watchtide.core.scoring.outcomes import Setting, default_span
from watchtide.core.scoring.rows import Finding, Label, Points
from watchtide.core.series.cadence import step_of
from watchtide.door.asking import found_of
from watchtide.door.errors import InputError
from watchtide.door.found import Scan
from watchtide.door.stated import labels_of, plan_of
from watchtide.door.tables import MOMENT, Table, source_of
from watchtide.engine.many.together import family_of
from watchtide.engine.prepare import training
from watchtide.plan import Plan, durations
from watchtide.tables import clock, results
from watchtide.tables.labels import COLUMNS


@dataclass(frozen=True)
class Threshold:
    """The best level under a constraint. figures : all of it, as `watchtide threshold` writes it: apparent and cross-validated figures,
    those of a locked span, and the whole curve."""

    figures: dict[str, Any]

    @property
    def level(self) -> float:
        """In sigmas; the nearest where none meets the constraint."""
        return float(self.figures["level"])

    @property
    def is_met(self) -> bool:
        """Whether a level meets the constraint."""
        return bool(self.figures["is_met"])

    def __str__(self) -> str:
        if not self.is_met:
            return f"no level meets the constraint; the nearest is {self.level:g} sigmas"
        return f"{self.level:g} sigmas"

    def _repr_html_(self) -> str:
        return f"<p>{self}</p>"


def threshold(
    points: Any,
    labels: Any = None,
    *,
    by: Literal["events", "points"] = "events",
    plan: Plan | Mapping[str, Any] | str | Path | None = None,
    min_recall: float | None = None,
    max_false_per_week: float | None = None,
    max_gap: float | None = None,
    cost_miss: float | None = None,
    cost_false: float | None = None,
    locked: tuple[str, str] | None = None,
    tolerance: str = "0s",
    tz: str = "UTC",
) -> Threshold:
    """The best level under one constraint, by the rules of `watchtide threshold`.

    points : a `Scan`, or a table or file of its points; labels : a table or file. by : count findings or samples. plan : whose grouping and side
    hold; of a `Scan` its own. One of min_recall, max_false_per_week, max_gap (of sensitivity and specificity, by points), or both costs.
    locked : first and last moment of a span that takes no part in the choice. Raises InputError.

    Examples
    --------
    >>> import watchtide as wt
    >>> hours = [f"2026-06-{1 + i // 24:02}T{i % 24:02}:00:00Z" for i in range(24 * 28)]
    >>> values = [10 + (i % 24) / 4 + (i * 7919 % 13) / 20 for i in range(24 * 28)]
    >>> values[400] += 9
    >>> found = wt.scan({"time": hours, "value": values})
    >>> chosen = wt.threshold(found, {"start": [hours[400]], "verdict": ["incident"]}, min_recall=1.0)
    >>> chosen.is_met, chosen.figures["apparent"]["recall"]
    (True, 1.0)
    """
    constraint = constraint_of(
        {
            "min_recall": min_recall,
            "max_false_per_week": max_false_per_week,
            "max_gap": max_gap,
            "cost_miss": cost_miss,
            "cost_false": cost_false,
        }
    )
    if labels is None:
        raise InputError("labels", "there are none", "give the labels to compare levels by")
    chosen = points.plan if plan is None and isinstance(points, Scan) else plan_of(plan)
    # A scan's points as a file has them, so that either way gives the same level.
    streams = results.read_scored(*source_of(points.points if isinstance(points, Scan) else points, "points"))
    if not streams:
        raise InputError("points", "hold no sample", "give the points that a scan wrote")
    span = None
    if locked is not None:
        a, b = (clock.parse_one(x, tz) for x in locked)
        span = (a, b)
    return best_level(streams, labels_of(labels, tz), Terms(constraint, by, chosen, span, tolerance))


def constraint_of(stated: Mapping[str, float | None]) -> choice.Constraint:
    """The one constraint that is stated. Raises InputError."""
    try:
        return choice.Constraint(**stated)
    except ValueError as error:
        ways = "min_recall, max_false_per_week, max_gap, or cost_miss with cost_false"
        raise InputError("constraint", str(error), f"state one of {ways}") from error


@dataclass(frozen=True)
class Terms:
    """What a level is chosen by. by : events or points; plan : whose grouping and side apply; locked : a closed span in ns that takes
    no part; tolerance : a duration, as stated."""

    constraint: choice.Constraint
    by: str
    plan: Plan
    locked: tuple[int, int] | None
    tolerance: str


def best_level(streams: Sequence[Scored], known: Sequence[Label], terms: Terms) -> Threshold:
    """The best level of these streams. Raises InputError."""
    step = min((step_of(s.times) for s in streams if len(s.times) > 1), default=None)
    try:
        best = choice.best_level(
            streams,
            known,
            terms.constraint,
            by=terms.by,
            group=training.group_of(terms.plan, step or 1),
            side=terms.plan.flag.side,
            setting=Setting(durations.parse_ns(terms.tolerance, step_ns=step), step),
            locked=terms.locked,
        )
    except ValueError as error:
        message, _, remedy = str(error).partition("; ")
        raise InputError("constraint", message, remedy or "state another") from error
    return Threshold(_plain(best))


def _plain(figures: dict[str, Any]) -> dict[str, Any]:
    """Figures as a JSON file has them."""
    plain: dict[str, Any] = json.loads(json.dumps(figures, allow_nan=False))
    return plain


@dataclass(frozen=True)
class Comparison:
    """Two scans against the same labels. figures : as `watchtide compare` writes them."""

    figures: dict[str, Any]

    def __str__(self) -> str:
        return "; ".join(self.figures[name]["words"] for name in ("precision", "recall"))

    def _repr_html_(self) -> str:
        from html import escape

        return "".join(f"<p>{escape(self.figures[name]['words'])}</p>" for name in ("precision", "recall"))


def compare(
    one: Any,
    other: Any,
    labels: Any,
    *,
    points: tuple[Any, Any] | None = None,
    block: str = "7d",
    tolerance: str = "0s",
    tz: str = "UTC",
) -> Comparison:
    """Precision and recall of two scans and their differences, with paired intervals: what `watchtide compare` gives.

    one, other : each a `Scan`, or a table or file of findings; labels : a table or file; points : of each, for figures by sample, which a `Scan`
    brings along. block : length of the blocks of time drawn together. Raises InputError, TableError.
    """
    pairs = zip((one, other), points or (None, None), strict=True)
    taken = [found_of(found, judged) for found, judged in pairs]
    return compared(
        [f.findings for f in taken], [f.points for f in taken], labels_of(labels, tz), block, tolerance
    )


def compared(
    found: Sequence[Sequence[Finding]],
    judged: Sequence[Mapping[str, Points] | None],
    known: Sequence[Label],
    block: str,
    tolerance: str,
) -> Comparison:
    """Two scans compared over the span of both. Raises InputError."""
    spans = [default_span(f, known, p) for f, p in zip(found, judged, strict=True)]
    whole = [s for s in spans if s is not None]
    span = (min(a for a, _ in whole), max(b for _, b in whole)) if whole else None
    steps = [
        int(np.median(np.diff(p.times))) for one in judged for p in (one or {}).values() if len(p.times) > 1
    ]
    step = min(steps, default=None)
    lengths = {}
    for place, text in (("tolerance", tolerance), ("block", block)):
        try:
            lengths[place] = durations.parse_ns(text, step_ns=step if place == "tolerance" else None)
        except ValueError as error:
            raise InputError(place, str(error), "write for example 7d") from error
    setting = Setting(lengths["tolerance"], step, span=span)
    cards = [score_card(f, known, p, setting) for f, p in zip(found, judged, strict=True)]
    return Comparison(_plain(comparing.paired(cards[0], cards[1], known, block_ns=int(lengths["block"]))))


def sample(
    findings: Any,
    n: int = 50,
    *,
    points: Any = None,
    spans: int = 0,
    length: str = "6h",
    judged: Any = None,
    seed: int = 1,
) -> Table:
    """An unbiased sample of findings, and of spans where nothing was flagged, to judge: labels with the chance of each, as `watchtide sample`
    draws them. Replace the verdict `unsure`, and score with them.

    findings : a `Scan`, or a table or file of findings. points : of the same scan, which spans need; a `Scan` brings them. length : of a
    span; judged : labels of an earlier draw, none of which is drawn again, and which draw more where verdicts differ. Raises InputError.
    """
    if n < 1:
        raise InputError("n", f"{n} findings", "draw 1 or more")
    taken = found_of(findings, points)
    if spans and taken.points is None:
        raise InputError("points", "there are none", "give them: they state what was looked at")
    rows = drawn(taken.findings, taken.points, labels_of(judged, "UTC"), Draw(n, spans, length, seed))
    fields: dict[str, pa.DataType] = dict.fromkeys(COLUMNS, pa.string())
    fields |= {"start": MOMENT, "end": MOMENT, "probability": pa.float64()}
    columns = {name: pa.array([getattr(r, name) for r in rows], kind) for name, kind in fields.items()}
    return Table(pa.table(columns))


@dataclass(frozen=True)
class Draw:
    """What is drawn: n findings, and spans of a length where nothing was flagged; the same seed draws the same."""

    n: int
    spans: int
    length: str
    seed: int


def drawn(
    found: Sequence[Finding], points: Mapping[str, Points] | None, known: Sequence[Label], draw: Draw
) -> list[Label]:
    """What is to be judged, as labels. known : of an earlier draw. Raises InputError."""
    strata = sampling.strata_of(found, [family_of(f.series) for f in found])
    before = {(x.series, x.start, x.end) for x in known}
    left = [i for i, f in enumerate(found) if (f.series, f.start, f.end) not in before]
    rows: list[Label] = []
    if left:
        spread = _spread_by_stratum(known) if known else None
        got = sampling.draw([strata[i] for i in left], draw.n, seed=draw.seed, spread=spread)
        for index, stratum, chance in zip(got.index, got.stratum, got.probability, strict=True):
            f = found[left[int(index)]]
            own = Label(f.start, f.end, f.series, "unsure", f.kind, origin="sampled", stratum=stratum)
            rows.append(replace(own, probability=float(chance)))
    if draw.spans:
        try:
            length_ns = durations.parse_ns(draw.length)
        except ValueError as error:
            raise InputError("length", str(error), "write for example 6h") from error
        times = [
            (key, int(p.times[0]), int(p.times[-1])) for key, p in (points or {}).items() if len(p.times)
        ]
        rows += sampling.unflagged_spans(times, found, length_ns, draw.spans, seed=draw.seed)
    return rows


def _spread_by_stratum(known: Sequence[Label]) -> dict[str, float]:
    """Standard deviation of the verdicts given so far, by stratum."""
    out = {}
    for name in {x.stratum for x in known if x.origin == "sampled"}:
        verdicts = [x.verdict == "incident" for x in known if x.stratum == name and x.verdict != "unsure"]
        # With few verdicts the deviation is drawn to that of an even chance.
        share = (sum(verdicts) + 1) / (len(verdicts) + 2)
        out[name] = float(np.sqrt(share * (1 - share)))
    return out
