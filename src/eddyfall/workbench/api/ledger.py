"""Ledger: changes in order, drop, patch preview."""

from typing import Any

from ninja import Header, Router

from eddyfall.workbench.api.builds import BUILD
from eddyfall.workbench.api.cases import version_of
from eddyfall.workbench.api.routes import route
from eddyfall.workbench.api.schemas import LedgerOut, Problem
from eddyfall.workbench.api.views import ledger_out
from eddyfall.workbench.services import builds, ledger

router = Router(tags=["ledger"])


@route(router, "GET", BUILD + "/ledger", "viewer", response=LedgerOut)
def get_ledger(request: Any, project_id: int, number: int) -> Any:
    return ledger_out(builds.build_of(request.project, number))


@route(
    router,
    "POST",
    BUILD + "/ledger/{change_id}/drop",
    "artist",
    response={200: LedgerOut, 404: Problem, 409: Problem, 428: Problem},
)
def drop(
    request: Any, project_id: int, number: int, change_id: int, if_match: str | None = Header(None, alias="If-Match")
) -> Any:
    build = builds.build_of(request.project, number)
    ledger.drop(build, change_id, version_of(if_match), request.user, ledger_out)
    return ledger_out(build)
