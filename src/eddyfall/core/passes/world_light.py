"""What a ray into the world brings that found nothing on the frame: the mean colour of what it meets, under the direct light that reaches
it there, and no more."""

from typing import NamedTuple

import numpy as np

from eddyfall.core.passes.contract import Stage, Values
from eddyfall.core.rays.queries import RayScene
from eddyfall.core.shade.columns import UNLIT
from eddyfall.core.shade.facing import face_normals
from eddyfall.core.shade.lights import DIRECTIONAL, incoming_all, shares_all
from eddyfall.core.shade.mean_colour import mean_colours

OFF_SHARE = 2e-4  # of the scene's size: how far off a surface rays to lights start
READS = ("caster_geometry", "textures", "cutouts", "lights")


class World(NamedTuple):
    """Who takes part, by drawable (d,): met by rays, casts onto what they meet; material, whether it is drawn from both sides; by light
    (l,): whether its light is blocked."""

    met: np.ndarray
    casts: np.ndarray
    material: np.ndarray
    double_sided: np.ndarray
    blocked: tuple[bool, ...]


def world_of(stage: Stage) -> World:
    """What a stage puts into the world of rays: all that is solid and drawn."""
    s = stage.state
    met = np.asarray(s.drawn & s.colour_pass & ~s.camera_hidden & ~s.blended)
    return World(met, met & s.casts, s.material, s.double_sided, tuple(light.casts for light in stage.lights))


def world_light(inputs: Values, world: World, place: np.ndarray, direction: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """((n,) bool: met anything, (n, 3) nits) of rays from places (n, 3) in m along unit directions (n, 3). The back of a face that is drawn
    from its front alone brings nothing, as in bakes."""
    geometry, lights, radiance = inputs["caster_geometry"], inputs["lights"], np.zeros((len(place), 3))
    alpha_uv = inputs["textures"].alpha_uv
    hits = RayScene(geometry, world.met, inputs["cutouts"], alpha_uv).hits(place, direction)
    met = np.flatnonzero(hits.triangle >= 0)
    corners = geometry.positions[geometry.triangles[hits.triangle[met]]].astype(np.float64)
    front = np.einsum("nk,nk->n", np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), direction[met]) < 0
    met = met[front | world.double_sided[geometry.owner[hits.triangle[met]]].astype(bool)]
    if not len(met):
        return hits.triangle >= 0, radiance
    gives_back, shines = mean_colours(inputs["textures"].surfaces)
    triangle = hits.triangle[met]
    material = world.material[geometry.owner[triangle]]
    there = place[met] + direction[met] * hits.distance[met, None]
    facing = face_normals(geometry.positions, geometry.triangles, triangle, direction[met])
    start = there + facing * OFF_SHARE * min(geometry.diagonal_m, 10.0)
    blocking = RayScene(geometry, world.casts, inputs["cutouts"], alpha_uv)
    lux = np.zeros((len(met), 3))
    for k in range(len(lights.kind)):
        towards, distance = incoming_all(k, there, lights)
        arrives = np.maximum(np.einsum("nk,nk->n", facing, towards), 0.0) * shares_all(k, towards, distance, lights)
        lit = np.flatnonzero(arrives > 0)
        if world.blocked[k] and len(lit):
            far = np.full(len(lit), np.inf) if lights.kind[k] == DIRECTIONAL else distance[lit]
            arrives[lit[blocking.blocked(start[lit], towards[lit], far)]] = 0.0
        lux += arrives[:, None] * lights.power[k]
    back, own = gives_back[material], shines[material]
    if len(geometry.colours):  # as on the whole of a triangle, as pictures are as on the whole of a material
        tint = geometry.colours[geometry.triangles[triangle]].mean(axis=1)[:, :3]
        back, own = back * tint, np.where(inputs["textures"].surfaces.factors[material, UNLIT, None] > 0, own * tint, own)
    radiance[met] = back * lux / np.pi + own
    return hits.triangle >= 0, radiance
