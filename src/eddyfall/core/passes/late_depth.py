"""Pass 8.8: the depth of what is seen through, where it is set to stand in the depth copy: who reads that takes it for the surface's."""

from dataclasses import dataclass
from typing import Any

import numpy as np

from eddyfall.core.passes.contract import Pass, Stage, Target, Values, View
from eddyfall.core.passes.registry import register
from eddyfall.core.raster.depth_format import DepthFormat
from eddyfall.core.raster.project import project
from eddyfall.core.raster.rasterise import rasterise
from eddyfall.core.scene.setup.sections.depth import Depth
from eddyfall.core.scene.setup.tables import WRITES_DEPTH


@dataclass(frozen=True, kw_only=True)
class LateDepthSection:
    """What the pass is set by."""

    taking_part: np.ndarray
    double_sided: np.ndarray
    depth: DepthFormat


def section(stage: Stage) -> LateDepthSection:
    s, copy_from = stage.state, stage.resolved[Depth].copy_from
    chosen = (s.blended | s.refracts) & s.drawn & ~s.camera_hidden & (s.writes_depth == WRITES_DEPTH.index("copied"))
    chosen &= {"none": np.zeros_like(s.drawn), "prepass": s.depth_pass}.get(copy_from, s.colour_pass)
    # Of what writes nothing nothing is taken, so that it may change without this being done again.
    return LateDepthSection(taking_part=chosen, double_sided=chosen & s.double_sided, depth=stage.depth_format)


def run(inputs: Values, section: LateDepthSection) -> dict[str, Any]:
    chosen = section.taking_part.copy()
    chosen[np.setdiff1d(np.arange(len(chosen)), inputs["in_view"])] = False
    if not chosen.any():
        return {"late_depth": np.full((1, 1), section.depth.far_key, np.float32)}
    geometry, pixels, view = inputs["geometry"], inputs["pixels"], View(inputs["camera"], inputs["pixels"])
    triangles = np.flatnonzero(chosen[geometry.owner]).astype(np.int32)
    cull = np.where(section.double_sided[geometry.owner[triangles]], 0, 1).astype(np.int8)
    screen = project(
        geometry.positions, inputs["alpha_uv"], geometry.triangles, triangles, cull, view.clip_matrix(section.depth), pixels.size,
        pixels.window,
    )  # fmt: skip
    depth = np.full(pixels.shape, section.depth.far_key, np.float32)
    rasterise(
        screen, geometry.owner, chosen.astype(np.uint8), inputs["cutouts"], section.depth.code, depth, np.zeros((0, 0), np.int32),
        pixels.origin,
    )  # fmt: skip
    return {"late_depth": depth}


PASS = register(
    Pass(
        number=8.8,
        name="late depth",
        does="depth of what is seen through, for the depth copy, where it is set to write it",
        reads=("geometry", "camera", "pixels", "alpha_uv", "cutouts", "in_view"),
        writes=("late_depth",),
        section=section,
        targets=(Target(name="late_depth", texel_bytes=0),),
        run=run,
    )
)
