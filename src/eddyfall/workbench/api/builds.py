"""Intake and Set-up: uploads, what is in a build, captures, resolved settings and the measured effect of an edit."""

from typing import Annotated, Any

from django.http import HttpRequest
from ninja import File, Query, Router, Status
from ninja.files import UploadedFile

from eddyfall.workbench.api.asking import ask
from eddyfall.workbench.api.paging import Page, page_of
from eddyfall.workbench.api.routes import route
from eddyfall.workbench.api.schemas import BuildLine, BuildOut, JobOut, Problem, SetupTrial
from eddyfall.workbench.api.sending import send_file
from eddyfall.workbench.api.views import build_line, build_out, job_out
from eddyfall.workbench.errors import NotThere
from eddyfall.workbench.services import builds, intakes, ledger, settings_sheet
from eddyfall.workbench.services.settings_sheet import SetupEffect, SetupSheet

router = Router(tags=["builds"])
BUILD = "/projects/{project_id}/builds/{number}"


@route(router, "GET", "/projects/{project_id}/builds", "viewer", response=list[BuildLine])
def list_builds(request: Any, project_id: int, page: Query[Page]) -> Any:
    return [build_line(b) for b in page_of(request.project.builds.select_related("created_by"), page)]


@route(router, "POST", "/projects/{project_id}/builds", "artist", response={202: JobOut, 422: Problem, 507: Problem})
def upload(request: Any, project_id: int, scene: File[UploadedFile], setup: Annotated[UploadedFile | None, File()] = None) -> Any:
    """Answers at once with the job that reads the upload; its `build` is the number of what it became."""
    return Status(202, job_out(intakes.upload(request.project, request.user, scene, setup).job))


@route(router, "GET", "/projects/{project_id}/jobs/{job_id}", "viewer", response=JobOut)
def get_job(request: Any, project_id: int, job_id: int) -> Any:
    job = request.project.jobs.filter(pk=job_id).first()
    if job is None:
        raise NotThere(f"job {job_id}")
    return job_out(job)


@route(router, "GET", BUILD, "viewer", response=BuildOut)
def get_build(request: Any, project_id: int, number: int) -> Any:
    return build_out(builds.build_of(request.project, number))


@route(router, "DELETE", BUILD, "lead", response={204: None})
def delete_build(request: Any, project_id: int, number: int) -> Any:
    builds.delete(builds.build_of(request.project, number), request.user)
    return Status(204, None)


@route(router, "GET", BUILD + "/files/{kind}", "viewer")
def download(request: Any, project_id: int, number: int, kind: str) -> Any:
    row = builds.file_of(builds.build_of(request.project, number), kind) if kind in ("scene", "setup") else None
    if row is None:
        raise NotThere(f"file {kind!r}")
    return send_file(row.sha256, f"file {kind!r}", save_as=row.name)


@route(router, "POST", BUILD + "/captures/{viewpoint}", "artist", response={204: None, 404: Problem, 422: Problem})
def set_capture(request: Any, project_id: int, number: int, viewpoint: str, picture: File[UploadedFile]) -> Any:
    builds.set_capture(builds.build_of(request.project, number), request.user, viewpoint, picture)
    return Status(204, None)


@route(router, "GET", BUILD + "/captures/{viewpoint}", "viewer")
def get_capture(request: Any, project_id: int, number: int, viewpoint: str) -> Any:
    capture = builds.build_of(request.project, number).captures.filter(viewpoint=viewpoint).select_related("file").first()
    if capture is None:
        raise NotThere(f"capture of {viewpoint!r}")
    return send_file(capture.file.sha256, f"capture of {viewpoint!r}", kind="image/png")


@route(router, "GET", BUILD + "/setup", "viewer", response=SetupSheet)
def get_setup(request: Any, project_id: int, number: int, viewpoint: str | None = None, target: str | None = None) -> Any:
    build = builds.build_of(request.project, number)
    shown = ask(request, "open", settings_sheet.sheet, builds.Head(build.pk), viewpoint, target)
    return settings_sheet.with_reasons(shown, ledger.reasons(build))


@route(router, "POST", BUILD + "/setup/trial", "viewer", response={200: SetupEffect, 422: Problem})
def try_setting(request: HttpRequest, project_id: int, number: int, payload: SetupTrial) -> Any:
    build = builds.build_of(request.project, number)  # type: ignore[attr-defined]
    edits = [(tuple(e.path), e.value) for e in payload.edits]
    return ask(request, "draw", settings_sheet.measure, builds.Head(build.pk), edits, payload.viewpoint, payload.target)
