"""Ray queries on world geometry. embree wants validated indices and likes large batches."""

from collections.abc import Callable
from functools import cached_property
from threading import Lock
from typing import NamedTuple
from weakref import WeakValueDictionary

import numpy as np
from embreex.mesh_construction import TriangleMesh
from embreex.rtcore_scene import EmbreeScene

from eddyfall.core.hashing import digest
from eddyfall.core.raster.rasterise import Cutouts, at_barycentric, keeps_alpha
from eddyfall.core.rays.threads import traced
from eddyfall.core.scene.drawables import Geometry

MAX_LAYERS = 64


TREE_BYTES = 120  # a triangle in embree's tree with its corners: 93 to 178 measured, fewer the larger the scene


Passes = Callable[[np.ndarray, np.ndarray, np.ndarray, np.ndarray], np.ndarray]


class Hits(NamedTuple):
    """(n,) each: triangle int64, -1 for none; barycentric u, v of its second and third corner; distance in lengths of the direction."""

    triangle: np.ndarray
    u: np.ndarray
    v: np.ndarray
    distance: np.ndarray


class Tree:
    """Triangles in embree's bounding volume hierarchy. triangles (n,) int64: which of the geometry's they are."""

    def __init__(self, geometry: Geometry, triangles: np.ndarray) -> None:
        if len(geometry.triangles) and geometry.triangles.max() >= len(geometry.positions):
            raise ValueError("triangle index out of range")
        self.triangles = triangles
        self.scene = EmbreeScene()
        if len(triangles):
            corners = np.ascontiguousarray(geometry.positions[geometry.triangles[triangles]], np.float32)
            self._mesh = TriangleMesh(self.scene, corners)

    @property
    def held_bytes(self) -> int:
        """Bytes of the tree and of the corners that embree holds."""
        return TREE_BYTES * len(self.triangles)


_living: WeakValueDictionary[str, Tree] = WeakValueDictionary()
_growing = Lock()


def tree_of(geometry: Geometry, taking_part: np.ndarray) -> Tree:
    """The tree of the chosen drawables, (d,) bool: one that somebody still holds, if there is one of the same triangles; alpha tests are no
    part of it. ValueError if an index is out of range."""
    key = digest(geometry.positions, geometry.triangles, geometry.owner, np.asarray(taking_part, bool))
    with _growing:
        tree = _living.get(key)
        if tree is None:
            tree = Tree(geometry, np.flatnonzero(np.asarray(taking_part, bool)[geometry.owner]))
            _living[key] = tree
        return tree


class RayScene:
    """Triangles of the chosen drawables, with the holes of cutouts: cheap to make of a tree that is there.

    taking_part: bool per drawable, or their tree; cutouts: alpha tests as the rasteriser has them (tested at the finest mip level).
    ValueError if an index is out of range.
    """

    def __init__(self, geometry: Geometry, taking_part: np.ndarray | Tree, cutouts: Cutouts, alpha_uv: np.ndarray) -> None:
        self.tree = taking_part if isinstance(taking_part, Tree) else tree_of(geometry, taking_part)
        self.geometry, self.cutouts, self.alpha_uv = geometry, cutouts, alpha_uv
        self.triangles, self._scene = self.tree.triangles, self.tree.scene
        self.least = min(1.0, geometry.diagonal_m / 10)  # metres: below it, steps past a cut-out face no longer shrink

    @property
    def solid(self) -> "RayScene":
        """The same with no hole in anything."""
        nowhere = np.full_like(self.cutouts.material, -1)
        return RayScene(self.geometry, self.tree, self.cutouts._replace(material=nowhere), self.alpha_uv)

    def first_hit(self, origins: np.ndarray, directions: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """(triangle (n,) int64, -1 for none; distance (n,) in lengths of the direction). origins, directions (n, 3) metres."""
        hits = self.hits(origins, directions)
        return hits.triangle, hits.distance

    def hits(self, origins: np.ndarray, directions: np.ndarray, passes: Passes | None = None) -> Hits:
        """What each ray meets first. origins, directions (n, 3) metres; passes(rays (m,), triangle (m,), u (m,), v (m,)) -> (m,) bool: hits
        that a ray goes on through, besides the holes of cutouts."""
        n = len(origins)
        found = Hits(np.full(n, -1, np.int64), np.zeros(n), np.zeros(n), np.full(n, np.inf))
        if not len(self.triangles) or not n:
            return found
        start = np.array(origins, np.float32)
        direction = np.ascontiguousarray(directions, np.float32)
        travelled = np.zeros(n)
        active = np.arange(n)
        for _ in range(MAX_LAYERS):
            hit = traced(self._scene, start[active], direction[active], query="INTERSECT", output=True)
            there = hit["primID"] >= 0
            if not there.any():
                break
            rays, prim = active[there], self.triangles[hit["primID"][there]]
            u, v, t = hit["u"][there], hit["v"][there], hit["tfar"][there].astype(np.float64)
            kept = self._kept(prim, u, v)
            if passes is not None:
                kept &= ~passes(rays, prim, u, v)
            solid = rays[kept]
            found.triangle[solid], found.u[solid], found.v[solid] = prim[kept], u[kept], v[kept]
            found.distance[solid] = travelled[solid] + t[kept]
            rays, t = rays[~kept], t[~kept]
            if not len(rays):
                break
            step = t + 1e-4 * np.maximum(t, self.least)
            travelled[rays] += step
            start[rays] = (np.asarray(origins)[rays] + np.asarray(directions)[rays] * travelled[rays][:, None]).astype(np.float32)
            active = rays
        return found

    def blocked(self, origins: np.ndarray, directions: np.ndarray, distance: np.ndarray) -> np.ndarray:
        """(n,) bool: whether anything solid stands within a distance (n,) of each ray."""
        if not len(self.triangles) or not len(origins):
            return np.zeros(len(origins), bool)
        if self.has_cutouts:
            hits = self.hits(origins, directions)
            return np.asarray((hits.triangle >= 0) & (hits.distance < distance))
        return np.asarray(traced(self._scene, origins, directions, distance, query="OCCLUDED") >= 0)

    @cached_property
    def has_cutouts(self) -> bool:
        """Whether alpha is tested anywhere."""
        return bool((self.cutouts.material[self.geometry.owner[self.triangles]] >= 0).any())

    def _kept(self, triangle: np.ndarray, u: np.ndarray, v: np.ndarray) -> np.ndarray:
        material = self.cutouts.material[self.geometry.owner[triangle]]
        if not (material >= 0).any():
            return np.ones(len(triangle), bool)
        at = at_barycentric(self.alpha_uv, self.geometry.triangles, triangle, u, v)
        return keeps_alpha(material, at, np.zeros(len(triangle)), self.cutouts)
