"""Which samples, or which time, were judged and looked through: what every rate and ratio of samples rests on."""

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from watchtide.core.scoring.rows import Coverage, Finding, Points, inside_any, touches
from watchtide.core.series import SECOND_NS, Bools, Ints

# Spacing on average, in usual spacings, from which samples come in bursts.
BURSTS = 20


@dataclass(frozen=True)
class _Stream:
    """What of a stream's samples is kept. step : usual spacing, ns, 0 of fewer than two; judged, seen : samples with a score, and of
    these those looked through; in_bursts : ns judged and ns looked through of samples that come in bursts, None of others."""

    step: int
    judged: int
    seen: int
    in_bursts: tuple[int, int] | None


class Observed:
    """Which samples, or which time, were judged and looked through.

    points : may be a mapping that reads each stream on access; each is read once here, and one at a time. reached, holding :
    label rows that hold a sample of a stream that they cover, and one that was judged and looked through; empty without points.
    """

    def __init__(
        self,
        points: Mapping[str, Points] | None,
        coverage: Coverage,
        span: tuple[int, int],
        has_reviews: bool,
        streams: Sequence[str],
    ) -> None:
        self.points = points
        self.span = span
        self.spans: dict[str, list[tuple[int, int]]] = {}
        self.reached: set[int] = set()
        self.holding: set[int] = set()
        self._streams: dict[str, _Stream] = {}
        self._touched: dict[int, bool] = {}
        for series in streams:
            looked = [span]
            if has_reviews:
                looked = [
                    (max(r.start, span[0]), min(r.end, span[1]))
                    for _, r in coverage[series].of("reviewed")
                    if r.start <= span[1] and r.end >= span[0]
                ]
            self.spans[series] = _union(looked)
            if points is not None:
                self._look(series, points[series], coverage)

    def _look(self, series: str, p: Points, coverage: Coverage) -> None:
        mask = self.mask(series, p)
        for i, label in coverage[series].rows:
            a, b = np.searchsorted(p.times, label.start), np.searchsorted(p.times, label.end, side="right")
            if a < b:
                self.reached.add(i)
                if mask[a:b].any():
                    self.holding.add(i)
        in_bursts = None
        if is_in_bursts(p.times):
            # Nothing comes between them, and a burst that came would have been judged.
            first, last = int(p.times[0]), int(p.times[-1])
            looked = sum(max(min(b, last) - max(a, first), 0) for a, b in self.spans[series])
            in_bursts = (last - first, looked)
        self._streams[series] = _Stream(
            median_step(p.times), int(p.observed.sum()), int(mask.sum()), in_bursts
        )

    def mask(self, series: str, p: Points) -> Bools:
        """(n,) which of a stream's samples were judged and looked through. p : its points."""
        return p.observed & inside_any(p.times, self.spans[series])

    def seconds(self, step_ns: int | None) -> float:
        """Stream-seconds of observed time."""
        return sum(self.seconds_of(series, step_ns) for series in self.spans)

    def seconds_of(self, series: str, step_ns: int | None) -> float:
        """Seconds of observed time of one stream, by its own cadence; 0 for one that is not scored.

        step_ns : of streams too short to have a cadence of their own.
        """
        if self.points is None:
            return sum(b - a for a, b in self.spans.get(series, [])) / SECOND_NS
        s = self._streams.get(series)
        if s is None:
            return 0.0
        if s.in_bursts is not None:
            return s.in_bursts[1] / SECOND_NS
        return s.seen * (s.step or step_ns or 0) / SECOND_NS

    def judged_seconds(self, step_ns: int | None) -> float:
        """Stream-seconds with a score, looked through or not."""
        if self.points is None:
            return self.seconds(step_ns)
        judged = (
            s.judged * (s.step or step_ns or 0) if s.in_bursts is None else s.in_bursts[0]
            for s in self._streams.values()
        )
        return sum(judged) / SECOND_NS

    def step_of(self, series: str) -> int:
        """The usual spacing of a stream's samples, ns; 0 where it has fewer than two."""
        return self._streams[series].step

    def touches(self, f: Finding) -> bool:
        """Whether a finding overlaps observed time; found once for each, as several figures need it."""
        known = self._touched.get(id(f))
        if known is None:
            known = self._touched[id(f)] = self._touches(f)
        return known

    def _touches(self, f: Finding) -> bool:
        spans = self.spans.get(f.series, [])
        if self.points is None:
            return touches(f.start, f.end, spans)
        if f.series not in self._streams:
            return False
        p = self.points[f.series]
        a, b = np.searchsorted(p.times, f.start), np.searchsorted(p.times, f.end, side="right")
        return bool((~np.isnan(p.score[a:b]) & inside_any(p.times[a:b], spans)).any())


def is_in_bursts(times: Ints) -> bool:
    """Whether samples come in bursts, far from one another as against their spacing within them."""
    if len(times) < 2:
        return False
    return int(times[-1] - times[0]) > BURSTS * median_step(times) * (len(times) - 1)


def median_step(times: Ints) -> int:
    return int(np.median(np.diff(times))) if len(times) > 1 else 0


def _union(spans: Iterable[tuple[int, int]]) -> list[tuple[int, int]]:
    out: list[tuple[int, int]] = []
    for a, b in sorted(spans):
        if out and a <= out[-1][1]:
            out[-1] = (out[-1][0], max(b, out[-1][1]))
        else:
            out.append((a, b))
    return out
