"""The choice of a baseline, what fitting it gives, and what is then expected of each sample."""

from dataclasses import dataclass, field
from typing import Any

from watchtide.core.expect.baselines import Fitted
from watchtide.core.expect.frame import DAY_NS, Period
from watchtide.core.expect.spread import SpreadModel
from watchtide.core.series import Bools, Floats, Ints


@dataclass(frozen=True)
class Choice:
    """How to expect: every `auto` filled in.

    law : how the spread grows (even, size, count, ratio); is_multiplied : parts multiply; unit : of a ratio of
    whole counts; fold_ns : the least length held out at once; reasons in words; found : seasons that were found, in samples,
    with the share each explains.
    """

    kind: str
    periods: tuple[Period, ...] = ()
    options: dict[str, Any] = field(default_factory=dict)
    law: str = "even"
    is_multiplied: bool = False
    is_robust: bool = True
    settle_samples: int = 0
    shift_penalty: float | None = None
    unit: float = 0.0
    fold_ns: int = DAY_NS
    reasons: tuple[str, ...] = ()
    evidence: dict[str, float] = field(default_factory=dict)
    found: tuple[tuple[float, float], ...] = ()

    @property
    def is_log(self) -> bool:
        """Whether the baseline is fitted to logarithms; counts take a log link instead, where the kind has one."""
        return self.is_multiplied and not self.has_link

    @property
    def has_link(self) -> bool:
        return self.is_multiplied and self.kind == "harmonic" and self.law in ("count", "ratio")

    def cycles(self, step_ns: int) -> tuple[int, ...]:
        """Samples of each season's cycle, rounded."""
        return tuple(round(p.samples(step_ns)) for p in self.periods)


@dataclass(frozen=True)
class Model:
    """A fitted baseline with its spread: all that is needed to judge other samples of the stream.

    step : what the last lasting level adds (or multiplies by, in logarithms) to the fitted parts; group_period : the
    season whose slots share a spread; groups : slots of it; day_period, days : the longer season whose cycles of the
    shorter one differ in spread, and their number, 1 where there is none; end_ns : last sample of training; grain : the
    data's resolution in sigmas; doubt : how far a season seen less than twice may differ from what was seen of it, in the
    unit of the values.
    """

    choice: Choice
    fitted: Fitted
    spread: SpreadModel
    step: float
    group_period: Period | None
    groups: int
    end_ns: int
    grain: float
    doubt: float = 0.0
    day_period: Period | None = None
    days: int = 1

    def slot_of(self, groups: Ints) -> Ints:
        """(n,) slot of the shortest season of each group of `spread_groups`."""
        return groups // self.days


@dataclass(frozen=True)
class Training:
    """What fitting gave beside the model; arrays of (m,) over the training part.

    steps, delayed : the accepted levels, as they are and as they become the normal; held : expected values from fits
    that did not see the sample; clean : samples that may teach the noise; changes : indices of new regimes; odd :
    samples of levels that did not last; quantum : resolution of what may train; is_rare : whether most of that is one and the same
    value.
    """

    steps: Floats
    delayed: Floats
    held: Floats
    clean: Bools
    changes: Ints
    left_out: int
    odd: Bools
    quantum: float
    is_rare: bool


@dataclass(frozen=True)
class Expectation:
    """What is expected of each sample; arrays of (n,) unless said.

    expected, spread : in the unit of the values; NaN where nothing can be expected. held : signed held-out
    scores. trend, seasons (k, n), more : the parts; trend holds the accepted steps.
    level_series : values without their seasons. settling : samples still judged by the level before a step.
    """

    expected: Floats
    spread: Floats
    held: Floats
    clean: Bools
    trend: Floats
    seasons: Floats
    more: dict[str, Floats]
    level_series: Floats
    shift_candidates: Ints
    settling: Bools
    groups: Ints
    group_count: int
    isolated: Floats | None
    model: Model | None
    training: Training | None
    notes: tuple[str, ...]
