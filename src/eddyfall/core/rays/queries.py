"""Ray queries on world geometry. embree wants validated indices and likes large batches."""

import numpy as np
from embreex.mesh_construction import TriangleMesh
from embreex.rtcore_scene import EmbreeScene

from eddyfall.core.raster.rasterise import Cutouts, at_barycentric, keeps_alpha
from eddyfall.core.rays.threads import traced
from eddyfall.core.scene.drawables import Geometry

MAX_LAYERS = 64


TREE_BYTES = 120  # a triangle in embree's tree with its corners: 93 to 178 measured, fewer the larger the scene


class RayScene:
    """Triangles of the chosen drawables in a bounding volume hierarchy.

    taking_part: bool per drawable; cutouts: alpha tests as the rasteriser has them (tested at the finest mip level).
    ValueError if an index is out of range.
    """

    def __init__(self, geometry: Geometry, taking_part: np.ndarray, cutouts: Cutouts, alpha_uv: np.ndarray) -> None:
        chosen = np.flatnonzero(np.asarray(taking_part, bool)[geometry.owner])
        if len(geometry.triangles) and geometry.triangles.max() >= len(geometry.positions):
            raise ValueError("triangle index out of range")
        self.geometry, self.cutouts, self.alpha_uv = geometry, cutouts, alpha_uv
        self.triangles = chosen
        self.least = min(1.0, geometry.diagonal_m / 10)  # metres: below it, steps past a cut-out face no longer shrink
        self._scene = EmbreeScene()
        if len(chosen):
            corners = np.ascontiguousarray(geometry.positions[geometry.triangles[chosen]], np.float32)
            self._mesh = TriangleMesh(self._scene, corners)

    @property
    def held_bytes(self) -> int:
        """Bytes of the tree and of the corners that embree holds."""
        return TREE_BYTES * len(self.triangles)

    def first_hit(self, origins: np.ndarray, directions: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """(triangle (n,) int64, -1 for none; distance (n,) in lengths of the direction). origins, directions (n, 3) metres."""
        n = len(origins)
        triangle, distance = np.full(n, -1, np.int64), np.full(n, np.inf)
        if not len(self.triangles) or not n:
            return triangle, distance
        start = np.array(origins, np.float32)
        direction = np.ascontiguousarray(directions, np.float32)
        travelled = np.zeros(n)
        active = np.arange(n)
        for _ in range(MAX_LAYERS):
            hit = traced(self._scene, start[active], direction[active], query="INTERSECT", output=True)
            found = hit["primID"] >= 0
            if not found.any():
                break
            rays, prim = active[found], self.triangles[hit["primID"][found]]
            t = hit["tfar"][found].astype(np.float64)
            kept = self._kept(prim, hit["u"][found], hit["v"][found])
            solid = rays[kept]
            triangle[solid], distance[solid] = prim[kept], travelled[solid] + t[kept]
            rays, t = rays[~kept], t[~kept]
            if not len(rays):
                break
            step = t + 1e-4 * np.maximum(t, self.least)
            travelled[rays] += step
            start[rays] = (np.asarray(origins)[rays] + np.asarray(directions)[rays] * travelled[rays][:, None]).astype(np.float32)
            active = rays
        return triangle, distance

    def _kept(self, triangle: np.ndarray, u: np.ndarray, v: np.ndarray) -> np.ndarray:
        material = self.cutouts.material[self.geometry.owner[triangle]]
        if not (material >= 0).any():
            return np.ones(len(triangle), bool)
        at = at_barycentric(self.alpha_uv, self.geometry.triangles, triangle, u, v)
        return keeps_alpha(material, at, np.zeros(len(triangle)), self.cutouts)
