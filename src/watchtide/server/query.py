"""Parameters of a query: each is what it should be and within what can be kept, or the answer (400) names it and the remedy."""

import math
from collections.abc import Iterable, Mapping
from datetime import datetime
from typing import Any, TypeVar

from django.db.models import Model
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import OpenApiParameter
from rest_framework import serializers

from watchtide.server import moments
from watchtide.server.problems import Problem
from watchtide.tables import clock

T = TypeVar("T", bound=str)
# A span, for the document; `moment` reads its ends.
SPAN = [OpenApiParameter("from", datetime), OpenApiParameter("to", datetime)]
# Numbers of rows: what MariaDB's BIGINT holds.
MOST_ROW = 2**63 - 1
MOST_DIGITS = 19


def whole(
    request: Any, name: str, default: int | None = None, *, least: int = 0, most: int = MOST_ROW
) -> int | None:
    """A whole number, `default` where it is not given."""
    text = request.GET.get(name, "").strip()
    if not text:
        return default
    return _whole(text, name, least, most)


def _whole(text: str, name: str, least: int, most: int) -> int:
    digits = text.removeprefix("-")
    if not (digits.isascii() and digits.isdigit()) or len(digits) > MOST_DIGITS:
        raise Problem(f"{text[:40]!r} is no whole number", place=name, remedy="write digits")
    value = int(text)
    if not least <= value <= most:
        bounds = f"{least:,} to {most:,}" if most < MOST_ROW else f"{least:,} or more"
        raise Problem(f"{name} is {value:,}", place=name, remedy=f"take {bounds}")
    return value


def required(request: Any, name: str, *, least: int = 0, most: int = MOST_ROW) -> int:
    value = whole(request, name, least=least, most=most)
    if value is None:
        raise Problem(f"{name} is missing", place=name, remedy="give a whole number")
    return value


def wholes(request: Any, name: str, *, most: int) -> list[int]:
    """Numbers of rows joined by commas."""
    parts = [part.strip() for part in request.GET.get(name, "").split(",") if part.strip()]
    if len(parts) > most:
        raise Problem(f"{len(parts):,} {name}", place=name, remedy=f"name {most:,} at most")
    return [_whole(part, name, 0, MOST_ROW) for part in parts]


def number(request: Any, name: str, *, least: float = -math.inf, most: float = math.inf) -> float | None:
    """A number that is one: neither infinite nor none."""
    text = request.GET.get(name, "").strip()
    if not text:
        return None
    try:
        value = float(text)
    except ValueError as error:
        raise Problem(f"{text[:40]!r} is no number", place=name, remedy="write digits") from error
    if not math.isfinite(value):
        raise Problem(f"{text[:40]!r} is no number that can be used", place=name, remedy="write digits")
    if not least <= value <= most:
        raise Problem(f"{name} is {value:g}", place=name, remedy=f"take {least:g} to {most:g}")
    return value


def choice(request: Any, name: str, choices: Iterable[T]) -> T | None:
    """One of a few words."""
    text = request.GET.get(name, "").strip()
    if not text:
        return None
    for known in choices:
        if text == known:
            return known
    raise Problem(f"{text[:40]!r} is no {name}", place=name, remedy=f"take one of {', '.join(choices)}")


def moment(request: Any, name: str) -> int | None:
    """A time in ISO 8601, in nanoseconds since 1970."""
    text = request.GET.get(name, "").strip()
    if not text:
        return None
    try:
        return clock.parse_one(text)
    except clock.ClockError as error:
        raise Problem(f"{name}: {error}", place=name, remedy="write ISO 8601 in UTC") from error


class FiniteField(serializers.FloatField):
    """A number in a body that is one: neither infinite nor none, also where it is written as text."""

    default_error_messages = {"not_finite": "write a number; this one cannot be used"}

    def to_internal_value(self, data: Any) -> float:
        value = super().to_internal_value(data)
        if not math.isfinite(value):
            self.fail("not_finite")
        return float(value)


class MomentField(serializers.Field):
    """A time: nanoseconds since 1970, or a `datetime64`, inside; ISO 8601 in UTC outside."""

    def to_representation(self, value: Any) -> str:
        return clock.format_time(moments.ns(value))

    def to_internal_value(self, data: Any) -> int:
        try:
            return clock.parse_one(str(data))
        except clock.ClockError as error:
            raise serializers.ValidationError(str(error)) from error


MomentField._spectacular_annotation = {"field": OpenApiTypes.DATETIME}  # type: ignore[attr-defined]


def fields(request: Any) -> Mapping[str, Any]:
    """The body of a request as named values. Raises Problem where it is a list or a bare value."""
    data = request.data
    if data is None or data == "":
        return {}
    if not isinstance(data, Mapping):
        raise Problem("the body is no object", place="body", remedy='send named values, such as {"name": …}')
    return data


def unused(model: type[Model], name: str, but: int | None = None) -> str:
    """A name that no other row of a model has. Raises Problem where one has it. but : the row that is being renamed."""
    if model._default_manager.filter(name=name).exclude(pk=but).exists():
        raise Problem(
            f"there is a {model._meta.verbose_name} {name}",
            place="name",
            remedy="take another name",
            code=409,
        )
    return name
