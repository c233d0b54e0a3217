"""Pass 2: which drawables are in view, front to back."""

import math
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from eddyfall.core.passes.contract import Camera, Pass, Stage, Values
from eddyfall.core.passes.frustum import in_frustum
from eddyfall.core.passes.registry import register
from eddyfall.core.passes.screen import frame_margin_px
from eddyfall.core.scene.drawables import Geometry
from eddyfall.core.scene.setup.sections.depth import Depth


@dataclass(frozen=True, kw_only=True)
class CullSection:
    """What the pass is set by."""

    shown: np.ndarray
    padding_m: np.ndarray
    draw_distance_m: np.ndarray
    near_m: float
    far_m: float | None
    margin_px: int


def section(stage: Stage) -> CullSection:
    s = stage.state
    return CullSection(
        shown=s.drawn & ~s.camera_hidden & s.colour_pass,
        padding_m=s.padding_m,
        draw_distance_m=s.draw_distance_m,
        near_m=stage.resolved[Depth].near_m,
        far_m=stage.resolved[Depth].far_m,
        margin_px=frame_margin_px(stage.resolved),
    )


def run(inputs: Values, section: CullSection) -> dict[str, Any]:
    geometry: Geometry = inputs["geometry"]
    camera: Camera = inputs["camera"]
    low = geometry.bounds[:, 0] - section.padding_m[:, None]
    high = geometry.bounds[:, 1] + section.padding_m[:, None]
    seen = with_margin(camera, inputs["frame_size"], section.margin_px)
    inside = section.shown & in_frustum(seen, low, high, section.near_m, section.far_m)
    middle = (low + high) / 2
    eye = np.array(camera.eye)
    limit = section.draw_distance_m
    inside &= (limit == 0) | (np.linalg.norm(middle - eye, axis=1) <= limit)
    chosen = np.flatnonzero(inside)
    depth = camera.view_depth(middle[chosen])
    order = np.argsort(depth, kind="stable")
    return {"in_view": chosen[order].astype(np.int32)}


def with_margin(camera: Camera, size: tuple[int, int], margin_px: int) -> Camera:
    """The camera that also sees a margin around a frame of a size."""
    if not margin_px:
        return camera
    (width, height), half = size, math.tan(camera.fov_y_rad / 2)
    wide, high = width + 2 * margin_px, height + 2 * margin_px
    half_w = half * camera.aspect * wide / width
    half_h = half * high / height
    return replace(camera, fov_y_rad=2 * math.atan(half_h), aspect=half_w / half_h)


PASS = register(
    Pass(
        number=2,
        name="cull",
        does="frustum by padded bounds, draw distance; front to back",
        reads=("geometry", "camera", "frame_size"),
        writes=("in_view",),
        by_content=("in_view",),
        section=section,
        run=run,
    )
)
