"""Pass 5.3: the ray tier. From each surface a ray to every light whose shadow is traced; what the light's limit leaves out is not met."""

from dataclasses import dataclass
from typing import Any

import numpy as np

from eddyfall.core.passes.contract import Pass, Stage, Target, Values, View
from eddyfall.core.passes.registry import register
from eddyfall.core.rays.disc import disc, towards_disc, turns
from eddyfall.core.rays.queries import RayScene
from eddyfall.core.scene.drawables import Geometry
from eddyfall.core.scene.setup.sections.shadow import Shadow
from eddyfall.core.shade import facing
from eddyfall.core.shade.columns import DISTANCE, NORMAL_XYZ
from eddyfall.core.shade.lights import DIRECTIONAL, incoming_all
from eddyfall.core.shade.shadow_maps import TRACED


@dataclass(frozen=True, kw_only=True)
class RaysSection:
    """What the pass is set by."""

    receives: np.ndarray
    offset_m: float
    soft: tuple[tuple[float, int], ...]


def section(stage: Stage) -> RaysSection:
    soft = tuple((v.disc_size, v.soft_rays) for v in stage.lights)
    return RaysSection(receives=stage.state.receives, offset_m=stage.resolved[Shadow].ray_offset_m, soft=soft)


def run(inputs: Values, section: RaysSection) -> dict[str, Any]:
    table = inputs["lights"]
    chosen = [int(i) for i in np.flatnonzero(table.technique == TRACED)]
    if not chosen:
        return {"traced": np.ones((1, 1, len(table.kind)), np.float32)}
    view = View(inputs["camera"], inputs["pixels"])
    surface, drawable = inputs["surface"], inputs["drawable"]
    traced = np.ones((*drawable.shape, len(table.kind)), np.float32)
    solid = (drawable >= 0) & section.receives[drawable]
    for number in chosen:
        lamp = table.kind[number] != DIRECTIONAL and table.range_m[number] > 0
        y, x = np.nonzero(solid & near_lamp(view, table.place[number], float(table.range_m[number])) if lamp else solid)
        row, directions = surface[y, x], ray_directions(view, x, y)
        places = view.rays.eye + directions * row[:, DISTANCE : DISTANCE + 1].astype(np.float64)
        towards, distance = incoming_all(number, places, table)
        reaches = np.einsum("nk,nk->n", row[:, NORMAL_XYZ], towards) > 0
        if lamp:
            reaches &= distance < table.range_m[number]
        elif table.kind[number] == DIRECTIONAL:
            distance = np.full(len(places), np.inf)
        at = np.flatnonzero(reaches)
        faces = face_normals(inputs["geometry"], inputs["triangle"][y[at], x[at]], directions[at])
        scene = RayScene(inputs["caster_geometry"], inputs["rays_casters"][number], inputs["shadow_cutouts"], inputs["alpha_uv"])
        starts = places[at] + faces * section.offset_m
        size, count = section.soft[number]
        if size <= 0:
            triangle, away = scene.first_hit(starts, towards[at])
            traced[y[at], x[at], number] = ~((triangle >= 0) & (away < distance[at]))
            continue
        (ox, oy), sun = view.pixels.origin, table.kind[number] == DIRECTIONAL
        turn = turns(x[at] + ox, y[at] + oy)
        seen = np.zeros(len(at))
        for aside in disc(count):
            aim, far = towards_disc(towards[at], distance[at], size, aside, turn, sun)
            triangle, away = scene.first_hit(starts, aim)
            seen += ~((triangle >= 0) & (away < far))
        traced[y[at], x[at], number] = seen / count
    return {"traced": traced}


def near_lamp(view: View, place: np.ndarray, range_m: float) -> np.ndarray:
    """(h, w) bool: a rectangle of pixels that holds all that a lamp's range may reach; all of them where the range comes near the eye."""
    camera, (width, height) = view.camera, view.pixels.size
    corners = place + range_m * np.array([[i, j, k] for i in (-1, 1) for j in (-1, 1) for k in (-1, 1)])
    away = (corners - np.array(camera.eye)) @ camera.axes.T
    inside = np.ones(view.pixels.shape, bool)
    if (away[:, 2] > -1e-3).any():
        return inside
    half = np.tan(camera.fov_y_rad / 2)
    x = (away[:, 0] / -away[:, 2] / (half * camera.aspect) * 0.5 + 0.5) * width
    y = (0.5 - away[:, 1] / -away[:, 2] / half * 0.5) * height
    x0, y0 = view.pixels.origin
    low = np.floor([y.min() - y0, x.min() - x0]).astype(int) - 1
    high = np.ceil([y.max() - y0, x.max() - x0]).astype(int) + 2
    part = np.zeros_like(inside)
    part[max(low[0], 0) : max(high[0], 0), max(low[1], 0) : max(high[1], 0)] = True
    return part


def ray_directions(view: View, x: np.ndarray, y: np.ndarray) -> np.ndarray:
    """(n, 3) unit directions of the eye rays of pixels x, y of the window, jitter included."""
    (ox, oy), (jx, jy), rays = view.pixels.origin, view.pixels.jitter, view.rays
    return facing.ray_directions(rays.d0, rays.du, rays.dv, x + ox + 0.5 + jx, y + oy + 0.5 + jy)


def face_normals(geometry: Geometry, triangle: np.ndarray, directions: np.ndarray) -> np.ndarray:
    """(n, 3) unit normals of faces, on the side that directions (n, 3) look at."""
    return facing.face_normals(geometry.positions, geometry.triangles, triangle, directions)


PASS = register(
    Pass(
        number=5.3,
        name="shadow rays",
        does="rays to each light whose shadow is traced, from what is visible",
        reads=(
            "geometry", "caster_geometry", "camera", "pixels", "alpha_uv", "shadow_cutouts", "triangle", "drawable", "surface", "lights",
            "rays_casters",
        ),
        writes=("traced",),
        section=section,
        # A byte a pixel and light, only where one is traced: the shadows' cost counts it.
        targets=(Target(name="traced", texel_bytes=0),),
        run=run,
    )
)  # fmt: skip
