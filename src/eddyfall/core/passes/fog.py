"""Pass 9: fog over the opaque picture, at the distance the depth copy gives, which is not always the surface's."""

from dataclasses import dataclass
from typing import Any

import numpy as np

from eddyfall.core.passes.contract import Pass, Stage, Target, Values, View
from eddyfall.core.passes.off_switches import off_by_leaf
from eddyfall.core.passes.recorder import Recorder
from eddyfall.core.passes.registry import register
from eddyfall.core.raster.depth_format import DepthFormat
from eddyfall.core.scene.setup.sections.depth import Depth
from eddyfall.core.scene.setup.sections.fog import Fog
from eddyfall.core.shade.fog import fog_buffer, transmittance


@dataclass(frozen=True, kw_only=True)
class FogSection:
    """What the pass is set by."""

    fog: Fog
    copy_from: str
    depth: DepthFormat


def section(stage: Stage) -> FogSection:
    return FogSection(fog=stage.resolved[Fog], copy_from=stage.resolved[Depth].copy_from, depth=stage.depth_format)


def run(inputs: Values, section: FogSection) -> dict[str, Any]:
    fog = section.fog
    if not fog.enabled:
        return {"fogged": inputs["with_sky"], "fog_distance": np.full(inputs["pixels"].shape, np.nan)}
    distance = copied_distance(inputs, section)
    colour = fog_buffer(
        inputs["with_sky"], distance, inputs["visible"], fog.fog_per_m, np.array(fog.rgb, np.float64), fog.covers_sky
    )
    return {"fogged": colour, "fog_distance": distance}


def copied_distance(inputs: Values, section: FogSection) -> np.ndarray:
    """(h, w) Euclidean metres rebuilt from the depth copy; infinity where it reads as infinitely far."""
    match section.copy_from:
        case "none":
            return np.full(inputs["pixels"].shape, np.inf)
        case "prepass":
            key = inputs["prepass_depth"]
        case _:
            key = inputs["depth"]
    key = np.minimum(key, inputs["late_depth"])
    return np.ascontiguousarray(section.depth.view_depth(key) * View(inputs["camera"], inputs["pixels"]).ray_lengths)


def twin(r: Recorder) -> None:
    """Lays the fog at the distance that the depth copy gives, with the one it ought to have."""
    fog, copy_from, depth = r.stage.resolved[Fog], r.stage.resolved[Depth].copy_from, r.stage.depth_format
    if not fog.enabled:
        return
    distance = np.inf
    if copy_from != "none":
        key = min(r.values["prepass_depth" if copy_from == "prepass" else "depth"][0, 0], r.values["late_depth"][0, 0])
        distance = float(depth.view_depth(key)) * r.length
    t = float(transmittance(np.array(distance), fog.fog_per_m))
    own = float(depth.view_depth(r.values["depth"])[0, 0]) * r.length
    if r.values["visible"][0, 0] < 0:
        t = 1 - (1 - t) * fog.covers_sky
        own = np.inf
    t_own = float(transmittance(np.array(own), fog.fog_per_m))
    r.lay(
        "fog", "(fog)", f"depth copy from {copy_from}", (1 - t) * np.array(fog.rgb), t,
        copy_distance_m=distance, surface_distance_m=own, distance_error_m=distance - own if np.isfinite(own) else 0.0,
        fog_share=1 - t, fog_share_at_surface=1 - t_own,
    )  # fmt: skip


PASS = register(
    Pass(
        number=9,
        name="fog",
        does="fog at the distance of the depth copy",
        reads=("camera", "pixels", "visible", "prepass_depth", "depth", "late_depth", "with_sky"),
        writes=("fogged", "fog_distance"),
        section=section,
        targets=(
            Target(name="fogged", texel_bytes=12),
            Target(name="fog_distance", texel_bytes=8),
        ),
        run=run,
        twin=twin,
        off=(off_by_leaf("fog.enabled", False, "fog off"), off_by_leaf("depth.copy_from", "none", "no depth copy")),
    )
)
