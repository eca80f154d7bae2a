"""Structured logs: one line an event, for people or as JSON, with the request's, the job's and the stream's number, and no secrets."""

import re
import time
import uuid
from collections.abc import Mapping, MutableMapping
from typing import Any

import structlog
from django.http import HttpRequest, HttpResponse
from structlog.contextvars import bind_contextvars, clear_contextvars

from watchtide.server import latency
from watchtide.server.middleware import Around

HEADER = "X-Request-ID"
_STATED = re.compile(r"[A-Za-z0-9._:-]{1,64}\Z")
# Keys whose values are never written, and what tokens and keys look like inside a text.
_SECRET_KEYS = re.compile(r"password|secret|token|authorization|cookie|csrf", re.IGNORECASE)
_SECRET_TEXTS = re.compile(r"\bwt[il]?_[A-Za-z0-9_-]{8,}|(?i:bearer )[^\s\"']+|://[^/\s:@]+:[^/\s@]+@")
HIDDEN = "[hidden]"
# Requested every few seconds by supervisors and scrapers: written only when something is wrong.
QUIET = ("/healthz", "/readyz", "/metrics", "/static/")

log = structlog.stdlib.get_logger("watchtide.requests")


def hide_secrets(_: Any, __: str, event: MutableMapping[str, Any]) -> MutableMapping[str, Any]:
    """A processor: no password, key or token leaves the process, whatever a caller puts into a line."""
    for key, value in event.items():
        if _SECRET_KEYS.search(key):
            event[key] = HIDDEN
        elif isinstance(value, str):
            event[key] = _SECRET_TEXTS.sub(HIDDEN, value)
    return event


def configuration(form: str, level: str) -> dict[str, Any]:
    """Django's LOGGING. form : console or json."""
    shared: list[Any] = [
        structlog.contextvars.merge_contextvars,
        structlog.stdlib.add_logger_name,
        structlog.stdlib.add_log_level,
        structlog.processors.TimeStamper(fmt="iso", utc=True),
        structlog.stdlib.PositionalArgumentsFormatter(),
        structlog.processors.StackInfoRenderer(),
    ]
    is_json = form == "json"
    last: Any = (
        structlog.processors.JSONRenderer() if is_json else structlog.dev.ConsoleRenderer(colors=False)
    )
    # A traceback becomes text before secrets are looked for, or it would be written as it is.
    tail: list[Any] = [
        structlog.stdlib.ProcessorFormatter.remove_processors_meta,
        structlog.processors.format_exc_info,
        hide_secrets,
        last,
    ]
    structlog.configure(
        processors=[
            structlog.stdlib.filter_by_level,
            *shared,
            structlog.stdlib.ProcessorFormatter.wrap_for_formatter,
        ],
        logger_factory=structlog.stdlib.LoggerFactory(),
        wrapper_class=structlog.stdlib.BoundLogger,
        cache_logger_on_first_use=True,
    )
    return {
        "version": 1,
        "disable_existing_loggers": False,
        "formatters": {
            "ours": {
                "()": structlog.stdlib.ProcessorFormatter,
                "foreign_pre_chain": shared,
                "processors": tail,
            }
        },
        "handlers": {"stderr": {"class": "logging.StreamHandler", "formatter": "ours"}},
        "root": {"handlers": ["stderr"], "level": "WARNING"},
        "loggers": {
            "watchtide": {"level": level.upper()},
            # A line of every 4xx would repeat our own; what is a defect is written with its traceback.
            "django.request": {"level": "ERROR"},
            "django_tasks": {"level": "WARNING"},
            "django_tasks_db": {"level": "WARNING"},
            "httpx": {"level": "WARNING"},
        },
    }


class Requests(Around):
    """Gives each request a number, which its answer and every line about it carry, writes one line, and counts its time."""

    def before(self, request: HttpRequest) -> float:
        clear_contextvars()
        bind_contextvars(request_id=number_of(request.headers))
        return time.perf_counter()

    def after(self, request: HttpRequest, response: HttpResponse, noted: float) -> HttpResponse:
        took = time.perf_counter() - noted
        response.headers.setdefault(HEADER, structlog.contextvars.get_contextvars().get("request_id", ""))
        match = request.resolver_match
        route = f"/{match.route}" if match is not None and "(" not in match.route else "other"
        if not response.streaming:
            # Of a stream this is the time to its first byte, which would hide among the others.
            latency.note(request.method or "", route, response.status_code, took)
        is_quiet = request.path.startswith(QUIET) and response.status_code < 400
        # Without the query: it may carry a token.
        write = log.debug if is_quiet else log.error if response.status_code == 500 else log.info
        write(
            "request",
            method=request.method,
            path=request.path[:300],
            status=response.status_code,
            ms=round(1000 * took, 1),
        )
        return response


def number_of(headers: Mapping[str, str]) -> str:
    """The number a proxy or client gave this request, if it is harmless, else a new one."""
    stated = headers.get(HEADER, "")
    return stated if _STATED.match(stated) else uuid.uuid4().hex
