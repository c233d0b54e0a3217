"""Lightmaps: assets and their charts, maps as pictures, why a texel is as it is, what copies could do, what is worth baking, bakes."""

from typing import Any, Literal

from django.http import HttpResponse
from ninja import Query, Router, Schema, Status
from pydantic import Field

from eddyfall.core.handover.documents.lightmaps import ExplanationDocument, LeakDocument, ShortlistDocument
from eddyfall.core.scene.setup.sections.bake import Encoding
from eddyfall.workbench.api.asking import ask
from eddyfall.workbench.api.builds import BUILD
from eddyfall.workbench.api.paging import Page, page_of
from eddyfall.workbench.api.routes import route
from eddyfall.workbench.api.schemas import MAX_NAME, BakeIn, BakeOut, KeepChange, Problem
from eddyfall.workbench.api.views import bake_out
from eddyfall.workbench.services import bakes, builds, lightmaps
from eddyfall.workbench.services.lightmaps import AssetPage, CopiesSheet, LightmapSheet
from eddyfall.workbench.studio.desk import Ref

router = Router(tags=["lightmaps"])
SHEET = BUILD + "/lightmaps"
ASSET = SHEET + "/{path:asset}"


class Which(Schema):
    """light_set: default the first that is baked; target: whose rules hold; state: the build as it came in, or with its ledger."""

    light_set: str | None = Field(None, max_length=MAX_NAME)
    target: str | None = Field(None, max_length=MAX_NAME)
    state: Literal["built", "head"] = "head"


class Shown(Which):
    """How a map is shown: as stored, or with another denoiser or bit depth; magnified as a frame reads it; white in lux."""

    denoise: lightmaps.Denoise | None = None
    encoding: Encoding | None = None
    filter: Literal["nearest", "linear"] = "nearest"
    magnify: int = Field(1, ge=1, le=64)
    white: float | None = Field(None, gt=0, lt=1e9)


def _of(request: Any, number: int, which: Which) -> Ref:
    build = builds.build_of(request.project, number)
    return builds.Built(build.pk) if which.state == "built" else builds.Head(build.pk)


@route(router, "GET", SHEET, "viewer", response=LightmapSheet)
def get_sheet(request: Any, project_id: int, number: int, which: Query[Which]) -> Any:
    return ask(request, "measure", lightmaps.sheet, _of(request, number, which), which.target)


@route(router, "GET", BUILD + "/worth-baking", "viewer", response=ShortlistDocument)
def worth_baking(request: Any, project_id: int, number: int, which: Query[Which]) -> Any:
    return ask(request, "measure", lightmaps.worth_baking, _of(request, number, which), which.light_set)


@route(router, "GET", BUILD + "/texels/{viewpoint}", "viewer")
def texels(
    request: Any, project_id: int, number: int, viewpoint: str, which: Query[Which], width: int = 480, height: int = 270
) -> Any:
    size = (min(width, 1920), min(height, 1080))
    data = ask(request, "draw", lightmaps.texels_of_frame, _of(request, number, which), viewpoint, size, which.target)
    return HttpResponse(data, content_type="application/octet-stream")


@route(router, "GET", ASSET + "/page", "viewer", response=AssetPage)
def page(request: Any, project_id: int, number: int, asset: str, which: Query[Which]) -> Any:
    return ask(request, "measure", lightmaps.page, _of(request, number, which), asset, which.target)


@route(router, "GET", ASSET + "/leaks", "viewer", response=list[LeakDocument])
def leaks(request: Any, project_id: int, number: int, asset: str, which: Query[Which]) -> Any:
    return ask(request, "measure", lightmaps.leaks, _of(request, number, which), asset, which.light_set, which.target)


@route(router, "GET", ASSET + "/why", "viewer", response=ExplanationDocument)
def why(request: Any, project_id: int, number: int, asset: str, x: int, y: int, which: Query[Which]) -> Any:
    return ask(request, "measure", lightmaps.why, _of(request, number, which), asset, (x, y), which.light_set, which.target)


@route(router, "POST", ASSET + "/what-if", "viewer", response={200: AssetPage, 404: Problem, 422: Problem})
def what_if(request: Any, project_id: int, number: int, asset: str, payload: KeepChange, which: Query[Which]) -> Any:
    return ask(request, "measure", lightmaps.page_if, _of(request, number, which), asset, payload.change, which.target)


@route(router, "GET", ASSET + "/copies", "viewer", response=CopiesSheet)
def copies(request: Any, project_id: int, number: int, asset: str, which: Query[Which]) -> Any:
    return ask(request, "measure", lightmaps.copies, _of(request, number, which), asset)


@route(router, "GET", ASSET + "/map.png", "viewer")
def map_png(request: Any, project_id: int, number: int, asset: str, shown: Query[Shown]) -> Any:
    how = (shown.light_set, shown.target, shown.denoise, shown.encoding, shown.filter == "linear", shown.magnify, shown.white)
    data, white = ask(request, "measure", lightmaps.map_picture, _of(request, number, shown), asset, *how)
    return HttpResponse(data, content_type="image/png", headers={"X-White-Lux": f"{white:.9g}"})


@route(router, "GET", ASSET + "/map.exr", "viewer")
def map_exr(request: Any, project_id: int, number: int, asset: str, which: Query[Which]) -> Any:
    data = ask(request, "measure", lightmaps.map_exr, _of(request, number, which), asset, which.light_set, which.target)
    headers = {"Content-Disposition": 'attachment; filename="lightmap.exr"'}
    return HttpResponse(data, content_type="image/x-exr", headers=headers)


@route(router, "GET", BUILD + "/bakes", "viewer", response=list[BakeOut])
def list_bakes(request: Any, project_id: int, number: int, page: Query[Page]) -> Any:
    return [bake_out(b) for b in page_of(builds.build_of(request.project, number).bakes.select_related("job"), page)]


@route(router, "POST", BUILD + "/bakes", "artist", response={201: BakeOut, 404: Problem, 409: Problem})
def ask_bake(request: Any, project_id: int, number: int, payload: BakeIn) -> Any:
    build = builds.build_of(request.project, number)
    return Status(201, bake_out(bakes.ask(build, request.user, payload.assets, payload.light_sets)))
