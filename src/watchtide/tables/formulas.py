"""Formulas over streams: which streams each output is made of, and its samples."""

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass

import numpy as np

from watchtide.core.series import Floats, Ints, distinct, joining
from watchtide.tables import expressions
from watchtide.tables.expressions import ExpressionError, Formula, Streams

MOST_OUTPUTS = 5_000
# The words of a formula for how several streams become one.
REDUCTIONS = {"total": "sum", "mean": "mean", "least": "min", "most": "max"}
Attributes = tuple[tuple[str, str], ...]


@dataclass(frozen=True)
class Member:
    """A stream a formula may read: its number, metric and attributes."""

    number: int
    metric: str
    attributes: Attributes


@dataclass(frozen=True)
class Group:
    """One output of a formula: its attributes, and the streams each source of the formula stands for."""

    attributes: Attributes
    sources: dict[Streams, tuple[int, ...]]

    @property
    def numbers(self) -> list[int]:
        return list(dict.fromkeys(n for members in self.sources.values() for n in members))


def groups_of(tree: Formula, by: Sequence[str], members_of: Callable[[str], Iterable[Member]]) -> list[Group]:
    """The outputs a formula has: one for each set of values of the attributes in `by`.

    A source in a group is every stream of its metric that has its attributes and the group's values; an attribute
    of `by` that a source's streams do not have does not restrict them (requests by channel over one total).
    members_of : the streams of a metric. Raises ExpressionError where a source or a group has no stream, or a
    source without `total of`, `mean of` … has several.
    """
    found: dict[Streams, list[tuple[int, dict[str, str]]]] = {}
    for source in dict.fromkeys(expressions.sources_of(tree)):
        rows = [(m.number, dict(m.attributes)) for m in members_of(source.metric)]
        found[source] = [(n, own) for n, own in rows if all(own.get(k) == v for k, v in source.attributes)]
        if not found[source]:
            what = ", ".join([source.metric, *(f"{k}={v}" for k, v in source.attributes)])
            raise ExpressionError(f"no stream is [{what}]; look its name up")
    values: dict[Attributes, None] = {}
    for rows in found.values():
        for _, own in rows:
            if all(name in own for name in by):
                values[tuple((name, own[name]) for name in by)] = None
    if by and not values:
        raise ExpressionError(f"no stream has {' and '.join(by)}; keep attributes (by) that they have")
    if len(values) > MOST_OUTPUTS:
        raise ExpressionError(f"{len(values):,} streams at once; at most {MOST_OUTPUTS:,}")
    out = [group for pairs in values or {(): None} if (group := _group(found, pairs)) is not None]
    if not out:
        raise ExpressionError("no group has all of the formula's streams; choose other attributes (by)")
    return out


def _group(found: dict[Streams, list[tuple[int, dict[str, str]]]], pairs: Attributes) -> Group | None:
    sources = {}
    for source, rows in found.items():
        members = tuple(n for n, own in rows if all(own.get(k, v) == v for k, v in pairs))
        if not members:
            return None
        if source.how is None and len(members) > 1:
            where = ", ".join(f"{k}={v}" for k, v in pairs) or "all"
            raise ExpressionError(
                f"{len(members)} streams are [{source.metric}] for {where}; write total of [{source.metric}], or keep "
                "more attributes (by)"
            )
        sources[source] = members
    return Group(pairs, sources)


@dataclass(frozen=True)
class Result:
    """Samples of an output; amounts are those of its denominator, where it is a ratio."""

    times: Ints
    values: Floats
    amounts: Floats | None


def evaluate(tree: Formula, group: Group, gridded: dict[int, tuple[Ints, Floats]]) -> Result:
    """A formula for one group. gridded : the group's streams by number, on one grid of stamps."""
    grids = [gridded[n][0] for n in group.numbers if len(gridded[n][0])]
    times = distinct(np.concatenate(grids)) if grids else np.empty(0, np.int64)

    def values(source: Streams) -> Floats:
        rows = np.array([_at(times, *gridded[n]) for n in group.sources[source]])
        return _together(rows, source.how)

    result = expressions.evaluate(tree, values, len(times))
    below = expressions.denominator_of(tree)
    amounts = expressions.evaluate(below, values, len(times)) if below is not None else None
    return Result(times, result, amounts)


def _together(rows: Floats, how: str | None) -> Floats:
    """Several streams as one: each stamp's figure is that of the streams that have a sample there."""
    if how is None or len(rows) == 1:
        return np.asarray(rows[0], np.float64)
    return joining.reduced(rows, REDUCTIONS[how])


def _at(times: Ints, own: Ints, values: Floats) -> Floats:
    out = np.full(len(times), np.nan)
    if len(own):
        out[np.searchsorted(times, own)] = values
    return out
