"""What the eye ray of a pixel meets on its triangle: place, normal, texture values, as one row of the surface buffer.

Row layout (float32, 15): albedo rgb, F0 rgb, roughness, normal xyz, emitted rgb (unlit colour or emissive), distance to the eye in m,
share of the light around that the occlusion map lets through.
"""

import math
from typing import Any, NamedTuple

import numpy as np
from numba import njit, prange

from eddyfall.core.kernel import light_helper
from eddyfall.core.scene.model import Material, turned_by
from eddyfall.core.shade.columns import (
    ALBEDO,
    ALBEDO_RGB,
    BASE,
    BASE_ALPHA,
    DIELECTRIC_F0,
    DISTANCE,
    EMISSIVE,
    EMITTED,
    EMITTED_RGB,
    F0,
    F0_RGB,
    F0_TINT,
    METALLIC,
    NORMAL,
    NORMAL_SCALE,
    NORMAL_XYZ,
    OCCLUSION_STRENGTH,
    OPEN,
    ROUGH,
    ROUGHNESS,
    ROW,
    UNLIT,
)
from eddyfall.core.shade.textures import TextureStore, sample, sample_plain, turned_way
from eddyfall.core.shade.vertex_colours import vertex_colour


class Rays(NamedTuple):
    """Eye rays: world direction through pixel position (x, y) is d0 + x du + y dv, scaled so that its view depth is 1."""

    eye: np.ndarray
    d0: np.ndarray
    du: np.ndarray
    dv: np.ndarray


class Soup(NamedTuple):
    """World arrays the surface kernel reads: positions, normals, uv0, uv1, triangles, the material row of each triangle's owner, and
    colours and tangents of vertices (v, 4), or none (0, 4)."""

    positions: np.ndarray
    normals: np.ndarray
    uv0: np.ndarray
    uv1: np.ndarray
    triangles: np.ndarray
    owner: np.ndarray
    material: np.ndarray
    colours: np.ndarray
    tangents: np.ndarray


def soup_of(geometry: Any, material: np.ndarray) -> Soup:
    """The arrays of packed geometry, with the material row of each drawable (d,)."""
    g = geometry
    return Soup(g.positions, g.normals, g.uv0, g.uv1, g.triangles, g.owner, material, g.colours, g.tangents)


class Surfaces(NamedTuple):
    """Material table (last row: default) and its textures, flat because numba's parallel loops take no nested tuples.

    factors (m, 21) float64: base rgba, metallic, roughness, emissive rgb, normal scale, F0 of the dielectric, unlit, occlusion strength,
    index of refraction, thickness in m, what is absorbed per m, rgb, what F0 is multiplied by, rgb; used (m, 7) int32: texture slots of
    base, metallic-roughness, normal, emissive, occlusion, transmission, thickness; then the fields of TextureStore; mip bias; most taps."""

    factors: np.ndarray
    used: np.ndarray
    texels: np.ndarray
    levels: np.ndarray
    slots: np.ndarray
    tables: np.ndarray
    bias: float
    taps: int


def absorbed_per_m(m: Material) -> tuple[float, ...]:
    """(3,) -ln(colour) / distance: Beer and Lambert's law, as KHR_materials_volume has it; a channel of 0 lets nothing through at all."""
    if math.isinf(m.attenuation_m):
        return (0.0, 0.0, 0.0)
    return tuple(-math.log(max(c, 1e-30)) / m.attenuation_m for c in m.attenuation_rgb)


def material_factors(materials: tuple[Material, ...]) -> np.ndarray:
    """`Surfaces.factors` of a scene's materials, default material last."""
    rows = []
    for m in (*materials, Material("(default)")):
        f0 = m.specular * (((m.ior - 1.0) / (m.ior + 1.0)) ** 2 if m.ior > 0 else 1.0)
        rows.append(
            [
                *m.base_rgba,
                m.metallic,
                m.roughness,
                *m.emissive,
                m.normal_scale,
                f0,
                float(m.unlit),
                m.occlusion_strength,
                m.ior,
                m.thickness_m,
                *absorbed_per_m(m),
                *m.specular_rgb,
            ]
        )
    return np.array(rows, np.float64)


