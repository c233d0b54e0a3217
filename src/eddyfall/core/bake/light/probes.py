"""Probes on a surface that need no UVs: small patches spread over its triangles by area, gathered like texels."""

import numpy as np

from eddyfall.core.bake.light.footprint import Footprint
from eddyfall.core.bake.light.gather import ANY_UV, Job, any_uv
from eddyfall.core.hashing import digest
from eddyfall.core.scene.drawables import Geometry

PATCH = 0.25  # of the surface that a probe stands for, at most
GOLDEN = (5**0.5 - 1) / 2


def probe_job(geometry: Geometry, triangles: np.ndarray, name: str, probes: int, samples: int, bounces: int) -> tuple[Job, float]:
    """(a job of `probes` patches, spread evenly by area over the triangles (t,), the whole area in m²).

    A patch is a small triangle about a place, so that two large triangles show how light differs over them; its samples spread over it.
    """
    area = _area(geometry, triangles)
    total = max(float(area.sum()), 1e-30)
    ladder = np.cumsum(area) / total
    at = (np.arange(probes) + 0.5) / probes
    picked = np.minimum(np.searchsorted(ladder, at), len(triangles) - 1)
    # Where a probe lies: as far up the ladder as within its triangle, and by the golden ratio across it.
    share = np.clip(1 - (ladder[picked] - at) * total / np.maximum(area[picked], 1e-30), 0, 1)
    root, across = np.sqrt(share), (np.arange(probes) * GOLDEN) % 1.0
    weights = np.stack([1 - root, root * (1 - across), root * across], axis=1)
    small = np.sqrt(np.minimum(1.0, PATCH * total / probes / np.maximum(area[picked], 1e-30)))[:, None, None]
    corners = any_uv(len(geometry.positions)).astype(np.float64)[geometry.triangles[triangles[picked]]]
    middle = (weights[..., None] * corners).sum(axis=1, keepdims=True)
    return _job(triangles[picked], middle + (corners - middle) * small, "probe", name, samples, bounces), float(area.sum())


def triangle_job(geometry: Geometry, triangles: np.ndarray, name: str, samples: int) -> Job:
    """A job of direct light with one probe a triangle, its samples spread over the whole triangle."""
    corners = any_uv(len(geometry.positions)).astype(np.float64)[geometry.triangles[triangles]]
    return _job(triangles, corners, "faces", name, samples, 0)


def _area(geometry: Geometry, triangles: np.ndarray) -> np.ndarray:
    corners = geometry.positions[geometry.triangles[triangles]].astype(np.float64)
    return np.asarray(np.linalg.norm(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1) / 2)


def _job(triangles: np.ndarray, patches: np.ndarray, kind: str, name: str, samples: int, bounces: int) -> Job:
    """One patch (n, 3, 2) on each triangle. An area of 2 says that it does not fill a texel."""
    n = len(triangles)
    owned = Footprint(1, np.arange(n), np.arange(n + 1), patches, np.arange(n), np.full(n, 2.0))
    return Job(owned, triangles, (0.0, 0.0, 1.0), ANY_UV, int(digest(kind, name)[:15], 16), samples, bounces)
