"""Headers on every answer: a strict Content-Security-Policy with a nonce, and its relatives."""

import secrets

from django.conf import settings
from django.http import HttpRequest, HttpResponse

from watchtide.server.middleware import Around

# What no cache on the way or in a shared browser may keep.
DATA = ("/api/", "/v1/", "/metrics")


class SecurityHeaders(Around):
    """Gives each request a nonce and each answer its headers."""

    def before(self, request: HttpRequest) -> None:
        request.csp_nonce = secrets.token_urlsafe(18)

    def after(self, request: HttpRequest, response: HttpResponse, noted: None) -> HttpResponse:
        return with_headers(request, response)


def with_headers(request: HttpRequest, response: HttpResponse) -> HttpResponse:
    nonce = request.csp_nonce
    response.headers.setdefault(
        "Content-Security-Policy",
        f"default-src 'none'; script-src 'self' 'nonce-{nonce}'; style-src 'self' 'nonce-{nonce}'; "
        "img-src 'self' data: blob:; font-src 'self'; connect-src 'self'; worker-src 'self'; "
        "base-uri 'none'; form-action 'self'; frame-ancestors 'none'",
    )
    if settings.IS_HTTPS:
        response.headers.setdefault("Strict-Transport-Security", "max-age=31536000; includeSubDomains")
    if request.path.startswith(DATA):
        response.headers.setdefault("Cache-Control", "no-store")
    response.headers.setdefault("X-Content-Type-Options", "nosniff")
    response.headers.setdefault("Referrer-Policy", "same-origin")
    response.headers.setdefault("X-Frame-Options", "DENY")
    response.headers.setdefault("Cross-Origin-Opener-Policy", "same-origin")
    response.headers.setdefault("Permissions-Policy", "geolocation=(), camera=(), microphone=()")
    return response
