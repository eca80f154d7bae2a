"""The plan as typed models. Every key has a default; `auto` stands wherever the data can decide."""

from typing import Annotated, Any, Literal

import yaml
from pydantic import AfterValidator, BaseModel, ConfigDict, Field, ValidationError, model_validator

from watchtide.plan import durations, parsing

# Options of each kind: what a value must be. A duration is turned into nanoseconds when a stream's cadence is known.
OPTIONS: dict[str, dict[str, str]] = {
    "auto": {},
    "loess": {"season_window": "odd", "trend_window": "odd", "sweeps_robust": "count"},
    "classical": {},
    "harmonic": {"harmonics": "count", "bends": "duration", "robust": "flag"},
    "slot": {"centre": "median|mean|trimmed", "previous": "count"},
    "rolling": {"window": "duration", "centre": "median|mean"},
    "spectrum": {"window": "duration", "rank": "count", "method": "reconstruction|forecast"},
    "fixed": {"lower": "number", "upper": "number"},
    "trailing": {"reference": "duration", "gap": "duration", "share": "share"},
    "isolation": {"lags": "count", "trees": "count", "subsample": "count", "share": "share", "seed": "count"},
    "next-step": {
        "window": "duration",
        "epochs": "count",
        "hidden": "count",
        "patience": "count",
        "seed": "count",
        "per": "stream|family",
    },
    "reconstruction": {
        "window": "duration",
        "stride": "count",
        "epochs": "count",
        "bottleneck": "count",
        "patience": "count",
        "seed": "count",
        "per": "stream|family",
    },
    "auto+learned": {},
}


def check_option(kind: str, name: str, value: Any) -> None:
    """Raise ValueError, with what it may be, for an option that a kind does not have or cannot use."""
    known = OPTIONS[kind]
    if name not in known:
        has = ", ".join(sorted(known)) or (
            "none; state the kind first" if kind.startswith("auto") else "none"
        )
        raise ValueError(f"options.{name} is not known for {kind}; it has: {has}")
    form = known[name]
    is_number = isinstance(value, int | float) and not isinstance(value, bool)
    is_whole = isinstance(value, int) and not isinstance(value, bool)
    if name == "season_window" and isinstance(value, list):
        for each in value:
            check_option(kind, name, each)
        return
    fits, words = {
        "odd": (is_whole and value >= 3 and value % 2 == 1, "an odd number from 3 on"),
        "count": (is_whole and value >= (0 if name == "sweeps_robust" else 1), "a whole number from 1 on"),
        "number": (is_number, "a number"),
        "share": (is_number and 0 < value < 1, "between 0 and 1"),
        "flag": (isinstance(value, bool), "true or false"),
        "duration": (isinstance(value, str | int | float), "a duration such as 24h"),
    }.get(form, (value in form.split("|"), f"one of {', '.join(form.split('|'))}"))
    if not fits:
        raise ValueError(f"options.{name} must be {words}, got {value!r}")
    if form == "duration":
        durations.parse_ns(value, step_ns=1)


def _duration(value: str | int | float) -> str | int | float:
    durations.parse_ns(value, step_ns=1)
    return value


def _duration_or_auto(value: str | int | float) -> str | int | float:
    return value if value == "auto" else _duration(value)


def _level(value: dict[str, float]) -> dict[str, float]:
    check_level(value)
    return value


Duration = Annotated[str | int | float, AfterValidator(_duration)]
AutoDuration = Annotated[str | int | float, AfterValidator(_duration_or_auto)]


def _every(value: str | int | float) -> str | int | float:
    durations.check_every(value)
    return value


Every = Annotated[str | int | float, AfterValidator(_every)]


class Part(BaseModel):
    # What stands below a key is its description in the JSON Schema and in the guide.
    model_config = ConfigDict(extra="forbid", populate_by_name=True, use_attribute_docstrings=True)


class Unit(Part):
    """What of a stream is judged as one: a burst that ends where nothing comes for longer than `gap`, or a stretch of `length`."""

    gap: Duration | None = None
    """A burst of samples is one unit; it ends where nothing comes for longer than this."""
    length: Duration | None = None
    """A stretch of this length is one unit."""

    @model_validator(mode="after")
    def one_of_them(self) -> "Unit":
        if (self.gap is None) == (self.length is None):
            raise ValueError("give either gap or length")
        return self


