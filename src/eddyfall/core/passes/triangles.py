"""Pass 2.5: triangles of opaque and cutout drawables onto the screen, in draw order, back faces removed."""

from dataclasses import dataclass
from typing import Any

import numpy as np

from eddyfall.core.passes.contract import Pass, Pixels, Stage, Values, View
from eddyfall.core.passes.registry import register
from eddyfall.core.raster.depth_format import DepthFormat
from eddyfall.core.raster.project import ScreenTriangles, project
from eddyfall.core.scene.drawables import Geometry


@dataclass(frozen=True, kw_only=True)
class TrianglesSection:
    """What the pass is set by."""

    solid: np.ndarray
    double_sided: np.ndarray
    depth: DepthFormat


def section(stage: Stage) -> TrianglesSection:
    return TrianglesSection(solid=stage.state.solid, double_sided=stage.state.double_sided, depth=stage.depth_format)


def run(inputs: Values, section: TrianglesSection) -> dict[str, Any]:
    order = inputs["in_view"][section.solid[inputs["in_view"]] == 1]
    view = View(inputs["camera"], inputs["pixels"])
    return {"screen": on_screen(inputs["geometry"], order, section.double_sided, view, section.depth, inputs["alpha_uv"])}


def on_screen(
    geometry: Geometry, order: np.ndarray, double_sided: np.ndarray, view: View, depth: Any, alpha_uv: np.ndarray
) -> ScreenTriangles:
    """Screen triangles of the drawables in `order`, within the window."""
    pixels: Pixels = view.pixels
    chosen, owners = triangles_of(geometry, order)
    cull = np.where(double_sided[owners], 0, 1).astype(np.int8)
    matrix = view.clip_matrix(depth)
    return project(geometry.positions, alpha_uv, geometry.triangles, chosen, cull, matrix, pixels.size, pixels.window)


def triangles_of(geometry: Geometry, order: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """(world triangle indices int32, their drawables) of the drawables in `order`, in that order."""
    spans = np.array([(geometry.drawables[i].first, geometry.drawables[i].last) for i in order], np.int64).reshape(-1, 2)
    counts = spans[:, 1] - spans[:, 0]
    starts = np.cumsum(counts) - counts
    chosen = np.arange(counts.sum()) + np.repeat(spans[:, 0] - starts, counts)
    return chosen.astype(np.int32), np.repeat(order, counts)


PASS = register(
    Pass(
        number=2.5,
        name="triangles",
        does="opaque and cutout triangles to the screen, back faces removed",
        reads=("geometry", "camera", "pixels", "in_view", "alpha_uv"),
        writes=("screen",),
        section=section,
        run=run,
    )
)
