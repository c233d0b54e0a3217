"""Long work: jobs with progress and cancel, and hand overs."""

from typing import Any

from ninja import Query, Router, Status

from eddyfall.workbench import jobs
from eddyfall.workbench.api.builds import BUILD
from eddyfall.workbench.api.paging import Page, page_of
from eddyfall.workbench.api.routes import route
from eddyfall.workbench.api.schemas import JobOut, PackageOut, Problem
from eddyfall.workbench.api.sending import send_file
from eddyfall.workbench.api.views import about, job_out, package_out
from eddyfall.workbench.errors import NotThere
from eddyfall.workbench.models import Package
from eddyfall.workbench.services import builds, handover
from eddyfall.workbench.services.projects import note

router = Router(tags=["work"])
OF_JOBS = ("sweep__build", "package__build", "bake__build", "proof__case", "intake__build", "delivery__build")


@route(router, "GET", "/projects/{project_id}/jobs", "viewer", response=list[JobOut])
def list_jobs(request: Any, project_id: int, page: Query[Page]) -> Any:
    return [job_out(j) for j in page_of(request.project.jobs.select_related(*OF_JOBS), page)]


@route(router, "POST", "/projects/{project_id}/jobs/{job_id}/cancel", "artist", response={200: JobOut, 404: Problem})
def cancel(request: Any, project_id: int, job_id: int) -> Any:
    job = request.project.jobs.filter(pk=job_id).first()
    if job is None:
        raise NotThere(f"job {job_id}")
    jobs.cancel(job)
    note(request.project, request.user, "cancelled", about(job))
    job.refresh_from_db()
    return job_out(job)


@route(router, "POST", BUILD + "/hand-over", "artist", response={201: PackageOut, 409: Problem})
def ask(request: Any, project_id: int, number: int) -> Any:
    return Status(201, package_out(handover.ask(builds.build_of(request.project, number), request.user)))


@route(router, "GET", BUILD + "/hand-over", "viewer", response=list[PackageOut])
def list_packages(request: Any, project_id: int, number: int, page: Query[Page]) -> Any:
    rows = builds.build_of(request.project, number).packages.select_related("job", "file", "build")
    return [package_out(p) for p in page_of(rows, page)]


@route(router, "GET", BUILD + "/hand-over/{package_id}", "viewer")
def download(request: Any, project_id: int, number: int, package_id: int) -> Any:
    row = Package.objects.filter(build=builds.build_of(request.project, number), pk=package_id).select_related("file").first()
    if row is None or row.file is None:
        raise NotThere(f"hand over {package_id}")
    return send_file(row.file.sha256, f"hand over {package_id}", save_as=row.file.name)