class Prepare(Part):
    every: Every = "auto"
    """Cadence of the grid that samples are brought to."""
    combine: Literal["auto", "mean", "sum", "count", "min", "max", "last", "p50", "p95", "p99"] = "auto"
    """How several samples of one bin become one."""
    as_: Literal["auto", "value", "count", "ratio"] = Field("auto", alias="as")
    """What the values are: of counts and ratios the spread follows the size."""
    denominator: str | None = None
    """Column of what a ratio is a share of."""
    least: float = Field(0, ge=0)
    """Denominators below this leave no value."""
    transform: str = "none"
    """Of values before the fit: `none`, `log`, `box-cox`, `z-score`, `min-max`, `difference 24h`, `percent 24h`, `rolling mean 1h`, `rolling median 1h`."""
    filter: str | None = None
    """A condition on `value` and `denominator`; what fails it is missing."""
    unit: Literal["none"] | Unit = "none"
    """Judge whole units, such as waveforms, and not samples."""


class Split(Part):
    validation: float | str | None = None
    """Samples on which learned baselines stop: a share of training, or `FROM..TO`."""
    locked: float | str | None = None
    """Samples that only a last look judges: a share of all, or `FROM..TO`."""


class Train(Part):
    until: str | None = None
    """The training part ends here."""
    share: float | None = Field(None, gt=0, le=1)
    """The training part is this share of the history, from its begin."""

    @model_validator(mode="after")
    def one_of_them(self) -> "Train":
        if (self.until is None) == (self.share is None):
            raise ValueError("give either until or share")
        return self


class Calendar(Part):
    """Known days of an iCalendar file, reaching so far before and after each day."""

    file: str
    """An iCalendar file; on the server the name of a kept calendar."""
    lead: Duration = "0d"
    """How long before each day it has an effect."""
    lag: Duration = "0d"
    """How long after each day it has an effect."""


class Baseline(Part):
    kind: str = "auto"
    """How the expected value is found; see *choose a baseline*."""
    seasons: Literal["auto"] | list[Duration] = "auto"
    """Lengths of the seasons."""
    form: Literal["auto", "additive", "multiplicative"] = "auto"
    """Whether seasons add to the level or grow with it."""
    clock: Literal["auto", "local", "utc"] = "auto"
    """Whether days follow the wall clock."""
    train: Literal["all"] | Train = "all"
    """What the baseline learns from."""
    leave_out: list[Literal["incident", "foreseen", "false-alarm", "unsure"]] = ["incident"]
    """Labelled spans that it does not learn from."""
    calendars: list[Calendar] = []
    """Known days that have an effect of their own."""
    covariates: list[str] = []
    """Columns, or metrics of tied streams, that explain the value."""
    split: Split = Split()
    """Parts of the history for learned baselines and a last look."""
    settle: Duration = "3d"
    """How long a new level lasts before it becomes the normal one."""
    options: dict[str, Any] = {}
    """Options of the kind."""

    @model_validator(mode="after")
    def known_kind(self) -> "Baseline":
        if self.kind not in OPTIONS:
            raise ValueError(f"kind must be one of {', '.join(OPTIONS)}, got {self.kind!r}")
        for name, value in self.options.items():
            check_option(self.kind, name, value)
        return self


class Fleet(Part):
    """A stated share of false ones among the stream-blocks that keep their findings; strict: under any dependence."""

    rate: float = Field(0.1, gt=0, lt=1)
    """Share of false ones among what is kept."""
    block: Duration = "24h"
    """Length of the blocks that are kept or not."""
    strict: bool = False
    """Keep the share under any dependence of the streams."""


class Flag(Part):
    level: Annotated[dict[str, float], AfterValidator(_level)] = {"per-week": 0.1}
    """Where flagging begins: one of `sigmas`, `odds` (one in so many samples), `per-week` (false findings a week), `interval`, `share`."""
    spread: Literal["robust", "sd"] = "robust"
    """How residuals are scaled."""
    windows: Literal["auto", "none"] = "auto"
    """Whether several samples that stray together are evidence."""
    side: Literal["both", "above", "below"] = "both"
    """The side that is flagged."""
    bad: Literal["both", "above", "below"] = "both"
    """The side that is trouble."""
    fleet: Fleet | None = None
    """Keep a stated share of false ones over all streams."""


