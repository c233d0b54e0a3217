"""What lets light through, as real-time renderers draw it: lit like a dielectric, and through it a copy of the picture is read.

Of what is behind it keeps k = t c (1 - F)^2 A: t the material's transmission, c its base colour, F Fresnel's share by Schlick at the eye's
angle, lost on the way in and again on the way out, A what its body leaves by the law of Beer and Lambert over the way through it. A thin
wall bends nothing and absorbs nothing. A solid one is taken for a slab square to its normal there: the eye's ray is bent by Snell's law,
leaves it after thickness / cos of the bent angle, and the copy is read where that place is on the frame, which takes the parallel shift
of a real slab for one at the slab's own distance. Roughness reads a coarser level of the copy, as the sample renderer of
KHR_materials_transmission does (from memory). Thickness, attenuation and index as KHR_materials_volume and KHR_materials_ior have them.
"""

import math
from typing import NamedTuple

import numpy as np
from numba import njit, prange

from eddyfall.core.kernel import light_helper
from eddyfall.core.shade.brdf import schlick
from eddyfall.core.shade.columns import ALBEDO, DISTANCE, F0, IOR, NORMAL, ROUGH, SIGMA, THICKNESS
from eddyfall.core.shade.lit import lit_at, way_to_eye
from eddyfall.core.shade.surface import Rays, Soup, Surfaces, _weights, surface_at, surface_plain
from eddyfall.core.shade.textures import TextureStore, sample, sample_plain

VALUE, MAP, BACK_FACES, MISSING = 0, 1, 2, 3  # where the way through comes from, as THICKNESSES numbers it
FAR_M = 1e4  # what an input that nothing is wired to reads as
TRANSMISSION_ROLE, THICKNESS_ROLE = 5, 6


