"""What a replay goes by, what it keeps to go on from, and its result."""

from dataclasses import dataclass, replace

import numpy as np

from watchtide.core.expect import applying
from watchtide.core.expect.frame import frame_of
from watchtide.core.expect.quantile import Counted
from watchtide.core.expect.records import Choice, Model
from watchtide.core.judge import combining, watches
from watchtide.core.judge.flagging import Level
from watchtide.core.judge.grouping import Group
from watchtide.core.judge.watches import Beside
from watchtide.core.series import Bools, Floats, Ints, Series


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
class Tail:
    """The end of a replay: what judging the samples after it rests on until the next fit, and no more.

    left : how many samples may come until it is fitted anew. z, expected, values, slots : (r,) of the newest samples, as far
    as windows reach back, slots of the season by which values repeat; near : (k,) scores by the present fit, by which
    leaps are known, None where they are not looked for. is_counted : whether values are plain counts.
    """

    left: int
    step_ns: int
    z: Floats
    expected: Floats
    values: Floats
    slots: Ints
    near: Floats | None
    is_counted: bool
    model: Model
    watch: watches.Watch | None
    level: Level

    def judge(self, times: Ints, values: Floats, offsets_ns: Ints) -> "tuple[Tail, Floats, watches.Evidence]":
        """The samples that come next on the grid: the tail with them, and of each its score and its evidence, as a replay has
        them but for rounding. Raises ValueError beyond where the next fit is due."""
        m = len(values)
        if m > self.left:
            raise ValueError(f"the next fit is due after {self.left} samples, not {m}")
        plain = frame_of(Series(times, values, self.step_ns, offsets_ns))
        frame = replace(plain, counted=Counted.plain(m) if self.is_counted else None)
        parts, expected = applying.judge(self.model, frame)
        groups = applying.spread_groups(frame, self.model)
        spread = applying.spread_at(self.model, parts, expected, groups, None, frame)
        z = applying.score_of(self.model, frame, expected, spread)
        near = None if self.near is None else np.concatenate((self.near, z))
        if self.watch is None:
            return replace(self, left=self.left - m), z, watches.alone(z)
        r = len(self.z)
        fresh = (z, expected, values, self.model.slot_of(groups))
        known = (self.z, self.expected, self.values, self.slots)
        scores, due, seen, slots = (np.concatenate(both) for both in zip(known, fresh, strict=True))
        event = Counted.plain(r + m).event if self.is_counted else None
        beside = Beside(seen, slots, expected=due, event=event)
        evidence = combining.combine(self.watch, scores, beside, is_causal=True, near=near, since=r)
        a = max(r + m - reach_of(self.watch), 0)
        now = replace(
            self,
            left=self.left - m,
            z=scores[a:],
            expected=due[a:],
            values=seen[a:],
            slots=slots[a:],
            near=near,
        )
        return now, z, evidence


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
