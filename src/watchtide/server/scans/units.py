"""Units of a scanned stream, each judged as a whole: their scores by part and class, and what each was rebuilt as."""

from collections.abc import Sequence
from typing import Any

import numpy as np

from watchtide.core import units
from watchtide.core.scoring.choice import Constraint
from watchtide.core.scoring.curve import LEVELS
from watchtide.core.series import SECOND_NS, Bools, Floats, keys
from watchtide.engine.scan.based import Baselined
from watchtide.server import moments
from watchtide.server.logbook import services as logbook
from watchtide.server.problems import Problem
from watchtide.server.scans import services
from watchtide.server.scans.models import ScanStream

# So many of either kind are laid over one another.
LAID = 6
# Most that are drawn at once.
MOST_DRAWN = 24
USUAL_GAP = 0.1


def table(row: ScanStream, gap: float = USUAL_GAP) -> dict[str, Any]:
    """All units with part, score and class, their counts at each level, and the level at which sensitivity and specificity are
    at most `gap` apart. A unit is odd by the logbook: an incident touches it."""
    base = _base(row)
    own = base.units
    odd = _odd(row, base)
    least = row.level_above
    test = own.part == units.TEST
    counts = units.counts(own.score[test], ~odd[test], LEVELS)
    try:
        best = units.best_level(own.score, ~odd, own.part, Constraint(max_gap=gap))
        kept = {k: best[k] for k in ("level", "is_met", "chosen_on", "test")}
        why_not = ""
    except ValueError as error:
        kept, why_not = None, str(error)
    return {
        "samples": base.resolved["prepare"]["unit"]["samples"],
        "step_s": base.series.step_ns / SECOND_NS,
        "start": moments.each(own.start),
        "part": own.part.tolist(),
        "is_odd": odd.tolist(),
        "score": _numbers(own.score),
        "level": least,
        "levels": LEVELS.tolist(),
        **{name: getattr(counts, f"point_{name}").tolist() for name in ("tp", "fp", "fn", "tn")},
        "best": kept,
        "why_not": why_not,
        "laid": _laid(own.score, odd, least),
    }


def _laid(scores: Floats, odd: Bools, least: float | None) -> list[int]:
    """Numbers of the units to lay over one another: some that are odd or flagged, the strongest first, and as many others."""
    judged = ~np.isnan(scores)
    flagged = judged & (odd | (scores >= (np.inf if least is None else least)))
    others = np.flatnonzero(judged & ~flagged)
    strange = np.flatnonzero(flagged)
    strange = strange[np.argsort(-scores[strange], kind="stable")][:LAID]
    spread = (
        others[np.linspace(0, len(others) - 1, min(LAID, len(others))).round().astype(np.int64)]
        if len(others)
        else others
    )
    return [*strange.tolist(), *spread.tolist()]


def drawn(row: ScanStream, numbers: Sequence[int]) -> list[dict[str, Any]]:
    """Units by their numbers: seconds from the first sample on, what was seen, what it was rebuilt as. Problem for one there is not."""
    base = _base(row)
    own = base.units
    out = []
    for number in numbers:
        if not 0 <= number < len(own):
            raise Problem(f"there is no unit {number}", place="number", remedy=f"give 0 to {len(own) - 1}")
        some = slice(*np.searchsorted(base.series.times, [own.start[number], own.end[number] + 1]))
        times = base.series.times[some]
        out.append(
            {
                "number": number,
                "at_s": ((times - times[0]) / SECOND_NS).tolist(),
                "value": _numbers(base.series.values[some]),
                "expected": _numbers(base.expected[some]),
                "spread": _numbers(base.spread[some]),
            }
        )
    return out


def _base(row: ScanStream) -> Baselined:
    base = services.base_of(row)
    if not len(base.units):
        raise Problem(
            "this scan judges samples, not units",
            remedy="state prepare.unit in a plan, and scan by it",
            code=404,
        )
    return base


def _odd(row: ScanStream, base: Baselined) -> Bools:
    """(k,) whether an incident of the logbook touches each unit."""
    own = base.units
    out = np.zeros(len(own), np.bool_)
    for x in logbook.labels():
        if x.verdict == "incident" and keys.covers(x.series, row.stream.key):
            out |= (own.start <= x.end) & (own.end >= x.start)
    return out


def _numbers(values: Floats) -> list[float | None]:
    return [None if v != v else v for v in np.round(values, 6).tolist()]
