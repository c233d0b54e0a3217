"""Declares a route together with who may use it. The check happens here and nowhere else, before anything else is read.

Access is 'anyone', 'user' (signed in), or the least role in the project of the path: 'viewer', 'artist', 'lead'.
"""

from collections.abc import Callable
from typing import Annotated, Any

from django.http import HttpRequest, QueryDict
from django.utils.datastructures import MultiValueDict
from ninja import Header, Router
from ninja.utils import check_csrf

from eddyfall.core.scene.names import first_bad_text
from eddyfall.workbench.access import project_for
from eddyfall.workbench.errors import NotThere, Refused
from eddyfall.workbench.models import ROLES

# The version of what a write was made on, as the page loaded it.
IfMatch = Annotated[str | None, Header(alias="If-Match")]


class Door:
    """Lets a request in, or says why not. A project's views get request.project and request.role."""

    def __init__(self, access: str) -> None:
        self.access = access

    def __call__(self, request: HttpRequest) -> bool:
        self._may(request)
        if request.method != "GET" and not _has_token(request):
            raise Refused(403, "the page's token is missing or old: load the page again")
        _check_texts(request)
        return True

    def _may(self, request: HttpRequest) -> None:
        if self.access == "anyone":
            return
        if not request.user.is_authenticated:
            raise Refused(401, "sign in first")
        if self.access == "user":
            return
        name = str(request.resolver_match.kwargs["project_id"]) if request.resolver_match else ""
        if not (name.isascii() and name.isdigit() and len(name) < 18):
            raise NotThere("this project")
        request.project, request.role = project_for(request.user, int(name), self.access)  # type: ignore[attr-defined]


def _has_token(request: HttpRequest) -> bool:
    """Whether the page's token came in the header. Looking for it in a form would read the body of who may not send one."""
    request._post, request._files = QueryDict(), MultiValueDict()  # type: ignore[attr-defined]
    try:
        return check_csrf(request) is None
    finally:
        del request._post, request._files  # type: ignore[attr-defined]


def _check_texts(request: HttpRequest) -> None:
    """Refused(422) for text in the address that nothing can store."""
    kwargs = request.resolver_match.kwargs if request.resolver_match else {}
    texts = {**{k: str(v) for k, v in kwargs.items()}, **{k: list(v) for k, v in request.GET.lists()}}
    if bad := first_bad_text(texts):
        raise Refused(422, ": ".join(part for part in bad if part))


def route(
    router: Router, method: str, path: str, access: str, **options: Any
) -> Callable[[Callable[..., Any]], Callable[..., Any]]:
    """Register a view. For a project's routes the path starts with /projects/{project_id}."""
    if (access in ROLES) != path.startswith("/projects/{project_id}"):
        raise ValueError(f"{path} and access {access} do not fit")
    options.setdefault("openapi_extra", {})["x-access"] = access
    return router.api_operation([method], path, auth=Door(access), by_alias=True, **options)
