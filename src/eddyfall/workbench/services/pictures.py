"""Frames as files: drawn by the studio, and kept at hand in the web process by what they show."""

from typing import Any

import numpy as np

from eddyfall.core.frame.memo import Memo
from eddyfall.core.frame.moment import Moment, at
from eddyfall.core.frame.render import DEFAULT_SIZE, Renderer, Request
from eddyfall.core.handover.exr import png_of
from eddyfall.core.passes.display import exposure_scale
from eddyfall.core.scene.build import Build as CoreBuild
from eddyfall.core.scene.setup.sections.exposure import Exposure
from eddyfall.workbench.models import Build, Case
from eddyfall.workbench.studio.room import STUDIO

ROOM = 1.7  # a picture of a spot is so many times as large as the spot
LEAST_WIDE = 192  # px
AT_HAND_BYTES = 192 * 1024**2
# (file, exposure scale) by what is shown: a frame that was drawn before never waits for another to be drawn.
AT_HAND = Memo(AT_HAND_BYTES)


def frame(build: CoreBuild, request: Request, form: str, moment: Moment | None = None) -> tuple[bytes, float]:
    """(PNG, or float32 linear rgb with rows from the top; exposure scale of a linear one, else 1) of a frame; moment: what
    else is asked of the scene. RequestError for a clip or a variant that there is not."""
    if moment is not None:
        build = at(build, moment, request.viewpoint, request.size[0] / request.size[1])

    def draw(renderer: Renderer) -> Any:
        return renderer.frame(build, request, "display")

    drawn = STUDIO.draw(draw)
    if form == "linear":
        exposure = drawn.stage.resolved[Exposure]
        scale = float(exposure_scale(exposure.mode, exposure.ev100))
        return np.ascontiguousarray(drawn.linear, "<f4").tobytes(), scale
    return png_of(drawn.display), 1.0


def around(spot: list[int] | None) -> tuple[int, int, int, int] | None:
    """(x0, y0, x1, y1) px of the standard frame: a part of its shape with the spot (x, y, w, h) in the middle of it; None: all of it."""
    if spot is None:
        return None
    width, height = DEFAULT_SIZE
    x, y, w, h = spot
    wide = min(max(round(max(w, h * width / height) * ROOM), LEAST_WIDE), width)
    high = round(wide * height / width)
    x0 = min(max(x + w // 2 - wide // 2, 0), width - wide)
    y0 = min(max(y + h // 2 - high // 2, 0), height - high)
    return x0, y0, x0 + wide, y0 + high


def ledger_key(build: Build, without_case: int | None = None) -> str:
    """What a head shows, without opening it: the build and its kept changes in order."""
    rows = build.changes.filter(dropped=None)
    if without_case is not None:
        rows = rows.exclude(case_id=without_case)
    return f"{build.pk}+" + ",".join(map(str, rows.values_list("pk", flat=True)))


def case_key(case: Case, what: str) -> str:
    """What a picture of a case shows. A trial is known by its row, since a new line-up makes new ones."""
    kind, _, number = what.partition(":")
    if kind == "head":
        return ledger_key(case.build)
    key = ledger_key(case.build, case.pk)
    if kind == "trial" and number.isdigit():
        row = case.trials.filter(rank=int(number)).values_list("pk", flat=True).first()
        return f"{key}/trial {row}"
    return key if kind == "before" else f"{key}/{what} of finding {case.finding_id}"
