"""The sky as a vertical gradient or a picture, and the light it gives in shade (a stand-in for real probes; common practice, no source)."""

import math
from typing import Any, NamedTuple

import numpy as np
from numba import njit, prange

from eddyfall.core.kernel import light_helper
from eddyfall.core.shade.coat import coat_at, edge_at, even_plain
from eddyfall.core.shade.columns import F0, NORMAL, NORMAL_XYZ, OPEN, ROUGH
from eddyfall.core.shade.sky_maps import AROUND, NO_PICTURE, SPREAD


class SkyLight(NamedTuple):
    """Radiance in nits, (3,) each, at zenith, horizon and below; what a picture gives in their stead, if there is one (see `SkyMaps`)."""

    zenith: np.ndarray
    horizon: np.ndarray
    ground: np.ndarray
    texels: np.ndarray = NO_PICTURE.texels
    levels: np.ndarray = NO_PICTURE.levels
    around: np.ndarray = NO_PICTURE.around
    turn: np.ndarray = NO_PICTURE.turn


@light_helper
def sky_radiance(up, c, sky):
    """Radiance of channel c in a direction whose sine of elevation is `up`."""
    if up <= 0.0:
        t = min(-up * 8.0, 1.0)
        return sky.horizon[c] + (sky.ground[c] - sky.horizon[c]) * t
    return sky.horizon[c] + (sky.zenith[c] - sky.horizon[c]) * math.sqrt(min(up, 1.0))


@light_helper
def in_picture(x, y, z, turn):
    """(azimuth share 0..1, elevation share 0..1 from the top) of a unit direction in a picture turned about the vertical."""
    px, pz = x * turn[0] - z * turn[1], x * turn[1] + z * turn[0]
    return math.atan2(px, -pz) / (2.0 * math.pi) + 0.5, math.acos(min(max(y, -1.0), 1.0)) / math.pi


@light_helper
def between(texels, start, width, height, u, v):
    """(r, g, b) between the four texels around a place: round the sides, and over the top and the bottom to the other side."""
    x, y = u * width - 0.5, v * height - 0.5
    x0, y0 = math.floor(x), math.floor(y)
    fx, fy = x - x0, y - y0
    column, top, bottom = int(x0), int(y0), int(y0) + 1
    over, under = 0, 0
    if top < 0:
        top, over = 0, width // 2
    if bottom >= height:
        bottom, under = height - 1, width // 2
    a, b = start + top * width + (column + over) % width, start + top * width + (column + over + 1) % width
    c, d = start + bottom * width + (column + under) % width, start + bottom * width + (column + under + 1) % width
    wa, wb, wc, wd = (1.0 - fx) * (1.0 - fy), fx * (1.0 - fy), (1.0 - fx) * fy, fx * fy
    return (
        texels[a, 0] * wa + texels[b, 0] * wb + texels[c, 0] * wc + texels[d, 0] * wd,
        texels[a, 1] * wa + texels[b, 1] * wb + texels[c, 1] * wc + texels[d, 1] * wd,
        texels[a, 2] * wa + texels[b, 2] * wb + texels[c, 2] * wc + texels[d, 2] * wd,
    )


@light_helper
def picture_radiance(x, y, z, level, sky):
    """(r, g, b) of the picture in a unit direction, between two of its levels."""
    u, v = in_picture(x, y, z, sky.turn)
    last = sky.levels.shape[0] - 1
    level = min(max(level, 0.0), float(last))
    low = int(level)
    high, share = min(low + 1, last), level - low
    r, g, b = between(sky.texels, sky.levels[low, 0], sky.levels[low, 1], sky.levels[low, 2], u, v)
    if share > 0.0:
        r1, g1, b1 = between(sky.texels, sky.levels[high, 0], sky.levels[high, 1], sky.levels[high, 2], u, v)
        r, g, b = r + (r1 - r) * share, g + (g1 - g) * share, b + (b1 - b) * share
    return r, g, b


@light_helper
def level_of(rough, sky):
    """Level whose texel is as wide as the mirrored lobe of a roughness."""
    return math.log2(max(SPREAD * rough * rough * sky.levels[0, 2] / math.pi, 1.0))


@light_helper
def picture_around(x, y, z, sky):
    """(r, g, b) even light around a unit direction."""
    u, v = in_picture(x, y, z, sky.turn)
    return between(sky.around, 0, AROUND[1], AROUND[0], u, v)


@light_helper
def ambient_at(rows, i, vx, vy, vz, sky):
    """(r, g, b) surface row i reflects of the sky: diffuse from a hemisphere blend, specular from the mirrored direction, each as
    much of it as the BRDF reflects of even light (see `coat`), both dimmed by the occlusion map."""
    nx, ny, nz = np.float64(rows[i, NORMAL]), np.float64(rows[i, NORMAL + 1]), np.float64(rows[i, NORMAL + 2])
    n_dot_v = min(max(nx * vx + ny * vy + nz * vz, 0.0), 1.0)
    mirrored_up = 2.0 * (nx * vx + ny * vy + nz * vz) * ny - vy
    by_picture = sky.levels.shape[0] > 0
    around_r = around_g = around_b = mirrored_r = mirrored_g = mirrored_b = 0.0
    if by_picture:
        cosine = 2.0 * (nx * vx + ny * vy + nz * vz)
        level = level_of(np.float64(rows[i, ROUGH]), sky)
        around_r, around_g, around_b = picture_around(nx, ny, nz, sky)
        mirrored_r, mirrored_g, mirrored_b = picture_radiance(cosine * nx - vx, mirrored_up, cosine * nz - vz, level, sky)
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
        if by_picture:
            around = around_r if c == 0 else around_g if c == 1 else around_b
            mirrored = mirrored_r if c == 0 else mirrored_g if c == 1 else mirrored_b
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
            length = math.sqrt(dx * dx + dy * dy + dz * dz)
            if sky.levels.shape[0]:
                r, g, b = picture_radiance(dx / length, dy / length, dz / length, 0.0, sky)
                out[py, px, 0], out[py, px, 1], out[py, px, 2] = r, g, b
                continue
            up = dy / length
            for c in range(3):
                out[py, px, c] = sky_radiance(up, c, sky)


