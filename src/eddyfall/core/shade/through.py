"""What rays go through on their way: blended layers and glass, and how much of what is seen through them each keeps."""

from collections.abc import Callable

import numpy as np

from eddyfall.core.rays.queries import RayScene
from eddyfall.core.shade.surface import Surfaces
from eddyfall.core.shade.tints import keeps

# (rays (m,), drawables (m,), m along each ray (m,), kept (m, 3)) of what one step of all rays goes through
Take = Callable[[np.ndarray, np.ndarray, np.ndarray, np.ndarray], None]


def go_through(
    scene: RayScene, starts: np.ndarray, towards: np.ndarray, far: np.ndarray, material: np.ndarray, blend: np.ndarray,
    transmission: np.ndarray, surfaces: Surfaces, take: Take,
) -> None:  # fmt: skip
    """Follow rays from starts (n, 3) along unit directions towards (n, 3) through all of a scene that lies within far (n,) m, and hand each
    thing met to `take`. material, blend, transmission (d,): of the drawables."""
    geometry = scene.geometry

    def through(rays: np.ndarray, triangle: np.ndarray, u: np.ndarray, v: np.ndarray) -> np.ndarray:
        corners = geometry.positions[geometry.triangles[triangle]].astype(np.float64)
        place = corners[:, 0] + u[:, None] * (corners[:, 1] - corners[:, 0]) + v[:, None] * (corners[:, 2] - corners[:, 0])
        away, owner = np.einsum("nk,nk->n", place - starts[rays], towards[rays]), geometry.owner[triangle]
        before = away < far[rays]
        kept = keeps(
            geometry.triangles, geometry.uv0, geometry.uv1, triangle, u.astype(np.float64), v.astype(np.float64), material[owner],
            blend[owner], transmission[owner], surfaces.factors, surfaces.used, surfaces.slots, surfaces.levels, surfaces.tables,
            surfaces.texels,
        )  # fmt: skip
        take(rays[before], owner[before], away[before], kept[before])
        return np.ones(len(rays), bool)

    scene.hits(starts, towards, through)
