"""What arrived: conversions of materials whose base shader a target lacks, and twins of what is missing."""

from typing import Any, Literal

from django.http import HttpResponse
from ninja import Query, Router, Schema
from pydantic import Field

from eddyfall.core.handover.documents.conversion import ConversionsDocument
from eddyfall.core.handover.documents.twins import TwinsDocument
from eddyfall.workbench.api.asking import ask
from eddyfall.workbench.api.builds import BUILD
from eddyfall.workbench.api.routes import route
from eddyfall.workbench.api.schemas import MAX_NAME
from eddyfall.workbench.services import arrivals, builds

router = Router(tags=["arrivals"])


class OfConversions(Schema):
    """target: whose base shaders are looked at (none: any); to: the base shader that is given (none: the stock one); material: this one
    alone, special or not."""

    target: str | None = Field(None, max_length=MAX_NAME)
    to: str | None = Field(None, max_length=MAX_NAME)
    material: str | None = Field(None, max_length=MAX_NAME)


@route(router, "GET", BUILD + "/conversions", "viewer", response=ConversionsDocument)
def conversions(request: Any, project_id: int, number: int, asked: Query[OfConversions]) -> Any:
    head = builds.Head(builds.build_of(request.project, number).pk)
    return ask(request, "measure", arrivals.conversions, head, asked.target, asked.to, asked.material)


@route(router, "GET", BUILD + "/conversions/frames/{which}/{viewpoint}", "viewer")
def conversion_frame(
    request: Any, project_id: int, number: int, which: Literal["before", "after"], viewpoint: str, asked: Query[OfConversions]
) -> Any:
    head = builds.Head(builds.build_of(request.project, number).pk)
    data = ask(request, "draw", arrivals.conversion_picture, head, viewpoint, asked.target, asked.to, asked.material, which)
    return HttpResponse(data, content_type="image/png")


def _older(request: Any, older: int | None) -> Any:
    return None if older is None else builds.Built(builds.build_of(request.project, older).pk)


@route(router, "GET", BUILD + "/twins", "viewer", response=TwinsDocument)
def twins(request: Any, project_id: int, number: int, older: int | None = None) -> Any:
    """older: the number of a build of the project that knows what stood where."""
    head = builds.Head(builds.build_of(request.project, number).pk)
    return ask(request, "measure", arrivals.twins, head, _older(request, older))


@route(router, "GET", BUILD + "/twins/{missing}/change", "viewer", response=dict[str, Any])
def twin_change(request: Any, project_id: int, number: int, missing: str, rank: int, older: int | None = None) -> Any:
    """The change by which the twin of a rank (from 0) stands where something is missing, with its mesh where that is of the older build."""
    head = builds.Head(builds.build_of(request.project, number).pk)
    change = ask(request, "measure", arrivals.twin_change, head, _older(request, older), missing, rank)
    return change.model_dump(mode="json", exclude_none=True)


@route(router, "GET", BUILD + "/twins/{missing}/picture", "viewer")
def twin_picture(
    request: Any, project_id: int, number: int, missing: str, rank: int | None = None, older: int | None = None
) -> Any:
    """The place of what is missing, with the twin of a rank (from 0) there; without one as it is."""
    head = builds.Head(builds.build_of(request.project, number).pk)
    data = ask(request, "draw", arrivals.twin_picture, head, _older(request, older), missing, rank)
    return HttpResponse(data, content_type="image/png")
