"""What shadow maps say of a place: the maps of a frame, the look-up in one of them, and in one that is kept in pages.

A texel darkens a place that stands behind what the texel holds by more than the light's bias: metres along the light's ray. The bias is a
constant, and so many texels of the surface's own slope in the map (the larger of its two axes); a shift along the normal moves the place
before that. A place whose filter follows its plane is held against each texel by the depth that its plane has there.

Slope-scaled bias: the depth bias of the Vulkan and OpenGL specifications, here at the look-up; a filter along the plane: Isidoro 2006,
receiver plane depth bias; both from memory. Percentage-closer filtering: Reeves, Salesin & Cook 1987 (the share of a box of texels that
see the light), from memory."""

import math
from typing import NamedTuple

import numpy as np

from eddyfall.core.kernel import light_helper

CASCADES, PAGED, TRACED = 0, 1, 2
TECHNIQUES = {"cascades": CASCADES, "paged": PAGED, "rays": TRACED}
PAGE = 64  # texels along a page's edge
NOTHING = np.inf  # what a texel that is not there holds

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

# Columns of ShadowMaps.bias
CONSTANT_M = 0  # towards the light
SLOPE = 1  # texels of the surface's slope in the map
ALONG_NORMAL = 2  # texels along the normal, for each unit of the sine of the angle to the light
OVER = 3  # added to that sine
ALONG_PLANE = 4  # 1 if the filter follows the surface's plane

# Columns of ShadowMaps.soft
BY_SEARCH = 0
SIZE = 1
WIDEST = 2
LOOKED = 8  # places along a search's edge
TAPS = 16  # and, at most, along a wide filter's


class ShadowMaps(NamedTuple):
    """All maps of a frame. matrix (m, 4, 4) float64 world to clip, of a paged level to texels; planes (m, 4, 4) the same for planes
    (inverse, transposed); info (m, 6) float64: edge in texels, near and far depth it serves (suns), texel size in m at unit distance (or
    everywhere, for suns), flat offset into `depth`, perspective (1) or not; depth (k,) float32 d in 0..1.

    How each of n lights looks its maps up: bias (n, 5) float64, filter_px (n,) int64 edge of the box of texels; by_plane: 1 if any needs
    the plane of what is asked.

    eye (3,); by_range: 1 if near and far are ranges to it; join: share of a map at its end that is mixed with the next. Paged levels:
    pages (m, 4) int32, how many along x and y, where their rows start in `table`, 1 if paged; table int32: which page of the pool, -1
    none; pool (p,) float32 their depths, where START of a level points; pixel_m: size of a texel wanted at 1 m from the eye, all levels'
    coarsening included.

    soft (n, 3) float64: whether a light's filter is as wide as its penumbra, its size (a sun: m at 1 m; a lamp: m), the widest filter in
    texels."""

    matrix: np.ndarray
    planes: np.ndarray
    info: np.ndarray
    depth: np.ndarray
    bias: np.ndarray
    filter_px: np.ndarray
    by_plane: int
    eye: np.ndarray
    by_range: int
    join: float
    pages: np.ndarray
    table: np.ndarray
    pool: np.ndarray
    pixel_m: float
    soft: np.ndarray


def of_planes(matrices: np.ndarray) -> np.ndarray:
    """(m, 4, 4) what takes planes where matrices (m, 4, 4) take points."""
    return np.ascontiguousarray(np.linalg.inv(matrices).transpose(0, 2, 1))


@light_helper
def on_map(k, x, y, z, maps):
    """(u, v, d) of a place on map k, u and v in texels; d is -1 where the place lies behind a lamp."""
    m = maps.matrix
    u = m[k, 0, 0] * x + m[k, 0, 1] * y + m[k, 0, 2] * z + m[k, 0, 3]
    v = m[k, 1, 0] * x + m[k, 1, 1] * y + m[k, 1, 2] * z + m[k, 1, 3]
    d = m[k, 2, 0] * x + m[k, 2, 1] * y + m[k, 2, 2] * z + m[k, 2, 3]
    if maps.pages[k, PAGED_MAP] == 1:
        return u, v, d
    w = m[k, 3, 0] * x + m[k, 3, 1] * y + m[k, 3, 2] * z + m[k, 3, 3]
    if w <= 0.0:
        return 0.0, 0.0, -1.0
    edge = maps.info[k, EDGE]
    return (u / w * 0.5 + 0.5) * edge, (0.5 - v / w * 0.5) * edge, d / w


