"""The page shell, and the two questions a supervisor asks."""

import json
from functools import lru_cache
from pathlib import Path

from django.conf import settings
from django.core.exceptions import PermissionDenied
from django.http import Http404, HttpRequest, HttpResponse, HttpResponsePermanentRedirect, JsonResponse
from django.http.response import HttpResponseBase
from django.shortcuts import render
from django.views.decorators.csrf import ensure_csrf_cookie
from django.views.decorators.http import require_safe
from django.views.static import serve
from prometheus_client.openmetrics.exposition import CONTENT_TYPE_LATEST

from watchtide.server import addresses, disk, ourselves
from watchtide.server.jobs import beats
from watchtide.server.jobs.models import Job
from watchtide.server.people import access


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
@ensure_csrf_cookie
def no_such_screen(request: HttpRequest) -> HttpResponse:
    """The page, which says that there is no such screen; 404 for whoever reads no page."""
    response = render(request, "shell.html", {"nonce": request.csp_nonce, **_assets()}, status=404)
    response["Cache-Control"] = "no-store"
    return response


@require_safe
def guide(request: HttpRequest, path: str = "") -> HttpResponseBase:
    """A page of the guide or what belongs to one. Nothing in it is anybody's data: it needs no sign-in."""
    if ".." in path.split("/") or "\0" in path:
        return no_such_screen(request)
    if (settings.GUIDE / path).is_dir():
        if path and not path.endswith("/"):
            return HttpResponsePermanentRedirect(f"/guide/{path}/")
        path = f"{path}index.html"
    try:
        answer = serve(request, path, document_root=settings.GUIDE)
    except Http404:
        return no_such_screen(request)
    answer["Cache-Control"] = "no-cache"
    return answer


@require_safe
def healthz(request: HttpRequest) -> JsonResponse:
    return JsonResponse({"status": "up"})


@require_safe
def readyz(request: HttpRequest) -> JsonResponse:
    """Whether the database answers, and every worker and keeper that was started is still there.

    503 while one of them is missing; a duty that fails is named too, and is no reason to be taken out of service.
    """
    waiting = Job.objects.filter(state="queued").count()
    lost = beats.lost()
    answer = {
        "status": "a worker or keeper is missing" if lost else "ready",
        "queued_jobs": waiting, "lost": lost, "failing": beats.failing(), "disk": disk.state(),
    }  # fmt: skip
    return JsonResponse(answer, status=503 if lost else 200)


@require_safe
def metrics(request: HttpRequest) -> HttpResponse:
    """OpenMetrics text about ourselves: how much is kept, what waits, what fails, how long requests take. No names of streams.

    For addresses that METRICS_FROM names, and for tokens that may read.
    """
    if not addresses.is_among(addresses.of(request), settings.METRICS_FROM) and not access.may_read(request):
        raise PermissionDenied
    return HttpResponse(ourselves.exposition(), content_type=CONTENT_TYPE_LATEST)
