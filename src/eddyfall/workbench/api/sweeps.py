"""Sweep: ask, look, evidence."""

from typing import Any

from django.db.models import Prefetch
from ninja import Query, Router, Status

from eddyfall.workbench.api.builds import BUILD
from eddyfall.workbench.api.paging import Page, page_of
from eddyfall.workbench.api.routes import route
from eddyfall.workbench.api.schemas import Problem, SweepIn, SweepLine, SweepOut
from eddyfall.workbench.api.sending import send_file
from eddyfall.workbench.api.views import sweep_line, sweep_out
from eddyfall.workbench.errors import NotThere
from eddyfall.workbench.models import Finding
from eddyfall.workbench.services import builds, sweeps

router = Router(tags=["sweeps"])


@route(router, "GET", BUILD + "/sweeps", "viewer", response=list[SweepLine])
def list_sweeps(request: Any, project_id: int, number: int, page: Query[Page]) -> Any:
    rows = (
        builds.build_of(request.project, number)
        .sweeps.select_related("job")
        .prefetch_related(Prefetch("findings", Finding.objects.only("sweep_id")))
    )
    return [sweep_line(s) for s in page_of(rows, page)]


@route(router, "POST", BUILD + "/sweeps", "artist", response={201: SweepLine, 404: Problem, 409: Problem})
def ask(request: Any, project_id: int, number: int, payload: SweepIn) -> Any:
    return Status(201, sweep_line(sweeps.ask(builds.build_of(request.project, number), request.user, payload.target)))


@route(router, "GET", BUILD + "/sweeps/{sweep_id}", "viewer", response=SweepOut)
def get_sweep(request: Any, project_id: int, number: int, sweep_id: int) -> Any:
    return sweep_out(sweeps.sweep_of(builds.build_of(request.project, number), sweep_id))


@route(router, "GET", BUILD + "/findings/{finding_id}/picture", "viewer")
def evidence(request: Any, project_id: int, number: int, finding_id: int) -> Any:
    build = builds.build_of(request.project, number)
    rows = Finding.objects.select_related("picture").only("picture__sha256")
    finding = rows.filter(sweep__build=build, pk=finding_id).first()
    if finding is None or finding.picture is None:
        raise NotThere(f"picture of finding {finding_id}")
    return send_file(finding.picture.sha256, f"picture of finding {finding_id}", kind="image/png")