def levels_of(picture: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """(texels (n, 3) float32, levels (l, 3) int64) of a picture (h, w, 3): each level is half the last, every texel the mean of all that it
    lies over (the last row and column count twice where a level is odd)."""
    level, texels, table, offset = np.asarray(picture, np.float32), [], [], 0
    while True:
        height, width = level.shape[:2]
        texels.append(level.reshape(-1, 3))
        table.append((offset, width, height))
        offset += height * width
        if height == width == 1:
            return np.concatenate(texels), np.array(table, np.int64)
        level = np.pad(level, ((0, height % 2), (0, width % 2), (0, 0)), mode="edge")
        level = (level[0::2, 0::2] + level[1::2, 0::2] + level[0::2, 1::2] + level[1::2, 1::2]) * np.float32(0.25)


@light_helper
def level_texel(texels, levels, level, x, y, c):
    """Channel c of a level between the four texels around (x, y), in px of the finest level; the border's own beyond it."""
    offset, width, height = levels[level, 0], levels[level, 1], levels[level, 2]
    u = x * width / levels[0, 1] - 0.5
    v = y * height / levels[0, 2] - 0.5
    u, v = min(max(u, 0.0), width - 1.0), min(max(v, 0.0), height - 1.0)
    i, j = int(u), int(v)
    i1, j1 = min(i + 1, width - 1), min(j + 1, height - 1)
    fu, fv = u - i, v - j
    top = texels[offset + j * width + i, c] * (1.0 - fu) + texels[offset + j * width + i1, c] * fu
    low = texels[offset + j1 * width + i, c] * (1.0 - fu) + texels[offset + j1 * width + i1, c] * fu
    return top * (1.0 - fv) + low * fv


@light_helper
def read_copy(texels, levels, x, y, lod, c):
    """Channel c of the copy at (x, y) px of it, between two levels."""
    last = levels.shape[0] - 1
    lod = min(max(lod, 0.0), float(last))
    low = int(lod)
    value = level_texel(texels, levels, low, x, y, c)
    if lod > low:
        value += (level_texel(texels, levels, low + 1, x, y, c) - value) * (lod - low)
    return value


@light_helper
def bent(vx, vy, vz, nx, ny, nz, ior):
    """(x, y, z, cosine) of the ray -v into a medium through a surface of normal n, by Snell's law; its cosine with -n."""
    cosine = min(max(nx * vx + ny * vy + nz * vz, 0.0), 1.0)
    ratio = 1.0 / max(ior, 1.0)
    inside = math.sqrt(max(1.0 - ratio * ratio * (1.0 - cosine * cosine), 0.0))
    along = ratio * cosine - inside
    return -ratio * vx + along * nx, -ratio * vy + along * ny, -ratio * vz + along * nz, inside


@light_helper
def mirrored_by(cosine, ratio):
    """Share of unpolarised light that a face mirrors by Fresnel's equations; ratio: index on this side over that beyond. 1: all of it."""
    sine2 = ratio * ratio * (1.0 - cosine * cosine)
    if sine2 >= 1.0:
        return 1.0
    beyond = math.sqrt(1.0 - sine2)
    across = (ratio * cosine - beyond) / (ratio * cosine + beyond)
    along = (cosine - ratio * beyond) / (cosine + ratio * beyond)
    return 0.5 * (across * across + along * along)


@light_helper
def slab_lets(face, absorbed):
    """Share that a slab lets through with all reflections between its faces, which mirror `face` each (`optics.slab`)."""
    return (1.0 - face) * (1.0 - face) * absorbed / (1.0 - face * face * absorbed * absorbed)


@light_helper
def data_at(px, py, t, rays, soup, surf, s, channel):
    """One channel (0 red, 1 green) of texture slot s on triangle t at pixel position (px, py), at its finest level."""
    t0, t1, t2 = soup.triangles[t, 0], soup.triangles[t, 1], soup.triangles[t, 2]
    dx = rays.d0[0] + px * rays.du[0] + py * rays.dv[0]
    dy = rays.d0[1] + px * rays.du[1] + py * rays.dv[1]
    dz = rays.d0[2] + px * rays.du[2] + py * rays.dv[2]
    b1, b2, _ = _weights(soup.positions, t0, t1, t2, rays.eye, dx, dy, dz)
    uv = soup.uv0 if surf.slots[s, 5] == 0 else soup.uv1
    b0 = 1.0 - b1 - b2
    u = b0 * uv[t0, 0] + b1 * uv[t1, 0] + b2 * uv[t2, 0]
    v = b0 * uv[t0, 1] + b1 * uv[t1, 1] + b2 * uv[t2, 1]
    r, g, _, _ = sample(u, v, 0.0, 0.0, 0.0, 0.0, surf.slots, s, surf.levels, surf.tables, surf.texels, surf.bias, surf.taps)
    return r if channel == 0 else g


class Glass(NamedTuple):
    """What fragments of what lets light through are drawn by, (d,) each by drawable: transmission, bends, thickness (where the way through
    comes from), rougher, receives, paint (d, 3; nan: none); roughest: beyond it they are opaque."""

    transmission: np.ndarray
    bends: np.ndarray
    thickness: np.ndarray
    rougher: np.ndarray
    receives: np.ndarray
    paint: np.ndarray
    roughest: float


@njit(cache=True, parallel=True, nogil=True)
def see_through(x, y, triangle, path, glass, rays, soup, surf, lights, maps, traced, sky, lit, kept, at, rows):
    """For fragments (n,) of triangles at pixel positions x, y (n,): lit (n, 3) nits of their own, kept (n, 3) of what is seen through them,
    at (n, 3): the place (px of the frame) that it is read at and how coarse, 0 the finest level, 1 the last; rows (n, 15) of their surface.
    path (n,): m to the back face of the same thing along the eye's ray."""
    transmission, bends, thickness, receives, paint = (
        glass.transmission,
        glass.bends,
        glass.thickness,
        glass.receives,
        glass.paint,
    )
    roughest, rougher = glass.roughest, glass.rougher
    for i in prange(len(x)):
        t = triangle[i]
        d = soup.owner[t]
        m = soup.material[d]
        surface_at(x[i], y[i], t, rays, soup, surf, rows, i)
        at[i, 0], at[i, 1], at[i, 2] = x[i], y[i], 0.0
        if paint[d, 0] == paint[d, 0]:
            for c in range(3):
                lit[i, c], kept[i, c] = paint[d, c], 0.0
            continue
        through = transmission[d]
        if surf.used[m, TRANSMISSION_ROLE] >= 0:
            through *= data_at(x[i], y[i], t, rays, soup, surf, surf.used[m, TRANSMISSION_ROLE], 0)
        rows[i, ROUGH] = min(rows[i, ROUGH] + rougher[d], 1.0)
        rough, ior = np.float64(rows[i, ROUGH]), surf.factors[m, IOR]
        if rough > roughest:
            through = 0.0
        vx, vy, vz, _ = way_to_eye(x[i], y[i], rays)
        nx, ny, nz = np.float64(rows[i, NORMAL]), np.float64(rows[i, NORMAL + 1]), np.float64(rows[i, NORMAL + 2])
        cosine = nx * vx + ny * vy + nz * vz
        way = 0.0
        if bends[d]:
            bx, by, bz, inside = bent(vx, vy, vz, nx, ny, nz, ior)
            way = surf.factors[m, THICKNESS] / max(inside, 1e-3)
            if thickness[d] == MAP and surf.used[m, THICKNESS_ROLE] >= 0:
                way *= data_at(x[i], y[i], t, rays, soup, surf, surf.used[m, THICKNESS_ROLE], 1)
            elif thickness[d] == BACK_FACES:
                way = path[i]
            elif thickness[d] == MISSING:
                way = FAR_M
            away = np.float64(rows[i, DISTANCE])
            ex = -vx * away + bx * way
            ey = -vy * away + by * way
            ez = -vz * away + bz * way
            at[i, 0], at[i, 1] = on_frame(ex, ey, ez, rays)
            at[i, 2] = rough * min(max(2.0 * ior - 2.0, 0.0), 1.0)
        else:
            at[i, 2] = rough
        for c in range(3):
            f0 = np.float64(rows[i, F0 + c])
            enters = 1.0 - schlick(f0, min(1.0, 50.0 * f0), cosine)
            kept[i, c] = through * rows[i, ALBEDO + c] * enters * enters * math.exp(-surf.factors[m, SIGMA + c] * way)
            rows[i, ALBEDO + c] *= np.float32(1.0 - through)
        lit[i, 0], lit[i, 1], lit[i, 2] = lit_at(
            x[i], y[i], t, receives[d], rays, soup, lights, maps, traced, sky, rows, i
        )  # fmt: skip


@light_helper
def on_frame(ex, ey, ez, rays):
    """(x, y) px of the frame at which a place e off the eye is seen."""
    d0, du, dv = rays.d0, rays.du, rays.dv
    # e = s (d0 + x du + y dv): solved by Cramer's rule.
    cx, cy, cz = du[1] * dv[2] - du[2] * dv[1], du[2] * dv[0] - du[0] * dv[2], du[0] * dv[1] - du[1] * dv[0]
    whole = d0[0] * cx + d0[1] * cy + d0[2] * cz
    s = (ex * cx + ey * cy + ez * cz) / whole
    if s < 1e-9:
        s = 1e-9
    fx, fy, fz = ex / s - d0[0], ey / s - d0[1], ez / s - d0[2]
    uu, vv = du[0] * du[0] + du[1] * du[1] + du[2] * du[2], dv[0] * dv[0] + dv[1] * dv[1] + dv[2] * dv[2]
    return (fx * du[0] + fy * du[1] + fz * du[2]) / uu, (fx * dv[0] + fy * dv[1] + fz * dv[2]) / vv


@njit(cache=True, parallel=True, nogil=True)
def read_copies(at, ox, oy, texels, levels, seen):
    """What a copy shows at places (n, 3) as `see_through` gives them, into seen (n, 3): black where there is no copy. (ox, oy): px of the
    frame of the copy's first texel."""
    for i in prange(at.shape[0]):
        if levels.shape[0] == 0:
            seen[i, 0] = seen[i, 1] = seen[i, 2] = 0.0
            continue
        lod = math.log2(np.float64(levels[0, 1])) * at[i, 2]
        for c in range(3):
            seen[i, c] = read_copy(texels, levels, at[i, 0] - ox, at[i, 1] - oy, lod, c)


def data_plain(weights: np.ndarray, t: int, soup: Soup, surf: Surfaces, slot: int, channel: int) -> float:
    """Plain twin of `data_at`; weights (3,) of the place on the triangle."""
    uvs = (soup.uv1 if surf.slots[slot, 5] else soup.uv0)[soup.triangles[t]].astype(np.float64)
    store = TextureStore(surf.texels, surf.levels, surf.slots, surf.tables)
    value, _ = sample_plain(store, slot, weights @ uvs, np.zeros(2), np.zeros(2), surf.bias, surf.taps)
    return float(value[channel])


class Through(NamedTuple):
    """One fragment of what lets light through: kept (3,), at (3,) as `see_through` gives them; colour (3,) of its base; row (15,) that is
    left to be lit; through: share of what is not mirrored that goes through; cosine of the eye's ray with its normal; way m through its
    body, of which absorbed (3,) is left; leaves (3,) m off the eye, where the ray leaves it."""

    kept: np.ndarray
    at: np.ndarray
    colour: np.ndarray
    row: np.ndarray
    through: float
    cosine: float
    way: float
    absorbed: np.ndarray
    leaves: np.ndarray


def see_through_plain(x: float, y: float, t: int, path: float, glass: Glass, rays: Rays, soup: Soup, surf: Surfaces) -> Through:
    """Plain twin of `see_through` for one fragment, but for its light."""
    row, _, _ = surface_plain(x, y, t, rays, soup, surf)
    d = int(soup.owner[t])
    m = int(soup.material[d])
    factors, used, kind = surf.factors[m], surf.used[m], int(glass.thickness[d])
    row[ROUGH] = min(float(row[ROUGH]) + float(glass.rougher[d]), 1.0)
    ray = rays.d0 + x * rays.du + y * rays.dv
    ray = ray / np.linalg.norm(ray)
    place, normal, rough = ray * row[DISTANCE], row[NORMAL : NORMAL + 3].astype(float), float(row[ROUGH])
    corners = soup.positions[soup.triangles[t]].astype(float) - rays.eye
    weights = np.linalg.lstsq(np.vstack([corners.T, np.ones(3)]), np.append(place, 1.0), rcond=None)[0]
    through = float(glass.transmission[d]) * (rough <= glass.roughest)
    if used[TRANSMISSION_ROLE] >= 0:
        through *= data_plain(weights, t, soup, surf, int(used[TRANSMISSION_ROLE]), 0)
    cosine = min(max(float(-ray @ normal), 0.0), 1.0)
    way, leaves, at = 0.0, place, np.array([x, y, rough])
    if glass.bends[d]:
        ratio = 1 / max(factors[IOR], 1.0)
        inside = math.sqrt(1 - ratio**2 * (1 - cosine**2))
        way = factors[THICKNESS] / max(inside, 1e-3)
        if kind == MAP and used[THICKNESS_ROLE] >= 0:
            way *= data_plain(weights, t, soup, surf, int(used[THICKNESS_ROLE]), 1)
        way = path if kind == BACK_FACES else FAR_M if kind == MISSING else way
        leaves = place + way * (ratio * ray + (ratio * cosine - inside) * normal)
        s, a, b = np.linalg.solve(np.column_stack([rays.d0, rays.du, rays.dv]), leaves)
        at = np.array([a / s, b / s, rough * min(max(2 * factors[IOR] - 2, 0.0), 1.0)])
    f0 = row[F0 : F0 + 3].astype(float)
    fresnel = f0 + (np.minimum(1.0, 50 * f0) - f0) * (1 - cosine) ** 5
    absorbed = np.exp(-factors[SIGMA : SIGMA + 3] * way)
    colour = row[ALBEDO : ALBEDO + 3].astype(float)
    kept = through * colour * (1 - fresnel) ** 2 * absorbed
    row[ALBEDO : ALBEDO + 3] *= 1 - through
    return Through(kept, at, colour, row, through, cosine, way, absorbed, leaves)
