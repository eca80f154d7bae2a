"""What stands behind a finding: who pushed, and which earlier findings had its shape. Arrays in, arrays out."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from watchtide.core.series import Floats, Ints

# Shapes are compared at so many places over their span.
PLACES = 32
# Findings of under this likeness are not of one shape.
LEAST_LIKENESS = 0.7


@dataclass(frozen=True)
class Push:
    """One part of a whole: sums of what was observed and expected, how far it pushes, and its share of all pushing.

    share : push over the whole's difference; None where the whole stayed where it was expected. missing : samples
    of its own that were not observed or not expected.
    """

    name: str
    observed: float
    expected: float
    push: float
    share: float | None
    missing: int


@dataclass(frozen=True)
class Pushes:
    """Parts, strongest first, that lead from the expected to the observed total; `unaccounted` is what they leave."""

    observed: float
    expected: float
    parts: tuple[Push, ...]
    unaccounted: float
    missing: int


def pushes(
    names: Sequence[str], observed: Floats, expected: Floats, whole: tuple[Floats, Floats] | None = None
) -> Pushes:
    """How far each part moved its whole over a span.

    names : (k,) of the parts, those of one name taken together; observed, expected : (k, n) over the span, NaN where missing; whole : (n,) observed and (n,) expected
    of the total where it is a stream of its own, else the parts are the whole. Only samples both observed and
    expected count, so that expected + sum of pushes + unaccounted = observed, to the last rounding.
    """
    ok = ~np.isnan(observed) & ~np.isnan(expected)
    seen, due = np.where(ok, observed, 0.0).sum(axis=1), np.where(ok, expected, 0.0).sum(axis=1)
    missing = (~ok).sum(axis=1)
    if whole is None:
        total_seen, total_due, total_missing = float(seen.sum()), float(due.sum()), int(missing.sum())
    else:
        both = ~np.isnan(whole[0]) & ~np.isnan(whole[1])
        total_seen, total_due = float(whole[0][both].sum()), float(whole[1][both].sum())
        total_missing = int((~both).sum())
    difference = total_seen - total_due
    # Parts of one name are one part.
    rows: dict[str, list[int]] = {}
    for i, name in enumerate(names):
        rows.setdefault(name, []).append(i)
    parts = []
    for name, own in rows.items():
        push = float(seen[own].sum() - due[own].sum())
        share = push / difference if difference else None
        parts.append(
            Push(name, float(seen[own].sum()), float(due[own].sum()), push, share, int(missing[own].sum()))
        )
    parts.sort(key=lambda p: (-abs(p.push), p.name))
    left = difference - sum(p.push for p in parts)
    return Pushes(total_seen, total_due, tuple(parts), float(left), total_missing)


def varied(members: Sequence[Mapping[str, str]]) -> list[str]:
    """Names of the attributes in which members differ."""
    names = sorted({name for m in members for name in m})
    return [name for name in names if len({m.get(name) for m in members}) > 1]


def by_attribute(
    members: Sequence[Mapping[str, str]],
    names: Sequence[str],
    observed: Floats,
    expected: Floats,
    whole: tuple[Floats, Floats] | None = None,
) -> dict[str, Pushes]:
    """`pushes` by each attribute: members of one value are one part."""
    return {
        name: pushes([str(m.get(name, "(none)")) for m in members], observed, expected, whole)
        for name in names
    }


def most_apart(by: Mapping[str, Pushes]) -> str:
    """The attribute that sets one part most apart."""
    return max(by, key=lambda name: abs(by[name].parts[0].share or 0.0))


def led_by(
    members: Sequence[Mapping[str, str]], observed: Floats, expected: Floats
) -> tuple[str, Pushes] | None:
    """The attribute that sets one part most apart, and what its parts pushed; None where members differ in nothing.

    observed, expected : (k,) of each member, NaN where missing.
    """
    varied_in = varied(members)
    if not varied_in:
        return None
    by = by_attribute(members, varied_in, observed[:, None], expected[:, None])
    name = most_apart(by)
    return name, by[name]


def outline(score: Floats, first: int, last: int) -> Floats:
    """(PLACES,) a finding's scores over its span and half of that on either side, by straight lines; 0 where missing."""
    half = max((last - first + 1) / 2, 2.0)
    at = np.linspace(first - half, last + half, PLACES)
    filled = np.nan_to_num(score)
    return np.interp(at, np.arange(len(score)), filled, left=0.0, right=0.0)


def likeness(score: Floats, one: tuple[int, int], others: Sequence[tuple[int, int]]) -> Floats:
    """(m,) how like each other finding's shape is to one's, -1 … 1.

    score : (n,) signed scores; a finding is (first, last) sample. Correlation of the outlines about 0 (so that a push up
    is never like a push down), times the root of the shorter length over the longer. Rodgers and Nicewander
    (1988) on what such a correlation tells.
    """
    own = outline(score, *one)
    size = float(np.sqrt(own @ own))
    out = np.zeros(len(others))
    for i, (first, last) in enumerate(others):
        other = outline(score, first, last)
        both = size * float(np.sqrt(other @ other))
        lengths = sorted((one[1] - one[0] + 1, last - first + 1))
        out[i] = (own @ other) / both * np.sqrt(lengths[0] / lengths[1]) if both > 0 else 0.0
    return out


def season_fold(
    times: Ints, offsets_ns: Ints, values: Floats, period_ns: int, start_ns: int, step_ns: int, is_local: bool
) -> tuple[Ints, Floats]:
    """All seasons over one another: (c,) number of each cycle counted from the first, and (c, slots) its values.

    Cycles begin at `start_ns` after the epoch (local midnight, or a Monday, where the season follows the clock); a slot
    is `step_ns` long; where the clock repeats an hour the later sample stands. NaN where nothing was observed.
    """
    moment = times + offsets_ns if is_local else times
    since = moment - start_ns
    cycle = since // period_ns
    slots = max(1, int(-(-period_ns // step_ns)))
    slot = np.minimum((since - cycle * period_ns) // step_ns, slots - 1)
    first = int(cycle[0]) if len(cycle) else 0
    numbers = np.arange(first, int(cycle[-1]) + 1) if len(cycle) else np.empty(0, np.int64)
    out = np.full((len(numbers), slots), np.nan)
    out[cycle - first, slot] = values
    return numbers, out


def together(a: Floats, b: Floats, most: int) -> tuple[int, float]:
    """Lag in samples at which b goes with a best, and the correlation there; b leads where the lag is negative.

    a, b : (n,) scores on one grid, NaN where missing, drawn in at 6 so that one spike is not all. most : longest lag
    tried. (0, 0.0) where fewer than 8 samples are seen together.
    """
    x, y = (np.clip(v, -6, 6) for v in (a, b))
    best = 0, 0.0
    for lag in range(-most, most + 1):
        p, q = (x[: len(x) - lag], y[lag:]) if lag >= 0 else (x[-lag:], y[: len(y) + lag])
        ok = ~np.isnan(p) & ~np.isnan(q)
        if ok.sum() < 8:
            continue
        u, v = p[ok], q[ok]
        size = float(np.sqrt((u @ u) * (v @ v)))
        r = float(u @ v) / size if size > 0 else 0.0
        if abs(r) > abs(best[1]) + 1e-12 or (abs(r) >= abs(best[1]) - 1e-12 and abs(lag) < abs(best[0])):
            best = lag, r
    return best
