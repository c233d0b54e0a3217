"""Declares a route together with who may use it. The check happens here and nowhere else, before anything else is read.

Access is 'anyone', 'user' (signed in), or the least role in the project of the path: 'viewer', 'artist', 'lead'.
"""

from collections.abc import Callable
from typing import Any

from django.http import HttpRequest
from ninja import Router
from ninja.utils import check_csrf

from eddyfall.workbench.access import project_for
from eddyfall.workbench.errors import NotThere, Refused
from eddyfall.workbench.models import ROLES


class Door:
    """Lets a request in, or says why not. A project's views get request.project and request.role."""

    def __init__(self, access: str) -> None:
        self.access = access

    def __call__(self, request: HttpRequest) -> bool:
        if request.method != "GET" and check_csrf(request) is not None:
            raise Refused(403, "the page's token is missing or old: load the page again")
        if self.access == "anyone":
            return True
        if self.access == "user":
            if not request.user.is_authenticated:
                raise Refused(401, "sign in first")
            return True
        name = str(request.resolver_match.kwargs["project_id"]) if request.resolver_match else ""
        if request.user.is_authenticated and not (name.isascii() and name.isdigit() and len(name) < 18):
            raise NotThere("this project")
        project_id = int(name) if name.isdigit() else 0
        request.project, request.role = project_for(request.user, project_id, self.access)  # type: ignore[attr-defined]
        return True


def route(
    router: Router, method: str, path: str, access: str, **options: Any
) -> Callable[[Callable[..., Any]], Callable[..., Any]]:
    """Register a view. For a project's routes the path starts with /projects/{project_id}."""
    if (access in ROLES) != path.startswith("/projects/{project_id}"):
        raise ValueError(f"{path} and access {access} do not fit")
    options.setdefault("openapi_extra", {})["x-access"] = access
    return router.api_operation([method], path, auth=Door(access), **options)