@light_helper
def _weights(positions, t0, t1, t2, eye, dx, dy, dz):
    """(b1, b2, depth) of the ray eye + depth * d with the triangle's plane (Moeller & Trumbore 1997); weights may lie outside 0..1."""
    ax, ay, az = positions[t0, 0] - eye[0], positions[t0, 1] - eye[1], positions[t0, 2] - eye[2]
    e1x = np.float64(positions[t1, 0]) - positions[t0, 0]
    e1y = np.float64(positions[t1, 1]) - positions[t0, 1]
    e1z = np.float64(positions[t1, 2]) - positions[t0, 2]
    e2x = np.float64(positions[t2, 0]) - positions[t0, 0]
    e2y = np.float64(positions[t2, 1]) - positions[t0, 1]
    e2z = np.float64(positions[t2, 2]) - positions[t0, 2]
    px, py, pz = dy * e2z - dz * e2y, dz * e2x - dx * e2z, dx * e2y - dy * e2x
    det = e1x * px + e1y * py + e1z * pz
    if abs(det) < 1e-300:
        return 0.0, 0.0, 0.0
    inv = 1.0 / det
    b1 = -(ax * px + ay * py + az * pz) * inv
    qx, qy, qz = e1y * az - e1z * ay, e1z * ax - e1x * az, e1x * ay - e1y * ax
    b2 = (dx * qx + dy * qy + dz * qz) * inv
    return b1, b2, (e2x * qx + e2y * qy + e2z * qz) * inv


