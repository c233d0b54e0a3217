"""Lights and how much of one reaches a place: sun, point and spot lights, each dimmed by its shadow maps.

Units: sun in lux, point and spot in candela. Falloff and cones: KHR_lights_punctual.
"""

import math
from typing import NamedTuple

import numpy as np
from numba import njit, prange

from eddyfall.core.kernel import light_helper
from eddyfall.core.shade.shadow_maps import (
    ALONG_NORMAL,
    FAR_M,
    NEAR_M,
    OVER,
    PAGED,
    TEXEL_M,
    ShadowMaps,
    map_gaps,
    map_visibility,
    paged_serving,
)

DIRECTIONAL, POINT, SPOT = 0, 1, 2
MIXED = -2  # two maps at a join


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
def normal_texels(i, n_dot_l, maps):
    """Texels by which light i's look-up moves a place along its normal: the steeper the light, the further a texel's depth strays, so by
    the sine of the angle to the normal."""
    slant = math.sqrt(max(1.0 - n_dot_l * n_dot_l, 0.0)) + maps.bias[i, OVER]
    return maps.bias[i, ALONG_NORMAL] * slant


@light_helper
def sun_depth(x, y, z, view_depth, maps):
    """What a sun's maps are chosen by: depth along the view, or range to the eye."""
    if maps.by_range == 0:
        return view_depth
    ex, ey, ez = x - maps.eye[0], y - maps.eye[1], z - maps.eye[2]
    return math.sqrt(ex * ex + ey * ey + ez * ez)


@light_helper
def serving(i, x, y, z, nx, ny, nz, texels, view_depth, distance, lights, maps):
    """The map of light i that serves a place: a sun's is the one whose depth range holds it, a lamp's the one that the place shifted by so
    many texels falls on; -1: none."""
    first = lights.first_map[i]
    if lights.maps[i] == 0:
        return -1
    if lights.technique[i] == PAGED:
        return paged_serving(first, lights.maps[i], x, y, z, nx, ny, nz, texels, maps)
    if lights.kind[i] == DIRECTIONAL:
        depth = sun_depth(x, y, z, view_depth, maps)
        for k in range(first, first + lights.maps[i]):
            if maps.info[k, NEAR_M] <= depth < maps.info[k, FAR_M]:
                return k
        return -1
    if lights.maps[i] != 6:
        return first
    shift = maps.info[first, TEXEL_M] * distance * texels
    p = lights.place
    return first + _cube_face(x + nx * shift - p[i, 0], y + ny * shift - p[i, 1], z + nz * shift - p[i, 2])


@light_helper
def shifted(i, k, x, y, z, nx, ny, nz, texels, distance, lights, maps):
    """(x, y, z) moved along the normal for a look-up in map k of light i, and how far from a lamp it then is in m."""
    sun = lights.kind[i] == DIRECTIONAL
    shift = maps.info[k, TEXEL_M] * texels * (1.0 if sun else distance)
    x, y, z = x + nx * shift, y + ny * shift, z + nz * shift
    if sun:
        return x, y, z, 1.0
    p = lights.place
    ax, ay, az = x - p[i, 0], y - p[i, 1], z - p[i, 2]
    return x, y, z, math.sqrt(ax * ax + ay * ay + az * az)


@light_helper
def light_visibility(i, x, y, z, nx, ny, nz, fx, fy, fz, n_dot_l, view_depth, distance, lights, maps):
    """How much of light i reaches a place by its shadow maps; n: the normal it is shaded with, f: that of its face.

    A light whose shadow is traced has no maps."""
    texels = normal_texels(i, n_dot_l, maps)
    k = serving(i, x, y, z, nx, ny, nz, texels, view_depth, distance, lights, maps)
    if k < 0:
        return 1.0
    sx, sy, sz, away = shifted(i, k, x, y, z, nx, ny, nz, texels, distance, lights, maps)
    seen = map_visibility(i, k, sx, sy, sz, fx, fy, fz, away, maps)
    share = joined(i, k, sun_depth(x, y, z, view_depth, maps), lights, maps)
    if share > 0.0:
        sx, sy, sz, away = shifted(i, k + 1, x, y, z, nx, ny, nz, texels, distance, lights, maps)
        seen += share * (map_visibility(i, k + 1, sx, sy, sz, fx, fy, fz, away, maps) - seen)
    return seen


@light_helper
def joined(i, k, depth, lights, maps):
    """Share of a sun's next map that is mixed in at a depth that map k serves."""
    if maps.join <= 0.0 or lights.kind[i] != DIRECTIONAL or lights.technique[i] == PAGED:
        return 0.0
    if k >= lights.first_map[i] + lights.maps[i] - 1:
        return 0.0
    start = maps.info[k, FAR_M] - (maps.info[k, FAR_M] - maps.info[k, NEAR_M]) * maps.join
    return (depth - start) / (maps.info[k, FAR_M] - start) if depth > start else 0.0


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


