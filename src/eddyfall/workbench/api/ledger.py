"""Ledger: changes in order, drop, another order, patch preview."""

from functools import partial
from typing import Any

from ninja import Router, Status

from eddyfall.workbench.api.builds import BUILD
from eddyfall.workbench.api.cases import version_of
from eddyfall.workbench.api.routes import IfMatch, route
from eddyfall.workbench.api.schemas import KeepChange, LedgerOrder, LedgerOut, Problem
from eddyfall.workbench.api.views import ledger_out
from eddyfall.workbench.services import builds, ledger

router = Router(tags=["ledger"])


@route(router, "GET", BUILD + "/ledger", "viewer", response=LedgerOut)
def get_ledger(request: Any, project_id: int, number: int) -> Any:
    return ledger_out(builds.build_of(request.project, number), request.user)


@route(
    router, "POST", BUILD + "/ledger", "artist", response={201: LedgerOut, 404: Problem, 409: Problem, 422: Problem, 428: Problem}
)  # fmt: skip
def keep(request: Any, project_id: int, number: int, payload: KeepChange, if_match: IfMatch = None) -> Any:
    build = builds.build_of(request.project, number)
    ledger.keep_change(build, version_of(if_match), request.user, document=payload.change, evidence=payload.evidence,
                       reason=payload.reason, current=partial(ledger_out, user=request.user))  # fmt: skip
    return Status(201, ledger_out(build, request.user))


@route(
    router,
    "POST",
    BUILD + "/ledger/{change_id}/drop",
    "artist",
    response={200: LedgerOut, 404: Problem, 409: Problem, 428: Problem},
)
def drop(request: Any, project_id: int, number: int, change_id: int, if_match: IfMatch = None) -> Any:
    build = builds.build_of(request.project, number)
    ledger.drop(build, change_id, version_of(if_match), request.user, partial(ledger_out, user=request.user))
    return ledger_out(build, request.user)


@route(
    router, "POST", BUILD + "/ledger/order", "artist", response={200: LedgerOut, 409: Problem, 422: Problem, 428: Problem}
)  # fmt: skip
def reorder(request: Any, project_id: int, number: int, payload: LedgerOrder, if_match: IfMatch = None) -> Any:
    build = builds.build_of(request.project, number)
    ledger.reorder(build, payload.order, version_of(if_match), request.user, partial(ledger_out, user=request.user))
    return ledger_out(build, request.user)
