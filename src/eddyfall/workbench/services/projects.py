"""Projects and the people in them."""

from typing import Any

from django.db import transaction

from eddyfall.workbench import files
from eddyfall.workbench.errors import NotThere, Refused
from eddyfall.workbench.models import Event, File, Invitation, Membership, Project

MOST_INVITATIONS = 200


def note(project: Project | None, user: Any, what: str, about: str) -> None:
    """Write down who did what; None: what belongs to no project, which only the user sees."""
    Event.objects.create(project=project, user=user if user and user.pk else None, what=what, about=about[:400])


@transaction.atomic
def create(user: Any, name: str) -> Project:
    """A new project with its maker as lead."""
    project = Project.objects.create(name=name)
    Membership.objects.create(project=project, user=user, role="lead")
    note(project, user, "project made", name)
    return project


@transaction.atomic
def delete(project: Project, user: Any) -> None:
    """Delete a project with all it holds; its files go once nothing else names them, and that it was deleted stays written down."""
    files.unlink_unnamed(list(File.objects.filter(build__project=project).values_list("sha256", flat=True)))
    for row in project.intakes.all():
        files.unlink_unnamed([sha for sha in (row.scene_sha256, row.setup_sha256) if sha])
    name, number = project.name, project.pk
    project.delete()
    note(None, user, "project deleted", f"project {number}: {name}")


@transaction.atomic
def invite(project: Project, by: Any, username: str, role: str) -> Membership | Invitation:
    """Give a member another role, or offer one under a name; who has that name accepts it. Whether anyone has it is not told.

    The last lead keeps theirs.
    """
    Project.objects.select_for_update().get(pk=project.pk)
    membership = Membership.objects.filter(project=project, user__username=username).select_related("user").first()
    if membership is not None:
        if role != "lead":
            _keep_a_lead(project, membership.user.pk)
        membership.role = role
        membership.save(update_fields=["role"])
        note(project, by, "role changed", f"{username}: {role}")
        return membership
    if project.invitations.count() >= MOST_INVITATIONS:
        raise Refused(409, f"a project may have {MOST_INVITATIONS} open invitations")
    invitation, _ = Invitation.objects.update_or_create(
        project=project, username=username, defaults={"role": role, "invited_by": by}
    )
    note(project, by, "invited", f"{username} as {role}")
    return invitation


def invitations_of(user: Any) -> list[Invitation]:
    """What a user is invited to."""
    return list(Invitation.objects.filter(username=user.get_username()).select_related("project", "invited_by").order_by("id"))


@transaction.atomic
def answer_invitation(user: Any, invitation_id: int, accept: bool) -> Project | None:
    """Accept or decline; the project if it was accepted. NotThere if it is not this user's."""
    rows = Invitation.objects.select_for_update(of=("self",)).select_related("project")
    invitation = rows.filter(pk=invitation_id, username=user.get_username()).first()
    if invitation is None:
        raise NotThere(f"invitation {invitation_id}")
    project, role = invitation.project, invitation.role
    invitation.delete()
    note(project, user, "invitation accepted" if accept else "invitation declined", f"{user.get_username()} as {role}")
    if not accept:
        return None
    Membership.objects.get_or_create(project=project, user=user, defaults={"role": role})
    return project


@transaction.atomic
def remove_member(project: Project, by: Any, username: str) -> None:
    """Take a user out of a project, or an invitation back."""
    Project.objects.select_for_update().get(pk=project.pk)
    membership = Membership.objects.filter(project=project, user__username=username).select_related("user").first()
    if membership is None:
        gone, _ = project.invitations.filter(username=username).delete()
        if not gone:
            raise NotThere(f"member {username!r}")
        note(project, by, "invitation withdrawn", username)
        return
    _keep_a_lead(project, membership.user.pk)
    membership.delete()
    note(project, by, "removed", username)


def _keep_a_lead(project: Project, user_id: int) -> None:
    leads = set(Membership.objects.filter(project=project, role="lead").values_list("user_id", flat=True))
    if leads == {user_id}:
        raise Refused(409, "a project keeps at least one lead")
