"""Findings, labels and points as the scorer takes them."""

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Generic, TypeVar

import numpy as np

from watchtide.core.series import Bools, Floats, Ints, keys

S = TypeVar("S")
V = TypeVar("V")

VERDICTS = ("incident", "foreseen", "false-alarm", "unsure", "reviewed")
ORIGINS = ("independent", "finding", "sampled")


@dataclass(frozen=True)
class Label:
    """One row of the annotated history; the span is closed, nanoseconds in UTC."""

    start: int
    end: int
    series: str = ""
    verdict: str = "incident"
    kind: str = ""
    cause: str = ""
    note: str = ""
    author: str = ""
    origin: str = "independent"
    stratum: str = ""
    probability: float | None = None

    def __post_init__(self) -> None:
        if self.end < self.start:
            raise ValueError("label ends before it starts")
        if self.verdict not in VERDICTS:
            raise ValueError(f"unknown verdict {self.verdict!r}; use one of {', '.join(VERDICTS)}")
        if self.origin not in ORIGINS:
            raise ValueError(f"unknown origin {self.origin!r}; use one of {', '.join(ORIGINS)}")


@dataclass(frozen=True)
class Finding:
    """One finding; the span is closed, of the first and last flagged sample."""

    series: str
    start: int
    end: int
    kind: str = "outlier"
    direction: str = ""
    score: float = float("nan")
    peak_time: int | None = None
    peak_value: float = float("nan")
    expected: float = float("nan")
    points: int = 1
    window: int = 1
    size: float = float("nan")
    confidence: float = float("nan")
    raised: int | None = None


@dataclass(frozen=True)
class Points:
    """Judged samples of one stream: times (n,), score (n,) NaN where not judged, flagged (n,)."""

    times: Ints
    score: Floats
    flagged: Bools

    @property
    def observed(self) -> Bools:
        return ~np.isnan(self.score)


class Viewed(Mapping[str, V], Generic[S, V]):
    """Another mapping with each value converted on access."""

    def __init__(self, source: Mapping[str, S], view: Callable[[S], V]) -> None:
        self._source, self._view = source, view

    def __getitem__(self, series: str) -> V:
        return self._view(self._source[series])

    def __iter__(self) -> Iterator[str]:
        return iter(self._source)

    def __len__(self) -> int:
        return len(self._source)


@dataclass(frozen=True)
class Covering:
    """The labels that cover one stream, by verdict, with their row numbers."""

    rows: tuple[tuple[int, Label], ...]

    def of(self, *verdicts: str) -> list[tuple[int, Label]]:
        return [(i, label) for i, label in self.rows if label.verdict in verdicts]


@dataclass
class Coverage:
    """Which labels cover which stream, worked out once a stream."""

    labels: Sequence[Label]
    _known: dict[str, Covering] = field(default_factory=dict)
    _scopes: dict[frozenset[tuple[str, str]], list[int]] = field(default_factory=dict)
    _own: dict[str, list[int]] = field(default_factory=dict)

    def __post_init__(self) -> None:
        for i, label in enumerate(self.labels):
            try:
                self._scopes.setdefault(keys.pairs_of(label.series), []).append(i)
            except ValueError:
                # A name that is no key covers the stream of that very name alone.
                self._own.setdefault(label.series, []).append(i)

    def __getitem__(self, series: str) -> Covering:
        if series not in self._known:
            found = self._own.get(series, []).copy()
            try:
                found += [i for own in keys.covering(self._scopes, series) for i in own]
            except ValueError:
                found += [i for pairs, own in self._scopes.items() if not pairs for i in own]
            self._known[series] = Covering(tuple((i, self.labels[i]) for i in sorted(found)))
        return self._known[series]

    def of(self, series: str) -> tuple[Label, ...]:
        """The labels that cover a stream, in their order."""
        return tuple(label for _, label in self[series].rows)

    def covered(self, streams: Sequence[str]) -> dict[int, list[str]]:
        """The streams that each label row covers, in their order; rows that cover none are not there."""
        out: dict[int, list[str]] = {}
        for s in streams:
            for i, _ in self[s].rows:
                out.setdefault(i, []).append(s)
        return out


def inside_any(times: Ints, spans: Sequence[tuple[int, int]]) -> Bools:
    """(n,) whether each of the sorted times lies in one of the closed spans."""
    out = np.zeros(len(times), np.bool_)
    for start, end in spans:
        out[np.searchsorted(times, start) : np.searchsorted(times, end, side="right")] = True
    return out


def touches(start: int, end: int, spans: Sequence[tuple[int, int]]) -> bool:
    """Whether a closed span overlaps one of these."""
    return any(start <= b and end >= a for a, b in spans)