@light_helper
def surface_at(px, py, t, rays, soup, surf, rows, i):
    """Fill row i of `rows` (n, 15) for triangle t at pixel position (px, py); returns alpha."""
    eye = rays.eye
    t0, t1, t2 = soup.triangles[t, 0], soup.triangles[t, 1], soup.triangles[t, 2]
    dx = rays.d0[0] + px * rays.du[0] + py * rays.dv[0]
    dy = rays.d0[1] + px * rays.du[1] + py * rays.dv[1]
    dz = rays.d0[2] + px * rays.du[2] + py * rays.dv[2]
    b1, b2, depth = _weights(soup.positions, t0, t1, t2, eye, dx, dy, dz)
    b0 = 1.0 - b1 - b2
    length = math.sqrt(dx * dx + dy * dy + dz * dz)
    nx = b0 * soup.normals[t0, 0] + b1 * soup.normals[t1, 0] + b2 * soup.normals[t2, 0]
    ny = b0 * soup.normals[t0, 1] + b1 * soup.normals[t1, 1] + b2 * soup.normals[t2, 1]
    nz = b0 * soup.normals[t0, 2] + b1 * soup.normals[t1, 2] + b2 * soup.normals[t2, 2]
    inv = 1.0 / max(math.sqrt(nx * nx + ny * ny + nz * nz), 1e-12)
    nx, ny, nz = nx * inv, ny * inv, nz * inv
    m = soup.material[soup.owner[t]]
    f, used = surf.factors, surf.used
    r, g, b, a = f[m, BASE], f[m, BASE + 1], f[m, BASE + 2], f[m, BASE_ALPHA]
    vr, vg, vb, va = vertex_colour(soup.colours, t0, t1, t2, b0, b1, b2)
    r, g, b, a = r * vr, g * vg, b * vb, a * va
    metallic, rough = f[m, METALLIC], f[m, ROUGHNESS]
    er, eg, eb = f[m, EMISSIVE], f[m, EMISSIVE + 1], f[m, EMISSIVE + 2]
    open_to = 1.0
    if used[m, 0] >= 0 or used[m, 1] >= 0 or used[m, 2] >= 0 or used[m, 3] >= 0 or used[m, 4] >= 0:
        xb1, xb2, _ = _weights(soup.positions, t0, t1, t2, eye, dx + rays.du[0], dy + rays.du[1], dz + rays.du[2])
        yb1, yb2, _ = _weights(soup.positions, t0, t1, t2, eye, dx + rays.dv[0], dy + rays.dv[1], dz + rays.dv[2])
        for k in range(5):
            s = used[m, k]
            if s < 0:
                continue
            uv = soup.uv0 if surf.slots[s, 5] == 0 else soup.uv1
            u0, v0 = np.float64(uv[t0, 0]), np.float64(uv[t0, 1])
            u1, v1 = uv[t1, 0] - u0, uv[t1, 1] - v0
            u2, v2 = uv[t2, 0] - u0, uv[t2, 1] - v0
            u, v = u0 + b1 * u1 + b2 * u2, v0 + b1 * v1 + b2 * v2
            tr, tg, tb, ta = sample(
                u, v, (xb1 - b1) * u1 + (xb2 - b2) * u2, (xb1 - b1) * v1 + (xb2 - b2) * v2,
                (yb1 - b1) * u1 + (yb2 - b2) * u2, (yb1 - b1) * v1 + (yb2 - b2) * v2,
                surf.slots, s, surf.levels, surf.tables, surf.texels, surf.bias, surf.taps,
            )  # fmt: skip
            if k == 0:
                r, g, b, a = r * tr, g * tg, b * tb, a * ta
            elif k == 1:
                rough, metallic = rough * tg, metallic * tb
            elif k == 2 and soup.tangents.shape[0] > 0 and soup.tangents[t0, 3] != 0.0:
                nx, ny, nz = _bend_along(soup.tangents, t0, t1, t2, b0, b1, b2, nx, ny, nz, tr, tg, tb, f[m, NORMAL_SCALE])
            elif k == 2:
                au, av = turned_way(u1, v1, surf.slots, s, surf.tables)
                bu, bv = turned_way(u2, v2, surf.slots, s, surf.tables)
                nx, ny, nz = _bend(soup.positions, t0, t1, t2, au, av, bu, bv, nx, ny, nz, tr, tg, tb, f[m, NORMAL_SCALE])
            elif k == 3:
                er, eg, eb = er * tr, eg * tg, eb * tb
            else:
                open_to = 1.0 + f[m, OCCLUSION_STRENGTH] * (tr - 1.0)  # glTF 2.0, occlusionTextureInfo
    if nx * dx + ny * dy + nz * dz > 0.0:
        nx, ny, nz = _face(soup.positions, t0, t1, t2, dx, dy, dz, nx, ny, nz)
    if f[m, UNLIT] > 0.0:
        for k in range(10):
            rows[i, k] = 0.0
        rows[i, ROUGH] = 1.0
        rows[i, EMITTED], rows[i, EMITTED + 1], rows[i, EMITTED + 2] = r, g, b
    else:
        keep = 1.0 - metallic
        rows[i, ALBEDO], rows[i, ALBEDO + 1], rows[i, ALBEDO + 2] = r * keep, g * keep, b * keep
        rows[i, F0], rows[i, F0 + 1], rows[i, F0 + 2] = (
            min(f[m, DIELECTRIC_F0] * f[m, F0_TINT], 1.0) * keep + r * metallic,
            min(f[m, DIELECTRIC_F0] * f[m, F0_TINT + 1], 1.0) * keep + g * metallic,
            min(f[m, DIELECTRIC_F0] * f[m, F0_TINT + 2], 1.0) * keep + b * metallic,
        )
        rows[i, ROUGH] = rough
        rows[i, EMITTED], rows[i, EMITTED + 1], rows[i, EMITTED + 2] = er, eg, eb
    rows[i, NORMAL], rows[i, NORMAL + 1], rows[i, NORMAL + 2] = nx, ny, nz
    rows[i, DISTANCE], rows[i, OPEN] = depth * length, open_to
    return a


