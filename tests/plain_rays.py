"""Rays against triangles one by one, as Moeller and Trumbore 1997 have it: slow, and obviously right."""

import numpy as np


def plain_hits(corners, start, direction, near=1e-9, far=np.inf):
    """(triangle (n,), -1 for none; distance (n,) in lengths of the direction) of the nearest hit with near <= distance <= far.

    corners (t, 3, 3), start and direction (n, 3).
    """
    corners = np.asarray(corners, float)
    a, e1, e2 = corners[:, 0], corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]
    start, direction = np.broadcast_arrays(np.asarray(start, float), np.asarray(direction, float))
    p = np.cross(direction[:, None], e2[None])
    det = (e1 * p).sum(axis=2)
    with np.errstate(divide="ignore", invalid="ignore"):
        t = start[:, None] - a[None]
        u = (t * p).sum(axis=2) / det
        q = np.cross(t, np.broadcast_to(e1, t.shape))
        v = (direction[:, None] * q).sum(axis=2) / det
        distance = (e2 * q).sum(axis=2) / det
        hit = (np.abs(det) > 1e-14) & (u >= 0) & (v >= 0) & (u + v <= 1) & (distance >= near) & (distance <= far)
    distance = np.where(hit, distance, np.inf)
    triangle = distance.argmin(axis=1)
    nearest = distance[np.arange(len(start)), triangle]
    return np.where(np.isfinite(nearest), triangle, -1), nearest
