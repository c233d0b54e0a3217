"""Pass 5.2: texture values, normals and distance of what is visible, one row for each pixel."""

from typing import Any

import numpy as np

from eddyfall.core.passes.contract import Pass, Stage, Values, View
from eddyfall.core.scene.drawables import Geometry
from eddyfall.core.shade.surface import Soup, surface_buffer


def section(stage: Stage) -> dict[str, Any]:
    return {"material": stage.state.material, "paint": stage.paint}


def soup_of(geometry: Geometry, material: np.ndarray) -> Soup:
    """The arrays the surface kernel reads."""
    return Soup(geometry.positions, geometry.normals, geometry.uv0, geometry.uv1, geometry.triangles, geometry.owner, material)


def run(inputs: Values, section: dict[str, Any]) -> dict[str, Any]:
    pixels = inputs["pixels"]
    view = View(inputs["camera"], pixels)
    soup = soup_of(inputs["geometry"], section["material"])
    jitter = pixels.jitter
    rows = surface_buffer(
        inputs["visible"], inputs["screen"].ids, pixels.origin, jitter, view.rays, soup, inputs["textures"].surfaces
    )
    for drawable, rgb in section["paint"]:
        painted = inputs["drawable"] == drawable
        rows[painted, :6] = 0.0
        rows[painted, 10:13] = rgb
    return {"surface": rows}


PASS = Pass(
    number=5.2,
    name="surface",
    does="textures, normals and distance of what is visible",
    reads=("geometry", "camera", "pixels", "textures", "screen", "visible", "drawable"),
    writes=("surface",),
    section=section,
    run=run,
    settings=("textures.mips", "textures.mip_bias", "textures.anisotropy"),
    support_px=0,
)
