"""Columns of a harmonic regression: waves of each season, shared ones once, bends of the trend, and what else is known."""

from dataclasses import dataclass
from fractions import Fraction
from functools import cached_property, lru_cache
from itertools import pairwise

import numpy as np
from numba import njit
from scipy.linalg import blas

from watchtide.core.expect.frame import DAY_NS, Frame, Period, phase
from watchtide.core.series import Bools, Floats, Ints

# Harmonics of a season at most, and of those of a shorter season whose shape a longer one may change.
MOST_HARMONICS = 24
MOST_SHARED = 10


@dataclass(frozen=True)
class Layout:
    """Columns of the design: frequencies by period and order, knots of the trend, and what stands beside.

    period : (h,) which period's powers give each harmonic; order : (h,) its order there; owner : (h,) which
    season it belongs to; roughness : (h,) its order within a shortest season; shared : (h,) whether
    it lets a longer season change the shape of a shorter one.
    """

    period: Ints
    order: Ints
    owner: Ints
    roughness: Floats
    shared: Bools


def harmonics(periods: tuple[Period, ...], step_ns: int, most: int, n: int) -> Layout:
    """Which harmonics a set of seasons has, each frequency once, below half the sampling rate."""
    # At most a coefficient for every three samples; few enough rooms that layouts are made but once.
    return _layout(periods, step_ns, most, max(n // 3, 4) if n < 2000 else 700)


@lru_cache(maxsize=128)
def _layout(periods: tuple[Period, ...], step_ns: int, most: int, room: int) -> Layout:
    rows: list[tuple[int, int, int, float, bool]] = []
    taken: set[Fraction] = set()
    by_length = sorted(range(len(periods)), key=lambda i: periods[i].ns)
    for place, i in enumerate(by_length):
        p = periods[i]
        inner = next((j for j in reversed(by_length[:place]) if _divides(periods[j], p) is not None), None)
        ratio = _divides(periods[inner], p) if inner is not None else None
        orders = range(1, (min(most, MOST_SHARED) * ratio if ratio else most) + 1)
        for order in orders:
            cycles = order * step_ns / p.ns
            if cycles >= 0.5 or len(rows) * 2 >= room:
                break
            frequency = Fraction(order, p.ns)
            if frequency in taken:
                continue
            taken.add(frequency)
            rows.append((i, order, i, order / ratio if ratio else float(order), bool(ratio) and order > 3))
    columns = list(zip(*rows, strict=True)) if rows else [(), (), (), (), ()]
    return Layout(
        np.array(columns[0], np.int64),
        np.array(columns[1], np.int64),
        np.array(columns[2], np.int64),
        np.array(columns[3], np.float64),
        np.array(columns[4], np.bool_),
    )


def _divides(short: Period, long: Period) -> int | None:
    """How many times a season fits into a longer one, where it does so exactly and at most 14 times."""
    ratio = long.ns / short.ns
    whole = round(ratio)
    return (
        whole if 2 <= whole <= 14 and abs(ratio - whole) < 1e-6 and short.is_local == long.is_local else None
    )


@dataclass(frozen=True)
class Design:
    """Columns in two parts, because seasons repeat: slow (n, m) row by row, and seasons (u, 2 h) once a distinct phase.

    slow : 1, time in fortnights, hinges, what stands beside; at : (n,) which distinct phase each row has; plain : of the whole
    design that these are rows of, where it is another one.
    """

    slow: Floats
    seasons: Floats
    at: Ints
    plain: "Design | None" = None

    @cached_property
    def _squares(self) -> Floats:
        """Columns of the seasons times columns, each distinct phase once."""
        return _squared(self.seasons) if self.plain is None else self.plain._squares

    def __matmul__(self, beta: Floats) -> Floats:
        m = self.slow.shape[1]
        return np.asarray(self.slow @ beta[:m] + (self.seasons @ beta[m:])[self.at])

    def moment(self, v: Floats) -> Floats:
        """Columns times v."""
        m = self.slow.shape[1]
        out = np.empty(m + self.seasons.shape[1])
        np.matmul(self.slow.T, v, out=out[:m])
        np.matmul(self.seasons.T, np.bincount(self.at, v, len(self.seasons)), out=out[m:])
        return out

    def gram(self, w: Floats) -> Floats:
        """Columns times w times columns: the season's part costs by distinct phases, not by samples, and by those alone whose
        weights are not the usual sum, where these are few."""
        m, u = self.slow.shape[1], len(self.seasons)
        weighted = self.slow * w[:, None]
        out = np.empty((m + self.seasons.shape[1],) * 2)
        out[:m, :m] = self.slow.T @ weighted
        if self.seasons.shape[1]:
            sums = np.bincount(self.at, w, u)
            usual = float(np.median(sums))
            odd = np.flatnonzero(sums != usual)
            if 2 * len(odd) < u:
                rows = self.seasons[odd]
                out[m:, m:] = usual * self._squares + rows.T @ (rows * (sums[odd] - usual)[:, None])
            else:
                out[m:, m:] = _squared(self.seasons * np.sqrt(sums)[:, None])
        out[:m, m:] = _by_phase(weighted, self.at, u).T @ self.seasons
        out[m:, :m] = out[:m, m:].T
        return out

    def rows(self, keep: np.ndarray) -> "Design":
        return Design(self.slow[keep], self.seasons, self.at[keep], self.plain or self)


def _squared(rows: Floats) -> Floats:
    """Columns times columns, both halves of it."""
    half = blas.dsyrk(1.0, rows.T, lower=1)
    return np.asarray(half + np.tril(half, -1).T)


@njit(cache=True, nogil=True)
def _by_phase(rows, at, count):  # type: ignore[no-untyped-def]
    """(count, m) sums of the rows of each distinct phase."""
    out = np.zeros((count, rows.shape[1]))
    for i in range(len(at)):
        for j in range(rows.shape[1]):
            out[at[i], j] += rows[i, j]
    return out


@njit(cache=True, nogil=True)
def _season_rows(phases, period, order, out):  # type: ignore[no-untyped-def]
    """Cosine and sine of each harmonic, row by row, so that a row never depends on how many there are."""
    h = len(period)
    for i in range(len(phases)):
        c = s = turn_c = turn_s = 0.0
        last = -1
        at = 0
        for j in range(h):
            if period[j] != last:
                last = period[j]
                turn_c = np.cos(2.0 * np.pi * phases[i, last])
                turn_s = np.sin(2.0 * np.pi * phases[i, last])
                c, s, at = 1.0, 0.0, 0
            while at < order[j]:
                c, s = c * turn_c - s * turn_s, c * turn_s + s * turn_c
                at += 1
            out[i, 2 * j] = c
            out[i, 2 * j + 1] = s


@njit(cache=True, nogil=True)
def _dot_rows(x, beta):  # type: ignore[no-untyped-def]
    """Rows times coefficients, summed in one order whatever the number of rows."""
    out = np.zeros(len(x))
    for i in range(len(x)):
        for j in range(len(beta)):
            out[i] += x[i, j] * beta[j]
    return out


def design_of(
    frame: Frame, periods: tuple[Period, ...], layout: Layout, origin: int, end: int, knots: Floats
) -> Design:
    """Columns of a frame. Time stops at the end of training: beyond it the trend holds its level."""
    position = (np.clip(frame.times, origin, end) - origin) / _SPACING_UNIT
    hinges = np.maximum(position[:, None] - knots[None, :], 0.0)
    beside = np.nan_to_num(frame.columns, nan=0.0).T
    slow = np.column_stack([np.ones(len(frame)), position, hinges, beside])
    if not periods:
        return Design(slow, np.zeros((1, 0)), np.zeros(len(frame), np.int64))
    phases = np.stack([phase(frame, p) for p in periods], axis=1)
    if len(periods) == 1 or all(_divides(a, b) for a, b in pairwise(sorted(periods, key=lambda p: p.ns))):
        # Nested seasons: the longest one's phase says all.
        key = phases[:, int(np.argmax([p.ns for p in periods]))]
        _, first, at = np.unique(key, return_index=True, return_inverse=True)
        phases = phases[first]
    else:
        at = np.arange(len(frame))
    rows = np.empty((len(phases), 2 * len(layout.order)))
    _season_rows(np.ascontiguousarray(phases), layout.period, layout.order, rows)
    return Design(slow, rows, at)


_SPACING_UNIT = 14.0 * DAY_NS
