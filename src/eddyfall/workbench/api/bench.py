"""Pictures and measurements of the Bench: frames, linear light, core samples, the line-up as it runs."""

import io
import json
import time
from collections.abc import Iterator
from typing import Any, Literal

import numpy as np
from django.http import HttpResponse, StreamingHttpResponse
from ninja import Query, Router, Schema
from PIL import Image
from pydantic import Field

from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.handover.report import plain
from eddyfall.core.passes.display import exposure_scale
from eddyfall.workbench.api.builds import BUILD
from eddyfall.workbench.api.cases import CASE
from eddyfall.workbench.api.routes import route
from eddyfall.workbench.api.views import case_out
from eddyfall.workbench.drawing import STUDIO
from eddyfall.workbench.services import builds, cases

router = Router(tags=["bench"])


class Shot(Schema):
    """width, height: frame in px; as_: PNG, or float32 linear rgb with rows from the top ('linear'); client, turn: a newer turn of the
    same client takes the place of an older one that still waits."""

    width: int = Field(960, ge=16, le=1920)
    height: int = Field(540, ge=16, le=1080)
    form: Literal["png", "linear"] = "png"
    target: str | None = Field(None, max_length=200)
    client: str = Field("", max_length=60)
    turn: int = Field(0, ge=0, le=10**12)


def answer(build: Any, viewpoint: str, shot: Shot) -> HttpResponse:
    """One frame of a core build."""
    request = Request(viewpoint, (shot.width, shot.height), None, shot.target)

    def draw(renderer: Renderer) -> tuple[bytes, str]:
        frame = renderer.frame(build, request, "display")
        if shot.form == "linear":
            exposure = frame.stage.resolved.exposure
            scale[0] = float(exposure_scale(exposure.mode, exposure.ev100))
            return np.ascontiguousarray(frame.linear, "<f4").tobytes(), "application/octet-stream"
        stream = io.BytesIO()
        Image.fromarray(frame.display).save(stream, "PNG", compress_level=1)
        return stream.getvalue(), "image/png"

    scale, start = [1.0], time.perf_counter()
    data, kind = STUDIO.draw(draw, shot.client, shot.turn)
    took = f"{time.perf_counter() - start:.3f}"
    return HttpResponse(data, content_type=kind, headers={"X-Exposure-Scale": f"{scale[0]:.9g}", "X-Frame-Seconds": took})


@route(router, "GET", BUILD + "/frames/{viewpoint}", "viewer")
def frame(
    request: Any, project_id: int, number: int, viewpoint: str, shot: Query[Shot], state: Literal["built", "head"] = "head"
) -> Any:
    build = builds.build_of(request.project, number)
    return answer(builds.open_core(build) if state == "built" else builds.head(build), viewpoint, shot)


@route(router, "GET", CASE + "/frames/{what}", "viewer")
def case_frame(request: Any, project_id: int, number: int, case_number: int, what: str, shot: Query[Shot]) -> Any:
    case = cases.case_of(builds.build_of(request.project, number), case_number)
    shot.target = case.target
    return answer(cases.shown(case, what), case.viewpoint, shot)


@route(router, "GET", BUILD + "/core-sample/{viewpoint}", "viewer", response=dict[str, Any])
def core_sample(request: Any, project_id: int, number: int, viewpoint: str, x: int, y: int, target: str | None = None) -> Any:
    return cases.drill(builds.head(builds.build_of(request.project, number)), viewpoint, x, y, target)


@route(router, "GET", CASE + "/core-sample/{what}", "viewer", response=dict[str, Any])
def case_core_sample(request: Any, project_id: int, number: int, case_number: int, what: str, x: int, y: int) -> Any:
    case = cases.case_of(builds.build_of(request.project, number), case_number)
    return cases.drill(cases.shown(case, what), case.viewpoint, x, y, case.target)


@route(router, "POST", CASE + "/line-up", "artist")
def line_up(request: Any, project_id: int, number: int, case_number: int, try_all: bool = False) -> Any:
    """One JSON document a line, as they come: {"trial"}, {"progress", "what"}, and last {"done": case} or {"error"}."""
    case = cases.case_of(builds.build_of(request.project, number), case_number)
    answers = cases.run_lineup(case, try_all, case_out)

    def lines() -> Iterator[bytes]:
        for document in answers:
            yield json.dumps(plain(document), default=str).encode() + b"\n"

    return StreamingHttpResponse(lines(), content_type="application/x-ndjson", headers={"X-Accel-Buffering": "no"})
