"""The options of every command that reads a table, in one place."""

import functools
import inspect
from collections.abc import Callable
from typing import Annotated, Any

import typer

# The options of every table read, in one place.
Time = Annotated[str | None, typer.Option("--time", help="Column of the stamps.")]
Value = Annotated[
    list[str] | None, typer.Option("--value", help="Column of values; several make several streams.")
]
SeriesOption = Annotated[
    list[str] | None, typer.Option("--series", help="Column that tells streams apart; repeatable.")
]
LabelOption = Annotated[
    str | None, typer.Option("--label", help="Column of known anomalies (true or false, or a kind).")
]
Zone = Annotated[str, typer.Option("--tz", help="Zone of stamps without offset, and of local seasons.")]
Every = Annotated[str | None, typer.Option("--every", help="Cadence of the grid, such as 15m.")]
Combine = Annotated[
    str | None, typer.Option("--combine", help="How samples of a bin combine: mean, sum, count …")
]
Encoding = Annotated[
    str | None, typer.Option("--encoding", help="Encoding of a text file; told from its bytes otherwise.")
]
Delimiter = Annotated[
    str | None, typer.Option("--delimiter", help="What stands between cells; `tab` for a tab.")
]
Decimal = Annotated[str | None, typer.Option("--decimal", help="Decimal mark, . or ,")]
Header = Annotated[bool | None, typer.Option("--header/--no-header", help="Whether line 1 holds names.")]
Pattern = Annotated[
    str | None, typer.Option("--pattern", help=r"Fields of a log line, such as (?P<time>\S+) (?P<ms>\d+).")
]
Missing = Annotated[
    list[str] | None, typer.Option("--missing", help="A word that means a missing value; repeatable.")
]
Keep = Annotated[
    str | None, typer.Option("--keep", help="Only rows where this holds, such as `fare = adult`.")
]
Wide = Annotated[
    str | None, typer.Option("--wide", help="Value columns are places of one metric: the attribute's name.")
]
TimeForm = Annotated[
    str | None,
    typer.Option(
        "--time-form",
        help="Form of the stamps: day first, month first, year, month, quarter, week, serial day …",
    ),
]
Duplicates = Annotated[
    str | None, typer.Option("--duplicates", help="Equal stamps: mean, last, first or refuse.")
]
LayoutFile = Annotated[str | None, typer.Option("--layout", help="A layout kept by `look --save-layout`.")]
Skip = Annotated[bool, typer.Option("--skip-broken", help="Leave broken rows out instead of stopping.")]
Calendar = Annotated[
    list[str] | None, typer.Option("--calendar", help="Known days, an iCalendar file; repeatable.")
]
Covariate = Annotated[
    list[str] | None, typer.Option("--covariate", help="Column that explains the values; repeatable.")
]
Denominator = Annotated[
    str | None, typer.Option("--denominator", help="Column the values are ratios of: their weight.")
]

# Where waveforms stand in a table.
Wave = Annotated[
    str | None,
    typer.Option("--wave", help="FIRST..LAST: each row's columns are a waveform, judged as a whole."),
]
WaveName = Annotated[str | None, typer.Option("--id", help="Column that names the row's waveform.")]
WaveClass = Annotated[
    str | None,
    typer.Option("--class", help="Column of the waveform's class: empty, 0, false, no, normal are usual."),
]
WaveId = Annotated[str | None, typer.Option("--wave-id", help="Column whose equal cells make a waveform.")]
WaveAt = Annotated[str | None, typer.Option("--wave-at", help="Column of the order within a waveform.")]


# The options of every table read: kind and default by the name that `table` has them under.
TABLE: dict[str, tuple[Any, Any]] = {
    "time": (Time, None),
    "value": (Value, None),
    "series": (SeriesOption, None),
    "label": (LabelOption, None),
    "tz": (Zone, "UTC"),
    "every": (Every, None),
    "combine": (Combine, None),
    "encoding": (Encoding, None),
    "delimiter": (Delimiter, None),
    "decimal": (Decimal, None),
    "header": (Header, None),
    "pattern": (Pattern, None),
    "missing": (Missing, None),
    "keep": (Keep, None),
    "wide": (Wide, None),
    "time_form": (TimeForm, None),
    "duplicates": (Duplicates, None),
    "layout": (LayoutFile, None),
    "skip_broken": (Skip, False),
    "calendar": (Calendar, None),
    "covariate": (Covariate, None),
    "denominator": (Denominator, None),
}


def takes_table(*without: str) -> Callable[[Callable[..., None]], Callable[..., None]]:
    """Give a command the options of every table read, all but these; it gets them as one `table`.

    An option that the command states itself keeps its own help and default, and stands in `table` too.
    """

    def wrap(command: Callable[..., None]) -> Callable[..., None]:
        own = {n: p for n, p in inspect.signature(command).parameters.items() if n != "table"}
        shared = [
            inspect.Parameter(name, inspect.Parameter.KEYWORD_ONLY, default=default, annotation=kind)
            for name, (kind, default) in TABLE.items()
            if name not in without and name not in own
        ]

        @functools.wraps(command)
        def call(**given: Any) -> None:
            table = {name: given.get(name) for name in TABLE}
            command(**{name: given[name] for name in own}, table=table)

        called: Any = call
        called.__signature__ = inspect.Signature([*own.values(), *shared])
        called.__annotations__ = {p.name: p.annotation for p in called.__signature__.parameters.values()}
        return call

    return wrap
