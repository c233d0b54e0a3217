"""Signing in, projects and their members."""

from typing import Any

from django.conf import settings
from django.contrib.auth import authenticate, login, logout
from django.http import HttpRequest
from django.middleware.csrf import get_token
from ninja import Query, Router, Status

from eddyfall import __version__
from eddyfall.workbench.api.paging import Page, page_of
from eddyfall.workbench.api.routes import route
from eddyfall.workbench.api.schemas import EventOut, Me, MemberIn, MemberOut, Problem, ProjectIn, ProjectOut, SignIn
from eddyfall.workbench.api.views import member_out, name_of, project_out
from eddyfall.workbench.errors import Refused
from eddyfall.workbench.models import Membership
from eddyfall.workbench.services import projects

router = Router(tags=["people"])


def _me(user: Any) -> dict[str, Any]:
    name = user.get_username() if user.is_authenticated else None
    return {"username": name, "demo": settings.IS_DEMO, "version": __version__}


@route(router, "GET", "/session", "anyone", response=Me)
def who(request: HttpRequest) -> Any:
    get_token(request)
    return _me(request.user)


@route(router, "POST", "/session", "anyone", response={200: Me, 401: Problem, 403: Problem})
def sign_in(request: HttpRequest, payload: SignIn) -> Any:
    if "\0" in payload.username or "\0" in payload.password:
        raise Refused(401, "this name and password do not fit")
    user = authenticate(request, username=payload.username, password=payload.password)
    if user is None:
        raise Refused(401, "this name and password do not fit")
    login(request, user)
    return _me(user)


@route(router, "DELETE", "/session", "anyone", response={200: Me})
def sign_out(request: HttpRequest) -> Any:
    logout(request)
    return _me(request.user)


@route(router, "GET", "/projects", "user", response=list[ProjectOut])
def list_projects(request: HttpRequest, page: Query[Page]) -> Any:
    rows = Membership.objects.filter(user_id=request.user.pk).select_related("project").order_by("-project_id")
    return [project_out(m.project, m.role) for m in page_of(rows, page)]


@route(router, "POST", "/projects", "user", response={201: ProjectOut, 422: Problem})
def make_project(request: HttpRequest, payload: ProjectIn) -> Any:
    return Status(201, project_out(projects.create(request.user, payload.name), "lead"))


@route(router, "GET", "/projects/{project_id}", "viewer", response=ProjectOut)
def get_project(request: Any, project_id: int) -> Any:
    return project_out(request.project, request.role)


@route(router, "DELETE", "/projects/{project_id}", "lead", response={204: None})
def delete_project(request: Any, project_id: int) -> Any:
    projects.delete(request.project)
    return Status(204, None)


@route(router, "GET", "/projects/{project_id}/members", "viewer", response=list[MemberOut])
def list_members(request: Any, project_id: int, page: Query[Page]) -> Any:
    return [member_out(m) for m in page_of(request.project.memberships.select_related("user").order_by("id"), page)]


@route(router, "POST", "/projects/{project_id}/members", "lead", response={200: MemberOut, 404: Problem, 409: Problem})
def invite(request: Any, project_id: int, payload: MemberIn) -> Any:
    return member_out(projects.invite(request.project, request.user, payload.username, payload.role))


@route(router, "DELETE", "/projects/{project_id}/members/{username}", "lead", response={204: None, 404: Problem, 409: Problem})
def remove_member(request: Any, project_id: int, username: str) -> Any:
    projects.remove_member(request.project, request.user, username)
    return Status(204, None)


@route(router, "GET", "/projects/{project_id}/events", "viewer", response=list[EventOut])
def events(request: Any, project_id: int, page: Query[Page]) -> Any:
    rows = page_of(request.project.events.select_related("user"), page)
    return [{"at": e.at, "who": name_of(e.user), "what": e.what, "about": e.about} for e in rows]
