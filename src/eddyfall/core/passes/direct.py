"""Pass 5.4: direct light on what is visible, dimmed by the shadow maps."""

from typing import Any

import numpy as np

from eddyfall.core.passes.contract import OffSwitch, Pass, Stage, Values, View
from eddyfall.core.shade.lights import direct_buffer


def section(stage: Stage) -> dict[str, Any]:
    shadow = stage.resolved.shadow
    return {
        "receives": stage.state.receives,
        "mapped": stage.state.mapped,
        "bias_texels": shadow.bias_texels,
        "filter_px": shadow.filter_px,
    }


def run(inputs: Values, section: dict[str, Any]) -> dict[str, Any]:
    pixels = inputs["pixels"]
    view = View(inputs["camera"], pixels)
    maps = inputs["shadow_maps"]._replace(bias_texels=section["bias_texels"], filter_px=section["filter_px"])
    lit, sun = direct_buffer(
        inputs["surface"], inputs["visible"], inputs["drawable"], section["receives"].astype(np.uint8),
        section["mapped"].astype(np.uint8), pixels.origin,
        pixels.jitter, view.rays, inputs["lights"], maps,
    )  # fmt: skip
    return {"lit": lit, "sun_visibility": sun}


PASS = Pass(
    number=5.4,
    name="direct",
    does="direct light and emission of what is visible",
    reads=("camera", "pixels", "visible", "drawable", "surface", "lights", "shadow_maps"),
    writes=("lit", "sun_visibility"),
    section=section,
    run=run,
    settings=("lights.on", "nodes.receives", "shadow.bias_texels", "shadow.filter_px"),
    support_px=0,
    off=(OffSwitch("lights.*.on", False, "light off"),),
)
