"""Pass 5.2: texture values, normals and distance of what is visible, one row for each pixel."""

from dataclasses import dataclass
from typing import Any

import numpy as np

from eddyfall.core.passes.contract import Pass, Stage, Target, Values, View
from eddyfall.core.passes.recorder import Recorder
from eddyfall.core.passes.registry import register
from eddyfall.core.shade.columns import EMITTED_RGB, REFLECTING
from eddyfall.core.shade.surface import soup_of, surface_buffer, surface_plain


@dataclass(frozen=True, kw_only=True)
class SurfaceSection:
    """What the pass is set by."""

    material: np.ndarray
    paint: Any


def section(stage: Stage) -> SurfaceSection:
    return SurfaceSection(material=stage.state.material, paint=stage.paint)


def run(inputs: Values, section: SurfaceSection) -> dict[str, Any]:
    pixels = inputs["pixels"]
    view = View(inputs["camera"], pixels)
    soup = soup_of(inputs["geometry"], section.material)
    jitter = pixels.jitter
    rows = surface_buffer(
        inputs["visible"], inputs["screen"].ids, pixels.origin, jitter, view.rays, soup, inputs["textures"].surfaces
    )
    for drawable, rgb in section.paint:
        painted = inputs["drawable"] == drawable
        rows[painted, REFLECTING] = 0.0
        rows[painted, EMITTED_RGB] = rgb
    return {"surface": rows}


def twin(r: Recorder) -> None:
    """Leaves the surface row of the fragment in front, and the textures it read, for the passes that shade it."""
    front = r.notes["front"]
    if front is None:
        return
    d = int(r.geometry.owner[front.triangle])
    row, _, used = surface_plain(r.x + 0.5, r.y + 0.5, front.triangle, r.view.rays, r.soup, r.values["textures"].surfaces)
    if d in r.paint:
        row[REFLECTING], row[EMITTED_RGB] = 0, r.paint[d]
    r.notes.update(row=row, used=used)


PASS = register(
    Pass(
        number=5.2,
        name="surface",
        does="textures, normals and distance of what is visible",
        reads=("geometry", "camera", "pixels", "textures", "screen", "visible", "drawable"),
        writes=("surface",),
        section=section,
        targets=(Target(name="surface", texel_bytes=60),),
        run=run,
        twin=twin,
    )
)
