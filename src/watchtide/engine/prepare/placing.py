"""Raw samples on the grid of a cadence: the bin of each sample, the clock the grid follows, and notes about it."""

from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np

from watchtide.core.series import Floats, Ints, Series, SeriesError, gridding, regrid
from watchtide.core.series.calendar import MONDAY_NS
from watchtide.core.series.gridding import Grid
from watchtide.core.series.steps import DAY_NS, Cadence, Found
from watchtide.plan import durations
from watchtide.tables import clock


@dataclass(frozen=True)
class Placing:
    """How the samples of one stream are laid.

    found : the cadence of the stamps; way : that of the grid; times : (n,) stamps in UTC, in order; early : how many of them
    decide where in a step the grid lies, None lets all of them.
    """

    found: Found
    way: Cadence
    zone: str
    times: Ints
    early: int | None = None

    @property
    def is_local(self) -> bool:
        """Whether the grid follows the wall clock: days and longer do."""
        return self.way.kind in ("months", "workday") or (
            self.way.is_even and clock.is_calendar(self.way.step_ns)
        )

    @cached_property
    def stamps(self) -> Ints:
        """(n,) the stamps on the clock of the grid."""
        return clock.utc_locals(self.times, self.zone) if self.is_local else self.times

    @cached_property
    def anchor_ns(self) -> int:
        """Where the grid begins: a Monday for days and weeks, else the round time of the zone."""
        if self.is_local:
            return MONDAY_NS
        first = self.times[:1]
        return -int(clock.utc_offsets(first, self.zone)[0]) % self.way.step_ns if len(first) else 0

    @cached_property
    def grid(self) -> Grid | None:
        """Where each sample goes; None for an even grid that `regrid` lays by itself."""
        if len(self.times) == 0:
            return None
        match self.way.kind:
            case "months":
                return gridding.lay_months(self.stamps, self.way)
            case "workday":
                return gridding.lay_workdays(self.stamps, self.way)
            case "rows":
                return gridding.lay_rows(self.times, self.way)
        if not self._strays or self.found.cadence != self.way:
            return None
        return gridding.lay_jittered(self.stamps, self.found, self.anchor_ns)

    @property
    def _strays(self) -> bool:
        """Whether the stamps jitter about one fixed cadence."""
        return not self.found.is_exact and self.found.is_regular and self.found.change is None

    @cached_property
    def _settled(self) -> Ints:
        """(n,) stamps as an even grid takes them: where they jitter about a finer cadence, the round times they belong to."""
        own = self.found.cadence
        if not self._strays or not own.is_even or own.step_ns >= self.way.step_ns:
            return self.stamps
        laid = gridding.lay_jittered(self.times, self.found, self.anchor_ns % own.step_ns)
        labels = laid.labels[laid.bins]
        return clock.utc_locals(labels, self.zone) if self.is_local else labels

    def series(self, values: Floats, combine: str) -> Series:
        """The values, in the order of the stamps, on the grid."""
        grid = self.grid
        if grid is None:
            stamps = self._settled
            early = None if self.early is None else stamps[: self.early]
            out = regrid(
                stamps, values, self.way.step_ns, combine=combine, anchor_ns=self.anchor_ns, spoken=early
            )
            return self._on_the_clock(out)
        out = Series(
            grid.labels,
            gridding.combined(grid, self.times, values, combine),
            self.way.step_ns,
            np.zeros(len(grid), np.int64),
            None if self.way.is_even else grid.axis,
            grid.ends,
        )
        return self._on_the_clock(out)

    def _on_the_clock(self, series: Series) -> Series:
        """A series laid on the clock of the grid, with its stamps in UTC and their offsets."""
        if self.is_local and self.zone != "UTC":
            times = clock.localise(series.times, self.zone).times
            ends = clock.localise(series.ends, self.zone).times
            series = replace(series, times=times, ends_ns=ends)
        return replace(series, offsets_ns=clock.utc_offsets(series.times, self.zone))

    def refuse_doubles(self) -> None:
        """Raise SeriesError where a working day holds several samples and nothing says how they combine."""
        grid = self.grid
        at = None if grid is None else gridding.doubled(grid)
        if grid is None or at is None:
            return
        day = str(grid.labels[at].astype("datetime64[ns]").astype("datetime64[D]"))
        count = int(np.sum(grid.bins == at))
        raise SeriesError(
            f"{day} holds {count} samples, a working day takes one; state how they combine (--combine mean, last …), or take "
            "--every rows"
        )

    def notes(self) -> list[str]:
        """What to report of the cadence."""
        out = []
        change = self.found.change
        if change is not None:
            before, after = durations.format_every(change.before), durations.format_every(change.after)
            out.append(
                f"the cadence changes from {before} to {after} at {clock.format_time(change.begins_ns)}; the coarser one is taken"
            )
        if not self.found.is_regular and self.found.cadence == self.way:
            every = durations.format_every(self.way)
            out.append(
                f"the stamps have no even cadence: taken every {every}; state --every, or rows for rows in order"
            )
        if self.way.kind == "rows":
            out.append("each row follows the one before, whatever the stamps")
        if self.grid is not None and len(self.grid.held):
            out.append(
                f"{len(self.grid.held)} bins repeat the one before: the sender's clock drifts past their edge, no sample is missing"
            )
        if self.way.kind == "workday":
            off = np.isin((self.stamps - MONDAY_NS) // DAY_NS % 7, self.way.weekdays, invert=True)
            if off.any():
                out.append(
                    f"{int(off.sum())} samples lie on other weekdays and count for the working day before"
                )
        return out
