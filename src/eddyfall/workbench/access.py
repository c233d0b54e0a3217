"""Who may do what: the one place where membership is looked up."""

from django.contrib.auth.models import AbstractBaseUser, AnonymousUser

from eddyfall.workbench.errors import NotThere, Refused
from eddyfall.workbench.models import ROLES, Membership, Project


def project_for(user: AbstractBaseUser | AnonymousUser, project_id: int, at_least: str) -> tuple[Project, str]:
    """(project, the user's role). 401 for nobody, 404 for a stranger (as if it did not exist), 403 for too small a role."""
    if not user.is_authenticated:
        raise Refused(401, "sign in first")
    membership = Membership.objects.select_related("project").filter(project_id=project_id, user_id=user.pk).first()
    if membership is None:
        raise NotThere(f"project {project_id}")
    if ROLES.index(membership.role) < ROLES.index(at_least):
        raise Refused(403, f"a {membership.role} may not do this; it takes the role {at_least}")
    return membership.project, membership.role
