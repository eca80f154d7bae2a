"""What a stage gives: the baseline stage of one stream, and the stream scanned."""

from dataclasses import dataclass, field
from typing import Any

import numpy as np

from watchtide.core.expect import quantile
from watchtide.core.expect.carrying import Carry
from watchtide.core.expect.quantile import Counted
from watchtide.core.expect.records import Model
from watchtide.core.judge import flagging, promises, watches
from watchtide.core.scoring.rows import Finding
from watchtide.core.series import Bools, Floats, Ints, Series, Strings
from watchtide.core.series.transforms import Transform


@dataclass(frozen=True)
class InForce:
    """Levels in force in a replay; arrays of (n,), NaN where nothing was judged. Empty for a fit, which has one level.

    lacking : where they rest on too little of the stream's own.
    """

    above: Floats
    below: Floats
    odd: Floats
    lacking: Bools

    @classmethod
    def none(cls) -> "InForce":
        empty = np.empty(0)
        return cls(empty, empty, empty, np.empty(0, np.bool_))

    def __len__(self) -> int:
        return len(self.above)


@dataclass(frozen=True)
class Units:
    """Units that were judged as wholes; arrays of (k,), empty where samples are judged by themselves.

    start, end : first and last stamp of each, ns in UTC; part : one of `core.units.PARTS`; score : NaN where one is mostly missing.
    """

    start: Ints
    end: Ints
    part: Strings
    score: Floats

    @classmethod
    def none(cls) -> "Units":
        stamps = np.empty(0, np.int64)
        return cls(stamps, stamps, np.empty(0, dtype="U10"), np.empty(0))

    def __len__(self) -> int:
        return len(self.start)


@dataclass(frozen=True)
class Baselined:
    """What the fitting stage gives: everything that does not depend on the level. Arrays of (n,) unless said.

    evidence : scores with windows; held_out : that of held-out scores, from which levels are read. counted : of the
    samples judged by a counting law, NaN elsewhere. model, transform, watch, carry : kept where the model is to be saved.
    """

    key: str
    zone: str
    series: Series
    expected: Floats
    spread: Floats
    counted: Counted
    trend: Floats
    seasons: Floats
    level_series: Floats
    clean: Bools
    train_stop: int
    shift_candidates: Ints
    stream_spread: float
    found_seasons: tuple[tuple[float, float], ...]
    resolved: dict[str, Any]
    notes: tuple[str, ...]
    evidence: watches.Evidence
    held_out: watches.Evidence
    in_force: InForce = field(default_factory=InForce.none)
    units: Units = field(default_factory=Units.none)
    mode: str = "fit"
    model: Model | None = field(default=None, compare=False)
    transform: Transform | None = field(default=None, compare=False)
    watch: watches.Watch | None = field(default=None, compare=False)
    carry: Carry | None = field(default=None, compare=False)

    @property
    def score(self) -> Floats:
        """(n,) size of the deviation in sigmas, windows included."""
        return self.evidence.score

    @property
    def held(self) -> promises.Held:
        return promises.Held(
            self.held_out,
            self.clean,
            self.series.axis,
            self.series.step_ns,
            self.resolved["facts"].get("grain", 0.0),
            self.resolved["facts"].get("added", 0.0),
        )

    @property
    def own_score(self) -> Floats:
        """(n,) signed score of each sample by itself, without windows; NaN where it is missing."""
        return quantile.score(self.series.values, self.expected, self.spread, self.counted)

    def values_at(self, level: Floats | float, at: Ints | slice | None = None) -> Floats:
        """Values at which a sample's own signed score reaches this level: of all samples, or of those at these places."""
        some = slice(None) if at is None else at
        return quantile.values_at(level, self.expected[some], self.spread[some], self.counted.at(some))

    @property
    def z(self) -> Floats:
        """(n,) score with the sign of its side, windows included; NaN where not judged."""
        return self.evidence.signed


@dataclass(frozen=True)
class Scanned:
    """One stream scanned: the baseline stage, its level, and its findings.

    promised : promises.promise at the 201 levels, where the tails were read for this."""

    base: Baselined
    z: Floats
    level: flagging.Level
    flags: np.ndarray
    in_finding: Bools
    findings: tuple[Finding, ...]
    resolved: dict[str, Any]
    promised: tuple[Floats | None, Floats | None] = (None, None)
