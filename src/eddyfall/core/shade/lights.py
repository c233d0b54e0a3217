"""Light that reaches a surface row directly: sun, point and spot lights, each dimmed by its shadow maps.

Units: sun in lux, point and spot in candela; the result is radiance in nits. Falloff and cones: KHR_lights_punctual.
"""

import math
from typing import Any, NamedTuple

import numpy as np
from numba import njit, prange

from eddyfall.core.kernel import light_helper
from eddyfall.core.shade.brdf import grazing, lobes, reflected, schlick
from eddyfall.core.shade.columns import ALBEDO_RGB, DISTANCE, EMITTED, F0, F0_RGB, NORMAL, NORMAL_XYZ, ROUGH
from eddyfall.core.shade.shadow_maps import FAR_M, NEAR_M, PAGED, TEXEL_M, TRACED, ShadowMaps, map_visibility, paged_visibility

DIRECTIONAL, POINT, SPOT = 0, 1, 2


class Lights(NamedTuple):
    """n lights. kind (n,) int32; place (n, 3) float64 metres; towards (n, 3) unit, from the lit point to a sun, or the way a
    spot shines; power (n, 3) lux or candela rgb; range_m (n,), 0 endless; cone (n, 2) scale and offset of the spot's falloff;
    first_map, maps (n,) int32: its shadow maps (0 maps: casts none);
    baked (n,) uint8: lightmaps hold its direct light; technique (n,) int32: how its shadow is drawn (`shadow_maps`)."""

    kind: np.ndarray
    place: np.ndarray
    towards: np.ndarray
    power: np.ndarray
    range_m: np.ndarray
    cone: np.ndarray
    first_map: np.ndarray
    maps: np.ndarray
    baked: np.ndarray
    technique: np.ndarray


@light_helper
def _cube_face(x, y, z):
    ax, ay, az = abs(x), abs(y), abs(z)
    if ax >= ay and ax >= az:
        return 0 if x > 0 else 1
    if ay >= az:
        return 2 if y > 0 else 3
    return 4 if z > 0 else 5


@light_helper
def light_visibility(i, x, y, z, nx, ny, nz, n_dot_l, view_depth, distance, lights, maps):
    """How much of light i reaches the point by its shadow maps: a sun's map is the one whose depth range holds the point.

    The receiver is moved along its normal by the bias before the look-up. A light whose shadow is traced has no maps."""
    if lights.maps[i] == 0:
        return 1.0
    first = lights.first_map[i]
    # The steeper the light, the further a texel's depth strays: shift by the sine of the angle to the normal.
    slant = math.sqrt(max(1.0 - n_dot_l * n_dot_l, 0.0)) + 0.1
    texels = (maps.bias_texels + 0.5 * (maps.filter_px - 1)) * slant
    if lights.technique[i] == PAGED:
        return paged_visibility(first, lights.maps[i], x, y, z, nx, ny, nz, texels, maps)
    if lights.kind[i] == DIRECTIONAL:
        depth = view_depth
        if maps.by_range == 1:
            ex, ey, ez = x - maps.eye[0], y - maps.eye[1], z - maps.eye[2]
            depth = math.sqrt(ex * ex + ey * ey + ez * ez)
        last = first + lights.maps[i] - 1
        for k in range(first, last + 1):
            if maps.info[k, NEAR_M] <= depth < maps.info[k, FAR_M]:
                shift = maps.info[k, TEXEL_M] * texels
                seen = map_visibility(k, x + nx * shift, y + ny * shift, z + nz * shift, maps)
                start = maps.info[k, FAR_M] - (maps.info[k, FAR_M] - maps.info[k, NEAR_M]) * maps.join
                if maps.join > 0.0 and k < last and depth > start:
                    share = (depth - start) / (maps.info[k, FAR_M] - start)
                    shift = maps.info[k + 1, TEXEL_M] * texels
                    next_seen = map_visibility(k + 1, x + nx * shift, y + ny * shift, z + nz * shift, maps)
                    seen += share * (next_seen - seen)
                return seen
        return 1.0
    shift = maps.info[first, TEXEL_M] * distance * texels
    x, y, z = x + nx * shift, y + ny * shift, z + nz * shift
    face = 0
    if lights.maps[i] == 6:
        p = lights.place
        face = _cube_face(x - p[i, 0], y - p[i, 1], z - p[i, 2])
    return map_visibility(first + face, x, y, z, maps)


