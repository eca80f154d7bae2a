"""Which samples, or which time, were judged and looked through: what every rate and ratio of samples rests on."""

from collections.abc import Iterable, Mapping, Sequence

import numpy as np

from watchtide.core.scoring.rows import Coverage, Finding, Label, Points, inside_any, touches
from watchtide.core.series import SECOND_NS, Bools, Ints

# Spacing on average, in usual spacings, from which samples come in bursts.
BURSTS = 20


class Observed:
    """Which samples, or which time, were judged and looked through."""

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
        self.masks: dict[str, Bools] = {}
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
                p = points[series]
                self.masks[series] = p.observed & inside_any(p.times, self.spans[series])

    def seconds(self, step_ns: int | None) -> float:
        """Stream-seconds of observed time."""
        return sum(self.seconds_of(series, step_ns) for series in self.spans)

    def seconds_of(self, series: str, step_ns: int | None) -> float:
        """Seconds of observed time of one stream, by its own cadence; 0 for one that is not scored.

        step_ns : of streams too short to have a cadence of their own.
        """
        if self.points is None:
            return sum(b - a for a, b in self.spans.get(series, [])) / SECOND_NS
        if series not in self.masks:
            return 0.0
        times = self.points[series].times
        if is_in_bursts(times):
            # Nothing comes between them, and a burst that came would have been judged.
            ends = int(times[0]), int(times[-1])
            return sum(max(min(b, ends[1]) - max(a, ends[0]), 0) for a, b in self.spans[series]) / SECOND_NS
        step = median_step(times) or step_ns or 0
        return int(self.masks[series].sum()) * step / SECOND_NS

    def judged_seconds(self, step_ns: int | None) -> float:
        """Stream-seconds with a score, looked through or not."""
        if self.points is None:
            return self.seconds(step_ns)
        return sum(_judged(p, step_ns) for p in self.points.values()) / SECOND_NS

    def touches(self, f: Finding) -> bool:
        """Whether a finding overlaps observed time; told once for each, as several figures ask."""
        known = self._touched.get(id(f))
        if known is None:
            known = self._touched[id(f)] = self._touches(f)
        return known

    def _touches(self, f: Finding) -> bool:
        if self.points is None:
            return touches(f.start, f.end, self.spans.get(f.series, []))
        if f.series not in self.masks:
            return False
        times = self.points[f.series].times
        a, b = np.searchsorted(times, f.start), np.searchsorted(times, f.end, side="right")
        return bool(self.masks[f.series][a:b].any())

    def any_sample(self, label: Label, series: Iterable[str]) -> bool:
        assert self.points is not None
        for key in series:
            times = self.points[key].times
            a, b = np.searchsorted(times, label.start), np.searchsorted(times, label.end, side="right")
            if self.masks[key][a:b].any():
                return True
        return False


def is_in_bursts(times: Ints) -> bool:
    """Whether samples come in bursts, far from one another as against their spacing within them."""
    if len(times) < 2:
        return False
    return int(times[-1] - times[0]) > BURSTS * median_step(times) * (len(times) - 1)


def _judged(p: Points, step_ns: int | None) -> int:
    """Nanoseconds of a stream with a score."""
    if is_in_bursts(p.times):
        return int(p.times[-1] - p.times[0])
    return int(p.observed.sum()) * (median_step(p.times) or step_ns or 0)


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
