"""Light that a surface row off the opaque picture gives to the eye: straight from lights, from the sky, and its own."""

import math

import numpy as np

from eddyfall.core.kernel import light_helper
from eddyfall.core.shade.columns import DISTANCE, EMITTED
from eddyfall.core.shade.direct import NO_TINTS, direct_at, face_normal
from eddyfall.core.shade.sky import ambient_at


@light_helper
def way_to_eye(px, py, rays):
    """(x, y, z, length): unit direction to the eye from what its ray through a pixel position meets; m along it per m of view depth."""
    dx = rays.d0[0] + px * rays.du[0] + py * rays.dv[0]
    dy = rays.d0[1] + px * rays.du[1] + py * rays.dv[1]
    dz = rays.d0[2] + px * rays.du[2] + py * rays.dv[2]
    length = math.sqrt(dx * dx + dy * dy + dz * dz)
    return -dx / length, -dy / length, -dz / length, length


@light_helper
def lit_at(px, py, t, receives, rays, soup, lights, maps, traced, sky, rows, i):
    """(r, g, b) nits of surface row i of triangle t at a pixel position.

    Rays start from opaque surfaces only: a light whose shadow is traced reaches what is not opaque unhindered."""
    vx, vy, vz, length = way_to_eye(px, py, rays)
    away = np.float64(rows[i, DISTANCE])
    fx = fy = fz = 0.0
    if maps.by_plane == 1:
        fx, fy, fz = face_normal(soup.positions, soup.triangles, t)
    x, y, z = rays.eye[0] - vx * away, rays.eye[1] - vy * away, rays.eye[2] - vz * away
    r, g, b, _ = direct_at(
        rows, i, x, y, z, vx, vy, vz, fx, fy, fz, away / length, receives, False, lights, maps, traced, 0, 0, NO_TINTS, -1, 0
    )
    ar, ag, ab = ambient_at(rows, i, vx, vy, vz, sky)
    return r + ar + rows[i, EMITTED], g + ag + rows[i, EMITTED + 1], b + ab + rows[i, EMITTED + 2]
