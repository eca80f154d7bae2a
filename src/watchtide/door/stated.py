"""What a call states: a table and its columns, a plan, labels."""

from collections.abc import Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any, TypedDict, Unpack

from watchtide.core.scoring.rows import Label
from watchtide.door import reading
from watchtide.door.errors import InputError
from watchtide.door.tables import source_of, text_of
from watchtide.engine.prepare.preparing import Input
from watchtide.plan import Plan, load
from watchtide.plan.text import from_data
from watchtide.tables import labels as label_files
from watchtide.tables import remote


class Columns(TypedDict, total=False):
    """How a table is read; what is not stated is guessed. tz : of stamps without an offset; skip_broken : leave rows out that cannot be read."""

    time: str | None
    value: str | Sequence[str] | None
    series: str | Sequence[str] | None
    label: str | None
    denominator: str | None
    covariates: str | Sequence[str] | None
    tz: str
    skip_broken: bool


def streams_of(
    table: Any, plan: Plan = Plan(), **columns: Unpack[Columns]
) -> tuple[list[Input], list[Label]]:
    """The streams of a table with the known days of a plan, and the known spans of its label column. Raises InputError, TableError."""
    if unknown := sorted(columns.keys() - Columns.__annotations__.keys()):
        raise InputError(unknown[0], "is no argument", f"take one of {', '.join(Columns.__annotations__)}")
    stated = table_options(columns)
    stated["denominator"] = stated["denominator"] or plan.prepare.denominator
    stated["covariate"] = stated["covariate"] or list(plan.baseline.covariates)
    source, name = source_of(table)
    _, _, streams, spans = reading.streams_of(source, name, stated)
    days = reading.known_days(plan, streams, stated["tz"])
    return [replace(s, days=days) for s in streams] if days else streams, spans


def table_options(columns: Columns) -> dict[str, Any]:
    """The columns as options of a table (`reading.guess_of`)."""
    return {
        "tz": columns.get("tz", "UTC"),
        "time": columns.get("time"),
        "value": listed(columns.get("value")),
        "series": listed(columns.get("series")),
        "label": columns.get("label"),
        "denominator": columns.get("denominator"),
        "covariate": listed(columns.get("covariates")),
        "skip_broken": columns.get("skip_broken", False),
    }


def plan_of(plan: Plan | Mapping[str, Any] | str | Path | None) -> Plan:
    """The plan that is meant. Raises PlanError with the line or the key, InputError for what is none."""
    if plan is None:
        return Plan()
    if isinstance(plan, Plan):
        return plan
    if isinstance(plan, Mapping):
        return from_data(dict(plan))
    try:
        return load(remote.text_of(plan))
    except (OSError, UnicodeDecodeError) as error:
        raise InputError(
            "plan", f"{plan} cannot be read ({error})", "give the path of a YAML file"
        ) from error


def listed(names: str | Sequence[str] | None) -> list[str]:
    """Names as a list, of one alone too."""
    return [names] if isinstance(names, str) else list(names or ())


def labels_of(given: Any, tz: str) -> list[Label]:
    """Known spans of a file or a table of labels."""
    if given is None:
        return []
    return label_files.read_labels(*text_of(given, "labels"), zone=tz)