@light_helper
def _face(positions, t0, t1, t2, dx, dy, dz, nx, ny, nz):
    """Turn the normal over if the face itself is seen from behind; a shading normal beyond the horizon stays as it is."""
    ax = np.float64(positions[t1, 0]) - positions[t0, 0]
    ay = np.float64(positions[t1, 1]) - positions[t0, 1]
    az = np.float64(positions[t1, 2]) - positions[t0, 2]
    bx = np.float64(positions[t2, 0]) - positions[t0, 0]
    by = np.float64(positions[t2, 1]) - positions[t0, 1]
    bz = np.float64(positions[t2, 2]) - positions[t0, 2]
    gx, gy, gz = ay * bz - az * by, az * bx - ax * bz, ax * by - ay * bx
    if gx * dx + gy * dy + gz * dz > 0.0:
        return -nx, -ny, -nz
    return nx, ny, nz


@light_helper
def _bend(positions, t0, t1, t2, u1, v1, u2, v2, nx, ny, nz, tr, tg, tb, scale):
    """Normal-mapped normal; the tangent follows +u on the triangle and is made square to the normal."""
    det = u1 * v2 - u2 * v1
    if abs(det) < 1e-20:
        return nx, ny, nz
    e1x = np.float64(positions[t1, 0]) - positions[t0, 0]
    e1y = np.float64(positions[t1, 1]) - positions[t0, 1]
    e1z = np.float64(positions[t1, 2]) - positions[t0, 2]
    e2x = np.float64(positions[t2, 0]) - positions[t0, 0]
    e2y = np.float64(positions[t2, 1]) - positions[t0, 1]
    e2z = np.float64(positions[t2, 2]) - positions[t0, 2]
    s = 1.0 if det > 0 else -1.0
    tx, ty, tz = (e1x * v2 - e2x * v1) * s, (e1y * v2 - e2y * v1) * s, (e1z * v2 - e2z * v1) * s
    d = tx * nx + ty * ny + tz * nz
    tx, ty, tz = tx - d * nx, ty - d * ny, tz - d * nz
    inv = 1.0 / max(math.sqrt(tx * tx + ty * ty + tz * tz), 1e-12)
    tx, ty, tz = tx * inv, ty * inv, tz * inv
    # The map's +Y points up the picture, which is -v (glTF 2.0, 3.9.3).
    bx, by, bz = (e1x * u2 - e2x * u1) * s, (e1y * u2 - e2y * u1) * s, (e1z * u2 - e2z * u1) * s
    cx, cy, cz = ny * tz - nz * ty, nz * tx - nx * tz, nx * ty - ny * tx
    if cx * bx + cy * by + cz * bz < 0.0:
        cx, cy, cz = -cx, -cy, -cz
    mx, my, mz = (tr * 2.0 - 1.0) * scale, (tg * 2.0 - 1.0) * scale, tb * 2.0 - 1.0
    ox, oy, oz = tx * mx + cx * my + nx * mz, ty * mx + cy * my + ny * mz, tz * mx + cz * my + nz * mz
    inv = 1.0 / max(math.sqrt(ox * ox + oy * oy + oz * oz), 1e-12)
    return ox * inv, oy * inv, oz * inv


