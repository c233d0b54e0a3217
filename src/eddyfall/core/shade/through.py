"""What rays go through on their way: blended layers and glass, and how much of what is seen through them each keeps."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, NamedTuple

import numpy as np

from eddyfall.core.rays.queries import RayScene
from eddyfall.core.shade.columns import SIGMA
from eddyfall.core.shade.glass import BACK_FACES
from eddyfall.core.shade.surface import Surfaces
from eddyfall.core.shade.tints import keeps

# (rays (m,), drawables (m,), m along each ray (m,), kept (m, 3)) of what one step of all rays goes through
Take = Callable[[np.ndarray, np.ndarray, np.ndarray, np.ndarray], None]


class SeenThrough(NamedTuple):
    """By drawable, (d,): what decides how much is seen through it, as its state has it."""

    material: np.ndarray
    blend: np.ndarray
    transmission: np.ndarray
    double_sided: np.ndarray
    bends: np.ndarray
    thickness: np.ndarray

    @classmethod
    def of(cls, state: Any) -> SeenThrough:
        """Of a state of drawables."""
        return cls(*(getattr(state, name) for name in cls._fields))


def go_through(
    scene: RayScene, starts: np.ndarray, towards: np.ndarray, far: np.ndarray, by: SeenThrough, surfaces: Surfaces, take: Take, *,
    seen_from_end: bool, whole: bool = False,
) -> None:  # fmt: skip
    """Follow rays from starts (n, 3) m along unit directions towards (n, 3) through all of a scene that lies within far (n,) m, and hand
    each thing met to `take`. seen_from_end: who looks stands at the far end of the rays, as a light does, else at their starts.
    whole: glass lets by what all reflections between its faces leave; else what pass 8.5 makes of it.

    A face counts that this one would see drawn: turned to it, or of two sides, but for the face by which a solid of glass is left. Such a
    solid whose way through comes from its back faces also loses what it takes up from face to face of it along the ray."""
    geometry = scene.geometry
    inside_of, since = np.full(len(starts), -1), np.zeros(len(starts))

    def through(rays: np.ndarray, triangle: np.ndarray, u: np.ndarray, v: np.ndarray) -> np.ndarray:
        corners = geometry.positions[geometry.triangles[triangle]].astype(np.float64)
        one, other = corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]
        place, normal = corners[:, 0] + u[:, None] * one + v[:, None] * other, np.cross(one, other)
        normal /= np.maximum(np.linalg.norm(normal, axis=1, keepdims=True), 1e-30)
        away, facing = (np.einsum("nk,nk->n", of, towards[rays]) for of in (place - starts[rays], normal))
        owner, turned = geometry.owner[triangle], (facing > 0) == seen_from_end
        kept = keeps(
            geometry.triangles, geometry.uv0, geometry.uv1, geometry.colours, triangle, u.astype(np.float64), v.astype(np.float64),
            np.abs(facing), by.material[owner], by.blend[owner], by.transmission[owner], by.bends[owner], by.thickness[owner],
            surfaces.factors, surfaces.used, surfaces.slots, surfaces.levels, surfaces.tables, surfaces.texels, whole,
        )  # fmt: skip
        kept[~((turned | by.double_sided[owner]) & ~(by.bends[owner] & ~turned))] = 1.0
        solid = by.bends[owner] & (by.thickness[owner] == BACK_FACES)
        left = solid & (inside_of[rays] == owner)
        sigma = surfaces.factors[by.material[owner], SIGMA : SIGMA + 3]
        kept[left] *= np.exp(-sigma[left] * (away - since[rays])[left, None])
        inside_of[rays[solid]], since[rays[solid]] = np.where(left, -1, owner)[solid], away[solid]
        before = away < far[rays]
        take(rays[before], owner[before], away[before], kept[before])
        return np.ones(len(rays), bool)

    scene.hits(starts, towards, through)