@light_helper
def incoming(i, x, y, z, lights):
    """(unit direction to light i, share of its power that arrives unblocked per m2, distance)."""
    if lights.kind[i] == DIRECTIONAL:
        t = lights.towards
        return t[i, 0], t[i, 1], t[i, 2], 1.0, 1.0
    p = lights.place
    lx, ly, lz = p[i, 0] - x, p[i, 1] - y, p[i, 2] - z
    d2 = max(lx * lx + ly * ly + lz * lz, 1e-8)
    d = math.sqrt(d2)
    inv = 1.0 / d
    lx, ly, lz = lx * inv, ly * inv, lz * inv
    share = inv * inv
    if lights.range_m[i] > 0.0:
        share *= max(min(1.0 - (d / lights.range_m[i]) ** 4, 1.0), 0.0)
    if lights.kind[i] == SPOT:
        t = lights.towards
        cosine = -(lx * t[i, 0] + ly * t[i, 1] + lz * t[i, 2])
        cone = min(max(cosine * lights.cone[i, 0] + lights.cone[i, 1], 0.0), 1.0)
        share *= cone * cone
    return lx, ly, lz, share, d


@light_helper
def direct_at(rows, index, x, y, z, vx, vy, vz, view_depth, receives, mapped, lights, maps, traced, ty, tx):
    """(r, g, b, sun visibility): reflected direct light of surface row `index` at world (x, y, z) seen from unit direction v.

    traced[ty, tx, i]: what rays let through of a light whose shadow is traced. mapped: its lightmap holds the light of baked lights.
    Sun visibility is that of the first sun, 1 where it does not shine on the face."""
    r = g = b = 0.0
    sun = -1.0
    nx, ny, nz = np.float64(rows[index, NORMAL]), np.float64(rows[index, NORMAL + 1]), np.float64(rows[index, NORMAL + 2])
    rough = np.float64(rows[index, ROUGH])
    for i in range(lights.kind.shape[0]):
        if mapped and lights.baked[i]:
            continue
        lx, ly, lz, share, distance = incoming(i, x, y, z, lights)
        n_dot_l, spec, v_dot_h = lobes(nx, ny, nz, vx, vy, vz, lx, ly, lz, rough)
        visible = 1.0
        if n_dot_l > 0.0 and share > 0.0:
            if receives:
                if lights.technique[i] == TRACED:
                    visible = np.float64(traced[ty, tx, i])
                else:
                    visible = light_visibility(i, x, y, z, nx, ny, nz, n_dot_l, view_depth, distance, lights, maps)
            if visible > 0.0:
                k = n_dot_l * share * visible
                for c in range(3):
                    f0 = np.float64(rows[index, F0 + c])
                    fresnel = schlick(f0, min(1.0, 50.0 * f0), v_dot_h)
                    value = (rows[index, c] / math.pi * (1.0 - fresnel) + spec * fresnel) * k * lights.power[i, c]
                    if c == 0:
                        r += value
                    elif c == 1:
                        g += value
                    else:
                        b += value
        if sun < 0.0 and lights.kind[i] == DIRECTIONAL:
            sun = visible
    return r, g, b, max(sun, 0.0) if sun >= 0.0 else 1.0


@njit(cache=True, parallel=True, nogil=True)
def _visibility_at(i, places, normals, n_dot_l, view_depth, distance, lights, maps, out):
    for j in prange(places.shape[0]):
        out[j] = light_visibility(
            i, places[j, 0], places[j, 1], places[j, 2], normals[j, 0], normals[j, 1], normals[j, 2], n_dot_l[j], view_depth[j],
            distance[j], lights, maps,
        )  # fmt: skip


def visibility_at(
    i: int, places: np.ndarray, normals: np.ndarray, n_dot_l: np.ndarray, view_depth: np.ndarray, distance: np.ndarray,
    lights: Lights, maps: ShadowMaps,
) -> np.ndarray:  # fmt: skip
    """(n,) share of light i that its shadow maps let through to places (n, 3) m with unit normals (n, 3), at view depths (n,) m and
    distances (n,) m from a lamp: as `light_visibility` says it for one."""
    out = np.ones(len(places))
    given = [np.ascontiguousarray(a, np.float64) for a in (places, normals, n_dot_l, view_depth, distance)]
    _visibility_at(i, *given, lights, maps, out)
    return out


def incoming_plain(i: int, place: np.ndarray, lights: Lights) -> tuple[np.ndarray, float, float]:
    """Plain twin of `incoming`: (unit direction to the light (3,), share of its power that arrives, distance in m)."""
    if lights.kind[i] == DIRECTIONAL:
        return np.array(lights.towards[i]), 1.0, 1.0
    away = lights.place[i] - place
    distance = max(float(np.linalg.norm(away)), 1e-4)
    towards = away / distance
    share = 1 / distance**2
    if lights.range_m[i] > 0:
        share *= float(np.clip(1 - (distance / lights.range_m[i]) ** 4, 0, 1))
    if lights.kind[i] == SPOT:
        scale, offset = lights.cone[i]
        share *= float(np.clip(-(towards @ lights.towards[i]) * scale + offset, 0, 1)) ** 2
    return towards, share, distance