@light_helper
def _bend_along(tangents, t0, t1, t2, b0, b1, b2, nx, ny, nz, tr, tg, tb, scale):
    """Normal-mapped normal by the tangents that vertices carry, between them as they are (glTF 2.0, 3.7.2.1: the bitangent is
    cross(normal, tangent) * w)."""
    tx = b0 * tangents[t0, 0] + b1 * tangents[t1, 0] + b2 * tangents[t2, 0]
    ty = b0 * tangents[t0, 1] + b1 * tangents[t1, 1] + b2 * tangents[t2, 1]
    tz = b0 * tangents[t0, 2] + b1 * tangents[t1, 2] + b2 * tangents[t2, 2]
    side = 1.0 if tangents[t0, 3] > 0.0 else -1.0
    cx, cy, cz = (ny * tz - nz * ty) * side, (nz * tx - nx * tz) * side, (nx * ty - ny * tx) * side
    mx, my, mz = (tr * 2.0 - 1.0) * scale, (tg * 2.0 - 1.0) * scale, tb * 2.0 - 1.0
    ox, oy, oz = tx * mx + cx * my + nx * mz, ty * mx + cy * my + ny * mz, tz * mx + cz * my + nz * mz
    length = math.sqrt(ox * ox + oy * oy + oz * oz)
    if length < 1e-12:
        return nx, ny, nz
    return ox / length, oy / length, oz / length


@njit(cache=True, parallel=True, nogil=True)
def _surface_buffer(visible, ids, ox, oy, jx, jy, rays, soup, surf, rows):
    height, width = visible.shape
    for y in prange(height):
        for x in range(width):
            i = visible[y, x]
            if i >= 0:
                surface_at(ox + x + 0.5 + jx, oy + y + 0.5 + jy, ids[i], rays, soup, surf, rows, y * width + x)


def surface_buffer(
    visible: np.ndarray,
    ids: np.ndarray,
    origin: tuple[int, int],
    jitter: tuple[float, float],
    rays: Rays,
    soup: Soup,
    surf: Surfaces,
) -> np.ndarray:
    """(h, w, 15) rows of what is visible; zero where nothing is. `visible` indexes `ids`, world triangles."""
    out = np.zeros((*visible.shape, ROW), np.float32)
    if len(ids):
        _surface_buffer(visible, ids, origin[0], origin[1], jitter[0], jitter[1], rays, soup, surf, out.reshape(-1, ROW))
    return out


@njit(cache=True, parallel=True, nogil=True)
def _surface_rows(x, y, triangle, rays, soup, surf, rows):
    for i in prange(len(x)):
        if triangle[i] >= 0:
            surface_at(x[i], y[i], triangle[i], rays, soup, surf, rows, i)


def surface_rows(x: np.ndarray, y: np.ndarray, triangle: np.ndarray, rays: Rays, soup: Soup, surf: Surfaces) -> np.ndarray:
    """(n, 15) rows of world triangles (n,) at pixel positions x, y (n,); zero where a triangle is -1."""
    out = np.zeros((len(x), ROW), np.float32)
    _surface_rows(x, y, triangle, rays, soup, surf, out)
    return out


def bend_plain(corners: np.ndarray, uvs: np.ndarray, normal: np.ndarray, texel: np.ndarray, scale: float) -> np.ndarray:
    """Plain twin of `_bend`: the normal (3,) bent by a map's texel (3,); corners (3, 3) metres, uvs (3, 2)."""
    edges, steps = (corners[1:] - corners[0]), (uvs[1:] - uvs[0])
    if abs(np.linalg.det(steps)) < 1e-20:
        return normal
    # Rows of the solution are dP/du and dP/dv of the triangle (Lengyel 2001, from memory); the map's +Y points along -v.
    along_u, along_v = np.linalg.solve(steps, edges)
    tangent = along_u - (along_u @ normal) * normal
    tangent /= max(float(np.linalg.norm(tangent)), 1e-12)
    up = np.cross(normal, tangent)
    up = up if up @ -along_v >= 0 else -up
    x, y, z = (2 * texel - 1) * np.array([scale, scale, 1.0])
    bent = tangent * x + up * y + normal * z
    return np.asarray(bent / max(float(np.linalg.norm(bent)), 1e-12))


class TextureRead(NamedTuple):
    """A texture that a pixel reads: what for, its slot, mip level, and where, (u, v) after its transform."""

    role: str
    slot: int
    mip_level: float
    uv: tuple[float, float]

    @property
    def facts(self) -> dict[str, Any]:
        return {"role": self.role, "mip_level": round(self.mip_level, 2), "uv": [round(v, 6) for v in self.uv]}


