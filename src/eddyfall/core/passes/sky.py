"""Pass 7: the sky, where nothing opaque is visible."""

from typing import Any

from eddyfall.core.passes.contract import Pass, Stage, Values, View
from eddyfall.core.passes.sections import sky_colours
from eddyfall.core.shade.sky import sky_picture


def section(stage: Stage) -> dict[str, Any]:
    return {"sky": sky_colours(stage)}


def run(inputs: Values, section: dict[str, Any]) -> dict[str, Any]:
    pixels = inputs["pixels"]
    view = View(inputs["camera"], pixels)
    jitter = pixels.jitter
    return {"with_sky": sky_picture(inputs["visible"], pixels.origin, jitter, view.rays, section["sky"], inputs["shaded"])}


PASS = Pass(
    number=7,
    name="sky",
    does="sky where nothing is visible",
    reads=("camera", "pixels", "visible", "shaded"),
    writes=("with_sky",),
    section=section,
    run=run,
    settings=("sky",),
    support_px=0,
)