def incoming_all(i: int, places: np.ndarray, lights: Lights) -> tuple[np.ndarray, np.ndarray]:
    """(unit directions (n, 3) from places (n, 3) to light i, distances (n,) in m; a sun's are 1)."""
    if lights.kind[i] == DIRECTIONAL:
        return np.tile(lights.towards[i], (len(places), 1)), np.ones(len(places))
    away = lights.place[i] - places
    distance = np.maximum(np.linalg.norm(away, axis=1), 1e-4)
    return away / distance[:, None], distance


def direct_plain(
    row: np.ndarray,
    place: np.ndarray,
    view: np.ndarray,
    view_depth: float,
    receives: bool,
    mapped: bool,
    lights: Lights,
    maps: ShadowMaps,
    traced: np.ndarray | None = None,
) -> list[tuple[np.ndarray, float]]:
    """Plain twin: for each light (radiance rgb it adds, its visibility); place in m, view unit vector to the eye; traced (n,): what rays
    let through (None: all)."""
    result = []
    for i in range(len(lights.kind)):
        if mapped and lights.baked[i]:
            result.append((np.zeros(3), 1.0))
            continue
        towards, share, distance = incoming_plain(i, place, lights)
        n_dot_l = float(row[NORMAL_XYZ] @ towards)
        visible = 1.0
        if receives and n_dot_l > 0 and share > 0:
            if lights.technique[i] == TRACED:
                visible = 1.0 if traced is None else float(traced[i])
            else:
                visible = float(light_visibility(i, *place, *row[NORMAL_XYZ], n_dot_l, view_depth, distance, lights, maps))
        shine = reflected(row[ALBEDO_RGB], row[F0_RGB], float(row[ROUGH]), row[NORMAL_XYZ], view, towards)
        result.append((shine * share * visible * lights.power[i], visible))
    return result


@njit(cache=True, parallel=True, nogil=True)
def _direct_buffer(rows, visible, drawable, receives, mapped, ox, oy, jx, jy, rays, lights, maps, traced, out, sun):
    height, width = visible.shape
    whole = np.int64(traced.shape[0] == height and traced.shape[1] == width)
    for py in prange(height):
        for px in range(width):
            if visible[py, px] < 0:
                continue
            i = py * width + px
            x, y = ox + px + 0.5 + jx, oy + py + 0.5 + jy
            dx = rays.d0[0] + x * rays.du[0] + y * rays.dv[0]
            dy = rays.d0[1] + x * rays.du[1] + y * rays.dv[1]
            dz = rays.d0[2] + x * rays.du[2] + y * rays.dv[2]
            length = math.sqrt(dx * dx + dy * dy + dz * dz)
            depth = rows[i, DISTANCE] / length
            r, g, b, s = direct_at(
                rows, i, rays.eye[0] + dx * depth, rays.eye[1] + dy * depth, rays.eye[2] + dz * depth,
                -dx / length, -dy / length, -dz / length, depth, receives[drawable[py, px]], mapped[drawable[py, px]], lights,
                maps, traced, np.int64(py) * whole, np.int64(px) * whole,
            )  # fmt: skip
            out[py, px, 0] = r + rows[i, EMITTED]
            out[py, px, 1] = g + rows[i, EMITTED + 1]
            out[py, px, 2] = b + rows[i, EMITTED + 2]
            sun[py, px] = s


def direct_buffer(
    surface: np.ndarray,
    visible: np.ndarray,
    drawable: np.ndarray,
    receives: np.ndarray,
    mapped: np.ndarray,
    origin: tuple[int, int],
    jitter: tuple[float, float],
    rays: Any,
    lights: Lights,
    maps: ShadowMaps,
    traced: np.ndarray,
) -> tuple[np.ndarray, np.ndarray]:
    """((h, w, 3) direct and emitted radiance, (h, w) visibility of the first sun). traced (h, w, lights) float32 what rays let through of
    each light; (1, 1, lights) if none is traced."""
    out = np.zeros((*visible.shape, 3), np.float32)
    sun = np.ones(visible.shape, np.float32)
    rows = surface.reshape(-1, surface.shape[2])
    _direct_buffer(
        rows,
        visible,
        drawable,
        receives,
        mapped,
        origin[0],
        origin[1],
        jitter[0],
        jitter[1],
        rays,
        lights,
        maps,
        traced,
        out,
        sun,
    )
    return out, sun


__all__ = [
    "Lights", "ShadowMaps", "direct_at", "direct_buffer", "direct_plain", "grazing", "incoming", "light_visibility", "map_visibility",
    "visibility_at",
]  # fmt: skip