@njit(cache=True, parallel=True, nogil=True)
def _visibility_at(i, at, normals, faces, n_dot_l, view_depth, distance, lights, maps, out):
    for j in prange(at.shape[0]):
        out[j] = light_visibility(
            i, at[j, 0], at[j, 1], at[j, 2], normals[j, 0], normals[j, 1], normals[j, 2], faces[j, 0], faces[j, 1], faces[j, 2],
            n_dot_l[j], view_depth[j], distance[j], lights, maps,
        )  # fmt: skip


class Places(NamedTuple):
    """n places that a light's maps are looked up for. at (n, 3) m; normal, face (n, 3) unit: what they are shaded with, and of the face
    itself; n_dot_l (n,) of the normal; view_depth (n,) m; distance (n,) m from a lamp."""

    at: np.ndarray
    normal: np.ndarray
    face: np.ndarray
    n_dot_l: np.ndarray
    view_depth: np.ndarray
    distance: np.ndarray

    def contiguous(self) -> "Places":
        """As kernels take them."""
        return Places(*(np.ascontiguousarray(a, np.float64) for a in self))


def visibility_at(i: int, asked: Places, lights: Lights, maps: ShadowMaps) -> np.ndarray:
    """(n,) share of light i that its shadow maps let through to places: as `light_visibility` says it for one."""
    out = np.ones(len(asked.at))
    _visibility_at(i, *asked.contiguous(), lights, maps, out)
    return out


@njit(cache=True, parallel=True, nogil=True)
def _gaps_at(i, at, normals, faces, n_dot_l, view_depth, distance, lights, maps, gaps, slopes, served):
    for j in prange(at.shape[0]):
        x, y, z, nx, ny, nz = at[j, 0], at[j, 1], at[j, 2], normals[j, 0], normals[j, 1], normals[j, 2]
        texels = normal_texels(i, n_dot_l[j], maps)
        k = serving(i, x, y, z, nx, ny, nz, texels, view_depth[j], distance[j], lights, maps)
        served[j] = k
        if k < 0:
            continue
        if joined(i, k, sun_depth(x, y, z, view_depth[j], maps), lights, maps) > 0.0:
            served[j] = MIXED
        sx, sy, sz, away = shifted(i, k, x, y, z, nx, ny, nz, texels, distance[j], lights, maps)
        slopes[j] = map_gaps(i, k, sx, sy, sz, faces[j, 0], faces[j, 1], faces[j, 2], away, maps, gaps, j)


def gaps_at(i: int, asked: Places, lights: Lights, maps: ShadowMaps) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """(gaps (n, filter_px^2), slopes (n,), served (n,)): how far in m behind each texel of its filter a place stands after its shift along
    the normal (minus infinity: before it), what a slope factor of 1 adds to the bias there in m, and which map that is (-1 none, MIXED
    where two are mixed). A texel darkens if its gap is larger than constant + factor x slope."""
    n = len(asked.at)
    gaps = np.full((n, int(maps.filter_px[i]) ** 2), -np.inf)
    slopes, served = np.zeros(n), np.full(n, -1)
    _gaps_at(i, *asked.contiguous(), lights, maps, gaps, slopes, served)
    return gaps, slopes, served


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


def shares_all(i: int, towards: np.ndarray, distance: np.ndarray, lights: Lights) -> np.ndarray:
    """(n,) share of light i's power that arrives unblocked per m2 on a face turned to it, from directions (n, 3) and distances (n,) m as
    `incoming_all` gives them."""
    if lights.kind[i] == DIRECTIONAL:
        return np.ones(len(towards))
    share = 1.0 / np.maximum(distance, 1e-4) ** 2
    if lights.range_m[i] > 0:
        share *= np.clip(1 - (distance / lights.range_m[i]) ** 4, 0, 1)
    if lights.kind[i] == SPOT:
        scale, offset = lights.cone[i]
        share *= np.clip(-(towards @ lights.towards[i]) * scale + offset, 0, 1) ** 2
    return np.asarray(share)


def incoming_all(i: int, places: np.ndarray, lights: Lights) -> tuple[np.ndarray, np.ndarray]:
    """(unit directions (n, 3) from places (n, 3) to light i, distances (n,) in m; a sun's are 1)."""
    if lights.kind[i] == DIRECTIONAL:
        return np.tile(lights.towards[i], (len(places), 1)), np.ones(len(places))
    away = lights.place[i] - places
    distance = np.maximum(np.linalg.norm(away, axis=1), 1e-4)
    return away / distance[:, None], distance
