"""How the server is: for who watches over it, and, in numbers, for who is signed in."""

from typing import Any

from django.http import HttpRequest
from ninja import Router

from eddyfall.workbench.api.routes import route
from eddyfall.workbench.api.schemas import HealthOut
from eddyfall.workbench.services import health

router = Router(tags=["health"])


@route(router, "GET", "/health", "anyone", response={200: HealthOut, 503: HealthOut})
def get_health(request: HttpRequest) -> Any:
    """200 if everything answers, else 503; what exactly, and how full, only for who is signed in."""
    parts = health.look()
    try:
        known = request.user.is_authenticated
    except health.AWAY:
        known = False
    if not known:
        parts = {name: {"ok": part["ok"]} for name, part in parts.items()}
    ok = all(part["ok"] for part in parts.values())
    return (200 if ok else 503), {"ok": ok, "parts": parts}
