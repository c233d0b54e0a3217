"""Pass 9: fog over the opaque picture, at the distance the depth copy gives, which is not always the surface's."""

from typing import Any

import numpy as np

from eddyfall.core.passes.contract import OffSwitch, Pass, Stage, Values, View
from eddyfall.core.shade.fog import fog_buffer


def section(stage: Stage) -> dict[str, Any]:
    return {"fog": stage.resolved.fog, "copy_from": stage.resolved.depth.copy_from, "depth": stage.depth_format}


def run(inputs: Values, section: dict[str, Any]) -> dict[str, Any]:
    fog = section["fog"]
    if not fog.enabled:
        return {"fogged": inputs["with_sky"], "fog_distance": np.full(inputs["pixels"].shape, np.nan)}
    distance = copied_distance(inputs, section)
    colour = fog_buffer(
        inputs["with_sky"], distance, inputs["visible"], fog.fog_per_m, np.array(fog.rgb, np.float64), fog.covers_sky
    )
    return {"fogged": colour, "fog_distance": distance}


def copied_distance(inputs: Values, section: dict[str, Any]) -> np.ndarray:
    """(h, w) Euclidean metres rebuilt from the depth copy; infinity where it reads as infinitely far."""
    match section["copy_from"]:
        case "none":
            return np.full(inputs["pixels"].shape, np.inf)
        case "prepass":
            key = inputs["prepass_depth"]
        case _:
            key = inputs["depth"]
    return np.ascontiguousarray(section["depth"].view_depth(key) * View(inputs["camera"], inputs["pixels"]).ray_lengths)


PASS = Pass(
    number=9,
    name="fog",
    does="fog at the distance of the depth copy",
    reads=("camera", "pixels", "visible", "prepass_depth", "depth", "with_sky"),
    writes=("fogged", "fog_distance"),
    section=section,
    run=run,
    settings=("fog", "depth.copy_from"),
    support_px=0,
    off=(OffSwitch("fog.enabled", False, "fog off"), OffSwitch("depth.copy_from", "none", "no depth copy")),
)
