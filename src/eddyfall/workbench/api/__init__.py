"""The HTTP API under /api/: one router a sheet. Access is declared with each route and checked in one place (routes.py)."""

from typing import Any

from django.http import HttpRequest, HttpResponse
from ninja import NinjaAPI
from ninja.errors import HttpError, ValidationError
from ninja.parser import Parser

from eddyfall.core.errors import EddyfallError
from eddyfall.core.scene.names import first_bad_text
from eddyfall.workbench.api import (
    arrivals,
    bench,
    builds,
    cases,
    deliveries,
    health,
    layers,
    ledger,
    light,
    lightmaps,
    people,
    shadows,
    sweeps,
    work,
)
from eddyfall.workbench.errors import Dropped, Refused
from eddyfall.workbench.outages import outage


class TextParser(Parser):
    """JSON bodies, every text in them checked."""

    def parse_body(self, request: HttpRequest) -> Any:
        body = super().parse_body(request)
        if bad := first_bad_text(body):
            raise Refused(422, ": ".join(part for part in bad if part))
        return body


api = NinjaAPI(title="Eddyfall", version="1", urls_namespace="api", docs_url=None, parser=TextParser())
for room in (people, health, builds, arrivals, deliveries, sweeps, cases, bench, lightmaps, shadows, light, layers, ledger, work):
    api.add_router("", room.router)


@api.exception_handler(Refused)
def refused(request: HttpRequest, error: Refused) -> HttpResponse:
    answer = api.create_response(request, {"detail": error.detail, **error.more}, status=error.status)
    if error.retry_after_s is not None:
        answer.headers["Retry-After"] = str(error.retry_after_s)
    return answer


@api.exception_handler(OSError)
def machine(request: HttpRequest, error: OSError) -> HttpResponse:
    """A full disk, as one; what else a machine does is nobody's fault here and is logged where it is raised."""
    away = outage(error)
    if away is None:
        raise error
    return refused(request, Refused(away[0], away[1], retry_after_s=away[2]))


@api.exception_handler(HttpError)
def unreadable(request: HttpRequest, error: HttpError) -> HttpResponse:
    """A body that is no JSON, or holds text that nothing can store."""
    if isinstance(error.__cause__, Refused):
        return refused(request, error.__cause__)
    return api.create_response(request, {"detail": str(error)}, status=error.status_code)


@api.exception_handler(Dropped)
def dropped(request: HttpRequest, error: Dropped) -> HttpResponse:
    """Nobody reads this: the client has closed its connection."""
    response = api.create_response(request, {"detail": "the client has gone"}, status=499)
    response.reason_phrase = "The client has gone"  # no standard names the code: the log would call it unknown
    return response


@api.exception_handler(EddyfallError)
def core_refused(request: HttpRequest, error: EddyfallError) -> HttpResponse:
    return api.create_response(request, {"detail": str(error)}, status=422)


@api.exception_handler(ValidationError)
def invalid(request: HttpRequest, error: ValidationError) -> HttpResponse:
    first: Any = error.errors[0] if error.errors else {"loc": [], "msg": "invalid"}
    where = ".".join(str(p) for p in first["loc"][1:] if p not in ("body", "payload"))
    return api.create_response(request, {"detail": f"{where}: {first['msg']}" if where else str(first["msg"])}, status=422)