def surface_plain(
    px: float, py: float, t: int, rays: Rays, soup: Soup, surf: Surfaces
) -> tuple[np.ndarray, float, list[TextureRead]]:
    """Plain twin for one triangle and pixel position: (row (15,), alpha, the textures that it reads)."""
    tri = soup.triangles[t]
    corners = soup.positions[tri].astype(np.float64)

    def meet(x: float, y: float) -> tuple[np.ndarray, float]:
        d = rays.d0 + x * rays.du + y * rays.dv
        system = np.column_stack([corners[1] - corners[0], corners[2] - corners[0], -d])
        b1, b2, depth = np.linalg.solve(system, rays.eye - corners[0])
        return np.array([1 - b1 - b2, b1, b2]), float(depth)

    weights, depth = meet(px, py)
    direction = rays.d0 + px * rays.du + py * rays.dv
    normal = weights @ soup.normals[tri].astype(np.float64)
    normal /= np.linalg.norm(normal)
    m = int(soup.material[soup.owner[t]])
    f = surf.factors[m]
    base, metallic, roughness, emitted = f[:4].copy(), f[4], f[5], f[6:9].copy()
    if len(soup.colours):
        base *= weights @ soup.colours[tri].astype(np.float64)
    used, open_to = [], 1.0
    for k, role in enumerate(("base", "metallic-roughness", "normal", "emissive", "occlusion")):
        slot = int(surf.used[m, k])
        if slot < 0:
            continue
        uvs = (soup.uv1 if surf.slots[slot, 5] else soup.uv0)[tri].astype(np.float64)
        right, down = meet(px + 1, py)[0], meet(px, py + 1)[0]
        value, level = sample_plain(
            TextureStore(surf.texels, surf.levels, surf.slots, surf.tables),
            slot,
            weights @ uvs,
            (right - weights) @ uvs,
            (down - weights) @ uvs,
            surf.bias,
            surf.taps,
        )
        turn = int(surf.slots[slot, 7])
        u, v = turned_by(surf.tables[turn, :6], weights @ uvs) if turn > 0 else weights @ uvs
        used.append(TextureRead(role, slot, level, (float(u), float(v))))
        if role == "base":
            base *= value
        elif role == "metallic-roughness":
            roughness, metallic = roughness * value[1], metallic * value[2]
        elif role == "normal" and len(soup.tangents) and soup.tangents[tri[0], 3] != 0:
            tangent, side = weights @ soup.tangents[tri, :3].astype(np.float64), np.sign(float(soup.tangents[tri[0], 3]))
            x, y, z = (2 * value[:3] - 1) * np.array([f[9], f[9], 1.0])
            normal = x * tangent + y * side * np.cross(normal, tangent) + z * normal
            normal /= np.linalg.norm(normal)
        elif role == "normal":
            if turn > 0:
                uvs = turned_by(surf.tables[turn, :6], uvs)
            normal = bend_plain(corners, uvs, normal, value[:3], f[9])
        elif role == "emissive":
            emitted *= value[:3]
        else:
            open_to = 1 + f[12] * (value[0] - 1)
    face = np.cross(corners[1] - corners[0], corners[2] - corners[0])
    if normal @ direction > 0 and face @ direction > 0:
        normal = -normal
    row = np.zeros(ROW)
    if f[11] > 0:
        row[ROUGH], row[EMITTED_RGB] = 1.0, base[:3]
    else:
        row[ALBEDO_RGB] = base[:3] * (1 - metallic)
        row[F0_RGB] = np.minimum(f[10] * f[18:21], 1.0) * (1 - metallic) + base[:3] * metallic
        row[ROUGH], row[EMITTED_RGB] = roughness, emitted
    row[NORMAL_XYZ], row[DISTANCE], row[OPEN] = normal, depth * np.linalg.norm(direction), open_to
    return row, float(base[3]), used
