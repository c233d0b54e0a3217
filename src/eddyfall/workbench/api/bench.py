"""Pictures and measurements of the Bench: frames, linear light, core samples, the line-up as it runs."""

import json
import time
from collections.abc import Iterator
from typing import Any, Literal

from django.http import HttpResponse, StreamingHttpResponse
from ninja import Query, Router, Schema
from pydantic import Field

from eddyfall.core.errors import EddyfallError
from eddyfall.core.frame import moment as moments
from eddyfall.core.frame.render import DEFAULT_SIZE, Request
from eddyfall.core.handover.documents.base import plain
from eddyfall.core.handover.documents.core_samples import CoreSampleDocument
from eddyfall.core.handover.documents.lineups import TrialDocument
from eddyfall.core.handover.documents.shadows import AutopsyDocument
from eddyfall.workbench.api.asking import ask, ask_along
from eddyfall.workbench.api.builds import BUILD
from eddyfall.workbench.api.cases import CASE
from eddyfall.workbench.api.routes import route
from eddyfall.workbench.api.schemas import MAX_NAME, CaseOut
from eddyfall.workbench.api.views import case_out
from eddyfall.workbench.errors import Dropped, Refused
from eddyfall.workbench.services import builds, cases, pictures
from eddyfall.workbench.services.projects import note
from eddyfall.workbench.studio.desk import Ref

router = Router(tags=["bench"])
SMALL = (320, 180)


class Shot(Schema):
    """width, height: frame in px; as_: PNG, or float32 linear rgb with rows from the top ('linear'); client, turn: a newer turn of the
    same client takes the place of an older one that still waits."""

    width: int = Field(960, ge=16, le=1920)
    height: int = Field(540, ge=16, le=1080)
    form: Literal["png", "linear"] = "png"
    target: str | None = Field(None, max_length=MAX_NAME)
    client: str = Field("", max_length=60)
    turn: int = Field(0, ge=0, le=10**12)


class Moment(Schema):
    """Of a clip of the scene, in s, without one the scene is at rest; dressed as a variant of its materials; at the levels of detail that
    are due from the viewpoint."""

    clip: str | None = Field(None, max_length=MAX_NAME)
    time_s: float = Field(0.0, ge=0, le=1e6)
    variant: str | None = Field(None, max_length=MAX_NAME)
    levels: bool = False

    @property
    def told(self) -> moments.Moment | None:
        """What it asks for; None for the scene as it is."""
        if self.clip is None and self.variant is None and not self.levels:
            return None
        return moments.Moment(self.clip, self.time_s, self.variant, self.levels)


def answer(request: Any, build: Ref, key: str, viewpoint: str, shot: Shot, moment: moments.Moment | None = None) -> HttpResponse:
    """One frame of a build. key: what the build shows; a frame that was drawn before is at hand. moment: what else is asked."""
    what = Request(viewpoint, (shot.width, shot.height), None, shot.target)
    full = f"{key} {viewpoint!r} {shot.width}x{shot.height} {shot.form} {shot.target!r} {moment!r}"
    return drawn(request, build, full, what, shot.form, moment, client=shot.client, number=shot.turn)


def drawn(
    request: Any, build: Ref, key: str, what: Request, form: str = "png", moment: moments.Moment | None = None, **turn: Any
) -> HttpResponse:
    """What was asked for as a file, drawn now unless it is at hand under its key."""
    start = time.perf_counter()
    at_hand = pictures.AT_HAND.get(key)
    if at_hand is None:
        at_hand = ask(request, "draw", pictures.frame, build, what, form, moment, **turn)
        pictures.AT_HAND.put(key, at_hand)
    data, scale = at_hand
    kind = "application/octet-stream" if form == "linear" else "image/png"
    took = f"{time.perf_counter() - start:.3f}"
    return HttpResponse(data, content_type=kind, headers={"X-Exposure-Scale": f"{scale:.9g}", "X-Frame-Seconds": took})


@route(router, "GET", BUILD + "/frames/{viewpoint}", "viewer")
def frame(
    request: Any, project_id: int, number: int, viewpoint: str, shot: Query[Shot], at: Query[Moment],
    state: Literal["built", "head"] = "head",
) -> Any:  # fmt: skip
    build, moment = builds.build_of(request.project, number), at.told
    if state == "built":
        return answer(request, builds.Built(build.pk), str(build.pk), viewpoint, shot, moment)
    return answer(request, builds.Head(build.pk), pictures.ledger_key(build), viewpoint, shot, moment)


