"""What a stage gives: the baseline stage of one stream, and the stream scanned."""

from dataclasses import dataclass, field
from typing import Any

import numpy as np

from watchtide.core import flagging, windows
from watchtide.core.carrying import Carry
from watchtide.core.expectation import Model
from watchtide.core.scoring.rows import Finding
from watchtide.core.series import Bools, Floats, Ints, Series
from watchtide.core.transforms import Transform


@dataclass(frozen=True)
class Baselined:
    """What the fitting stage gives: everything that does not depend on the level. Arrays of (n,) unless said.

    score, side, window, first : evidence (windows.Evidence); held_score, held_side, held_window : that of held-out scores, from which
    levels are read. above, below, odd : levels in force in replay, else empty; lacking : where those rest on too little of the
    stream's own. model : kept where it is to be saved.
    """

    key: str
    zone: str
    series: Series
    expected: Floats
    spread: Floats
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
    score: Floats
    side: Ints
    window: Ints
    first: Ints
    held_score: Floats
    held_side: Ints
    held_window: Ints
    above: Floats
    below: Floats
    odd: Floats
    lacking: Bools
    mode: str = "fit"
    model: Model | None = field(default=None, compare=False)
    transform: Transform | None = field(default=None, compare=False)
    watch: windows.Watch | None = field(default=None, compare=False)
    carry: Carry | None = field(default=None, compare=False)

    @property
    def evidence(self) -> windows.Evidence:
        return windows.Evidence(self.score, self.side.astype(np.int8), self.window, self.first)

    @property
    def held(self) -> flagging.Held:
        side = self.held_side.astype(np.int8)
        heard = windows.Evidence(self.held_score, side, self.held_window, self.first)
        return flagging.Held(
            heard,
            self.clean,
            self.series.axis,
            self.series.step_ns,
            self.resolved["facts"].get("grain", 0.0),
            self.resolved["facts"].get("added", 0.0),
        )

    @property
    def z(self) -> Floats:
        """(n,) score with the sign of its side, windows heard; NaN where not judged."""
        return self.evidence.signed


@dataclass(frozen=True)
class Scanned:
    """One stream scanned: the baseline stage, its level, and its findings.

    promised : flagging.promise at the 201 levels, where the tails were read for this."""

    base: Baselined
    z: Floats
    level: flagging.Level
    flags: np.ndarray
    in_finding: Bools
    findings: tuple[Finding, ...]
    resolved: dict[str, Any]
    promised: tuple[Floats | None, Floats | None] = (None, None)
