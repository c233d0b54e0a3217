"""What shadow maps say of a place: the maps of a frame, the look-up in one of them, and in one that is kept in pages.

Percentage-closer filtering: Reeves, Salesin & Cook 1987 (the share of a box of texels that see the light), from memory.
"""

import math
from typing import NamedTuple

import numpy as np

from eddyfall.core.kernel import light_helper

CASCADES, PAGED, TRACED = 0, 1, 2
TECHNIQUES = {"cascades": CASCADES, "paged": PAGED, "rays": TRACED}
PAGE = 64  # texels along a page's edge

# Columns of ShadowMaps.info
EDGE = 0  # texels
NEAR_M = 1  # depth (or range) from which a sun's map serves
FAR_M = 2
TEXEL_M = 3  # at unit distance for a lamp's map
START = 4  # in `depth`
PERSPECTIVE = 5

# Columns of ShadowMaps.pages
PAGES_X = 0
PAGES_Y = 1
TABLE = 2  # where its rows start in `table`
PAGED_MAP = 3  # 1 if the map is kept in pages


class ShadowMaps(NamedTuple):
    """All maps of a frame. matrix (m, 4, 4) float64 world to clip, of a paged level to texels; info (m, 6) float64: edge in texels, near
    and far depth it serves (suns), texel size in m at unit distance (or everywhere, for suns), flat offset into `depth`, perspective (1)
    or not; depth (k,) float32 d in 0..1; bias_texels and filter_px as set.

    eye (3,); by_range: 1 if near and far are ranges to it; join: share of a map at its end that is mixed with the next. Paged levels:
    pages (m, 4) int32, how many along x and y, where their rows start in `table`, 1 if paged; table int32: which page of the pool, -1
    none; pool (p,) float32 their depths, where START of a level points; pixel_m: size of a texel wanted at 1 m from the eye, all levels'
    coarsening included."""

    matrix: np.ndarray
    info: np.ndarray
    depth: np.ndarray
    bias_texels: float
    filter_px: int
    eye: np.ndarray
    by_range: int
    join: float
    pages: np.ndarray
    table: np.ndarray
    pool: np.ndarray
    pixel_m: float


@light_helper
def map_visibility(k, x, y, z, maps):
    """Share of the filter's texels of map k that see the light at a shifted receiver. Beyond a sun's map all is lit; a perspective
    map repeats its border, since its neighbour or the end of the cone begins there."""
    info, m = maps.info, maps.matrix
    w = m[k, 3, 0] * x + m[k, 3, 1] * y + m[k, 3, 2] * z + m[k, 3, 3]
    if w <= 0.0:
        return 1.0
    edge = info[k, EDGE]
    u = ((m[k, 0, 0] * x + m[k, 0, 1] * y + m[k, 0, 2] * z + m[k, 0, 3]) / w * 0.5 + 0.5) * edge
    v = (0.5 - (m[k, 1, 0] * x + m[k, 1, 1] * y + m[k, 1, 2] * z + m[k, 1, 3]) / w * 0.5) * edge
    d = (m[k, 2, 0] * x + m[k, 2, 1] * y + m[k, 2, 2] * z + m[k, 2, 3]) / w
    n = int(edge)
    perspective = info[k, PERSPECTIVE] > 0.0
    half = maps.filter_px // 2
    cx, cy = math.floor(u), math.floor(v)
    lit = 0
    count = 0
    start = int(info[k, START])
    for row in range(cy - half, cy - half + maps.filter_px):
        for column in range(cx - half, cx - half + maps.filter_px):
            count += 1
            i, j = column, row
            if perspective:
                i, j = min(max(i, 0), n - 1), min(max(j, 0), n - 1)
            if i < 0 or j < 0 or i >= n or j >= n or d <= maps.depth[start + j * n + i]:
                lit += 1
    return lit / count


@light_helper
def page_texel(k, column, row, maps):
    """Where in `pool` texel (column, row) of paged level k stands; -1 if its page is not in the pool."""
    nx, ny = maps.pages[k, PAGES_X], maps.pages[k, PAGES_Y]
    if column < 0 or row < 0 or column >= nx * PAGE or row >= ny * PAGE:
        return -1
    px, py = column // PAGE, row // PAGE
    slot = maps.table[maps.pages[k, TABLE] + py * nx + px]
    if slot < 0:
        return -1
    return int(maps.info[k, START]) + slot * PAGE * PAGE + (row - py * PAGE) * PAGE + (column - px * PAGE)


@light_helper
def paged_level(first, count, away, maps):
    """The level, counted from the first, whose texel is nearest to what is wanted `away` m from the eye (in equal ratios)."""
    level = math.floor(math.log2(max(maps.pixel_m * away, 1e-12) / maps.info[first, TEXEL_M]) + 0.5)
    return min(max(level, 0), count - 1)


@light_helper
def paged_visibility(first, count, x, y, z, nx, ny, nz, texels, maps):
    """Share of the filter's texels of a paged map that see the light: on the level for the place, or on the finest coarser one whose page
    is there. A texel without a page lets through."""
    m, info = maps.matrix, maps.info
    ex, ey, ez = x - maps.eye[0], y - maps.eye[1], z - maps.eye[2]
    wanted = paged_level(first, count, math.sqrt(ex * ex + ey * ey + ez * ez), maps)
    half = maps.filter_px // 2
    for k in range(first + wanted, first + count):
        shift = info[k, TEXEL_M] * texels
        sx, sy, sz = x + nx * shift, y + ny * shift, z + nz * shift
        cx = math.floor(m[k, 0, 0] * sx + m[k, 0, 1] * sy + m[k, 0, 2] * sz + m[k, 0, 3])
        cy = math.floor(m[k, 1, 0] * sx + m[k, 1, 1] * sy + m[k, 1, 2] * sz + m[k, 1, 3])
        if page_texel(k, cx, cy, maps) < 0:
            continue
        d = m[k, 2, 0] * sx + m[k, 2, 1] * sy + m[k, 2, 2] * sz + m[k, 2, 3]
        lit = 0
        count_taps = 0
        for row in range(cy - half, cy - half + maps.filter_px):
            for column in range(cx - half, cx - half + maps.filter_px):
                count_taps += 1
                at = page_texel(k, column, row, maps)
                if at < 0 or d <= maps.pool[at]:
                    lit += 1
        return lit / count_taps
    return 1.0
