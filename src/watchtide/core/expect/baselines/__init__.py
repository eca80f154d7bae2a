"""Baselines: what each sample is expected to be. One file a kind, one protocol for all.

A kind is a module with two functions. `fit(frame, periods, **options) -> Fitted` learns from the usable
samples of a frame and from nothing else. `expect(fitted, frame) -> Parts` says what to expect of the
samples of any frame of the same cadence, earlier or later; what it says of a sample after training
depends on samples strictly before that one only. What is learnt is plain numbers and arrays, so that
every kind is kept and applied the same way.
"""

import importlib
from collections.abc import Sequence
from dataclasses import dataclass, field
from types import ModuleType
from typing import Any

from watchtide.core.expect.frame import Frame, Period
from watchtide.core.series import Floats

# Small networks, trained.
LEARNED = ("next-step", "reconstruction")
KINDS = (
    "loess", "classical", "harmonic", "slot", "rolling", "spectrum", "fixed", "trailing", "isolation", *LEARNED,
)  # fmt: skip
# Kinds that read the samples just before the one they judge: they follow a level by themselves.
TRAILS = ("rolling", "spectrum", "trailing", "isolation", *LEARNED)
# Kinds that say what spread they judge by; the others are judged by the spread of their residuals.
OWN_SPREAD = ("fixed", "trailing")
# Kinds without a season: it stays in their residuals.
SEASONLESS = ("fixed", "trailing", "isolation")
# Kinds that judge whole windows beside single samples, by `strength`.
WHOLE_WINDOWS = ("isolation", "reconstruction")
NEEDS_SEASON = ("classical", "slot")


@dataclass(frozen=True)
class Fitted:
    """A fitted baseline: periods, arrays and facts (plain data) that its kind alone reads."""

    kind: str
    periods: tuple[Period, ...]
    arrays: dict[str, Floats]
    facts: dict[str, Any]

    def expect(self, frame: Frame) -> "Parts":
        return module(self.kind).expect(self, frame)  # type: ignore[no-any-return]


@dataclass(frozen=True)
class Parts:
    """expected (n,) = trend (n,) + seasons (k, n).sum(0) + the more; NaN where nothing can be said.

    more : known days, covariates. spread : (n,) what the kind itself says of the spread, or None.
    """

    expected: Floats
    trend: Floats
    seasons: Floats
    more: dict[str, Floats] = field(default_factory=dict)
    spread: Floats | None = None


def module(kind: str) -> ModuleType:
    """The module of a kind. Raises ValueError for one that is not there."""
    if kind not in KINDS:
        raise ValueError(f"baseline kind must be one of auto, {', '.join(KINDS)}, got {kind!r}")
    return importlib.import_module(f"watchtide.core.expect.baselines.{kind.replace('-', '_')}")


def fit(kind: str, frame: Frame, periods: Sequence[Period], options: dict[str, Any] | None = None) -> Fitted:
    """Fit a kind to the usable samples of a frame.

    Raises ValueError for an unknown kind, a kind that needs a season and has none, and options out of range.
    """
    found = module(kind)
    if kind in NEEDS_SEASON and not periods:
        raise ValueError(f"a {kind} baseline needs a season; state one, for example seasons: [24h]")
    return found.fit(frame, tuple(periods), **(options or {}))  # type: ignore[no-any-return]
