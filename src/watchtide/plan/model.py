"""The plan as typed models. Every key has a default; `auto` stands wherever the data can decide."""

from typing import Annotated, Any, Literal

from pydantic import AfterValidator, BaseModel, ConfigDict, Field, model_validator

from watchtide.plan import durations

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
    model_config = ConfigDict(extra="forbid", populate_by_name=True)


class Unit(Part):
    """What of a stream is judged as one: a burst that ends where nothing comes for longer than `gap`, or a stretch of `length`."""

    gap: Duration | None = None
    length: Duration | None = None

    @model_validator(mode="after")
    def one_of_them(self) -> "Unit":
        if (self.gap is None) == (self.length is None):
            raise ValueError("give either gap or length")
        return self


class Prepare(Part):
    every: Every = "auto"
    combine: Literal["auto", "mean", "sum", "count", "min", "max", "last", "p50", "p95", "p99"] = "auto"
    as_: Literal["auto", "value", "count", "ratio"] = Field("auto", alias="as")
    denominator: str | None = None
    least: float = Field(0, ge=0)
    transform: str = "none"
    filter: str | None = None
    unit: Literal["none"] | Unit = "none"


class Split(Part):
    validation: float | str | None = None
    locked: float | str | None = None


class Train(Part):
    until: str | None = None
    share: float | None = Field(None, gt=0, le=1)

    @model_validator(mode="after")
    def one_of_them(self) -> "Train":
        if (self.until is None) == (self.share is None):
            raise ValueError("give either until or share")
        return self


class Calendar(Part):
    """Known days of an iCalendar file, reaching so far before and after each day."""

    file: str
    lead: Duration = "0d"
    lag: Duration = "0d"


class Baseline(Part):
    kind: str = "auto"
    seasons: Literal["auto"] | list[Duration] = "auto"
    form: Literal["auto", "additive", "multiplicative"] = "auto"
    clock: Literal["auto", "local", "utc"] = "auto"
    train: Literal["all"] | Train = "all"
    leave_out: list[Literal["incident", "foreseen", "false-alarm", "unsure"]] = ["incident"]
    calendars: list[Calendar] = []
    covariates: list[str] = []
    split: Split = Split()
    settle: Duration = "3d"
    options: dict[str, Any] = {}

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
    block: Duration = "24h"
    strict: bool = False


class Flag(Part):
    level: Annotated[dict[str, float], AfterValidator(_level)] = {"per-week": 0.1}
    spread: Literal["robust", "sd"] = "robust"
    windows: Literal["auto", "none"] = "auto"
    side: Literal["both", "above", "below"] = "both"
    bad: Literal["both", "above", "below"] = "both"
    fleet: Fleet | None = None


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
    of: int = Field(1, ge=1)
    merge: Duration = "0s"
    shortest: int = Field(1, ge=1)

    @model_validator(mode="after")
    def need_within(self) -> "Group":
        if self.need > self.of:
            raise ValueError(f"need must not exceed of, got {self.need} of {self.of}")
        return self


class Shifts(Part):
    of: Literal["step", "spread", "slope", "none"] = "step"
    penalty: Literal["auto"] | Annotated[float, Field(ge=0)] = "auto"


class Discords(Part):
    window: Literal["none"] | Duration = "none"
    most: int = Field(3, ge=1, le=100)


class Replay(Part):
    refit: AutoDuration = "auto"
    window: AutoDuration = "auto"


class Plan(Part):
    """One plan; see docs/formats.md for what each key does."""

    watchtide: Literal[1] = 1
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

    def as_data(self) -> dict[str, Any]:
        """Plain data with the keys of the file format."""
        return self.model_dump(mode="json", by_alias=True)
