"""The demo's user and its projects, empty, each with a job that fills it: what is made before the site answers."""

from typing import Any

from django.contrib.auth import get_user_model
from django.db import transaction

from eddyfall.workbench import jobs
from eddyfall.workbench.models import Job, Membership, Project
from eddyfall.workbench.services import projects

USER, PASSWORD = "demo", "weirgate"
KIND = "demo"
RIVER_FRONT, PUMP_HALL, YARD = "Weirgate Pump Station", "Weirgate pump hall", "Weirgate tow-path yard"
COURT, GALLERY, METERS = "Weirgate wheel-house court", "Weirgate gauge gallery", "Weirgate meter house"
GLASS, LANTERN, VINERY, KIOSK = "Weirgate glasshouse", "Weirgate lantern room", "Weirgate vinery", "Weirgate kiosk game"
DELIVERED, STORE = "Weirgate quay, delivered twice", "Weirgate diving store"
PROJECTS = (RIVER_FRONT, PUMP_HALL, YARD, COURT, GALLERY, METERS, GLASS, LANTERN, VINERY, KIOSK, DELIVERED, STORE)


@transaction.atomic
def prepare() -> None:
    """Make the user and what is missing of the projects, and ask the worker to fill them."""
    users = get_user_model().objects
    user = users.filter(username=USER).first() or users.create_user(USER, password=PASSWORD)
    if not user.is_active:
        user.is_active = True
        user.save(update_fields=["is_active"])
    for name in PROJECTS:
        project = Project.objects.filter(name=name, memberships__user=user).first() or projects.create(user, name)
        if not _filled(project) and not project.jobs.filter(kind=KIND, state__in=Job.UNDER_WAY).exists():
            jobs.defer(KIND, jobs.new(project, user, KIND))


def _filled(project: Project) -> bool:
    """Whether a project has what its job would bring; the river front needs its sweep, since its cases come from that."""
    found = project.builds.filter(sweeps__result__isnull=False) if project.name == RIVER_FRONT else project.builds
    return bool(found.exists())


def standing() -> tuple[bool, bool, list[str]]:
    """(whether a build can be looked at, whether nothing of the demo's own is under way any more, why what was not filled was not)."""
    mine: Any = Membership.objects.filter(user__username=USER, project__name__in=PROJECTS).values_list("project_id", flat=True)
    jobs_left = Job.objects.filter(project_id__in=list(mine), kind__in=(KIND, "sweep", "delivery"), state__in=Job.UNDER_WAY)
    failed = [p.jobs.filter(kind=KIND).first() for p in Project.objects.filter(pk__in=list(mine)) if not _filled(p)]
    why = [f"{job.project.name}: {job.message}" for job in failed if job is not None and job.state not in Job.UNDER_WAY]
    return Project.objects.filter(pk__in=list(mine), builds__isnull=False).exists(), not jobs_left.exists(), why
