"""Draw order: blended layers of a frame, of a pixel, along a move; pictures of both orders."""

from typing import Any, Literal

from django.http import HttpResponse
from ninja import Query, Router, Schema
from pydantic import Field

from eddyfall.core.handover.documents.draw_order import FloorDocument, FrameOrderDocument, StrataDocument, WalkedDocument
from eddyfall.core.handover.documents.edges import AlphaEdgesDocument
from eddyfall.core.handover.documents.eyes import EyesDocument
from eddyfall.core.handover.documents.glass import ChainHere, GlassDocument
from eddyfall.core.handover.documents.overdraw import OverdrawDocument
from eddyfall.core.handover.documents.pass_table import BuildPassTableDocument
from eddyfall.core.handover.documents.shadow_through import ShadowThroughDocument
from eddyfall.workbench.api.asking import ask
from eddyfall.workbench.api.builds import BUILD
from eddyfall.workbench.api.routes import route
from eddyfall.workbench.api.schemas import MAX_NAME
from eddyfall.workbench.services import builds, layers
from eddyfall.workbench.studio.desk import Ref

router = Router(tags=["layers"])
SHEET = BUILD + "/layers/{viewpoint}"


class Of(Schema):
    """target: whose rules hold; state: the build as it came in, or with its ledger."""

    target: str | None = Field(None, max_length=MAX_NAME)
    state: Literal["built", "head"] = "head"


class Posed(Of):
    """move: one of the setup, or a stock one, None: the viewpoint itself; at_s: when."""

    move: str | None = Field(None, max_length=MAX_NAME)
    at_s: float = Field(0.0, ge=-1e5, le=1e5)


class OfPixel(Posed):
    """x, y: of the frame at its default size."""

    x: int = Field(ge=0, le=8192)
    y: int = Field(ge=0, le=8192)


class OfWay(Of):
    """move: one of the setup, or a stock one, None: the viewpoint itself."""

    move: str | None = Field(None, max_length=MAX_NAME)


class OfMove(Of):
    move: str = Field(max_length=MAX_NAME)


def _of(request: Any, number: int, asked: Of) -> Ref:
    build = builds.build_of(request.project, number)
    return builds.Built(build.pk) if asked.state == "built" else builds.Head(build.pk)


@route(router, "GET", SHEET + "/order", "viewer", response=FrameOrderDocument)
def order(request: Any, project_id: int, number: int, viewpoint: str, asked: Query[Of]) -> Any:
    return ask(request, "measure", layers.order, _of(request, number, asked), viewpoint, asked.target)


@route(router, "GET", SHEET + "/strata", "viewer", response=StrataDocument)
def strata(request: Any, project_id: int, number: int, viewpoint: str, asked: Query[OfPixel]) -> Any:
    return ask(
        request, "draw", layers.strata, _of(request, number, asked), viewpoint, asked.target, asked.move, asked.at_s, asked.x, asked.y
    )  # fmt: skip


@route(router, "GET", SHEET + "/walk", "viewer", response=WalkedDocument)
def walk(request: Any, project_id: int, number: int, viewpoint: str, asked: Query[OfMove]) -> Any:
    return ask(request, "measure", layers.walk, _of(request, number, asked), viewpoint, asked.target, asked.move)


@route(router, "GET", SHEET + "/floor", "viewer", response=FloorDocument)
def floor(request: Any, project_id: int, number: int, viewpoint: str, asked: Query[Of]) -> Any:
    return ask(request, "measure", layers.floor, _of(request, number, asked), viewpoint, asked.target)


@route(router, "GET", SHEET + "/glass", "viewer", response=GlassDocument)
def glass(request: Any, project_id: int, number: int, viewpoint: str, asked: Query[Of]) -> Any:
    return ask(request, "measure", layers.glass, _of(request, number, asked), viewpoint, asked.target)


@route(router, "GET", SHEET + "/chain", "viewer", response=ChainHere)
def chain(request: Any, project_id: int, number: int, viewpoint: str, asked: Query[OfPixel]) -> Any:
    return ask(
        request, "draw", layers.chain, _of(request, number, asked), viewpoint, asked.target, asked.move, asked.at_s, asked.x, asked.y
    )  # fmt: skip


@route(router, "GET", SHEET + "/pass-table", "viewer", response=BuildPassTableDocument)
def pass_table(request: Any, project_id: int, number: int, viewpoint: str, asked: Query[Of]) -> Any:
    return ask(request, "measure", layers.pass_table, _of(request, number, asked), viewpoint, asked.target)


@route(router, "GET", SHEET + "/edges", "viewer", response=AlphaEdgesDocument)
def edges(request: Any, project_id: int, number: int, viewpoint: str, asked: Query[Of]) -> Any:
    return ask(request, "measure", layers.edges, _of(request, number, asked), viewpoint, asked.target)


@route(router, "GET", SHEET + "/overdraw", "viewer", response=OverdrawDocument)
def overdraw(request: Any, project_id: int, number: int, viewpoint: str, asked: Query[Of]) -> Any:
    return ask(request, "measure", layers.overdraw, _of(request, number, asked), viewpoint, asked.target)


@route(router, "GET", SHEET + "/shadow-through", "viewer", response=ShadowThroughDocument)
def shadow_through(request: Any, project_id: int, number: int, viewpoint: str, asked: Query[Of]) -> Any:
    return ask(request, "measure", layers.shadow_through, _of(request, number, asked), viewpoint, asked.target)


@route(router, "GET", SHEET + "/eyes", "viewer", response=EyesDocument)
def eyes(request: Any, project_id: int, number: int, viewpoint: str, asked: Query[OfWay]) -> Any:
    return ask(request, "measure", layers.eyes, _of(request, number, asked), viewpoint, asked.target, asked.move)


@route(router, "GET", SHEET + "/picture", "viewer")
def picture(
    request: Any, project_id: int, number: int, viewpoint: str, asked: Query[Posed], shown: layers.Shown = "drawn"
) -> Any:
    data = ask(
        request, "draw", layers.picture, _of(request, number, asked), viewpoint, asked.target, asked.move, asked.at_s, shown
    )  # fmt: skip
    return HttpResponse(data, content_type="image/png")
