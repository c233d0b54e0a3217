"""Signing in, projects and their members."""

from typing import Any

from django.conf import settings
from django.contrib.auth import logout
from django.contrib.auth.models import User
from django.http import HttpRequest, HttpResponse
from django.middleware.csrf import get_token
from ninja import Query, Router, Status

from eddyfall import __version__
from eddyfall.workbench.api.paging import Page, page_of
from eddyfall.workbench.api.routes import route
from eddyfall.workbench.api.schemas import (
    EventOut,
    InvitationOut,
    Me,
    MemberIn,
    MemberOut,
    NewPassword,
    Problem,
    ProjectIn,
    ProjectOut,
    SignIn,
)  # fmt: skip
from eddyfall.workbench.api.views import event_out, invited_out, member_out, name_of, project_out
from eddyfall.workbench.errors import Refused
from eddyfall.workbench.models import Event, Membership
from eddyfall.workbench.services import accounts, projects

router = Router(tags=["people"])


def address_of(request: HttpRequest) -> str:
    """The client's address: as nginx says it, which alone reaches the web process's socket; else the connection's."""
    return str(request.META.get("HTTP_X_REAL_IP") or request.META.get("REMOTE_ADDR") or "")[:64]


def _me(user: Any) -> dict[str, Any]:
    name = user.get_username() if user.is_authenticated else None
    return {"username": name, "demo": settings.IS_DEMO, "version": __version__}


def signed_in(request: HttpRequest) -> User:
    """The user of a request that its door let in."""
    assert isinstance(request.user, User)
    return request.user


@route(router, "GET", "/session", "anyone", response=Me)
def who(request: HttpRequest) -> Any:
    get_token(request)
    return _me(request.user)


@route(router, "POST", "/session", "anyone", response={200: Me, 401: Problem, 403: Problem, 429: Problem})
def sign_in(request: HttpRequest, payload: SignIn, response: HttpResponse) -> Any:
    user = accounts.sign_in(request, payload.username, payload.password, address_of(request))
    accounts.remember_browser(response, user.get_username())
    return _me(user)


@route(router, "POST", "/session/password", "user", response={200: Me, 401: Problem, 422: Problem, 429: Problem})
def change_password(request: HttpRequest, payload: NewPassword) -> Any:
    """The user's own; their other sessions end."""
    if settings.IS_DEMO:
        raise Refused(422, "the demo's password stays as it is")
    accounts.change_password(request, payload.old, payload.new, address_of(request))
    return _me(request.user)


@route(router, "GET", "/session/events", "user", response=list[EventOut])
def own_events(request: HttpRequest, page: Query[Page]) -> Any:
    """What the user did that belongs to no project: sign-ins, projects deleted."""
    rows = page_of(Event.objects.filter(user=signed_in(request), project=None).select_related("user"), page)
    return [event_out(e) for e in rows]


@route(router, "GET", "/invitations", "user", response=list[InvitationOut])
def list_invitations(request: HttpRequest) -> Any:
    return [
        {"id": i.pk, "project": i.project.name, "role": i.role, "invited_by": name_of(i.invited_by), "created": i.created}
        for i in projects.invitations_of(request.user)
    ]


@route(router, "POST", "/invitations/{int:invitation_id}", "user", response={200: ProjectOut, 404: Problem})
def accept_invitation(request: HttpRequest, invitation_id: int) -> Any:
    project = projects.answer_invitation(request.user, invitation_id, True)
    assert project is not None
    role = Membership.objects.get(project=project, user=signed_in(request)).role
    return project_out(project, role)


@route(router, "DELETE", "/invitations/{int:invitation_id}", "user", response={204: None, 404: Problem})
def decline_invitation(request: HttpRequest, invitation_id: int) -> Any:
    projects.answer_invitation(request.user, invitation_id, False)
    return Status(204, None)


@route(router, "DELETE", "/session", "anyone", response={200: Me})
def sign_out(request: HttpRequest) -> Any:
    logout(request)
    return _me(request.user)


@route(router, "GET", "/projects", "user", response=list[ProjectOut])
def list_projects(request: HttpRequest, page: Query[Page]) -> Any:
    rows = Membership.objects.filter(user=signed_in(request)).select_related("project").order_by("-project_id")
    return [project_out(m.project, m.role) for m in page_of(rows, page)]


@route(router, "POST", "/projects", "user", response={201: ProjectOut, 422: Problem})
def make_project(request: HttpRequest, payload: ProjectIn) -> Any:
    return Status(201, project_out(projects.create(request.user, payload.name), "lead"))


@route(router, "GET", "/projects/{project_id}", "viewer", response=ProjectOut)
def get_project(request: Any, project_id: int) -> Any:
    return project_out(request.project, request.role)


@route(router, "DELETE", "/projects/{project_id}", "lead", response={204: None})
def delete_project(request: Any, project_id: int) -> Any:
    projects.delete(request.project, request.user)
    return Status(204, None)


@route(router, "GET", "/projects/{project_id}/members", "viewer", response=list[MemberOut])
def list_members(request: Any, project_id: int, page: Query[Page]) -> Any:
    members = [member_out(m) for m in page_of(request.project.memberships.select_related("user").order_by("id"), page)]
    return members + [invited_out(i) for i in request.project.invitations.order_by("id")]


@route(router, "POST", "/projects/{project_id}/members", "lead", response={200: MemberOut, 404: Problem, 409: Problem})
def invite(request: Any, project_id: int, payload: MemberIn) -> Any:
    """A member's role changes at once; others are invited, whether anyone has the name or not, and accept or decline."""
    row = projects.invite(request.project, request.user, accounts.checked_name(payload.username), payload.role)
    return member_out(row) if isinstance(row, Membership) else invited_out(row)


@route(router, "DELETE", "/projects/{project_id}/members/{username}", "lead", response={204: None, 404: Problem, 409: Problem})
def remove_member(request: Any, project_id: int, username: str) -> Any:
    projects.remove_member(request.project, request.user, username)
    return Status(204, None)


@route(router, "GET", "/projects/{project_id}/events", "viewer", response=list[EventOut])
def events(request: Any, project_id: int, page: Query[Page]) -> Any:
    rows = page_of(request.project.events.select_related("user"), page)
    return [event_out(e) for e in rows]
