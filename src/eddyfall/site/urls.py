"""Addresses: the API under /api/, and the front end's one page for everything else."""

import sys

from django.conf import settings
from django.http import HttpRequest, HttpResponse
from django.urls import path, re_path
from django.views.decorators.csrf import ensure_csrf_cookie

from eddyfall.site.limits import failed
from eddyfall.workbench.api import api


@ensure_csrf_cookie
def page(request: HttpRequest) -> HttpResponse:
    """The front end."""
    index = settings.WEB_DIST / "index.html"
    if not index.exists():
        return HttpResponse("The front end has not been built: ./run demo builds it.", status=503, content_type="text/plain")
    return HttpResponse(index.read_bytes(), headers={"Cache-Control": "no-cache"})


urlpatterns = [path("api/", api.urls), re_path(r"^(?!api/|assets/).*$", page)]


def handler500(request: HttpRequest) -> HttpResponse:
    """What nobody expected, told in words; an outage as one."""
    error = sys.exc_info()[1]
    if request.path.startswith("/api/"):
        return failed(request, error or RuntimeError())
    away = failed(request, error or RuntimeError())
    return HttpResponse("Eddyfall cannot answer now; load the page again in a moment.", status=away.status_code,
                        content_type="text/plain", headers={"Retry-After": away.headers.get("Retry-After", "5")})  # fmt: skip