def sky_picture(
    visible: np.ndarray, origin: tuple[int, int], jitter: tuple[float, float], rays: Any, sky: SkyLight, colour: np.ndarray
) -> np.ndarray:
    """`colour` (h, w, 3) with the sky drawn where nothing is visible, as a new array."""
    out = np.array(colour)
    _sky_buffer(visible, origin[0], origin[1], jitter[0], jitter[1], rays, sky, out)
    return out


@njit(cache=True, nogil=True)
def sky_colours_along(direction, sky):
    """(n, 3) radiance in nits along unit directions (n, 3)."""
    out = np.empty((len(direction), 3))
    for i in range(len(direction)):
        x, y, z = direction[i, 0], direction[i, 1], direction[i, 2]
        if sky.levels.shape[0]:
            out[i, 0], out[i, 1], out[i, 2] = picture_radiance(x, y, z, 0.0, sky)
        else:
            for c in range(3):
                out[i, c] = sky_radiance(y, c, sky)
    return out


def ambient_plain(row: np.ndarray, to_eye: np.ndarray, sky: SkyLight) -> np.ndarray:
    """Plain twin of `ambient_at`: (3,) radiance that a surface row reflects of the sky towards unit vector to_eye."""
    normal = np.asarray(row[NORMAL_XYZ], float)
    overhead = sky.horizon + (sky.zenith - sky.horizon) * 0.8
    level = (overhead + sky.ground) / 2
    around = level + ((overhead if normal[1] > 0 else sky.ground) - level) * abs(normal[1])
    mirror = 2 * float(normal @ to_eye) * normal - to_eye
    mirrored = sky_plain(mirror, sky)
    if len(sky.levels):
        around = around_plain(normal, sky)
        mirrored = picture_plain(mirror, float(row[ROUGH]), sky)
    glossy = mirrored + (around - mirrored) * float(row[ROUGH]) ** 2
    diffuse, coat = even_plain(row, min(max(float(normal @ to_eye), 0.0), 1.0))
    return np.asarray((diffuse * around + coat * glossy) * row[OPEN])


def sky_plain(direction: np.ndarray, sky: SkyLight) -> np.ndarray:
    """Plain twin: (3,) radiance in a world direction (3,)."""
    if len(sky.levels):
        return picture_plain(direction / np.linalg.norm(direction), 0.0, sky)
    up = direction[1] / np.linalg.norm(direction)
    if up <= 0:
        return sky.horizon + (sky.ground - sky.horizon) * min(-up * 8, 1)
    return sky.horizon + (sky.zenith - sky.horizon) * np.sqrt(up)


def picture_plain(direction: np.ndarray, rough: float, sky: SkyLight) -> np.ndarray:
    """Plain twin: (3,) radiance of the picture in a unit direction (3,), as a surface of a roughness mirrors it (0: as it is seen)."""
    at = _plain_in_picture(direction, sky)
    level = min(math.log2(max(SPREAD * rough**2 * sky.levels[0, 2] / math.pi, 1.0)), len(sky.levels) - 1)
    found = []
    for number in (int(level), min(int(level) + 1, len(sky.levels) - 1)):
        start, width, height = sky.levels[number]
        found.append(_plain_between(sky.texels[start : start + width * height].reshape(height, width, 3), *at))
    return np.asarray(found[0] + (found[-1] - found[0]) * (level - int(level)))


def around_plain(normal: np.ndarray, sky: SkyLight) -> np.ndarray:
    """Plain twin: (3,) even light of the picture around a unit direction (3,)."""
    return _plain_between(sky.around.reshape(*AROUND, 3), *_plain_in_picture(normal, sky))


def _plain_in_picture(direction: np.ndarray, sky: SkyLight) -> tuple[float, float]:
    cosine, sine = sky.turn
    x, z = direction[0] * cosine - direction[2] * sine, direction[0] * sine + direction[2] * cosine
    return math.atan2(x, -z) / (2 * math.pi) + 0.5, math.acos(min(max(float(direction[1]), -1.0), 1.0)) / math.pi


def _plain_between(picture: np.ndarray, u: float, v: float) -> np.ndarray:
    height, width = picture.shape[:2]
    x, down = u * width - 0.5, v * height - 0.5
    x0, y0 = math.floor(x), math.floor(down)
    # Beyond the top or the bottom lies the other side.
    rows = [(y, x0) if 0 <= y < height else (min(max(y, 0), height - 1), x0 + width // 2) for y in (y0, y0 + 1)]
    (a, b), (c, d) = ([picture[row, (column + i) % width].astype(float) for i in (0, 1)] for row, column in rows)
    upper, lower = a + (b - a) * (x - x0), c + (d - c) * (x - x0)
    return np.asarray(upper + (lower - upper) * (down - y0))
