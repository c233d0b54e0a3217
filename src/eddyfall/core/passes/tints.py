"""Pass 5.37: coloured shadows. What light loses on its way to a surface through things that are set to tint it.

A thing leaves as much of a light as it keeps of what is seen through it from the light: 1 - alpha of what is blended, its colour of what
multiplies, of glass what pass 8.5 keeps. Rays find what stands in the way; in a map of colours it would be the same at its texels."""

from dataclasses import dataclass
from typing import Any

import numpy as np

from eddyfall.core.passes.contract import Pass, Stage, Target, Values, View
from eddyfall.core.passes.registry import register
from eddyfall.core.rays.queries import RayScene
from eddyfall.core.scene.setup.sections.shadow import Shadow
from eddyfall.core.scene.setup.tables import SHADOWS_THROUGH
from eddyfall.core.shade import facing
from eddyfall.core.shade.columns import DISTANCE, NORMAL_XYZ
from eddyfall.core.shade.direct import NO_TINTS
from eddyfall.core.shade.lights import DIRECTIONAL, incoming_all
from eddyfall.core.shade.surface import Surfaces
from eddyfall.core.shade.through import SeenThrough, go_through


@dataclass(frozen=True, kw_only=True)
class TintsSection:
    """What the pass is set by: drawables that tint light, lights that cast, what else decides how much gets through."""

    tinting: np.ndarray
    casting: tuple[bool, ...]
    receives: np.ndarray
    by: SeenThrough
    offset_m: float
    enabled: bool


def section(stage: Stage) -> TintsSection:
    s, shadow = stage.state, stage.resolved[Shadow]
    tinting = s.casts & s.shadow_pass & s.drawn & (s.shadow_through == SHADOWS_THROUGH.index("tinted"))
    # Of what tints nothing nothing is taken, so that it may change without any of this being done again.
    by = SeenThrough(*(np.where(tinting, of, 0).astype(of.dtype) for of in SeenThrough.of(s)))
    return TintsSection(
        tinting=tinting, casting=tuple(light.casts for light in stage.lights), receives=s.receives, by=by, offset_m=shadow.ray_offset_m,
        enabled=shadow.enabled,
    )  # fmt: skip


def run(inputs: Values, section: TintsSection) -> dict[str, Any]:
    if not section.enabled or not section.tinting.any() or not any(section.casting):
        return {"tints": NO_TINTS}
    view, drawable, surface, table = (
        View(inputs["camera"], inputs["pixels"]),
        inputs["drawable"],
        inputs["surface"],
        inputs["lights"],
    )
    tints = np.ones((*drawable.shape, len(table.kind), 3), np.float32)
    geometry, textures = inputs["caster_geometry"], inputs["textures"]
    taking_part = section.tinting[: len(geometry.drawables)].copy()
    taking_part[geometry.plate] = False
    scene = RayScene(geometry, taking_part, inputs["cutouts"], textures.alpha_uv).solid
    y, x = np.nonzero((drawable >= 0) & section.receives[drawable])
    (ox, oy), (jx, jy), rays = view.pixels.origin, view.pixels.jitter, view.rays
    row, directions = surface[y, x], facing.ray_directions(rays.d0, rays.du, rays.dv, x + ox + 0.5 + jx, y + oy + 0.5 + jy)
    places = view.rays.eye + directions * row[:, DISTANCE : DISTANCE + 1].astype(np.float64)
    shown = inputs["geometry"]
    faces = facing.face_normals(shown.positions, shown.triangles, inputs["triangle"][y, x], directions)
    for number in np.flatnonzero(section.casting):
        towards, distance = incoming_all(int(number), places, table)
        reaches = np.einsum("nk,nk->n", row[:, NORMAL_XYZ], towards) > 0
        if table.kind[number] == DIRECTIONAL:
            distance = np.full(len(places), np.inf)
        elif table.range_m[number] > 0:
            reaches &= distance < table.range_m[number]
        at = np.flatnonzero(reaches)
        starts = places[at] + faces[at] * section.offset_m
        tints[y[at], x[at], number] = left_of(scene, starts, towards[at], distance[at], textures.surfaces, section)
    return {"tints": tints}


def left_of(
    scene: RayScene, starts: np.ndarray, towards: np.ndarray, distance: np.ndarray, surfaces: Surfaces, section: TintsSection
) -> np.ndarray:  # fmt: skip
    """(n, 3) what tinting things leave of light that comes from so far (n,) m along unit directions towards (n, 3)."""
    left = np.ones((len(starts), 3))

    def take(rays: np.ndarray, _: np.ndarray, __: np.ndarray, kept: np.ndarray) -> None:
        left[rays] *= kept

    go_through(scene, starts, towards, distance, section.by, surfaces, take, seen_from_end=True)
    return left


PASS = register(
    Pass(
        number=5.37,
        name="tinted shadows",
        does="what things that light goes through leave of it, where they are set to tint it",
        reads=(
            "geometry", "caster_geometry", "camera", "pixels", "textures", "cutouts", "triangle", "drawable", "surface", "lights",
        ),
        writes=("tints",),
        section=section,
        targets=(Target(name="tints", texel_bytes=0),),
        run=run,
    )
)  # fmt: skip
