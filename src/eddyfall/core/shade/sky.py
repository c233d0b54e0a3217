"""The sky as a vertical gradient, and the light it gives in shade (a stand-in for real probes; common practice, no source)."""

import math
from typing import Any, NamedTuple

import numpy as np
from numba import njit, prange

from eddyfall.core.kernel import light_helper
from eddyfall.core.shade.coat import coat_at, edge_at, even_plain
from eddyfall.core.shade.columns import F0, NORMAL, NORMAL_XYZ, OPEN, ROUGH


class SkyLight(NamedTuple):
    """Radiance in nits, (3,) each, at zenith, horizon and below."""

    zenith: np.ndarray
    horizon: np.ndarray
    ground: np.ndarray


@light_helper
def sky_radiance(up, c, sky):
    """Radiance of channel c in a direction whose sine of elevation is `up`."""
    if up <= 0.0:
        t = min(-up * 8.0, 1.0)
        return sky.horizon[c] + (sky.ground[c] - sky.horizon[c]) * t
    return sky.horizon[c] + (sky.zenith[c] - sky.horizon[c]) * math.sqrt(min(up, 1.0))


@light_helper
def ambient_at(rows, i, vx, vy, vz, sky):
    """(r, g, b) surface row i reflects of the sky: diffuse from a hemisphere blend, specular from the mirrored direction, each as
    much of it as the BRDF reflects of even light (see `coat`), both dimmed by the occlusion map."""
    nx, ny, nz = np.float64(rows[i, NORMAL]), np.float64(rows[i, NORMAL + 1]), np.float64(rows[i, NORMAL + 2])
    n_dot_v = min(max(nx * vx + ny * vy + nz * vz, 0.0), 1.0)
    mirrored_up = 2.0 * (nx * vx + ny * vy + nz * vz) * ny - vy
    rough = np.float64(rows[i, ROUGH])
    a, b, edge = coat_at(n_dot_v, rough, 0), coat_at(n_dot_v, rough, 1), edge_at(n_dot_v)
    open_to = np.float64(rows[i, OPEN])
    out_r = out_g = out_b = 0.0
    for c in range(3):
        overhead = sky.horizon[c] + (sky.zenith[c] - sky.horizon[c]) * 0.8
        level = 0.5 * overhead + 0.5 * sky.ground[c]
        around = level + (overhead - level) * ny if ny > 0.0 else level + (sky.ground[c] - level) * -ny
        f0 = np.float64(rows[i, F0 + c])
        f90 = min(1.0, 50.0 * f0)
        through = 1.0 - (f0 * (1.0 - edge) + f90 * edge)
        mirrored = sky_radiance(mirrored_up, c, sky)
        glossy = mirrored + (around - mirrored) * rough * rough
        diffuse, coat = rows[i, c] * through, f0 * a + f90 * b
        value = (diffuse * around + coat * glossy) * open_to / max(diffuse + coat, 1.0)
        if c == 0:
            out_r = value
        elif c == 1:
            out_g = value
        else:
            out_b = value
    return out_r, out_g, out_b


@njit(cache=True, parallel=True, nogil=True)
def _ambient_buffer(rows, visible, ox, oy, jx, jy, rays, sky, out):
    height, width = visible.shape
    for py in prange(height):
        for px in range(width):
            if visible[py, px] < 0:
                continue
            x, y = ox + px + 0.5 + jx, oy + py + 0.5 + jy
            dx = rays.d0[0] + x * rays.du[0] + y * rays.dv[0]
            dy = rays.d0[1] + x * rays.du[1] + y * rays.dv[1]
            dz = rays.d0[2] + x * rays.du[2] + y * rays.dv[2]
            inv = -1.0 / math.sqrt(dx * dx + dy * dy + dz * dz)
            r, g, b = ambient_at(rows, py * width + px, dx * inv, dy * inv, dz * inv, sky)
            out[py, px, 0] += r
            out[py, px, 1] += g
            out[py, px, 2] += b


def add_ambient(
    surface: np.ndarray,
    visible: np.ndarray,
    origin: tuple[int, int],
    jitter: tuple[float, float],
    rays: Any,
    sky: SkyLight,
    colour: np.ndarray,
) -> np.ndarray:
    """`colour` (h, w, 3) plus the sky's light on every visible surface, as a new array."""
    out = np.array(colour)
    _ambient_buffer(surface.reshape(-1, surface.shape[2]), visible, origin[0], origin[1], jitter[0], jitter[1], rays, sky, out)
    return out


@njit(cache=True, parallel=True, nogil=True)
def _sky_buffer(visible, ox, oy, jx, jy, rays, sky, out):
    height, width = visible.shape
    for py in prange(height):
        for px in range(width):
            if visible[py, px] >= 0:
                continue
            x, y = ox + px + 0.5 + jx, oy + py + 0.5 + jy
            dx = rays.d0[0] + x * rays.du[0] + y * rays.dv[0]
            dy = rays.d0[1] + x * rays.du[1] + y * rays.dv[1]
            dz = rays.d0[2] + x * rays.du[2] + y * rays.dv[2]
            up = dy / math.sqrt(dx * dx + dy * dy + dz * dz)
            for c in range(3):
                out[py, px, c] = sky_radiance(up, c, sky)


def sky_picture(
    visible: np.ndarray, origin: tuple[int, int], jitter: tuple[float, float], rays: Any, sky: SkyLight, colour: np.ndarray
) -> np.ndarray:
    """`colour` (h, w, 3) with the sky drawn where nothing is visible, as a new array."""
    out = np.array(colour)
    _sky_buffer(visible, origin[0], origin[1], jitter[0], jitter[1], rays, sky, out)
    return out


def ambient_plain(row: np.ndarray, to_eye: np.ndarray, sky: SkyLight) -> np.ndarray:
    """Plain twin of `ambient_at`: (3,) radiance that a surface row reflects of the sky towards unit vector to_eye."""
    normal = np.asarray(row[NORMAL_XYZ], float)
    overhead = sky.horizon + (sky.zenith - sky.horizon) * 0.8
    level = (overhead + sky.ground) / 2
    around = level + ((overhead if normal[1] > 0 else sky.ground) - level) * abs(normal[1])
    mirrored = sky_plain(2 * float(normal @ to_eye) * normal - to_eye, sky)
    glossy = mirrored + (around - mirrored) * float(row[ROUGH]) ** 2
    diffuse, coat = even_plain(row, min(max(float(normal @ to_eye), 0.0), 1.0))
    return np.asarray((diffuse * around + coat * glossy) * row[OPEN])


def sky_plain(direction: np.ndarray, sky: SkyLight) -> np.ndarray:
    """Plain twin: (3,) radiance in a world direction (3,)."""
    up = direction[1] / np.linalg.norm(direction)
    if up <= 0:
        return sky.horizon + (sky.ground - sky.horizon) * min(-up * 8, 1)
    return sky.horizon + (sky.zenith - sky.horizon) * np.sqrt(up)
