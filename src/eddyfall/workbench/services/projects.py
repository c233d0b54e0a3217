"""Projects and the people in them."""

from typing import Any

from django.contrib.auth import get_user_model
from django.db import transaction

from eddyfall.workbench import files
from eddyfall.workbench.errors import NotThere, Refused
from eddyfall.workbench.models import Event, File, Membership, Project


def note(project: Project, user: Any, what: str, about: str) -> None:
    """Write down who did what."""
    Event.objects.create(project=project, user=user if user and user.pk else None, what=what, about=about[:400])


@transaction.atomic
def create(user: Any, name: str) -> Project:
    """A new project with its maker as lead."""
    project = Project.objects.create(name=name)
    Membership.objects.create(project=project, user=user, role="lead")
    note(project, user, "project made", name)
    return project


@transaction.atomic
def delete(project: Project) -> None:
    """Delete a project with all it holds; its files go once nothing else names them."""
    files.unlink_unnamed(list(File.objects.filter(build__project=project).values_list("sha256", flat=True)))
    project.delete()


@transaction.atomic
def invite(project: Project, by: Any, username: str, role: str) -> Membership:
    """Give a known user a role. The last lead keeps theirs."""
    user = get_user_model().objects.filter(username=username).first()
    if user is None:
        raise NotThere(f"user {username!r}")
    Project.objects.select_for_update().get(pk=project.pk)
    if role != "lead":
        _keep_a_lead(project, user.pk)
    membership, _ = Membership.objects.update_or_create(project=project, user=user, defaults={"role": role})
    note(project, by, "invited", f"{username} as {role}")
    return membership


@transaction.atomic
def remove_member(project: Project, by: Any, username: str) -> None:
    """Take a user out of a project."""
    Project.objects.select_for_update().get(pk=project.pk)
    membership = Membership.objects.filter(project=project, user__username=username).select_related("user").first()
    if membership is None:
        raise NotThere(f"member {username!r}")
    _keep_a_lead(project, membership.user.pk)
    membership.delete()
    note(project, by, "removed", username)


def _keep_a_lead(project: Project, user_id: int) -> None:
    leads = set(Membership.objects.filter(project=project, role="lead").values_list("user_id", flat=True))
    if leads == {user_id}:
        raise Refused(409, "a project keeps at least one lead")
