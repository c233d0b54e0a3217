"""Pass 5.2: texture values, normals and distance of what is visible, one row for each pixel."""

from dataclasses import dataclass
from typing import Any

import numpy as np

from eddyfall.core.passes.contract import Pass, Stage, Target, Values, View
from eddyfall.core.passes.recorder import Recorder
from eddyfall.core.passes.registry import register
from eddyfall.core.shade.clear_coat import NO_ROWS, NO_SHARE, share_of_coats
from eddyfall.core.shade.columns import EMITTED_RGB, REFLECTING, ROW
from eddyfall.core.shade.facing import ray_directions
from eddyfall.core.shade.surface import soup_of, surface_buffer, surface_plain

# What a coat's own pictures are read for, by the role that they have in it.
COAT_ROLES = {"metallic-roughness": "clear coat roughness", "normal": "clear coat normal", "occlusion": "clear coat"}


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
    over, share = _coats(inputs, section, rows)
    for drawable, rgb in section.paint:
        painted = inputs["drawable"] == drawable
        rows[painted, REFLECTING] = 0.0
        rows[painted, EMITTED_RGB] = rgb
        if share.shape == painted.shape:
            share[painted] = 0.0
    return {"surface": rows, "coat_rows": over, "coat_share": share}


def _coats(inputs: Values, section: SurfaceSection, rows: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """((h, w, row) clear coats of what is visible, (h, w) the share of what is seen that they stand for); (1, 1) where there are none."""
    coats, visible, view = inputs["coats"], inputs["visible"], View(inputs["camera"], inputs["pixels"])
    if coats.surfaces is None:
        return NO_ROWS, NO_SHARE
    strength = np.where(visible >= 0, coats.strength[section.material[inputs["drawable"]]], 0.0)
    if not strength.any():
        return NO_ROWS, NO_SHARE
    pixels, share, there = inputs["pixels"], np.zeros(visible.shape), strength > 0
    over = surface_buffer(
        np.where(there, visible, -1).astype(np.int32), inputs["screen"].ids, pixels.origin, pixels.jitter, view.rays,
        soup_of(inputs["geometry"], section.material), coats.surfaces,
    )  # fmt: skip
    y, x = np.nonzero(there)
    (ox, oy), (jx, jy) = pixels.origin, pixels.jitter
    to_eye = -ray_directions(view.rays.d0, view.rays.du, view.rays.dv, x + ox + 0.5 + jx, y + oy + 0.5 + jy)
    of_coats = over[there]
    share[there] = share_of_coats(of_coats, rows[there], strength[there], to_eye)
    over[there] = of_coats
    return over, share


def twin(r: Recorder) -> None:
    """Leaves the surface row of the fragment in front, and the textures it read, for the passes that shade it."""
    front = r.notes["front"]
    if front is None:
        return
    d = int(r.geometry.owner[front.triangle])
    row, _, used = surface_plain(r.x + 0.5, r.y + 0.5, front.triangle, r.view.rays, r.soup, r.values["textures"].surfaces)
    coats, share, over = r.values["coats"], 0.0, np.zeros(ROW)
    if coats.surfaces is not None and d not in r.paint and (strength := coats.strength[r.soup.material[d]]) > 0:
        over, _, of_coat = surface_plain(r.x + 0.5, r.y + 0.5, front.triangle, r.view.rays, r.soup, coats.surfaces)
        share = float(share_of_coats(over[None], row[None], np.array([strength]), r.to_eye[None])[0])
        used = [*used, *(read._replace(role=COAT_ROLES[read.role]) for read in of_coat)]
    if d in r.paint:
        row[REFLECTING], row[EMITTED_RGB] = 0, r.paint[d]
    r.notes.update(row=row, used=used, coat_row=over, coat_share=share)


PASS = register(
    Pass(
        number=5.2,
        name="surface",
        does="textures, normals and distance of what is visible",
        reads=("geometry", "camera", "pixels", "textures", "coats", "screen", "visible", "drawable"),
        writes=("surface", "coat_rows", "coat_share"),
        section=section,
        targets=(
            Target(name="surface", texel_bytes=60),
            Target(name="coat_rows", texel_bytes=0),
            Target(name="coat_share", texel_bytes=0),
        ),
        run=run,
        twin=twin,
    )
)
