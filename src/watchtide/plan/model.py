"""The plan as typed models. Every key has a default; `auto` stands wherever the data can decide."""

from typing import Annotated, Any, Literal

from pydantic import AfterValidator, BaseModel, ConfigDict, Field, model_validator

from watchtide.plan import durations

# Named in the format, and coming in a later version; refused by name rather than ignored.
LATER_KINDS = (
    "classical", "harmonic", "rolling", "spectrum", "fixed", "trailing", "isolation", "next-step", "reconstruction",
)  # fmt: skip


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


class Part(BaseModel):
    model_config = ConfigDict(extra="forbid", populate_by_name=True)


class Prepare(Part):
    every: AutoDuration = "auto"
    combine: Literal["auto", "mean", "sum", "count", "min", "max", "last", "p50", "p95", "p99"] = "auto"
    as_: Literal["auto", "value", "count", "ratio"] = Field("auto", alias="as")
    denominator: str | None = None
    least: float = Field(0, ge=0)
    transform: str = "none"
    filter: str | None = None


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


class Baseline(Part):
    kind: str = "auto"
    seasons: Literal["auto"] | list[Duration] = "auto"
    form: Literal["auto", "additive", "multiplicative"] = "auto"
    train: Literal["all"] | Train = "all"
    leave_out: list[Literal["incident", "foreseen", "false-alarm", "unsure"]] = ["incident"]
    calendars: list[Any] = []
    covariates: list[str] = []
    split: Split = Split()
    settle: Duration = "3d"
    options: dict[str, Any] = {}

    @model_validator(mode="after")
    def known_kind(self) -> "Baseline":
        if self.kind in LATER_KINDS:
            raise ValueError(f"kind {self.kind} comes in a later version; take auto, loess or slot")
        if self.kind not in ("auto", "loess", "slot"):
            raise ValueError(f"kind must be auto, loess or slot, got {self.kind!r}")
        allowed = {"auto": set(), "loess": {"season_window", "sweeps_robust"}, "slot": {"centre"}}[self.kind]
        for name in self.options:
            if name not in allowed:
                has = ", ".join(sorted(allowed)) or "none; state the kind first"
                raise ValueError(f"options.{name} is not known for {self.kind}; it has: {has}")
        return self


class Flag(Part):
    level: Annotated[dict[str, float], AfterValidator(_level)] = {"per-week": 0.1}
    spread: Literal["robust", "sd"] = "robust"
    windows: Literal["auto", "none"] = "auto"
    side: Literal["both", "above", "below"] = "both"
    bad: Literal["both", "above", "below"] = "both"
    fleet: dict[str, Any] | None = None


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
    window: str = "none"


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
    def nothing_from_later(self) -> "Plan":
        later = {
            "prepare.denominator": self.prepare.denominator is not None,
            "prepare.as ratio": self.prepare.as_ == "ratio",
            "prepare.least": self.prepare.least != 0,
            "prepare.transform": self.prepare.transform != "none",
            "prepare.filter": self.prepare.filter is not None,
            "baseline.form multiplicative": self.baseline.form == "multiplicative",
            "baseline.calendars": bool(self.baseline.calendars),
            "baseline.covariates": bool(self.baseline.covariates),
            "baseline.split": self.baseline.split != Split(),
            "flag.fleet": self.flag.fleet is not None,
            "discords.window": self.discords.window != "none",
        }
        for name, is_set in later.items():
            if is_set:
                raise ValueError(f"{name} comes in a later version; leave it at its default")
        return self

    def as_data(self) -> dict[str, Any]:
        """Plain data with the keys of the file format."""
        return self.model_dump(mode="json", by_alias=True)
