"""One form of every list: `limit` and `cursor` in, `{"items": […], "next": cursor or null}` out."""

import base64
import binascii
import json
from collections.abc import Callable, Sequence
from datetime import datetime
from typing import Any

from django.core.exceptions import ValidationError
from django.db.models import Model, Q, QuerySet
from drf_spectacular.utils import OpenApiParameter, inline_serializer
from rest_framework import serializers
from rest_framework.response import Response

from watchtide.server import query
from watchtide.server.problems import Problem

USUAL, MOST = 200, 1_000
PARAMETERS = [
    OpenApiParameter("limit", int, description=f"items at most, 1 to {MOST:,}"),
    OpenApiParameter("cursor", str, description="`next` of the page before"),
]

Serialize = Callable[[Sequence[Any]], Any]


def of(item: type[serializers.BaseSerializer], **more: serializers.Field) -> serializers.BaseSerializer:
    """The serializer of a page of such items, with whatever else stands beside them."""
    name = item.__name__.removesuffix("Serializer") + "Page"
    return inline_serializer(
        name, {"items": item(many=True), "next": serializers.CharField(allow_null=True), **more}
    )


def rows(
    request: Any,
    found: QuerySet[Any],
    serialize: Serialize,
    *,
    by: str = "-pk",
    usual: int = USUAL,
    **more: Any,
) -> Response:
    """A page of rows in the order of one field and then of their numbers, which later rows do not shift.

    by : the field, with `-` for the latest first; more : what else the answer has.
    """
    limit, cursor = _stated(request, usual)
    is_down = by.startswith("-")
    field = by.removeprefix("-")
    if cursor is not None:
        found = found.filter(_beyond(cursor, found.model, field, "lt" if is_down else "gt"))
    ordered = found.order_by(by, "-pk" if is_down else "pk")
    page = list(ordered[: limit + 1])
    following = None
    if len(page) > limit:
        page = page[:limit]
        following = _text([_plain(getattr(page[-1], field)), page[-1].pk])
    return Response({"items": serialize(page), "next": following, **more})


def parts(
    request: Any, found: Sequence[Any], serialize: Serialize, *, usual: int = USUAL, **more: Any
) -> Response:
    """A page of a list that was computed; the cursor is a place in it."""
    limit, cursor = _stated(request, usual)
    at = 0 if cursor is None else _place(cursor)
    following = _text([at + limit]) if at + limit < len(found) else None
    return Response({"items": serialize(found[at : at + limit]), "next": following, **more})


def _stated(request: Any, usual: int) -> tuple[int, list[Any] | None]:
    limit = query.whole(request, "limit", usual, least=1, most=MOST) or usual
    text = request.GET.get("cursor", "").strip()
    return limit, _read(text) if text else None


def _place(cursor: list[Any]) -> int:
    if len(cursor) != 1 or not isinstance(cursor[0], int) or not 0 <= cursor[0] <= query.MOST_ROW:
        raise _unknown()
    return cursor[0]


def _beyond(cursor: list[Any], model: type[Model], field: str, way: str) -> Q:
    if len(cursor) != 2 or not isinstance(cursor[1], int) or abs(cursor[1]) > query.MOST_ROW:
        raise _unknown()
    value, pk = cursor
    try:
        value = (model._meta.pk if field == "pk" else model._meta.get_field(field)).to_python(value)
    except (ValidationError, ValueError, TypeError) as error:
        raise _unknown() from error
    return Q(**{f"{field}__{way}": value}) | Q(**{field: value, f"pk__{way}": pk})


def _plain(value: Any) -> Any:
    return value.isoformat() if isinstance(value, datetime) else value


def _text(parts: list[Any]) -> str:
    return base64.urlsafe_b64encode(json.dumps(parts).encode()).decode().rstrip("=")


def _read(text: str) -> list[Any]:
    try:
        parts = json.loads(base64.urlsafe_b64decode(text + "=" * (-len(text) % 4)))
    except (ValueError, binascii.Error, UnicodeDecodeError, RecursionError) as error:
        raise _unknown() from error
    if not isinstance(parts, list):
        raise _unknown()
    return parts


def _unknown() -> Problem:
    return Problem(
        "this is no cursor of ours", place="cursor", remedy="take `next` of the page before, or none"
    )
