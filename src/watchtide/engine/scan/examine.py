"""Is it any good? Errors of a scan by part, diagnoses, and a plan with their remedies."""

from typing import Any

import numpy as np

from watchtide.core.explain import diagnostics
from watchtide.core.series import Bools
from watchtide.engine.scan.outcome import points_of
from watchtide.engine.scan.stages import Scanned
from watchtide.plan import Plan
from watchtide.plan.text import from_data


def examine(scanned: Scanned) -> dict[str, Any]:
    """Error figures in training and after it, and what is wrong, as plain data."""
    base = scanned.base
    points = points_of(scanned)
    inside = np.arange(len(base.series)) < base.train_stop
    signed = base.own_score
    choice = base.resolved["baseline"]
    # All samples of a unit share its score, which says nothing of neighbours.
    found = [] if len(base.units) else diagnostics.diagnose(
        base.series.values, base.expected, signed, base.held_out.signed,
        base.clean, base.series.step_ns, tuple(p for p, _ in base.found_seasons),
        is_multiplied=choice["form"] == "multiplicative", kind=choice["kind"],
    )  # fmt: skip
    return {
        "baseline": choice,
        "training": _errors(points, inside),
        "after": _errors(points, ~inside) if (~inside).any() else None,
        "promised_per_week": scanned.level.per_week,
        "smallest": smallest(scanned),
        "diagnoses": [{"name": d.name, "words": d.words, "remedy": d.remedy} for d in found],
    }


def smallest(scanned: Scanned) -> dict[str, float | None]:
    """The smallest deviation of one sample that the level in force flags, in the unit of the values: the median over the
    samples, per side; None where a side is not watched or nothing is expected."""
    base, out = scanned.base, {}
    for side, sign in (("above", 1.0), ("below", -1.0)):
        level = getattr(scanned.level, side)
        away = sign * (base.values_at(sign * level) - base.expected) if np.isfinite(level) else np.empty(0)
        known = away[np.isfinite(away)]
        out[side] = float(np.median(known)) if len(known) else None
    return out


def _errors(points: dict[str, Any], mask: Bools) -> dict[str, Any]:
    e = diagnostics.errors(*(points[k][mask] for k in ("value", "expected", "lower", "upper")))
    return dict(vars(e))


def remedied(plan: Plan, changes: dict[str, Any], kind: str | None = None) -> Plan:
    """A plan with these keys, written with dots, changed; checked again. kind : what the plan's auto came to, which
    options have to name."""
    data = plan.as_data()
    if kind and data["baseline"]["kind"] == "auto" and "baseline.options" in changes:
        data["baseline"]["kind"] = kind
    for where, value in changes.items():
        part, _, key = where.partition(".")
        if key == "kind" and data[part]["kind"] != value:
            data[part]["options"] = {}
        data[part][key] = value
    return from_data(data)
