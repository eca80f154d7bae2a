"""OpenMetrics 1.0 text, and the older plain text of the same family, to points."""

import math
from collections.abc import Iterable
from typing import Any

from prometheus_client.openmetrics.parser import text_string_to_metric_families as _open
from prometheus_client.parser import text_string_to_metric_families as _plain

from watchtide.tables.points import BOUND, Points, Series, is_sound, name_problem
from watchtide.tables.problems import TableError

OPEN = "application/openmetrics-text"
MOST_LINES = 2_000_000


def parse(text: str, *, now_ns: int, is_open: bool, extra: Iterable[tuple[str, str]] = ()) -> Points:
    """Points of a page; those without a stamp of their own get `now_ns`. extra : attributes put in front.

    Raises TableError for a page that is not in the format, with the line where it can be told.
    """
    try:
        families = list(_open(text) if is_open else _plain(text))
    except (ValueError, KeyError, IndexError, AttributeError, TypeError, RecursionError) as error:
        raise TableError(
            "page",
            _line_of(text, str(error)),
            f"is no OpenMetrics text ({str(error)[:160]})",
            "report it to its owner",
        ) from error
    out = Points()
    before = tuple(extra)
    for family in families:
        for sample in family.samples:
            _sample(family, sample, before, now_ns, out)
    return out


def _number(text: str | None) -> tuple[float | None, bool]:
    """(the number a label holds, None without one; whether it holds one or is not there)."""
    try:
        value = None if text is None else float(text)
    except ValueError:
        return None, False
    return value, value is None or not math.isnan(value)


def _line_of(text: str, message: str) -> str:
    part = message.rpartition(":")[2].strip().strip("'\"")
    for i, line in enumerate(text.split("\n"), 1):
        if part and part in line:
            return f"line {i}"
    return ""


def _sample(family: Any, sample: Any, before: tuple[tuple[str, str], ...], now_ns: int, out: Points) -> None:
    labels = dict(sample.labels)
    name, unit = sample.name, family.unit or ""
    kind = "samples"
    bound, is_bound = _number(labels.pop("le", None)) if name.endswith("_bucket") else (None, True)
    quantile, is_quantile = (
        _number(labels.pop("quantile", None)) if family.type == "summary" else (None, True)
    )
    if not (is_bound and is_quantile):
        out.refuse(f"{name[:40]}: a bound that is no number")
        return
    if name.endswith("_created"):
        return
    if bound is not None:
        name, kind = name.removesuffix("_bucket"), "bucket"
        labels[BOUND] = f"{bound:g}"
    elif name.endswith("_total") and family.type == "counter":
        name, kind = name.removesuffix("_total"), "counter"
    elif family.type in ("counter", "histogram", "summary") and quantile is None:
        kind = "counter"
    elif family.type in ("info", "stateset"):
        out.refuse(f"{name[:40]}: a {family.type} is no number over time")
        return
    if quantile is not None:
        name = f"{name}_p{quantile * 100:g}"
    own = set(labels)
    attributes = (*(p for p in before if p[0] not in own), *labels.items())
    why = name_problem(name, attributes)
    # A stamp may be any number, NaN among them, and lie beyond what nanoseconds hold.
    seconds = None if sample.timestamp is None else float(sample.timestamp)
    time = now_ns if seconds is None else round(seconds * 1e9) if abs(seconds) < 1e10 else 0
    if why is None and not is_sound(time):
        why = f"{name[:40]}: a stamp that cannot be ({sample.timestamp})"
    if why is not None:
        out.refuse(why)
        return
    out.add(Series(name, attributes, unit, kind), time, float(sample.value))
