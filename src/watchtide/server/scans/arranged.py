"""The rows of the tide table in an order and by words that somebody chose; a window of them at a time."""

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from watchtide.server.moments import ns

SORTS = ("strongest", "newest", "open", "name")

Row = dict[str, Any]


@dataclass(frozen=True)
class Arranged:
    """Families in their order, each with how many rows it has, and places (k,) of the rows, family by family."""

    families: list[dict[str, Any]]
    places: list[int]


def words_of(row: Row) -> str:
    """What words are looked for in: name, state, attributes and owner of a stream."""
    owner = f" owner={row['owner']}" if row["owner"] else ""
    return f"{row['metric']} {row['title']} {row['state']} {row['attributes']}{owner}".lower()


def arrange(
    rows: Sequence[Row], words: Sequence[str], sort: str, text: str, *, by_family: bool = True
) -> Arranged:
    """Families by their first row, and the rows of each, the most first, or all by name; only rows with all words of the text.

    words : what `words_of` says of each row; by_family : whether rows are put together by family, or all in one order.
    """
    wanted = text.lower().split()
    own_of: dict[str, list[int]] = {}
    for i, row in enumerate(rows):
        if all(word in words[i] for word in wanted):
            own_of.setdefault(row["metric"], []).append(i)
    order = _BY[sort]
    for own in own_of.values():
        own.sort(key=lambda i: order(rows[i]))
    if sort == "name":
        metrics = sorted(own_of, key=lambda m: (m.casefold(), m))
    else:
        metrics = sorted(own_of, key=lambda m: order(rows[own_of[m][0]]))
    families = [_family([rows[i] for i in own_of[m]]) for m in metrics]
    places = [i for m in metrics for i in own_of[m]]
    return Arranged(families, places if by_family else sorted(places, key=lambda i: order(rows[i])))


_BY: dict[str, Callable[[Row], Any]] = {
    "strongest": lambda row: -row["strongest"],
    "newest": lambda row: -(0 if row["newest"] is None else ns(row["newest"])),
    "open": lambda row: -row["open"],
    "name": lambda row: (row["title"].casefold(), row["title"]),
}


def _family(rows: Sequence[Row]) -> dict[str, Any]:
    return {
        "metric": rows[0]["metric"],
        "unit": rows[0]["unit"],
        "streams": len(rows),
        "adrift": sum(row["state"] == "adrift" for row in rows),
        "digits": digits([row["last_value"] for row in rows if row["last_value"] is not None]),
    }


def digits(values: Sequence[float]) -> int | None:
    """Decimal places that tell these values apart, None where they are all alike; a few odd ones say nothing about the rest."""
    seen = np.sort(np.array([v for v in values if math.isfinite(v)], dtype=np.float64))
    if not len(seen):
        return None
    low, high = (float(seen[int(share * (len(seen) - 1))]) for share in (0.05, 0.95))
    if not high > low:
        return None
    if np.all(seen == np.round(seen)):
        return 0
    return min(8, max(0, math.ceil(2 - math.log10(high - low))))
