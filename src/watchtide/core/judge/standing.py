"""What a replay goes by, what it keeps to go on from, and its result."""

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from watchtide.core.expect import applying, quantile
from watchtide.core.expect.frame import frame_of
from watchtide.core.expect.quantile import Counted
from watchtide.core.expect.records import Choice, Model
from watchtide.core.judge import combining, innovations, watches
from watchtide.core.judge.flagging import Level
from watchtide.core.judge.grouping import Group
from watchtide.core.judge.watches import Beside
from watchtide.core.series import Bools, Floats, Ints, Series

# Samples that are expected in one go: many cost hardly more than one.
AHEAD = 32


@dataclass(frozen=True)
class Cadence:
    """first : samples of the first training window, none of which is judged; refit, window : in samples. reread : refits after
    which windows and level are read anew, None for about a week."""

    first: int
    refit: int
    window: int
    reread: int | None = None


@dataclass(frozen=True)
class Rules:
    """What the level is read by. has_windows : whether windows are used; cautious : sigmas that a level is at least where
    it rests on too little of the stream's own."""

    kind: str
    amount: float
    side: str
    group: Group
    has_windows: bool
    cautious: float = 0.0


@dataclass(frozen=True)
class Kept:
    """Where a replay stands at a refit: all that judging the samples from there on rests on, beside the samples themselves.

    at : the first sample that this fit judges, until_ns : the end of its bin, before which all it rests on lies. judged :
    name -> (at,) or (k, at) arrays of the samples before it, which stay as they are. It can be written down and read back
    to the last bit (`engine.upkeep`).
    """

    at: int
    until_ns: int
    choice: Choice
    model: Model
    watch: watches.Watch | None
    level: Level
    levels: tuple[Level, ...]
    refits: int
    added: float
    judged: dict[str, np.ndarray]
    rehearsed: watches.Evidence | None
    taught: Bools


@dataclass(frozen=True)
class Ahead:
    """What a fit expects of samples to come, which depends on the clock alone; arrays of (k,), one a step from `first_ns` on.

    expected, spread : in the unit of the values; slots : of the season by which values repeat.
    """

    first_ns: int
    expected: Floats
    spread: Floats
    slots: Ints


@dataclass(frozen=True)
class Tail:
    """The end of a replay: what judging the samples after it rests on until the next fit, and no more.

    left : how many samples may come until it is fitted anew. z, expected, values, slots : (r,) of the newest samples, as far
    as windows reach back, slots of the season by which values repeat; state : of the filter that knows leaps, by the
    scores of the present fit. is_counted : whether values are plain counts. ahead : what is expected of some samples to come.
    """

    left: int
    step_ns: int
    z: Floats
    expected: Floats
    values: Floats
    slots: Ints
    state: innovations.State
    is_counted: bool
    model: Model
    watch: watches.Watch | None
    level: Level
    ahead: Ahead | None = None

    def judge(
        self, times: Ints, values: Floats, offsets_of: Callable[[Ints], Ints]
    ) -> "tuple[Tail, Floats, watches.Evidence]":
        """The samples that come next on the grid: the tail with them, and of each its score and its evidence, as a replay has
        them but for rounding. offsets_of : gives the offsets of the stream's wall clock at (n,) times, in ns. Raises ValueError
        beyond where the next fit is due."""
        m, r = len(values), len(self.z)
        if m > self.left:
            raise ValueError(f"the next fit is due after {self.left} samples, not {m}")
        ahead = self._ahead_of(int(times[0]), m, offsets_of)
        i = (int(times[0]) - ahead.first_ns) // self.step_ns
        here = slice(i, i + m)
        expected = ahead.expected[here]
        law = Counted.plain(m) if self.is_counted else None
        z = quantile.score(values, expected, ahead.spread[here], applying.counted_by(self.model, law))
        if self.watch is None:
            return replace(self, left=self.left - m, ahead=ahead), z, watches.alone(z)
        slots = np.concatenate((self.slots, ahead.slots[here]))
        scores, due, seen = (
            np.concatenate(both) for both in ((self.z, z), (self.expected, expected), (self.values, values))
        )
        event = Counted.plain(r + m).event if self.is_counted else None
        beside = Beside(seen, slots, expected=due, event=event)
        follower = self.watch.follower
        leaps = None if follower is None else innovations.leaps(z, follower, self.state)
        evidence = combining.combine(self.watch, scores, beside, is_causal=True, leaps=leaps, since=r)
        a = max(r + m - reach_of(self.watch), 0)
        now = replace(
            self,
            left=self.left - m,
            z=scores[a:],
            expected=due[a:],
            values=seen[a:],
            slots=slots[a:],
            state=self.state if leaps is None else leaps.state,
            ahead=ahead,
        )
        return now, z, evidence

    def _ahead_of(self, first_ns: int, m: int, offsets_of: Callable[[Ints], Ints]) -> Ahead:
        """What is expected of m samples from one on, and of some after them where that is not known yet."""
        known = self.ahead
        if known is not None and (first_ns - known.first_ns) // self.step_ns + m <= len(known.expected):
            return known
        times = first_ns + self.step_ns * np.arange(max(m, min(AHEAD, self.left)), dtype=np.int64)
        nothing = np.full(len(times), np.nan)
        frame = frame_of(Series(times, nothing, self.step_ns, offsets_of(times)))
        parts, expected = applying.judge(self.model, frame)
        groups = applying.spread_groups(frame, self.model)
        spread = applying.spread_at(self.model, parts, expected, groups, None, frame)
        return Ahead(first_ns, expected, spread, self.model.slot_of(groups))


@dataclass(frozen=True)
class Replayed:
    """Arrays of (n,), NaN where nothing was judged.

    expected, spread; evidence; above, below, odd : the level in force at each sample. trend, seasons : parts. held :
    signed scores a level may be read from; with_windows : the same with windows, and of the first window those that its level was
    read from; clean : which of them may teach. counted : of the samples that a counting law judged, NaN elsewhere. lacking : where the level rests on too few scores of this stream. levels : one a
    reading; refits : how many fits; kept : where it stands, to go on from; None before the first fit.
    tail : what judging the next samples rests on; None too where values have denominators or columns beside them.
    """

    expected: Floats
    spread: Floats
    evidence: watches.Evidence
    above: Floats
    below: Floats
    odd: Floats
    trend: Floats
    seasons: Floats
    held: Floats
    with_windows: watches.Evidence
    clean: Bools
    lacking: Bools
    levels: tuple[Level, ...]
    added: float
    counted: Counted
    refits: int
    notes: tuple[str, ...]
    model: Model | None
    kept: Kept | None = None
    tail: Tail | None = None


def reach_of(watch: watches.Watch | None) -> int:
    """How many samples before each one its windows reach back."""
    return 2 * int(watch.lengths[-1]) if watch is not None else 0
