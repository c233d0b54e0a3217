"""Probes on a surface that need no lightmap UVs: small patches spread over its triangles by area, gathered like texels."""

import numpy as np

from eddyfall.core.bake.footprint import Footprint
from eddyfall.core.bake.gather import Job
from eddyfall.core.hashing import digest
from eddyfall.core.scene.drawables import Geometry


def probe_job(geometry: Geometry, triangles: np.ndarray, name: str, probes: int, samples: int, bounces: int) -> tuple[Job, float]:
    """(a job of `probes` triangles picked evenly by area, the whole area in m²). Each probe's samples spread over its triangle.

    The triangles' own UVs stand in for a page, so triangles without UV area give no light of their own place but their middle.
    """
    corners = geometry.positions[geometry.triangles[triangles]].astype(np.float64)
    area = np.linalg.norm(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1) / 2
    total = float(area.sum())
    ladder = np.cumsum(area) / max(total, 1e-30)
    picked = np.minimum(np.searchsorted(ladder, (np.arange(probes) + 0.5) / probes), len(triangles) - 1)
    uv = geometry.uv0[geometry.triangles[triangles[picked]]].astype(np.float64)
    flat = np.abs(_cross(uv)) < 1e-12
    uv[flat] = uv[flat, :1]
    owned = Footprint(
        1, np.arange(len(picked)), np.arange(len(picked) + 1), uv, np.arange(len(picked)), np.ones(len(picked)) * 2.0
    )
    seed = int(digest("probe", name)[:15], 16)
    return Job(owned, triangles[picked], (0.0, 0.0, 1.0), 0, seed, samples, bounces), total


def _cross(uv: np.ndarray) -> np.ndarray:
    a, b = uv[:, 1] - uv[:, 0], uv[:, 2] - uv[:, 0]
    return np.asarray(a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0])


def triangle_job(geometry: Geometry, triangles: np.ndarray, name: str, samples: int) -> Job:
    """A job of direct light with one probe a triangle, its samples spread over the whole triangle, whatever its UVs."""
    n = len(triangles)
    uv = geometry.uv0[geometry.triangles[triangles]].astype(np.float64)
    flat = np.abs(_cross(uv)) < 1e-12
    uv[flat] = uv[flat, :1]
    owned = Footprint(1, np.arange(n), np.arange(n + 1), uv, np.arange(n), np.full(n, 2.0))
    return Job(owned, triangles, (0.0, 0.0, 1.0), 0, int(digest("faces", name)[:15], 16), samples, 0)
