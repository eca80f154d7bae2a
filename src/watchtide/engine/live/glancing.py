"""Between two fits: whether the next samples of a stream are calm, judged from the end of its replay alone.

Most ticks of a watched stream find nothing new. A glance judges a sample as a replay of the whole history does, but holds only
what that rests on; wherever the replay might find, end or choose something, it leaves it to the whole.
"""

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from watchtide.core import series, shifts
from watchtide.core.judge import flagging, standing
from watchtide.core.series import Floats, Ints, cadence
from watchtide.core.series.gridding import Track
from watchtide.engine.prepare.preparing import Input, Prepared
from watchtide.plan import Plan
from watchtide.tables import clock

# Bins that are judged at a glance at most; a longer absence is for the whole.
MOST_BINS = 256
# A glance rounds otherwise than the whole: what is this near to a level is for the whole.
NEARLY = 1 - 1e-6


@dataclass(frozen=True)
class Glance:
    """Where a stream stands between two fits.

    until_ns : end of the newest judged bin; ready_ns : from when on another choice may be due, None for never; combine : how
    samples of a bin become one; tests : those for lasting changes, of the scores, then of their size; track : where stamps
    stray about their round times; stamps : the newest ones; times, values : samples that came after the judged bins.
    """

    tail: standing.Tail
    until_ns: int
    ready_ns: int | None
    combine: str
    zone: str
    tests: tuple[shifts.Running, ...]
    track: Track | None
    stamps: Ints
    times: Ints
    values: Floats

    @property
    def newest_ns(self) -> int:
        """The newest stamp that has come."""
        return int(self.times[-1] if len(self.times) else self.stamps[-1])

    def look(
        self, times: Ints, values: Floats, now_ns: int, wait_ns: int, skip_last: int = 0
    ) -> "tuple[Glance, int] | None":
        """More samples, sorted, as far as their bins are complete by now: the next glance, and how many samples it has judged,
        all of them calm. None where a replay of the whole has to say: a sample came late, one is flagged, or a fit is due."""
        return self.with_samples(times, values).go_on(now_ns, wait_ns, skip_last)

    def go_on(self, now_ns: int, wait_ns: int, skip_last: int = 0) -> "tuple[Glance, int] | None":
        """The same of the samples that have come already."""
        step = self.tail.step_ns
        if not len(self.times):
            return self, 0
        bins = self._bins()
        if bins is None or bins[0] < 0 or np.any(np.diff(bins) < 0):
            return None
        # As `upkeep.complete` counts them: bins through the newest sample's that ended so long ago.
        count = min(int(bins[-1]) + 1 - skip_last, (now_ns - wait_ns - self.until_ns) // step)
        if count <= 0:
            return self, 0
        until = self.until_ns + count * step
        is_due = count > self.tail.left or (self.ready_ns is not None and until > self.ready_ns)
        return None if is_due or count > MOST_BINS else self._judged(bins, count, until)

    def _bins(self) -> Ints | None:
        """(n,) bins of what has come, counted from the end of the newest judged one; None where only all samples can say."""
        if self.track is None:
            return (self.times - self.until_ns) // self.tail.step_ns
        if self.times[0] <= self.track.last_ns:
            return None
        placed = self.track.places(self.times)
        return None if placed is None else (placed[0] - self.until_ns) // self.tail.step_ns

    def with_samples(self, times: Ints, values: Floats) -> "Glance":
        """The same with more samples, sorted, of bins that are not judged yet."""
        if not len(times):
            return self
        if not len(self.times):
            return replace(self, times=times, values=values)
        t, v = np.concatenate((self.times, times)), np.concatenate((self.values, values))
        if np.any(np.diff(t) <= 0):
            # Of two with one stamp the one that came last counts.
            t, first = np.unique(t[::-1], return_index=True)
            v = v[::-1][first]
        return replace(self, times=t, values=v)

    def _judged(self, bins: Ints, count: int, until_ns: int) -> "tuple[Glance, int] | None":
        step, k = self.tail.step_ns, int(np.searchsorted(bins, count))
        times, values, bins = self.times[:k], self.values[:k], bins[:k]
        if k < len(self.times) and self.times[k] < until_ns:
            # It came early for a bin that is not over yet; the whole takes it along.
            return None
        track = self.track
        if track is not None and (placed := track.places(times)) is not None:
            track = placed[1]
        stamps = np.concatenate((self.stamps, times))[-cadence.TELLING :]
        if cadence.may_coarsen(stamps, step):
            return None
        binned = values
        if len(bins) != count or self.combine == "count" or np.any(np.diff(bins) != 1):
            seen = ~np.isnan(values)
            binned = series.combine_bins(bins[seen], values[seen], count, self.combine)
        grid = self.until_ns + step * np.arange(count, dtype=np.int64)
        tail, z, evidence = self.tail.judge(grid, binned, lambda t: clock.utc_offsets(t, self.zone))
        level = self.tail.level
        if flagging.flag(evidence, *(NEARLY * x for x in (level.above, level.below, level.odd))).any():
            return None
        tests = _after(self.tests, z[~np.isnan(z)])
        if tests is None:
            return None
        now = replace(
            self,
            tail=tail,
            until_ns=until_ns,
            tests=tests,
            track=track,
            stamps=stamps,
            times=self.times[k:],
            values=self.values[k:],
        )
        return now, int(np.sum(~np.isnan(evidence.signed)))

    @property
    def size(self) -> int:
        """About how many bytes it takes."""
        t = self.tail
        arrays = (t.z, t.expected, t.values, t.slots, self.stamps, self.times, self.values)
        return sum(a.nbytes for a in arrays) + OTHER_BYTES


# A model, its windows and the objects around them.
OTHER_BYTES = 24_000


def begin(
    stream: Input,
    prepared: Prepared,
    plan: Plan,
    tail: standing.Tail | None,
    tests: Sequence[shifts.Running],
) -> Glance | None:
    """A glance from where a replay stands; None where one would not do."""
    laid, step = prepared.series, prepared.cadence.step_ns
    is_plain = (
        prepared.cadence.is_even
        and (prepared.found.is_exact or prepared.track is not None)
        and not clock.is_calendar(step)
        and plan.prepare.transform == "none"
        and not plan.prepare.filter
        and plan.discords.window == "none"
        and plan.shifts.of != "slope"
    )
    if tail is None or not is_plain:
        return None
    return Glance(
        tail=tail,
        until_ns=int(laid.times[-1]) + step,
        ready_ns=None,
        combine=prepared.resolved["combine"],
        zone=stream.zone,
        tests=tuple(tests),
        track=prepared.track,
        stamps=np.sort(stream.times)[-cadence.TELLING :].copy(),
        times=np.empty(0, np.int64),
        values=np.empty(0),
    )


def _after(tests: Sequence[shifts.Running], z: Floats) -> tuple[shifts.Running, ...] | None:
    """Each test after these scores; None where one might raise something."""
    out = []
    for i, test in enumerate(tests):
        now: shifts.Running | None = test
        for x in z if i == 0 else shifts.sizes(z):
            now = None if now is None else now.after(float(x))
        if now is None:
            return None
        out.append(now)
    return tuple(out)
