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


PASS = Pass(4, "prepass", "depth of drawables whose shader has a depth pass", ("geometry", "pixels", "screen", "cutouts"),
            ("prepass_depth",), section, run, ("shaders.passes.depth", "depth.format"), 0)  # fmt: skip
