"""Deliveries: a new delivery of a build rehearsed, answered, accepted or let go."""

from typing import Annotated, Any, Literal

from django.http import HttpResponse
from ninja import File, Router, Schema, Status
from ninja.files import UploadedFile

from eddyfall.core.handover.documents.delivery import RehearsalDocument
from eddyfall.core.handover.documents.supply import SupplyDocument
from eddyfall.workbench.api.asking import ask
from eddyfall.workbench.api.builds import BUILD
from eddyfall.workbench.api.routes import IfMatch, route
from eddyfall.workbench.api.schemas import BuildOut, JobOut, Problem
from eddyfall.workbench.api.views import build_out, job_out
from eddyfall.workbench.errors import Refused
from eddyfall.workbench.models import Delivery
from eddyfall.workbench.services import builds, deliveries

router = Router(tags=["deliveries"])
DELIVERY = BUILD + "/deliveries/{delivery_id}"


class DeliveryLine(Schema):
    """A delivery; accepted: the number of the build it became; behind: the ledger went on since it was rehearsed."""

    id: int
    scene: str
    setup: str | None
    job: JobOut
    accepted: int | None
    behind: bool


class DeliveryOut(DeliveryLine):
    """The same with what it comes to, null until it is rehearsed."""

    result: RehearsalDocument | None


class Answers(Schema):
    """By the key of an edit that is asked."""

    answers: dict[str, Literal["before", "yours", "delivered"]]


def line(row: Delivery) -> dict[str, Any]:
    return {
        "id": row.pk, "scene": row.scene.name, "setup": row.setup.name if row.setup else None, "job": job_out(row.job),
        "accepted": row.accepted.number if row.accepted else None,
        "behind": row.result is not None and row.accepted is None and row.head_version != row.build.version,
    }  # fmt: skip


def whole(row: Delivery) -> dict[str, Any]:
    return {**line(row), "result": row.result}


@route(router, "GET", BUILD + "/deliveries", "viewer", response=list[DeliveryLine])
def list_deliveries(request: Any, project_id: int, number: int) -> Any:
    build = builds.build_of(request.project, number)
    return [line(row) for row in build.deliveries.select_related("job", "scene", "setup", "accepted", "build")[:50]]


@route(router, "POST", BUILD + "/deliveries", "artist", response={202: DeliveryOut, 422: Problem, 507: Problem})
def bring_delivery(
    request: Any, project_id: int, number: int, scene: File[UploadedFile], setup: Annotated[UploadedFile | None, File()] = None
) -> Any:
    """Answers at once with the job that reads and rehearses it; nothing of the build changes."""
    build = builds.build_of(request.project, number)
    return Status(202, whole(deliveries.upload(build, request.user, scene, setup)))


class SupplyOut(Schema):
    """Which picture is which; the delivery that the scene with them is, null where none found a place."""

    supply: SupplyDocument
    delivery: DeliveryOut | None


@route(router, "POST", BUILD + "/supply", "artist", response={202: SupplyOut, 422: Problem, 507: Problem})
def supply(request: Any, project_id: int, number: int, pictures: File[list[UploadedFile]]) -> Any:
    """Pictures that are missing in a build's scene. What they make of it is rehearsed; nothing of the build changes."""
    found, row = deliveries.supply(builds.build_of(request.project, number), request.user, list(pictures))
    return Status(202, {"supply": found, "delivery": whole(row) if row is not None else None})


@route(router, "GET", DELIVERY, "viewer", response=DeliveryOut)
def get_delivery(request: Any, project_id: int, number: int, delivery_id: int) -> Any:
    return whole(deliveries.delivery_of(builds.build_of(request.project, number), delivery_id))


@route(router, "POST", DELIVERY + "/answers", "artist", response={202: DeliveryOut, 409: Problem, 422: Problem})
def answer_delivery(request: Any, project_id: int, number: int, delivery_id: int, payload: Answers) -> Any:
    """Take answers and have it rehearsed anew; none: as the ledger is now."""
    row = deliveries.delivery_of(builds.build_of(request.project, number), delivery_id)
    deliveries.answer(row, request.user, dict(payload.answers))
    return Status(202, whole(deliveries.delivery_of(row.build, delivery_id)))


@route(router, "POST", DELIVERY + "/accept", "artist", response={201: BuildOut, 409: Problem, 428: Problem})
def accept_delivery(request: Any, project_id: int, number: int, delivery_id: int, if_match: IfMatch = None) -> Any:
    """Make the build that was rehearsed. If-Match: the stamp of the rehearsal."""
    row = deliveries.delivery_of(builds.build_of(request.project, number), delivery_id)
    if if_match is None:
        raise Refused(428, "say in If-Match the stamp of the rehearsal that you have loaded")
    return Status(201, build_out(deliveries.accept(row, request.user, if_match.strip('"'))))


@route(router, "DELETE", DELIVERY, "artist", response={204: None})
def let_delivery_go(request: Any, project_id: int, number: int, delivery_id: int) -> Any:
    deliveries.let_go(deliveries.delivery_of(builds.build_of(request.project, number), delivery_id), request.user)
    return Status(204, None)


@route(router, "GET", DELIVERY + "/frames/{which}/{viewpoint}", "viewer")
def delivery_frame(
    request: Any, project_id: int, number: int, delivery_id: int, which: Literal["before", "after"], viewpoint: str
) -> Any:
    row = deliveries.delivery_of(builds.build_of(request.project, number), delivery_id)
    shown = builds.Head(row.build_id) if which == "before" else deliveries.After(row.pk)
    return HttpResponse(ask(request, "draw", deliveries.picture, shown, viewpoint), content_type="image/png")
