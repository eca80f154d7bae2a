"""Limits of request bodies, checked before anything is stored: Django spools a whole body before it authenticates; and of requests at once.

Each path has its own limit. A stated length over it is refused at once; a body without one is counted while it is received. A request that
is answered has a connection to the database: as many are answered at once as a process may have, the others wait in line, not for long.
"""

import asyncio
import json
from collections.abc import Awaitable, Callable, MutableMapping
from typing import Any

from django.conf import settings

from watchtide.server import problems
from watchtide.tables import calendars, labels, otlp

Scope = MutableMapping[str, Any]
Message = MutableMapping[str, Any]
Receive = Callable[[], Awaitable[Message]]
Send = Callable[[Message], Awaitable[None]]
App = Callable[[Scope, Receive, Send], Awaitable[None]]

OTLP = "/v1/metrics"
PUSHES = ("/api/v1/push", OTLP)
# Streams of hints stay open and have no connection between two looks; signs of life must not wait behind those who do.
NOT_IN_LINE = ("/api/v1/events", "/healthz", "/metrics")
LONGEST_WAIT_S = 15.0
# Room for the form around a file.
FORM_BYTES = 1 << 20


def files() -> dict[str, int]:
    """Paths that take a file, and the bytes it may have. Every other path takes JSON."""
    return {
        "/api/v1/uploads": settings.MOST_UPLOAD_BYTES,
        "/api/v1/calendars": calendars.MOST_BYTES,
        "/api/v1/logbook/import": labels.MOST_BYTES,
        "/api/v1/logbook/import/look": labels.MOST_BYTES,
    }


class _Busy(Exception):
    """No slot came free in time."""


class _TooLarge(Exception):
    """A body went on beyond what its path can use."""


def limit_of(path: str) -> int:
    """Bytes that a body of this path may have."""
    if path in PUSHES:
        # One byte more than it may: the door itself says so, in the protocol of the sender.
        return settings.MOST_PUSH_BYTES + 1
    return files().get(path, settings.DATA_UPLOAD_MAX_MEMORY_SIZE) + FORM_BYTES


class Bounded:
    """An ASGI application behind these bounds. Pushes and files without a session cookie or a token are not read at all."""

    def __init__(self, app: App) -> None:
        self.app = app
        self.slots = asyncio.Semaphore(settings.REQUESTS_AT_ONCE)

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self.app(scope, receive, send)
            return
        headers = {name.lower(): value for name, value in scope.get("headers", ())}
        limit = limit_of(scope["path"])
        stated = headers.get(b"content-length", b"")
        if stated.isdigit() and int(stated) > limit:
            await _refuse(scope, send, 413, f"the body is larger than {limit >> 20} MB", "send less at once")
            return
        is_known = b"authorization" in headers or b"watchtide_session" in headers.get(b"cookie", b"")
        takes_much = scope["path"] in PUSHES or scope["path"] in files()
        if takes_much and scope["method"] != "GET" and not is_known:
            await _refuse(scope, send, 401, "sign in, or send a token", "make a token in Settings")
            return
        count, has_begun, has_slot = 0, False, False
        is_in_line = scope["path"] not in NOT_IN_LINE

        async def counted() -> Message:
            nonlocal count, has_slot
            message = await receive()
            if message["type"] == "http.request":
                count += len(message.get("body", b""))
                if count > limit:
                    raise _TooLarge
                # Only once the body is whole: who sends slowly keeps nobody else waiting.
                if is_in_line and not has_slot and not message.get("more_body", False):
                    try:
                        await asyncio.wait_for(self.slots.acquire(), LONGEST_WAIT_S)
                    except TimeoutError:
                        raise _Busy from None
                    has_slot = True
            return message

        async def watched(message: Message) -> None:
            nonlocal has_begun
            has_begun = True
            await send(message)

        try:
            await self.app(scope, counted, watched)
        except _Busy:
            await _refuse(
                scope,
                send,
                503,
                "too many requests at once",
                "try again in a moment",
                place="server",
                retry_after=1,
            )
        except _TooLarge:
            if has_begun:
                raise
            await _refuse(scope, send, 413, f"the body is larger than {limit >> 20} MB", "send less at once")
        finally:
            if has_slot:
                self.slots.release()


async def _refuse(
    scope: Scope,
    send: Send,
    status: int,
    title: str,
    remedy: str,
    *,
    place: str = "body",
    retry_after: int | None = None,
) -> None:
    kind = problems.TYPE
    body = json.dumps(problems.document(status, title, place=place, remedy=remedy)).encode()
    if scope["path"] == OTLP:
        headers_in = dict(scope.get("headers", ()))
        kind = otlp.kind_of(headers_in.get(b"content-type", b"").decode("latin-1"))
        body = otlp.failure(status, f"{title}; {remedy}", kind)
    headers = [
        (b"content-type", kind.encode()), (b"content-length", str(len(body)).encode()), (b"connection", b"close"),
        (b"x-content-type-options", b"nosniff"), (b"cache-control", b"no-store"),
    ]  # fmt: skip
    if retry_after is not None:
        headers.append((b"retry-after", str(retry_after).encode()))
    await send({"type": "http.response.start", "status": status, "headers": headers})
    await send({"type": "http.response.body", "body": body})
