"""Units of a stream: bursts parted by gaps, or stretches of one length, each laid out as a row of an even grid."""

from dataclasses import dataclass

import numpy as np

from watchtide.core.series import Bools, Floats, Ints

# A unit of fewer samples has no shape to rebuild.
LEAST_SAMPLES = 8
# Units within this share of the usual length are as long as the others; a burst is a sample longer or shorter now and then.
ALIKE = 0.1
LEAST_ALIKE = 0.5


@dataclass(frozen=True)
class Laid:
    """Units in rows. waves : (k, length) samples of each, NaN where there is none; number, place : (n,) row and column of
    each sample, -1 for one in no unit or past the usual length; step_ns : from sample to sample."""

    waves: Floats
    number: Ints
    place: Ints
    step_ns: int

    @property
    def length(self) -> int:
        return int(self.waves.shape[1])

    @property
    def ends(self) -> tuple[Ints, Ints]:
        """(k,) each: index of the first and of the last sample of a unit."""
        inside = np.flatnonzero(self.number >= 0)
        number, own = self.number[inside], np.arange(len(self.waves))
        return inside[np.searchsorted(number, own)], inside[np.searchsorted(number, own, side="right") - 1]

    def spread_out(self, rows: Floats, missing: float = np.nan) -> Floats:
        """(n,) of each sample what stands at its place in (k, length) rows, or in (k,) figures of its unit."""
        inside = self.place >= 0
        out = np.full(len(self.place), missing)
        number = self.number[inside]
        out[inside] = rows[number] if rows.ndim == 1 else rows[number, self.place[inside]]
        return out


def by_gap(times: Ints, gap_ns: int) -> Ints:
    """(n,) number of the burst of each sample: a new one begins after more than `gap_ns` without any. times : (n,) rising."""
    return np.concatenate([[0], np.cumsum(np.diff(times) > gap_ns)]) if len(times) else np.zeros(0, np.int64)


def by_length(local: Ints, length_ns: int) -> Ints:
    """(n,) number of the stretch of each sample, counted from midnight of 1970 on the axis given; those without one are left out."""
    return np.unique(local // length_ns, return_inverse=True)[1].astype(np.int64)


def lay(times: Ints, values: Floats, number: Ints) -> Laid:
    """Units side by side, each from its first sample on; one that is longer than usual is cut.

    times : (n,) rising; number : (n,) of the unit of each sample, rising, -1 for what parts two of them.
    Raises ValueError for units that are too short, or too unlike in length to be set side by side.
    """
    inside = number >= 0
    if not inside.any():
        raise ValueError("it has no samples to make units of")
    own, at = number[inside], times[inside]
    first = np.flatnonzero(np.append(True, np.diff(own) > 0))
    begin = at[first]
    within = np.diff(at)[np.diff(own) == 0]
    if not len(within):
        raise ValueError("every unit is a single sample: state a longer gap or length")
    step = int(np.median(within))
    long = np.rint((at[np.append(first[1:], len(at)) - 1] - begin) / step).astype(np.int64) + 1
    usual = int(np.median(long))
    alike = np.abs(long - usual) <= max(ALIKE * usual, 1)
    if usual < LEAST_SAMPLES:
        raise ValueError(
            f"its units hold {usual} samples, too few for a shape: state a longer gap or length, {LEAST_SAMPLES} samples at least"
        )
    if alike.mean() < LEAST_ALIKE:
        raise ValueError(
            f"its {len(long)} units are of unlike length, {int(long.min())} to {int(long.max())} samples: "
            "state unit: {length: …}, or another gap"
        )
    place = np.full(len(times), -1, np.int64)
    place[inside] = np.rint((at - begin[own]) / step).astype(np.int64)
    place[place >= usual] = -1
    waves = np.full((len(first), usual), np.nan)
    on = place >= 0
    waves[number[on], place[on]] = values[on]
    return Laid(waves, number, place, step)


def parted(times: Ints, values: Floats, number: Ints) -> tuple[Ints, Floats, Ints]:
    """The samples with one that is missing after each unit, so that nothing reaches from one to the next."""
    ends = np.flatnonzero(np.diff(number) > 0)
    if not len(ends):
        return times, values, number
    step = int(np.median(np.diff(times)[np.diff(number) == 0])) if len(ends) < len(times) - 1 else 1
    after = np.minimum(times[ends] + step, times[ends + 1] - 1)
    at = ends + 1
    return np.insert(times, at, after), np.insert(values, at, np.nan), np.insert(number, at, -1)


def touched(times: Ints, number: Ints, count: int, spans: list[tuple[int, int]]) -> Bools:
    """(count,) whether a unit has a sample within one of these closed spans. times : (n,) rising."""
    out = np.zeros(count, np.bool_)
    for start, end in spans:
        own = number[np.searchsorted(times, start) : np.searchsorted(times, end, side="right")]
        out[own[own >= 0]] = True
    return out
