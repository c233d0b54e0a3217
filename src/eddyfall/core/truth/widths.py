"""How wide a caster is across a light's rays: its outline as the light sees it, at its narrowest."""

import numpy as np
from scipy.spatial import ConvexHull, QhullError

from eddyfall.core.scene.drawables import Geometry


def outline_width_m(geometry: Geometry, drawable: int, towards: np.ndarray) -> float:
    """The narrowest width in m of one drawable's outline across the direction towards (3,) a light: the least distance between two
    parallel lines that hold all of its corners between them (one of them lies along an edge of their convex hull, M. I. Shamos 1978;
    from memory). 0 where the outline is a line or a point."""
    d = geometry.drawables[drawable]
    corners = geometry.positions[np.unique(geometry.triangles[d.first : d.last])].astype(np.float64)
    along = towards / np.linalg.norm(towards)
    side = np.cross(along, [0.0, 1.0, 0.0] if abs(along[1]) < 0.9 else [1.0, 0.0, 0.0])
    side /= np.linalg.norm(side)
    flat = (corners - corners.mean(axis=0)) @ np.stack([side, np.cross(along, side)], axis=1)
    try:
        hull = flat[ConvexHull(flat).vertices]
    except QhullError:
        return 0.0
    edges = np.roll(hull, -1, axis=0) - hull
    across = np.stack([-edges[:, 1], edges[:, 0]], axis=1) / np.linalg.norm(edges, axis=1, keepdims=True)
    heights = np.einsum("ek,vk->ev", across, hull)
    return float((heights.max(axis=1) - heights.min(axis=1)).min())
