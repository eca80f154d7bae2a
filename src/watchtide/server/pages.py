"""The page shell, and the two questions a supervisor asks."""

import json
from functools import lru_cache
from pathlib import Path

from django.conf import settings
from django.db import connection
from django.http import HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import render
from django.views.decorators.csrf import ensure_csrf_cookie
from django.views.decorators.http import require_safe

from watchtide.server.jobs.models import Job


@lru_cache(maxsize=1)
def _assets() -> dict[str, list[str]]:
    """Scripts and styles of the built front end, from the bundler's manifest."""
    for folder in settings.STATICFILES_DIRS:
        manifest = Path(folder) / ".vite" / "manifest.json"
        if manifest.is_file():
            entry = next(e for e in json.loads(manifest.read_text()).values() if e.get("isEntry"))
            return {"scripts": [entry["file"]], "styles": entry.get("css", [])}
    return {"scripts": [], "styles": []}


@require_safe
@ensure_csrf_cookie
def shell(request: HttpRequest) -> HttpResponse:
    response = render(request, "shell.html", {"nonce": request.csp_nonce, **_assets()})
    response["Cache-Control"] = "no-store"
    return response


@require_safe
def healthz(request: HttpRequest) -> JsonResponse:
    return JsonResponse({"status": "up"})


@require_safe
def readyz(request: HttpRequest) -> JsonResponse:
    """Whether the database and the queue answer."""
    with connection.cursor() as cursor:
        cursor.execute("SELECT 1")
    waiting = Job.objects.filter(state="queued").count()
    return JsonResponse({"status": "ready", "queued_jobs": waiting})
