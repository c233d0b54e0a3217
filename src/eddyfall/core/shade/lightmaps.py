"""Light from lightmaps: irradiance looked up at the lightmap UV of what each pixel sees, and reflected diffusely (L = albedo E / pi)."""

import math
from typing import Any, NamedTuple

import numpy as np
from numba import njit, prange

from eddyfall.core.kernel import light_helper
from eddyfall.core.shade.coat import coat_at, edge_at
from eddyfall.core.shade.columns import F0, NORMAL, OPEN, ROUGH
from eddyfall.core.shade.surface import Soup, _weights


class LightmapStore(NamedTuple):
    """texels (n, 3) float32 lux; levels (l, 3) int64 offset, edge, edge; maps (k, 4) int64 first level, number of levels, uv set, wraps;
    place (k, 3) float64 low u, low v, side of the page in tiles; of_drawable (d,) int32 map of each drawable, -1: none."""

    texels: np.ndarray
    levels: np.ndarray
    maps: np.ndarray
    place: np.ndarray
    of_drawable: np.ndarray


EMPTY = LightmapStore(
    np.zeros((1, 3), np.float32), np.zeros((1, 3), np.int64), np.zeros((0, 4), np.int64), np.zeros((0, 3)), np.zeros(0, np.int32)
)


def mip_levels(values: np.ndarray) -> list[np.ndarray]:
    """All mip levels of a float map (h, w, 3) by 2x2 means, empty texels and all, as hardware makes them."""
    chain = [np.asarray(values, np.float32)]
    while min(chain[-1].shape[:2]) > 1:
        a = chain[-1][: chain[-1].shape[0] // 2 * 2, : chain[-1].shape[1] // 2 * 2]
        chain.append((a[0::2, 0::2] + a[1::2, 0::2] + a[0::2, 1::2] + a[1::2, 1::2]) * np.float32(0.25))
    return chain


@light_helper
def texel_at(store, k, level, u, v, nearest, c):
    """Channel c of map k at page position (u, v) 0..1 on one level, nearest or bilinear; clamped at the page's edge unless it wraps."""
    row = store.maps[k, 0] + level
    offset, width, height = store.levels[row, 0], store.levels[row, 1], store.levels[row, 2]
    wraps = store.maps[k, 3] > 0
    x, y = u * width, v * height
    if nearest:
        i, j = int(x // 1), int(y // 1)
        if wraps:
            i, j = i % width, j % height
        else:
            i, j = min(max(i, 0), width - 1), min(max(j, 0), height - 1)
        return np.float64(store.texels[offset + j * width + i, c])
    x, y = x - 0.5, y - 0.5
    i, j = int(x // 1), int(y // 1)
    fx, fy = x - i, y - j
    total = 0.0
    for dj in range(2):
        for di in range(2):
            a, b = i + di, j + dj
            if wraps:
                a, b = a % width, b % height
            else:
                a, b = min(max(a, 0), width - 1), min(max(b, 0), height - 1)
            w = (fx if di == 1 else 1.0 - fx) * (fy if dj == 1 else 1.0 - fy)
            total += w * store.texels[offset + b * width + a, c]
    return total


@light_helper
def _page_uv(store, k, soup, t, b1, b2):
    uv = soup.uv1 if store.maps[k, 2] == 1 else soup.uv0
    t0, t1, t2 = soup.triangles[t, 0], soup.triangles[t, 1], soup.triangles[t, 2]
    b0 = 1.0 - b1 - b2
    u = b0 * uv[t0, 0] + b1 * uv[t1, 0] + b2 * uv[t2, 0]
    v = b0 * uv[t0, 1] + b1 * uv[t1, 1] + b2 * uv[t2, 1]
    return (u - store.place[k, 0]) / store.place[k, 2], (v - store.place[k, 1]) / store.place[k, 2]


@light_helper
def irradiance_at(store, k, soup, t, px, py, rays, nearest, mips, c):
    """Channel c of the irradiance (lux) that pixel position (px, py) reads from map k on triangle t."""
    t0, t1, t2 = soup.triangles[t, 0], soup.triangles[t, 1], soup.triangles[t, 2]
    dx = rays.d0[0] + px * rays.du[0] + py * rays.dv[0]
    dy = rays.d0[1] + px * rays.du[1] + py * rays.dv[1]
    dz = rays.d0[2] + px * rays.du[2] + py * rays.dv[2]
    b1, b2, _ = _weights(soup.positions, t0, t1, t2, rays.eye, dx, dy, dz)
    u, v = _page_uv(store, k, soup, t, b1, b2)
    if not mips:
        return texel_at(store, k, 0, u, v, nearest, c)
    x1, x2, _ = _weights(soup.positions, t0, t1, t2, rays.eye, dx + rays.du[0], dy + rays.du[1], dz + rays.du[2])
    y1, y2, _ = _weights(soup.positions, t0, t1, t2, rays.eye, dx + rays.dv[0], dy + rays.dv[1], dz + rays.dv[2])
    ux, vx = _page_uv(store, k, soup, t, x1, x2)
    uy, vy = _page_uv(store, k, soup, t, y1, y2)
    edge = store.levels[store.maps[k, 0], 1]
    across = max(math.hypot(ux - u, vx - v), math.hypot(uy - u, vy - v)) * edge
    level = min(max(math.log2(max(across, 1e-12)), 0.0), store.maps[k, 1] - 1.0)
    low = int(level)
    share = level - low
    value = texel_at(store, k, low, u, v, nearest, c)
    if share > 0.0 and low + 1 < store.maps[k, 1]:
        value += share * (texel_at(store, k, low + 1, u, v, nearest, c) - value)
    return value


@light_helper
def mapped_share(rows, i, px, py, rays, c):
    """Share of even light from all around that surface row i reflects to the eye at pixel position (px, py): all that a lightmap says
    of light is how much of it there is, so the coat takes it as even too."""
    dx = rays.d0[0] + px * rays.du[0] + py * rays.dv[0]
    dy = rays.d0[1] + px * rays.du[1] + py * rays.dv[1]
    dz = rays.d0[2] + px * rays.du[2] + py * rays.dv[2]
    along = -(rows[i, NORMAL] * dx + rows[i, NORMAL + 1] * dy + rows[i, NORMAL + 2] * dz) / math.sqrt(dx * dx + dy * dy + dz * dz)
    n_dot_v, rough, f0 = min(max(along, 0.0), 1.0), np.float64(rows[i, ROUGH]), np.float64(rows[i, F0 + c])
    f90, edge = min(1.0, 50.0 * f0), edge_at(n_dot_v)
    through = 1.0 - (f0 * (1.0 - edge) + f90 * edge)
    return min(rows[i, c] * through + f0 * coat_at(n_dot_v, rough, 0) + f90 * coat_at(n_dot_v, rough, 1), 1.0) * rows[i, OPEN]


@njit(cache=True, parallel=True, nogil=True)
def _add(rows, visible, drawable, triangle, ox, oy, jx, jy, rays, soup, store, nearest, mips, reflects, out):
    height, width = visible.shape
    for py in prange(height):
        for px in range(width):
            if visible[py, px] < 0:
                continue
            k = store.of_drawable[drawable[py, px]]
            if k < 0:
                continue
            i = py * width + px
            x, y = ox + px + 0.5 + jx, oy + py + 0.5 + jy
            for c in range(3):
                lux = irradiance_at(store, k, soup, triangle[py, px], x, y, rays, nearest, mips, c)
                out[py, px, c] += mapped_share(rows, i, x, y, rays, c) / math.pi * lux if reflects else lux


def add_lightmaps(
    surface: np.ndarray, visible: np.ndarray, drawable: np.ndarray, triangle: np.ndarray, origin: tuple[int, int],
    jitter: tuple[float, float], rays: Any, soup: Soup, store: LightmapStore, nearest: bool, mips: bool, colour: np.ndarray,
) -> np.ndarray:  # fmt: skip
    """`colour` (h, w, 3) plus what lightmapped surfaces reflect of their lightmaps, as a new array. triangle: world triangles."""
    out = np.array(colour)
    rows = surface.reshape(-1, surface.shape[2])
    _add(
        rows, visible, drawable, triangle, origin[0], origin[1], jitter[0], jitter[1], rays, soup, store, nearest, mips, True, out
    )
    return out


def lux_of_lightmaps(
    surface: np.ndarray, visible: np.ndarray, drawable: np.ndarray, triangle: np.ndarray, origin: tuple[int, int],
    jitter: tuple[float, float], rays: Any, soup: Soup, store: LightmapStore, nearest: bool, mips: bool,
) -> np.ndarray:  # fmt: skip
    """(h, w, 3) float32 irradiance in lx that each pixel reads from its lightmap; 0 where there is none."""
    out = np.zeros((*visible.shape, 3), np.float32)
    rows = surface.reshape(-1, surface.shape[2])
    _add(
        rows,
        visible,
        drawable,
        triangle,
        origin[0],
        origin[1],
        jitter[0],
        jitter[1],
        rays,
        soup,
        store,
        nearest,
        mips,
        False,
        out,
    )
    return out


def page_position(
    store: LightmapStore, k: int, soup: Soup, triangle: int, px: float, py: float, rays: Any
) -> tuple[float, float]:
    """Page position (u, v), 0..1, of map k that pixel position (px, py) sees on a world triangle."""
    d = rays.d0 + px * rays.du + py * rays.dv
    b1, b2, _ = _weights(soup.positions, *soup.triangles[triangle], rays.eye, *d)
    u, v = _page_uv(store, k, soup, triangle, b1, b2)
    return float(u), float(v)


def irradiance_plain(values: np.ndarray, u: float, v: float, nearest: bool, wraps: bool) -> np.ndarray:
    """Plain twin on one level: (3,) of a map (h, w, 3) at page position (u, v)."""
    height, width = values.shape[:2]
    x, y = u * width, v * height

    def at(i: int, j: int) -> np.ndarray:
        if wraps:
            return values[j % height, i % width].astype(float)
        return values[min(max(j, 0), height - 1), min(max(i, 0), width - 1)].astype(float)

    if nearest:
        return at(math.floor(x), math.floor(y))
    i, j = math.floor(x - 0.5), math.floor(y - 0.5)
    fx, fy = x - 0.5 - i, y - 0.5 - j
    return (at(i, j) * (1 - fx) + at(i + 1, j) * fx) * (1 - fy) + (at(i, j + 1) * (1 - fx) + at(i + 1, j + 1) * fx) * fy
