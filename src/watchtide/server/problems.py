"""Errors as problem documents (RFC 9457), that name the place and the remedy."""

import sys
from typing import Any

from django.core.exceptions import ObjectDoesNotExist, RequestDataTooBig
from django.db import DataError
from django.http import Http404, HttpRequest, JsonResponse
from rest_framework import exceptions, status
from rest_framework.response import Response
from rest_framework.views import exception_handler

from watchtide.core.series import SeriesError
from watchtide.plan import PlanError
from watchtide.server import patience
from watchtide.tables.clock import ClockError
from watchtide.tables.expressions import ExpressionError
from watchtide.tables.problems import TableError

TYPE = "application/problem+json"
# What `type` of a problem ends in, by status; the whole is a URI that never changes. Listed in docs/formats.md.
KINDS = {
    400: "bad-request", 401: "not-signed-in", 403: "not-allowed", 404: "not-found", 405: "method-not-allowed",
    409: "conflict", 410: "gone", 412: "changed-meanwhile", 413: "too-large", 415: "unknown-media-type",
    422: "cannot-be-processed", 429: "too-many", 500: "defect", 503: "unavailable", 507: "disk-full",
}  # fmt: skip
URI = "urn:watchtide:problem:"


class Problem(exceptions.APIException):
    """An answer that says what is wrong, where, and what to do about it."""

    def __init__(
        self, title: str, *, place: str = "", remedy: str = "", code: int = 400, **more: Any
    ) -> None:
        self.status_code = code
        self.body = {"title": title, "place": place, "remedy": remedy, **more}
        super().__init__(title)


class Busy(RuntimeError):
    """Somebody else is changing the same samples right now."""


def handle(error: Exception, context: dict[str, Any]) -> Response | None:
    """DRF's exception handler: our own errors and DRF's own in one form; others stay defects."""
    if isinstance(error, TableError):
        error = Problem(
            error.message, place=", ".join(p for p in (error.file, error.place) if p), remedy=error.remedy
        )
    elif isinstance(error, PlanError):
        places = [{"line": line, "place": place, "message": text} for line, place, text in error.problems]
        error = Problem(str(error), place=error.problems[0][1], problems=places, code=422)
    elif isinstance(error, (ClockError, SeriesError, ExpressionError)):
        title, _, remedy = str(error).partition("; ")
        error = Problem(title, remedy=remedy)
    elif isinstance(error, Busy):
        error = Problem(
            "samples are being rearranged", remedy="try again in a few minutes", code=503, retry_after=30
        )
    elif isinstance(error, RequestDataTooBig):
        error = Problem("the body is too large", place="body", remedy="send less at once", code=413)
    elif isinstance(error, (Http404, ObjectDoesNotExist)):
        error = Problem("there is no such thing", remedy="go back and choose another", code=404)
    elif isinstance(error, DataError):
        error = Problem(
            "a value is too long, or larger than can be kept", remedy="write a shorter or smaller one"
        )
    elif patience.is_full(error):
        error = _full()
    elif patience.is_passing(error):
        error = _away(error)
    response = exception_handler(error, context)
    if response is None:
        return None
    body = error.body if isinstance(error, Problem) else _body(error, response.data)
    response.data = document(response.status_code, **body)
    response.content_type = TYPE
    wait = body.get("retry_after")
    if wait:
        response["Retry-After"] = str(wait)
    return response


def document(code: int, title: str, **more: Any) -> dict[str, Any]:
    """A problem document: `detail` is title and remedy in one, `errors` names each field, or other place, with what is wrong."""
    remedy, place, parts = more.get("remedy", ""), more.get("place", ""), more.get("problems") or []
    errors = [{"field": part.get("place", ""), "detail": part.get("message", "")} for part in parts]
    if not errors and place:
        errors = [{"field": place, "detail": title}]
    return {
        "type": URI + KINDS.get(code, "other"),
        "status": code,
        "title": title,
        "detail": f"{title}; {remedy}" if remedy else title,
        "errors": errors,
        **more,
    }


def answer(code: int, title: str, **more: Any) -> JsonResponse:
    """A problem document as an answer. retry_after, where given, goes into the header too."""
    response = JsonResponse(document(code, title, **more), status=code, content_type=TYPE)
    if "retry_after" in more:
        response["Retry-After"] = str(more["retry_after"])
    return response


def _full() -> Problem:
    return Problem(
        "the disk is full", remedy="nothing is taken in until there is room", code=507, retry_after=60
    )


def _away(error: BaseException) -> Problem:
    """The answer while the database does not answer: nothing is lost if the caller sends the same again."""
    is_locked = patience.is_locked(error)
    return Problem(
        "somebody else is changing the same thing" if is_locked else "the database does not answer",
        remedy="send the same again in a moment",
        code=503,
        retry_after=patience.RETRY_LOCKED_S if is_locked else patience.RETRY_AWAY_S,
    )


def _body(error: Exception, data: Any) -> dict[str, Any]:
    if isinstance(error, exceptions.ValidationError) and isinstance(data, dict):
        problems = [
            {"place": k, "message": " ".join(map(str, v)) if isinstance(v, list) else str(v)}
            for k, v in data.items()
        ]
        return {
            "title": "; ".join(f"{p['place']}: {p['message']}" for p in problems),
            "place": problems[0]["place"],
            "problems": problems,
        }
    detail = getattr(error, "detail", str(error))
    return {"title": str(detail)}


def no_csrf(request: HttpRequest, reason: str = "") -> JsonResponse:
    """The answer to a change without the page's CSRF token."""
    return answer(
        403,
        "the request did not come from the page",
        place="X-CSRFToken",
        remedy="reload the page and sign in again",
    )


def plain(request: HttpRequest, exception: Exception | None = None, *, code: int = 500) -> JsonResponse:
    """Django's own error pages, as problem documents."""
    titles = {
        status.HTTP_404_NOT_FOUND: "there is no such page",
        status.HTTP_400_BAD_REQUEST: "the request cannot be read",
        status.HTTP_403_FORBIDDEN: "not allowed; reload the page and sign in again",
    }
    error = sys.exc_info()[1]
    if code == 500 and error is not None and patience.is_passing(error):
        # Outside a view of the API, as where the session is read or kept.
        return answer(503, **_away(error).body)
    if code == 500 and error is not None and patience.is_full(error):
        return answer(507, **_full().body)
    title = titles.get(code, "something went wrong on our side; it has been logged")
    return answer(code, title)