@light_helper
def plane_on_map(k, x, y, z, nx, ny, nz, maps):
    """(change of d for a texel along u, along v) on the plane through a place with a normal: both are the same all over a plane, in
    perspective too."""
    p = maps.planes
    off = -(nx * x + ny * y + nz * z)
    a = p[k, 0, 0] * nx + p[k, 0, 1] * ny + p[k, 0, 2] * nz + p[k, 0, 3] * off
    b = p[k, 1, 0] * nx + p[k, 1, 1] * ny + p[k, 1, 2] * nz + p[k, 1, 3] * off
    c = p[k, 2, 0] * nx + p[k, 2, 1] * ny + p[k, 2, 2] * nz + p[k, 2, 3] * off
    if c == 0.0:
        return 0.0, 0.0
    if maps.pages[k, PAGED_MAP] == 1:
        return -a / c, -b / c
    edge = maps.info[k, EDGE]
    return -a / c * 2.0 / edge, b / c * 2.0 / edge


@light_helper
def metres_of(k, away, maps):
    """What a unit of d is worth in m along the light: a sun's map holds its depth evenly; a lamp's as much as `away`, the distance to the
    lamp, over 1 less the d of what is nearer."""
    m = maps.matrix
    if maps.info[k, PERSPECTIVE] > 0.0:
        return away
    return 1.0 / math.sqrt(m[k, 2, 0] * m[k, 2, 0] + m[k, 2, 1] * m[k, 2, 1] + m[k, 2, 2] * m[k, 2, 2])


@light_helper
def held_at(k, column, row, maps):
    """d that a texel of map k holds; infinity where there is none, so that it lets through. Beyond a sun's map all is lit; a perspective
    map repeats its border, since its neighbour or the end of the cone begins there."""
    if maps.pages[k, PAGED_MAP] == 1:
        at = page_texel(k, column, row, maps)
        return np.float64(maps.pool[at]) if at >= 0 else NOTHING
    n = int(maps.info[k, EDGE])
    if maps.info[k, PERSPECTIVE] > 0.0:
        column, row = min(max(column, 0), n - 1), min(max(row, 0), n - 1)
    elif column < 0 or row < 0 or column >= n or row >= n:
        return NOTHING
    return np.float64(maps.depth[int(maps.info[k, START]) + row * n + column])


@light_helper
def slope_m(k, d, du, dv, metres, maps):
    """How much deeper a plane lies a texel on, in m along the light, by the larger of its two axes."""
    more = max(abs(du), abs(dv)) * metres
    return more / (1.0 - d) if maps.info[k, PERSPECTIVE] > 0.0 else more


@light_helper
def gap_m(k, d, held, metres, maps):
    """How far behind what a texel holds a depth lies, in m along the light; it must lie behind it."""
    gap = (d - held) * metres
    return gap / (1.0 - held) if maps.info[k, PERSPECTIVE] > 0.0 else gap


@light_helper
def penumbra_m(k, size, gap, away, maps):
    """Width in m, across the rays, of the penumbra that an edge `gap` m before a place throws on it: by similar triangles."""
    if maps.info[k, PERSPECTIVE] > 0.0:
        return size * gap / max(away - gap, 1e-6)
    return size * gap


@light_helper
def in_the_way(k, u, v, d, du, dv, column, row, across, bias, size, texel, metres, away, maps):
    """Gap in m of the texel at one of LOOKED x LOOKED places of a box `across` texels wide around (u, v), if it may hide some of the light:
    if it lies within the cone to it, as far as places so far apart tell; else 0."""
    i = math.floor(u + ((column + 0.5) / LOOKED - 0.5) * across)
    j = math.floor(v + ((row + 0.5) / LOOKED - 0.5) * across)
    held = held_at(k, i, j, maps)
    a, b = i + 0.5 - u, j + 0.5 - v
    here = d + a * du + b * dv
    if here <= held:
        return 0.0
    gap = gap_m(k, here, held, metres, maps)
    aside = max(math.hypot(a, b) - 0.71 * max(across / LOOKED, 1.0), 0.0) * texel
    return gap if gap > bias and aside <= 0.5 * penumbra_m(k, size, gap, away, maps) else 0.0


