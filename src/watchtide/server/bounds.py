"""Sizes of requests, before a byte of them is kept: Django spools a body whole before it asks who sends it.

Each path has the largest body it can use. What a header states is believed at once; what is not stated is counted as it comes.
"""

import json
from collections.abc import Awaitable, Callable, MutableMapping
from typing import Any

from django.conf import settings

Scope = MutableMapping[str, Any]
Message = MutableMapping[str, Any]
Receive = Callable[[], Awaitable[Message]]
Send = Callable[[Message], Awaitable[None]]
App = Callable[[Scope, Receive, Send], Awaitable[None]]

# Doors of pushes, and those that take files; every other takes a form or JSON.
PUSHES = ("/api/v1/push", "/v1/metrics")
FILES = ("/api/v1/uploads", "/api/v1/calendars", "/api/v1/logbook/import")
# Room for the form around a file.
FORM_BYTES = 1 << 20


class _TooLarge(Exception):
    """A body went on beyond what its path can use."""


def limit_of(path: str) -> int:
    """Bytes that a body of this path may have."""
    if path in PUSHES:
        # One byte more than it may: the door itself says so, in the protocol of the sender.
        return settings.MOST_PUSH_BYTES + 1
    if path.startswith(FILES):
        return settings.MOST_UPLOAD_BYTES + FORM_BYTES
    return settings.DATA_UPLOAD_MAX_MEMORY_SIZE + FORM_BYTES


class Bounded:
    """An ASGI application behind these bounds. Files of somebody without a session or token are not read at all."""

    def __init__(self, app: App) -> None:
        self.app = app

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self.app(scope, receive, send)
            return
        headers = {name.lower(): value for name, value in scope.get("headers", ())}
        limit = limit_of(scope["path"])
        stated = headers.get(b"content-length", b"")
        if stated.isdigit() and int(stated) > limit:
            await _refuse(send, 413, f"the body is larger than {limit >> 20} MB", "send less at once")
            return
        is_known = b"authorization" in headers or b"watchtide_session" in headers.get(b"cookie", b"")
        if scope["path"].startswith((*PUSHES, *FILES)) and scope["method"] != "GET" and not is_known:
            await _refuse(send, 401, "sign in, or send a token", "make a token in Settings")
            return
        count, has_begun = 0, False

        async def counted() -> Message:
            nonlocal count
            message = await receive()
            if message["type"] == "http.request":
                count += len(message.get("body", b""))
                if count > limit:
                    raise _TooLarge
            return message

        async def watched(message: Message) -> None:
            nonlocal has_begun
            has_begun = True
            await send(message)

        try:
            await self.app(scope, counted, watched)
        except _TooLarge:
            if has_begun:
                raise
            await _refuse(send, 413, f"the body is larger than {limit >> 20} MB", "send less at once")


async def _refuse(send: Send, status: int, title: str, remedy: str) -> None:
    body = json.dumps(
        {"type": "about:blank", "status": status, "title": title, "place": "body", "remedy": remedy}
    ).encode()
    headers = [
        (b"content-type", b"application/problem+json"), (b"content-length", str(len(body)).encode()), (b"connection", b"close"),
        (b"x-content-type-options", b"nosniff"), (b"cache-control", b"no-store"),
    ]  # fmt: skip
    await send({"type": "http.response.start", "status": status, "headers": headers})
    await send({"type": "http.response.body", "body": body})
