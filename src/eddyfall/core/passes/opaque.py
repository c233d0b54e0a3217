"""Pass 5: opaque and cutout drawables. Depth starts as the prepass left it and is tested less-or-equal."""

from typing import Any

import numpy as np

from eddyfall.core.passes.contract import OffSwitch, Pass, Stage, Values
from eddyfall.core.raster.rasterise import rasterise


def section(stage: Stage) -> dict[str, Any]:
    return {"taking_part": stage.state.solid, "depth": stage.depth_format}


def run(inputs: Values, section: dict[str, Any]) -> dict[str, Any]:
    depth = np.array(inputs["prepass_depth"])
    visible = np.full(depth.shape, -1, np.int32)
    screen = inputs["screen"]
    rasterise(
        screen, inputs["geometry"].owner, section["taking_part"], inputs["cutouts"], section["depth"].code,
        depth, visible, inputs["pixels"].origin,
    )  # fmt: skip
    if len(screen.ids):
        triangle = np.where(visible >= 0, screen.ids[visible], -1)
        drawable = np.where(visible >= 0, inputs["geometry"].owner[triangle], -1).astype(np.int32)
    else:
        triangle, drawable = visible, np.full_like(visible, -1)
    return {"visible": visible, "depth": depth, "triangle": triangle.astype(np.int32), "drawable": drawable}


PASS = Pass(
    number=5,
    name="opaque",
    does="opaque and cutout drawables, front to back, test less-or-equal against the prepass",
    reads=("geometry", "pixels", "screen", "cutouts", "prepass_depth"),
    writes=("visible", "depth", "triangle", "drawable"),
    section=section,
    run=run,
    settings=("materials.blend", "depth.format"),
    support_px=0,
    off=(OffSwitch("materials.*.blend", "opaque", "alpha test off"),),
)