@light_helper
def soft_visibility(i, k, x, y, z, nx, ny, nz, away, maps):
    """Share of light i that reaches a place by map k, softened as wide as its penumbra there: the mean gap of what stands in the way
    among texels of a search, then a disc of texels as wide as that makes it (Fernando 2005, percentage-closer soft shadows, from memory;
    only what lies within the cone to the light counts as in its way)."""
    u, v, d = on_map(k, x, y, z, maps)
    size, widest = maps.soft[i, SIZE], maps.soft[i, WIDEST]
    metres = metres_of(k, away, maps)
    bias = maps.bias[i, CONSTANT_M]
    du, dv = plane_on_map(k, x, y, z, nx, ny, nz, maps)
    if maps.bias[i, SLOPE] > 0.0:
        bias += maps.bias[i, SLOPE] * slope_m(k, d, du, dv, metres, maps)
    if maps.bias[i, ALONG_PLANE] == 0.0:
        du = dv = 0.0
    texel = maps.info[k, TEXEL_M] * (away if maps.info[k, PERSPECTIVE] > 0.0 else 1.0)
    # First as wide as may be, for the farthest; then as wide as that one's penumbra, for the mean.
    deepest = 0.0
    for row in range(LOOKED):
        for column in range(LOOKED):
            gap = in_the_way(k, u, v, d, du, dv, column, row, widest, bias, size, texel, metres, away, maps)
            deepest = max(deepest, gap)
    if deepest == 0.0:
        return 1.0
    across = min(penumbra_m(k, size, deepest, away, maps) / texel + 1.0, widest)
    total, count = 0.0, 0
    for row in range(LOOKED):
        for column in range(LOOKED):
            gap = in_the_way(k, u, v, d, du, dv, column, row, across, bias, size, texel, metres, away, maps)
            if gap > 0.0:
                total += gap
                count += 1
    if count == 0:
        return 1.0
    wide = min(max(penumbra_m(k, size, total / count, away, maps) / texel, 1.0), widest)
    taps = int(min(2 * math.ceil(wide), TAPS))
    seen, dark = 0, 0
    for row in range(taps):
        for column in range(taps):
            a, b = (column + 0.5) / taps - 0.5, (row + 0.5) / taps - 0.5
            if a * a + b * b > 0.25 and taps > 2:
                continue
            i0, j0 = math.floor(u + a * wide), math.floor(v + b * wide)
            held = held_at(k, i0, j0, maps)
            here = d + (i0 + 0.5 - u) * du + (j0 + 0.5 - v) * dv
            seen += 1
            if here > held and gap_m(k, here, held, metres, maps) > bias:
                dark += 1
    return (seen - dark) / seen


@light_helper
def map_visibility(i, k, x, y, z, nx, ny, nz, away, maps):
    """Share of light i's filter on map k that sees the light at a place already shifted, `away` m from a lamp, on a face with normal n."""
    if maps.soft[i, BY_SEARCH] > 0.0:
        return soft_visibility(i, k, x, y, z, nx, ny, nz, away, maps)
    u, v, d = on_map(k, x, y, z, maps)
    side = maps.filter_px[i]
    constant, slope = maps.bias[i, CONSTANT_M], maps.bias[i, SLOPE]
    du = dv = bias = metres = 0.0
    if constant > 0.0 or slope > 0.0 or maps.bias[i, ALONG_PLANE] > 0.0:
        metres, bias = metres_of(k, away, maps), constant
        if slope > 0.0 or maps.bias[i, ALONG_PLANE] > 0.0:
            du, dv = plane_on_map(k, x, y, z, nx, ny, nz, maps)
            if slope > 0.0:
                bias += slope * slope_m(k, d, du, dv, metres, maps)
        if maps.bias[i, ALONG_PLANE] == 0.0:
            du = dv = 0.0
    cx, cy = math.floor(u), math.floor(v)
    first = -(side // 2)
    dark = 0
    for row in range(first, first + side):
        for column in range(first, first + side):
            held = held_at(k, cx + column, cy + row, maps)
            here = d + column * du + row * dv
            if here > held and (bias == 0.0 or gap_m(k, here, held, metres, maps) > bias):
                dark += 1
    return (side * side - dark) / (side * side)


@light_helper
def map_gaps(i, k, x, y, z, nx, ny, nz, away, maps, gaps, j):
    """Fill row j of `gaps` (n, filter_px^2) with how far behind each texel of the filter a place stands, in m along the light (minus
    infinity where it stands before it), and return what one texel of slope factor is worth there in m: `map_visibility` in thresholds."""
    u, v, d = on_map(k, x, y, z, maps)
    side = maps.filter_px[i]
    metres = metres_of(k, away, maps)
    du, dv = plane_on_map(k, x, y, z, nx, ny, nz, maps)
    slope = slope_m(k, d, du, dv, metres, maps)
    if maps.bias[i, ALONG_PLANE] == 0.0:
        du = dv = 0.0
    cx, cy = math.floor(u), math.floor(v)
    first = -(side // 2)
    at = 0
    for row in range(first, first + side):
        for column in range(first, first + side):
            held = held_at(k, cx + column, cy + row, maps)
            here = d + column * du + row * dv
            gaps[j, at] = gap_m(k, here, held, metres, maps) if here > held else -NOTHING
            at += 1
    return slope


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
def paged_serving(first, count, x, y, z, nx, ny, nz, texels, maps):
    """The paged level that serves a place: the one its range asks for, or the finest coarser one whose page is there at the place shifted
    by so many texels along n; -1: none."""
    ex, ey, ez = x - maps.eye[0], y - maps.eye[1], z - maps.eye[2]
    wanted = paged_level(first, count, math.sqrt(ex * ex + ey * ey + ez * ez), maps)
    for k in range(first + wanted, first + count):
        shift = maps.info[k, TEXEL_M] * texels
        u, v, _ = on_map(k, x + nx * shift, y + ny * shift, z + nz * shift, maps)
        if page_texel(k, math.floor(u), math.floor(v), maps) >= 0:
            return k
    return -1
