"""Shadow reach: the long section of a light, the frame with wrong shadows marked, the cures of one caster, a light's
bias, leftovers."""

from typing import Any, Literal

from django.http import HttpResponse
from ninja import Query, Router, Schema
from pydantic import Field

from eddyfall.core.errors import RequestError
from eddyfall.core.handover.documents.shadow_bias import ShadowBiasDocument
from eddyfall.core.handover.documents.shadow_budget import FrameBudgetDocument
from eddyfall.core.handover.documents.shadow_fineness import FinenessDocument
from eddyfall.core.handover.documents.shadow_reach import CuresDocument, LeftoversDocument, LongSectionDocument
from eddyfall.core.handover.documents.shadow_walk import WalkDocument
from eddyfall.core.handover.documents.sky_sun import SkyOfFrameDocument
from eddyfall.workbench.api.asking import ask
from eddyfall.workbench.api.builds import BUILD
from eddyfall.workbench.api.routes import route
from eddyfall.workbench.api.schemas import MAX_NAME
from eddyfall.workbench.services import builds, shadows
from eddyfall.workbench.studio.desk import Ref

router = Router(tags=["shadows"])
SHEET = BUILD + "/shadows"


class Steps(Schema):
    """A walk: which way, how far a step is in m (degrees of a turn), how many."""

    move: Literal["aside", "retreat", "turn"] = "aside"
    step: float = Field(0.025, ge=-1000, le=1000, allow_inf_nan=False)
    steps: int = Field(8, ge=1, le=64)


class Of(Schema):
    """light: default the first that shines; target: whose rules hold; state: the build as it came in, or with its ledger."""

    light: str | None = Field(None, max_length=MAX_NAME)
    target: str | None = Field(None, max_length=MAX_NAME)
    state: Literal["built", "head"] = "head"


def _of(request: Any, number: int, asked: Of) -> Ref:
    build = builds.build_of(request.project, number)
    return builds.Built(build.pk) if asked.state == "built" else builds.Head(build.pk)


@route(router, "GET", SHEET + "/{viewpoint}", "viewer", response=LongSectionDocument)
def section(request: Any, project_id: int, number: int, viewpoint: str, asked: Query[Of]) -> Any:
    return ask(request, "draw", shadows.section, _of(request, number, asked), viewpoint, asked.light, asked.target)


@route(router, "GET", SHEET + "/{viewpoint}/picture", "viewer")
def picture(request: Any, project_id: int, number: int, viewpoint: str, asked: Query[Of]) -> Any:
    data = ask(request, "draw", shadows.picture, _of(request, number, asked), viewpoint, asked.light, asked.target)
    return HttpResponse(data, content_type="image/png")


@route(router, "GET", SHEET + "/{viewpoint}/end", "viewer")
def end(request: Any, project_id: int, number: int, viewpoint: str, caster: str, asked: Query[Of], beyond: bool = False) -> Any:
    data = ask(
        request, "draw", shadows.end, _of(request, number, asked), viewpoint, asked.light, asked.target, caster, beyond
    )  # fmt: skip
    return HttpResponse(data, content_type="image/png")


@route(router, "GET", SHEET + "/{viewpoint}/cures", "viewer", response=CuresDocument)
def cures(request: Any, project_id: int, number: int, viewpoint: str, caster: str, asked: Query[Of]) -> Any:
    return ask(request, "measure", shadows.cures, _of(request, number, asked), viewpoint, caster, asked.target)


@route(router, "GET", SHEET + "/{viewpoint}/walk", "viewer", response=WalkDocument)
def walk(request: Any, project_id: int, number: int, viewpoint: str, asked: Query[Of], by: Query[Steps]) -> Any:
    return ask(
        request,
        "measure",
        shadows.walk,
        _of(request, number, asked),
        viewpoint,
        asked.light,
        asked.target,
        by.move,
        by.step,
        by.steps,
    )


@route(router, "GET", SHEET + "/{viewpoint}/budget", "viewer", response=FrameBudgetDocument)
def budget(request: Any, project_id: int, number: int, viewpoint: str, asked: Query[Of]) -> Any:
    return ask(request, "measure", shadows.budget, _of(request, number, asked), viewpoint, asked.target)


@route(router, "GET", SHEET + "/{viewpoint}/fineness", "viewer", response=FinenessDocument)
def fineness(request: Any, project_id: int, number: int, viewpoint: str, asked: Query[Of]) -> Any:
    return ask(request, "measure", shadows.fineness, _of(request, number, asked), viewpoint, asked.light, asked.target)


@route(router, "GET", SHEET + "/{viewpoint}/sky", "viewer", response=SkyOfFrameDocument)
def sky(request: Any, project_id: int, number: int, viewpoint: str, asked: Query[Of]) -> Any:
    return ask(request, "measure", shadows.sky, _of(request, number, asked), viewpoint, asked.target)


@route(router, "GET", SHEET + "/{viewpoint}/sky/picture", "viewer")
def sky_picture(request: Any, project_id: int, number: int, viewpoint: str, asked: Query[Of], without_sun: bool = False) -> Any:
    data = ask(request, "draw", shadows.sky_picture, _of(request, number, asked), viewpoint, asked.target, without_sun)
    return HttpResponse(data, content_type="image/png")


@route(router, "GET", BUILD + "/shadow-bias", "viewer", response=ShadowBiasDocument)
def shadow_bias(request: Any, project_id: int, number: int, asked: Query[Of]) -> Any:
    if asked.light is None:
        raise RequestError("which light? ?light= names one")
    return ask(request, "measure", shadows.bias, _of(request, number, asked), asked.light, asked.target)


@route(router, "GET", BUILD + "/leftovers", "viewer", response=LeftoversDocument)
def leftovers(request: Any, project_id: int, number: int, asked: Query[Of], of: Literal["shadow", "order"] = "shadow") -> Any:
    return ask(request, "measure", shadows.leftovers, _of(request, number, asked), of)