@route(router, "GET", CASE + "/frames/{what}", "viewer")
def case_frame(request: Any, project_id: int, number: int, case_number: int, what: str, shot: Query[Shot]) -> Any:
    case = cases.case_of(builds.build_of(request.project, number), case_number)
    shot.target = case.target
    return answer(request, cases.Shown(case.pk, what), pictures.case_key(case, what), case.viewpoint, shot)


@route(router, "GET", CASE + "/spot", "viewer")
def spot(request: Any, project_id: int, number: int, case_number: int) -> Any:
    """A picture of a case's spot as it was before the case, with some room around it; of its whole viewpoint, smaller, if it has none."""
    case = cases.case_of(builds.build_of(request.project, number), case_number)
    crop = pictures.around(case.spot)
    what = Request(case.viewpoint, DEFAULT_SIZE if crop else SMALL, crop, case.target)
    key = f"{pictures.case_key(case, 'before')} {what!r}"
    return drawn(request, cases.Shown(case.pk, "before"), key, what)


@route(router, "GET", BUILD + "/core-sample/{viewpoint}", "viewer", response=CoreSampleDocument)
def core_sample(request: Any, project_id: int, number: int, viewpoint: str, x: int, y: int, target: str | None = None) -> Any:
    build = builds.Head(builds.build_of(request.project, number).pk)
    return ask(request, "draw", cases.drill, build, viewpoint, x, y, target)


@route(router, "GET", BUILD + "/autopsy/{viewpoint}", "viewer", response=AutopsyDocument)
def autopsy(request: Any, project_id: int, number: int, viewpoint: str, x: int, y: int, target: str | None = None) -> Any:
    build = builds.Head(builds.build_of(request.project, number).pk)
    return ask(request, "draw", cases.autopsy, build, viewpoint, x, y, target)


@route(router, "GET", CASE + "/autopsy/{what}", "viewer", response=AutopsyDocument)
def case_autopsy(request: Any, project_id: int, number: int, case_number: int, what: str, x: int, y: int) -> Any:
    case = cases.case_of(builds.build_of(request.project, number), case_number)
    return ask(request, "draw", cases.autopsy, cases.Shown(case.pk, what), case.viewpoint, x, y, case.target)


@route(router, "GET", CASE + "/core-sample/{what}", "viewer", response=CoreSampleDocument)
def case_core_sample(request: Any, project_id: int, number: int, case_number: int, what: str, x: int, y: int) -> Any:
    case = cases.case_of(builds.build_of(request.project, number), case_number)
    return ask(request, "draw", cases.drill, cases.Shown(case.pk, what), case.viewpoint, x, y, case.target)


class LineUpStep(Schema):
    """One line of a line-up as it runs: a trial, or how far it has come; last the case, or why there is none."""

    trial: TrialDocument | None = None
    progress: float | None = None
    what: str | None = None
    done: CaseOut | None = None
    error: str | None = None


@route(router, "POST", CASE + "/line-up", "artist", response=LineUpStep)
def line_up(request: Any, project_id: int, number: int, case_number: int, try_all: bool = False) -> Any:
    """One JSON document a line, as they come: {"trial"}, {"progress", "what"}, and last {"done": case} or {"error"}."""
    case = cases.case_of(builds.build_of(request.project, number), case_number)
    if case.spot is None:
        raise Refused(422, "drag a spot first")
    note(request.project, request.user, "line-up run", f"case {case.number} of build {number}")

    def documents() -> Iterator[dict[str, Any]]:
        try:
            for kind, value in ask_along(request, "draw", cases.run_lineup, case.pk, try_all):
                yield value if kind == "item" else {"done": CaseOut.model_validate(case_out(case))}
        except (Refused, EddyfallError) as error:
            yield {"error": str(error)}
        except Dropped:
            return

    def lines() -> Iterator[bytes]:
        for document in documents():
            yield json.dumps(plain(document), default=str).encode() + b"\n"

    return StreamingHttpResponse(lines(), content_type="application/x-ndjson", headers={"X-Accel-Buffering": "no"})
