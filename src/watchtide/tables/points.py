"""Points as they are pushed or pulled: which series, when, how much; shared by all live formats."""

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import NamedTuple

import numpy as np

from watchtide.core.series import LARGEST, Floats, Ints, keys
from watchtide.tables.clock import EARLIEST_NS, LATEST_NS

Attributes = tuple[tuple[str, str], ...]
MOST_NAME = 200
MOST_ATTRIBUTES = 64
MOST_VALUE = 500
# Characters of a series key with its metric in front.
MOST_KEY = 4_000
# What is put behind the metric of what counts since it began.
COUNTED = " counted"
# The attribute that tells a histogram's buckets apart; its value is the upper bound.
BOUND = "at_most"
QUANTILES = (0.5, 0.95, 0.99)


class Series(NamedTuple):
    """One series of a live source. kind : samples are taken as they are, and so are amounts, which add up over sources; a
    counter counts since it began, and its rate is what is looked at; a bucket counts like a counter, up to the bound its last attribute
    states."""

    metric: str
    attributes: Attributes
    unit: str = ""
    kind: str = "samples"


@dataclass
class Points:
    """Points of one message, and why some were refused. One entry an point in codes, times and values."""

    series: list[Series] = field(default_factory=list)
    codes: list[int] = field(default_factory=list)
    times: list[int] = field(default_factory=list)
    values: list[float] = field(default_factory=list)
    refused: dict[str, int] = field(default_factory=dict)
    _known: dict[Series, int] = field(default_factory=dict)

    def code(self, series: Series) -> int:
        known = self._known.get(series)
        if known is None:
            known = self._known[series] = len(self.series)
            self.series.append(series)
        return known

    def add(self, series: Series, time: int, value: float) -> None:
        self.codes.append(self.code(series))
        self.times.append(time)
        self.values.append(value)

    def refuse(self, why: str, count: int = 1) -> None:
        if len(self.refused) < 20 or why in self.refused:
            self.refused[why] = self.refused.get(why, 0) + count
        else:
            self.refused["other reasons"] = self.refused.get("other reasons", 0) + count

    @property
    def refused_count(self) -> int:
        return sum(self.refused.values())

    @property
    def refusals(self) -> str:
        return "; ".join(f"{why} ({n:,})" if n > 1 else why for why, n in self.refused.items())[:1000]

    def arrays(self) -> tuple[Ints, Ints, Floats]:
        """(codes, times, values), infinities and what is too large for a number as missing."""
        values = np.array(self.values, np.float64)
        return (
            np.array(self.codes, np.int64),
            np.array(self.times, np.int64),
            np.where(np.abs(values) > LARGEST, np.nan, values),
        )


def name_problem(metric: str, attributes: Sequence[tuple[str, str]]) -> str | None:
    """Why a series cannot be kept under this name, if it cannot."""
    if not metric.strip():
        return "a metric without a name; name it"
    if len(metric) > MOST_NAME:
        return f"a metric name of {len(metric):,} characters; at most {MOST_NAME}"
    if len(attributes) > MOST_ATTRIBUTES:
        return f"{metric[:40]}: {len(attributes)} attributes; at most {MOST_ATTRIBUTES}"
    for name, value in attributes:
        if not name or len(name) > MOST_NAME or len(value) > MOST_VALUE:
            return f"{metric[:40]}: an attribute name is empty, or it or its value is too long; at most {MOST_VALUE} characters"
    length = len(keys.encode((("metric", metric + COUNTED), *attributes)))
    if length > MOST_KEY:
        return f"{metric[:40]}: a series key of {length:,} characters; at most {MOST_KEY:,}"
    return None


def is_sound(time_ns: int) -> bool:
    return EARLIEST_NS <= time_ns <= LATEST_NS and time_ns != 0
