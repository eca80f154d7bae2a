"""Answers compressed on the way, but for streams of hints, which must not wait for a full buffer."""

from django.http import HttpRequest, HttpResponse
from django.middleware.gzip import GZipMiddleware


class Packed(GZipMiddleware):
    """Django's, which adds bytes at random so that a secret in a page cannot be guessed by its size."""

    def process_response(self, request: HttpRequest, response: HttpResponse) -> HttpResponse:
        kind = response.headers.get("Content-Type", "")
        if kind.startswith(
            ("text/event-stream", "application/octet-stream", "image/", "application/vnd.apache")
        ):
            return response
        return super().process_response(request, response)  # type: ignore[return-value]
