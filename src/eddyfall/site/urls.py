"""Addresses: the API under /api/, and the front end's one page for everything else."""

from django.conf import settings
from django.http import HttpRequest, HttpResponse
from django.urls import path, re_path
from django.views.decorators.csrf import ensure_csrf_cookie

from eddyfall.workbench.api import api


@ensure_csrf_cookie
def page(request: HttpRequest) -> HttpResponse:
    """The front end."""
    index = settings.WEB_DIST / "index.html"
    if not index.exists():
        return HttpResponse("The front end has not been built: ./run demo builds it.", status=503, content_type="text/plain")
    return HttpResponse(index.read_bytes(), headers={"Cache-Control": "no-cache"})


urlpatterns = [path("api/", api.urls), re_path(r"^(?!api/|assets/).*$", page)]