def check_level(level: dict[str, float]) -> tuple[str, float]:
    """The one reading of a level and its amount; ValueError with the allowed range otherwise."""
    ranges = {
        "sigmas": (0.0, 1e6, "above 0"),
        "odds": (1.0, 1e12, "above 1: one in so many samples"),
        "per-week": (0.0, 1e6, "above 0: false findings a week"),
        "interval": (0.0, 1.0, "between 0 and 1"),
        "share": (0.0, 1.0, "between 0 and 1"),
    }
    if len(level) != 1 or next(iter(level)) not in ranges:
        raise ValueError(f"level takes one of {', '.join(ranges)}, got {', '.join(level) or 'nothing'}")
    ((kind, amount),) = level.items()
    low, high, words = ranges[kind]
    if not low < amount < high:
        raise ValueError(f"level {kind} must be {words}, got {amount:g}")
    return kind, amount


class Group(Part):
    need: int = Field(1, ge=1)
    """Flagged samples that a finding needs …"""
    of: int = Field(1, ge=1)
    """… among so many in a row."""
    merge: Duration = "0s"
    """Findings with a gap up to this between them are one."""
    shortest: int = Field(1, ge=1)
    """Samples that a finding has at least."""

    @model_validator(mode="after")
    def need_within(self) -> "Group":
        if self.need > self.of:
            raise ValueError(f"need must not exceed of, got {self.need} of {self.of}")
        return self


class Shifts(Part):
    of: Literal["step", "spread", "slope", "none"] = "step"
    """What a change point is a change of."""
    penalty: Literal["auto"] | Annotated[float, Field(ge=0)] = "auto"
    """Cost of each change point; larger finds fewer."""


class Discords(Part):
    window: Literal["none"] | Duration = "none"
    """Length of the windows compared with one another."""
    most: int = Field(3, ge=1, le=100)
    """Discords shown a stream."""


class Replay(Part):
    refit: AutoDuration = "auto"
    """How often a replay fits anew."""
    window: AutoDuration = "auto"
    """How much history each fit of a replay sees."""


class Plan(Part):
    """One plan; see docs/formats.md for what each key does."""

    watchtide: Literal[1] = 1
    """Version of the format."""
    prepare: Prepare = Prepare()
    baseline: Baseline = Baseline()
    flag: Flag = Flag()
    group: Group = Group()
    shifts: Shifts = Shifts()
    discords: Discords = Discords()
    replay: Replay = Replay()

    @model_validator(mode="after")
    def parts_agree(self) -> "Plan":
        if self.prepare.denominator is not None and self.prepare.as_ not in ("auto", "ratio"):
            raise ValueError(f"prepare.denominator makes a ratio; prepare.as is {self.prepare.as_}")
        if self.prepare.unit != "none" and self.baseline.kind not in ("auto", "reconstruction", "isolation"):
            raise ValueError(
                f"prepare.unit: a {self.baseline.kind} baseline judges no units; take reconstruction or isolation"
            )
        return self

    @classmethod
    def from_yaml(cls, text: str) -> "Plan":
        """The plan of this YAML or JSON text; keys that are left out have their defaults.

        Raises PlanError naming line, key and remedy.

        Examples
        --------
        >>> import watchtide as wt
        >>> plan = wt.Plan.from_yaml("baseline: {kind: slot, seasons: [24h]}")
        >>> plan.baseline.kind
        'slot'
        >>> wt.Plan.from_yaml("flag: {levle: {sigmas: 5}}")
        Traceback (most recent call last):
        ...
        watchtide.plan.parsing.PlanError: line 1, flag.levle: is not a known key; did you mean level?
        >>> wt.Plan.from_yaml(plan.to_yaml()) == plan
        True
        """
        return cls.from_data(*parsing.data_of(text))

    @classmethod
    def from_data(cls, data: dict[str, Any], lines: parsing.Lines | None = None) -> "Plan":
        """The plan of plain data with the keys of the file format. Raises PlanError, with lines where they are known."""
        try:
            return cls.model_validate(data)
        except ValidationError as error:
            raise parsing.refusal(error, cls, lines or {}) from error

    def to_yaml(self) -> str:
        """The plan as YAML, all keys written out."""
        return str(
            yaml.safe_dump(self.as_data(), sort_keys=False, default_flow_style=None, allow_unicode=True)
        )

    def as_data(self) -> dict[str, Any]:
        """Plain data with the keys of the file format."""
        return self.model_dump(mode="json", by_alias=True)
