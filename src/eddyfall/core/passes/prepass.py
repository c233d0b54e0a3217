"""Pass 4: the depth prepass. Only drawables whose shader has a depth pass are in it."""

from typing import Any

import numpy as np

from eddyfall.core.passes.contract import Pass, Stage, Values
from eddyfall.core.raster.rasterise import rasterise


def section(stage: Stage) -> dict[str, Any]:
    return {"taking_part": (stage.state.depth_pass & (stage.state.blend < 2)).astype(np.uint8), "depth": stage.depth_format}


def run(inputs: Values, section: dict[str, Any]) -> dict[str, Any]:
    shape = inputs["pixels"].shape
    depth = np.full(shape, section["depth"].far_key, np.float32)
    visible = np.full(shape, -1, np.int32)
    rasterise(
        inputs["screen"], inputs["geometry"].owner, section["taking_part"], inputs["cutouts"], section["depth"].code,
        depth, visible, inputs["pixels"].origin,
    )  # fmt: skip
    return {"prepass_depth": depth}


PASS = Pass(
    number=4,
    name="prepass",
    does="depth of drawables whose shader has a depth pass",
    reads=("geometry", "pixels", "screen", "cutouts"),
    writes=("prepass_depth",),
    section=section,
    run=run,
    settings=("shaders.passes.depth", "depth.format"),
    support_px=0,
)
