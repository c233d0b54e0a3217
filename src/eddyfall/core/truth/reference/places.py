"""Places of the world that are named by their coordinates, and the surfaces that lie there."""

import numpy as np

from eddyfall.core.errors import RequestError
from eddyfall.core.shade.surface import Rays
from eddyfall.core.truth.reference.path_scene import PathScene

NEAR = 0.5  # m above a place of the world from which its surface is looked up

Place = tuple[float, float, float]


def onto(scene: PathScene, at: np.ndarray, eye: np.ndarray) -> tuple[Rays, np.ndarray]:
    """(a ray onto the surface nearest to a place of the world, direction from it that its light is looked at from). RequestError if no
    surface lies within a decimetre."""
    ways = np.array([[0, -1, 0], [0, 1, 0], [-1, 0, 0], [1, 0, 0], [0, 0, -1], [0, 0, 1]], float)
    hits = scene.met.hits(at - ways * NEAR, ways)
    off = np.where(hits.triangle >= 0, np.abs(hits.distance - NEAR), np.inf)
    if off.min() > 0.1:
        raise RequestError(f"there is no surface at {at[0]:g}, {at[1]:g}, {at[2]:g}")
    way = ways[int(np.argmin(off))]
    towards = eye - at
    towards /= max(float(np.linalg.norm(towards)), 1e-12)
    out = towards if towards @ -way > 0 else -way
    aside = np.cross(way, [0.0, 0.0, 1.0] if abs(way[2]) < 0.9 else [1.0, 0.0, 0.0])
    return Rays(at - way * NEAR, way, aside * 1e-3, np.cross(way, aside) * 1e-3), out
