"""Cases: open, read, work, keep, prove."""

from typing import Any

from ninja import Query, Router, Status

from eddyfall.core.defects.registry import looks
from eddyfall.core.defects.symptoms import symptoms
from eddyfall.workbench.api.builds import BUILD
from eddyfall.workbench.api.paging import Page, page_of
from eddyfall.workbench.api.routes import IfMatch, route
from eddyfall.workbench.api.schemas import CaseEdit, CaseIn, CaseLine, CaseOut, Keep, Problem
from eddyfall.workbench.api.sending import send_file
from eddyfall.workbench.api.views import case_line, case_out
from eddyfall.workbench.errors import NotThere, Refused
from eddyfall.workbench.models import Finding
from eddyfall.workbench.services import builds, cases, ledger, proofs

router = Router(tags=["cases"])
CASE = BUILD + "/cases/{case_number}"
WRITES = {200: CaseOut, 404: Problem, 409: Problem, 422: Problem, 428: Problem}


def version_of(if_match: str | None) -> int:
    """The version a write was made on, from If-Match."""
    text = (if_match or "").strip().strip('"')
    if not (text.isascii() and text.isdigit() and len(text) < 10):
        raise Refused(428, "say in If-Match which version you have loaded")
    return int(text)


@route(router, "GET", "/symptoms", "user", response=list[dict[str, str]])
def list_symptoms(request: Any) -> Any:
    scored = [{"name": s.name, "unit": s.unit, "means": s.means, "scored": "yes"} for s in symptoms().values()]
    others = [
        {"name": n, "unit": "", "means": words, "scored": "no"} for n, words in sorted(looks().items()) if n not in symptoms()
    ]
    return scored + others


@route(router, "GET", BUILD + "/cases", "viewer", response=list[CaseLine])
def list_cases(request: Any, project_id: int, number: int, page: Query[Page]) -> Any:
    rows = builds.build_of(request.project, number).cases.select_related("finding", "build", "created_by")
    return [case_line(c) for c in page_of(rows, page)]


@route(router, "POST", BUILD + "/cases", "artist", response={201: CaseOut, 404: Problem, 422: Problem})
def open_case(request: Any, project_id: int, number: int, payload: CaseIn) -> Any:
    build = builds.build_of(request.project, number)
    finding = None
    if payload.finding is not None:
        finding = Finding.objects.filter(sweep__build=build, pk=payload.finding).select_related("sweep").first()
        if finding is None:
            raise NotThere(f"finding {payload.finding}")
    elif payload.viewpoint is None:
        raise Refused(422, "a case needs a finding or a viewpoint")
    values = payload.dict(exclude={"finding"})
    values["spot"] = list(payload.spot) if payload.spot else None
    return Status(201, case_out(cases.open_case(build, request.user, finding=finding, values=values)))


@route(router, "GET", CASE, "viewer", response=CaseOut)
def get_case(request: Any, project_id: int, number: int, case_number: int) -> Any:
    return case_out(cases.case_of(builds.build_of(request.project, number), case_number))


@route(router, "PATCH", CASE, "artist", response=WRITES)
def edit_case(
    request: Any,
    project_id: int,
    number: int,
    case_number: int,
    payload: CaseEdit,
    if_match: IfMatch = None,
) -> Any:
    values = payload.dict(exclude_unset=True)
    for key in ("title", "viewpoint", "symptom"):
        if key in values and values[key] is None:
            raise Refused(422, f"{key} may not be empty")
    if values.get("spot") is not None:
        values["spot"] = list(values["spot"])
    build = builds.build_of(request.project, number)
    return case_out(cases.change_case(build, case_number, version_of(if_match), values, request.user, case_out))


@route(router, "GET", CASE + "/trials/{rank}/picture", "viewer")
def trial_picture(request: Any, project_id: int, number: int, case_number: int, rank: int) -> Any:
    case = cases.case_of(builds.build_of(request.project, number), case_number)
    trial = case.trials.filter(rank=rank).select_related("picture").first()
    if trial is None:
        raise NotThere(f"trial {rank}")
    return send_file(trial.picture.sha256, f"trial {rank}", kind="image/png")


@route(router, "POST", CASE + "/keep", "artist", response=WRITES)
def keep(
    request: Any,
    project_id: int,
    number: int,
    case_number: int,
    payload: Keep,
    if_match: IfMatch = None,
) -> Any:
    build = builds.build_of(request.project, number)
    ledger.keep(build, case_number, version_of(if_match), request.user, trial=payload.trial, remedy=payload.remedy,
                reason=payload.reason, current=case_out)  # fmt: skip
    return case_out(cases.case_of(build, case_number))


@route(router, "POST", CASE + "/proofs", "artist", response={200: CaseOut, 404: Problem, 409: Problem})
def ask_proof(request: Any, project_id: int, number: int, case_number: int) -> Any:
    case = cases.case_of(builds.build_of(request.project, number), case_number)
    proofs.ask(case, request.user)
    return case_out(case)
