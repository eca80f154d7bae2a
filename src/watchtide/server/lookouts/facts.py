"""What a notice adds to the row of a finding: sums over the span, and what pushed it, against the same slot of earlier weeks."""

from dataclasses import asdict, dataclass
from datetime import datetime, timedelta
from typing import Any
from zoneinfo import ZoneInfo

import numpy as np

from watchtide.core.explain import explaining
from watchtide.core.series import SECOND_NS
from watchtide.engine.scan import outcome
from watchtide.engine.scan.based import Scanned
from watchtide.server.scans import explain
from watchtide.server.streams import store
from watchtide.server.streams.models import Stream

WEEKS = 4
# Each part is read once a week that is looked at.
MOST_PARTS, MOST_SHOWN = 60, 6
# What a picture shows beside the finding: a multiple of its span, and some samples at least.
BESIDE, LEAST_BESIDE, MOST_POINTS = 3, 36, 1_500


@dataclass(frozen=True)
class Push:
    """A part of the whole: what was seen and what is usual there at this hour of the week, in the stream's unit."""

    name: str
    seen: float
    usual: float


@dataclass(frozen=True)
class Facts:
    """seen, expected : over the span where values add up, else at the peak; lower, upper : at the peak, None over a span
    of several samples that add up; pushes : largest first; weeks : how many earlier ones they are compared with; whole : of
    what the pushes are parts."""

    seen: float | None = None
    expected: float | None = None
    lower: float | None = None
    upper: float | None = None
    is_sum: bool = False
    pushes: tuple[Push, ...] = ()
    weeks: int = 0
    whole: str = ""

    def as_data(self) -> dict[str, Any]:
        return asdict(self)

    @classmethod
    def of_data(cls, data: dict[str, Any]) -> "Facts":
        return cls(**data | {"pushes": tuple(Push(**p) for p in data.get("pushes", ()))})


def of(stream: Stream, scanned: Scanned, finding: dict[str, Any]) -> Facts:
    """The facts of a finding of a judged stream."""
    rows = outcome.points_of(scanned)
    inside = (rows["time"] >= finding["start"]) & (rows["time"] <= finding["end"])
    is_count = scanned.resolved["prepare"]["as"] == "count"
    is_sum = bool((stream.is_additive or is_count) and inside.sum() > 1)
    seen, expected, lower, upper = (rows[n][inside] for n in ("value", "expected", "lower", "upper"))
    pushes, weeks, whole = _pushes(stream, finding["start"], finding["end"], is_count=is_count)
    if is_sum:
        both = ~np.isnan(seen) & ~np.isnan(expected)
        return Facts(
            float(seen[both].sum()), float(expected[both].sum()), None, None, True, pushes, weeks, whole
        )
    at = np.flatnonzero(rows["time"][inside] == finding["peak_time"])
    limits = (_figure(lower[at[0]]), _figure(upper[at[0]])) if len(at) else (None, None)
    return Facts(finding["peak_value"], finding["expected"], *limits, False, pushes, weeks, whole)


def _figure(value: float) -> float | None:
    return None if np.isnan(value) else float(value)


def beside(scanned: Scanned, finding: dict[str, Any]) -> tuple[int, int]:
    """The span that a picture of a finding shows, closed, in ns."""
    step = scanned.base.series.step_ns
    wide = finding["end"] - finding["start"]
    margin = min(max(BESIDE * wide, LEAST_BESIDE * step), max(MOST_POINTS * step - wide, 0) // 2)
    return finding["start"] - margin, finding["end"] + margin


def weeks_before(moment_ns: int, zone: str, weeks: int) -> int:
    """The same time of day and week so many weeks before, by the clock of a zone."""
    seconds, rest = divmod(moment_ns, SECOND_NS)
    place = ZoneInfo(zone)
    local = datetime.fromtimestamp(seconds, place).replace(tzinfo=None) - timedelta(weeks=weeks)
    return int(local.replace(tzinfo=place).timestamp()) * SECOND_NS + rest


def _pushes(stream: Stream, start: int, end: int, *, is_count: bool) -> tuple[tuple[Push, ...], int, str]:
    """What the parts of a total, or the streams of a family that adds up, did over a span; how many weeks it is compared
    with; and the whole."""
    parts, is_total = explain.parts_of(stream)
    if not (is_total or is_count or stream.is_additive) or not 2 <= len(parts) <= MOST_PARTS:
        return (), 0, ""
    spans = [
        (weeks_before(start, stream.zone, k), weeks_before(end, stream.zone, k)) for k in range(WEEKS + 1)
    ]
    sums = np.array([[_sum(part, a, b) for a, b in spans] for part in parts])
    # A week in which a part has no samples says nothing of it; without any there is nothing to compare with.
    known = ~np.isnan(sums[:, 0]) & ~np.isnan(sums[:, 1:]).all(axis=1)
    if known.sum() < 2:
        return (), 0, ""
    sums = sums[known]
    usual = np.nanmean(sums[:, 1:], axis=1)
    members = [dict(p.attributes) for p, ok in zip(parts, known, strict=True) if ok]
    led = explaining.led_by(members, sums[:, 0], usual)
    if led is None:
        return (), 0, ""
    rows = tuple(Push(p.name, p.observed, p.expected) for p in led[1].parts[:MOST_SHOWN])
    weeks = int((~np.isnan(sums[:, 1:])).any(axis=0).sum())
    return rows, weeks, stream.title if is_total else f"all of {stream.metric}"


def _sum(stream: Stream, first_ns: int, last_ns: int) -> float:
    """Of the samples in a closed span; NaN where there are none."""
    values = store.read(stream.pk, first_ns, last_ns)[1]
    values = values[~np.isnan(values)]
    return float(values.sum()) if len(values) else float("nan")
