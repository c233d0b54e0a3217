"""Lightmaps: assets and their charts, maps as pictures, why a texel is as it is, what copies could do, what is worth baking, bakes."""

from typing import Any, Literal

from django.http import HttpResponse
from ninja import Query, Router, Schema, Status
from pydantic import Field

from eddyfall.core.scene.build import Build
from eddyfall.core.scene.setup.bake import Encoding
from eddyfall.workbench.api.builds import BUILD
from eddyfall.workbench.api.paging import Page, page_of
from eddyfall.workbench.api.routes import route
from eddyfall.workbench.api.schemas import BakeIn, BakeOut, CopiesOut, KeepChange, LightmapsOut, Problem
from eddyfall.workbench.api.views import bake_out
from eddyfall.workbench.services import bakes, builds, lightmaps

router = Router(tags=["lightmaps"])
SHEET = BUILD + "/lightmaps"
ASSET = SHEET + "/{path:asset}"


class Which(Schema):
    """light_set: default the first that is baked; target: whose rules hold; state: the build as it came in, or with its ledger."""

    light_set: str | None = Field(None, max_length=200)
    target: str | None = Field(None, max_length=200)
    state: Literal["built", "head"] = "head"


class Shown(Which):
    """How a map is shown: as stored, or with another denoiser or bit depth; magnified as a frame reads it; white in lux."""

    denoise: lightmaps.Denoise | None = None
    encoding: Encoding | None = None
    filter: Literal["nearest", "linear"] = "nearest"
    magnify: int = Field(1, ge=1, le=64)
    white: float | None = Field(None, gt=0, lt=1e9)


def _core(request: Any, number: int, which: Which) -> Build:
    build = builds.build_of(request.project, number)
    return builds.open_core(build) if which.state == "built" else builds.head(build)


@route(router, "GET", SHEET, "viewer", response=LightmapsOut)
def get_sheet(request: Any, project_id: int, number: int, which: Query[Which]) -> Any:
    return lightmaps.sheet(_core(request, number, which), which.target)


@route(router, "GET", BUILD + "/worth-baking", "viewer", response=dict[str, Any])
def worth_baking(request: Any, project_id: int, number: int, which: Query[Which]) -> Any:
    return lightmaps.worth_baking(_core(request, number, which), which.light_set)


@route(router, "GET", BUILD + "/texels/{viewpoint}", "viewer")
def texels(
    request: Any, project_id: int, number: int, viewpoint: str, which: Query[Which], width: int = 480, height: int = 270
) -> Any:
    data = lightmaps.texels_of_frame(
        _core(request, number, which), viewpoint, (min(width, 1920), min(height, 1080)), which.target
    )
    return HttpResponse(data, content_type="application/octet-stream")


@route(router, "GET", ASSET + "/page", "viewer", response=dict[str, Any])
def page(request: Any, project_id: int, number: int, asset: str, which: Query[Which]) -> Any:
    return lightmaps.page(_core(request, number, which), asset, which.target)


@route(router, "GET", ASSET + "/leaks", "viewer", response=list[dict[str, Any]])
def leaks(request: Any, project_id: int, number: int, asset: str, which: Query[Which]) -> Any:
    return lightmaps.leaks(_core(request, number, which), asset, which.light_set, which.target)


@route(router, "GET", ASSET + "/why", "viewer", response=dict[str, Any])
def why(request: Any, project_id: int, number: int, asset: str, x: int, y: int, which: Query[Which]) -> Any:
    return lightmaps.why(_core(request, number, which), asset, (x, y), which.light_set, which.target)


@route(router, "POST", ASSET + "/what-if", "viewer", response={200: dict[str, Any], 404: Problem, 422: Problem})
def what_if(request: Any, project_id: int, number: int, asset: str, payload: KeepChange, which: Query[Which]) -> Any:
    return lightmaps.page_if(_core(request, number, which), asset, payload.change, which.target)


@route(router, "GET", ASSET + "/copies", "viewer", response=CopiesOut)
def copies(request: Any, project_id: int, number: int, asset: str, which: Query[Which]) -> Any:
    return lightmaps.copies(_core(request, number, which), asset)


@route(router, "GET", ASSET + "/map.png", "viewer")
def map_png(request: Any, project_id: int, number: int, asset: str, shown: Query[Shown]) -> Any:
    data, white = lightmaps.map_picture(
        _core(request, number, shown), asset, shown.light_set, shown.target, denoise=shown.denoise, encoding=shown.encoding,
        linear=shown.filter == "linear", magnify=shown.magnify, white=shown.white,
    )  # fmt: skip
    return HttpResponse(data, content_type="image/png", headers={"X-White-Lux": f"{white:.9g}"})


@route(router, "GET", ASSET + "/map.exr", "viewer")
def map_exr(request: Any, project_id: int, number: int, asset: str, which: Query[Which]) -> Any:
    data = lightmaps.map_exr(_core(request, number, which), asset, which.light_set, which.target)
    headers = {"Content-Disposition": 'attachment; filename="lightmap.exr"'}
    return HttpResponse(data, content_type="image/x-exr", headers=headers)


@route(router, "GET", BUILD + "/bakes", "viewer", response=list[BakeOut])
def list_bakes(request: Any, project_id: int, number: int, page: Query[Page]) -> Any:
    return [bake_out(b) for b in page_of(builds.build_of(request.project, number).bakes.select_related("job"), page)]


@route(router, "POST", BUILD + "/bakes", "artist", response={201: BakeOut, 404: Problem, 409: Problem})
def ask_bake(request: Any, project_id: int, number: int, payload: BakeIn) -> Any:
    build = builds.build_of(request.project, number)
    return Status(201, bake_out(bakes.ask(build, request.user, payload.assets, payload.light_sets)))
