"""Light and colour: a frame held against its reference, part by part, whole or in a region; pictures of both; where light is."""

from typing import Any, Literal

from django.http import HttpResponse
from ninja import Query, Router, Schema
from pydantic import Field

from eddyfall.core.errors import RequestError
from eddyfall.core.handover.documents.dials import DialsDocument
from eddyfall.core.handover.documents.light_account import AccountDocument
from eddyfall.core.handover.documents.light_response import MaterialAnswerDocument, SwapDocument
from eddyfall.core.handover.documents.moves import AlongDocument, MovesDocument
from eddyfall.core.handover.documents.reflections import ReflectionsDocument
from eddyfall.core.handover.documents.roles import SideBySideDocument
from eddyfall.core.handover.documents.screen_budget import ScreenBudgetDocument
from eddyfall.core.handover.documents.where_light import WhereDocument
from eddyfall.workbench.api.asking import ask
from eddyfall.workbench.api.builds import BUILD
from eddyfall.workbench.api.routes import route
from eddyfall.workbench.api.schemas import MAX_NAME
from eddyfall.workbench.services import builds, light
from eddyfall.workbench.studio.desk import Ref

router = Router(tags=["light"])
SHEET = BUILD + "/light/{viewpoint}"


class Of(Schema):
    """samples of each pixel, at the least: more are there if they were asked for before, and each request goes on from what is there;
    bounces: how often light is followed; target: whose rules hold; state: the build as it came in, or with its ledger."""

    samples: int = Field(4, ge=1, le=1024)
    bounces: int = Field(8, ge=0, le=16)
    target: str | None = Field(None, max_length=MAX_NAME)
    state: Literal["built", "head"] = "head"


def _of(request: Any, number: int, asked: Of) -> Ref:
    build = builds.build_of(request.project, number)
    return builds.Built(build.pk) if asked.state == "built" else builds.Head(build.pk)


@route(router, "GET", SHEET + "/account", "viewer", response=AccountDocument)
def account(request: Any, project_id: int, number: int, viewpoint: str, asked: Query[Of], region: str | None = None) -> Any:
    return ask(
        request, "measure", light.account, _of(request, number, asked), viewpoint, asked.target, asked.samples, asked.bounces,
        _region(region),
    )  # fmt: skip


@route(router, "GET", SHEET + "/where", "viewer", response=WhereDocument)
def where(request: Any, project_id: int, number: int, viewpoint: str, asked: Query[Of], region: str | None = None) -> Any:
    return ask(
        request, "measure", light.where, _of(request, number, asked), viewpoint, asked.target, asked.samples, asked.bounces,
        _region(region),
    )  # fmt: skip


@route(router, "GET", SHEET + "/moves", "viewer", response=MovesDocument)
def moves(request: Any, project_id: int, number: int, viewpoint: str, asked: Query[Of]) -> Any:
    return ask(request, "measure", light.moves, _of(request, number, asked), viewpoint)


class OfMove(Of):
    """move: one of the setup, or a stock one; drawn: its worst poses are drawn, too."""

    move: str = Field(max_length=MAX_NAME)
    drawn: bool = False


@route(router, "GET", SHEET + "/move", "viewer", response=AlongDocument)
def move(request: Any, project_id: int, number: int, viewpoint: str, asked: Query[OfMove], region: str | None = None) -> Any:
    return ask(
        request, "measure", light.move, _of(request, number, asked), viewpoint, asked.target, asked.move, _region(region),
        asked.drawn,
    )  # fmt: skip


class OfMoment(Of):
    """move: one of the setup, or a stock one; at_s: when."""

    move: str = Field(max_length=MAX_NAME)
    at_s: float = Field(ge=-1e5, le=1e5)


@route(router, "GET", SHEET + "/moment", "viewer")
def moment(
    request: Any, project_id: int, number: int, viewpoint: str, asked: Query[OfMoment], shown: light.Shown = "standin"
) -> Any:
    data = ask(
        request, "draw", light.moment_picture, _of(request, number, asked), viewpoint, asked.target, asked.move, asked.at_s,
        asked.samples, shown,
    )  # fmt: skip
    return HttpResponse(data, content_type="image/png")


@route(router, "GET", SHEET + "/response", "viewer", response=list[MaterialAnswerDocument])
def response(request: Any, project_id: int, number: int, viewpoint: str, asked: Query[Of]) -> Any:
    return ask(request, "measure", light.response, _of(request, number, asked), viewpoint, asked.target)


class OfSwap(Of):
    """material: whose base shader; to: another one."""

    material: str = Field(max_length=MAX_NAME)
    to: str = Field(max_length=MAX_NAME)


@route(router, "GET", SHEET + "/swap", "viewer", response=SwapDocument)
def swap(request: Any, project_id: int, number: int, viewpoint: str, asked: Query[OfSwap]) -> Any:
    return ask(
        request, "measure", light.swap, _of(request, number, asked), viewpoint, asked.target, asked.material, asked.to
    )  # fmt: skip


@route(router, "GET", SHEET + "/probes", "viewer", response=ReflectionsDocument)
def probes(request: Any, project_id: int, number: int, viewpoint: str, asked: Query[Of]) -> Any:
    return ask(request, "measure", light.probes, _of(request, number, asked), viewpoint, asked.target)


@route(router, "GET", SHEET + "/dials", "viewer", response=DialsDocument)
def dials(request: Any, project_id: int, number: int, viewpoint: str, asked: Query[Of]) -> Any:
    return ask(request, "measure", light.dials, _of(request, number, asked), viewpoint, asked.target)


class OfRoles(Of):
    """first: the role held against the second."""

    first: str = Field("edit", max_length=MAX_NAME)
    second: str = Field("play", max_length=MAX_NAME)


@route(router, "GET", SHEET + "/roles", "viewer", response=SideBySideDocument)
def roles(request: Any, project_id: int, number: int, viewpoint: str, asked: Query[OfRoles], region: str | None = None) -> Any:
    return ask(
        request, "measure", light.roles, _of(request, number, asked), viewpoint, asked.target, asked.first, asked.second, _region(region)
    )  # fmt: skip


@route(router, "GET", SHEET + "/targets", "viewer", response=ScreenBudgetDocument)
def targets(request: Any, project_id: int, number: int, viewpoint: str, asked: Query[Of]) -> Any:
    return ask(request, "measure", light.targets, _of(request, number, asked), viewpoint, asked.target)


@route(router, "GET", SHEET + "/compared", "viewer")
def picture(
    request: Any, project_id: int, number: int, viewpoint: str, asked: Query[Of], shown: light.Shown = "reference"
) -> Any:
    data = ask(
        request, "draw", light.picture, _of(request, number, asked), viewpoint, asked.target, asked.samples, asked.bounces, shown
    )
    return HttpResponse(data, content_type="image/png")


def _region(text: str | None) -> light.Region | None:
    """x,y,width,height. RequestError if it is something else."""
    if text is None:
        return None
    parts = text.split(",")
    if len(parts) != 4 or not all(p.isascii() and p.isdigit() and len(p) < 6 for p in parts):
        raise RequestError("region is not x,y,width,height in whole pixels")
    x, y, w, h = (int(p) for p in parts)
    return x, y, w, h
