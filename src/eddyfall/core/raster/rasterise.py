"""Screen triangles to visibility and depth, with cutout test: kernels, and the plain twin that lists the fragments of one pixel."""

from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from numba import float32, float64, int32, int64, njit, prange, uint8, void

from eddyfall.core.kernel import helper
from eddyfall.core.raster.depth_format import DepthCode, depth_key
from eddyfall.core.raster.edges import biases, edge, row_span, upright
from eddyfall.core.raster.project import SUBPIXEL, ScreenTriangles, readonly

BANDS = 48


DITHERED = -1.0  # as a cutoff: what is drawn follows a pattern of so many texels as alpha says
PATTERN, SCATTERED = 1.0, 3.0  # added to a cutoff that is tested so instead, and the sum made negative


def cut_as(cutoff: np.ndarray, by: np.ndarray) -> np.ndarray:
    """(m,) float32 cutoffs as kernels take them; by (m,): 0 tested, 1 by a pattern, 2 scattered."""
    told = np.maximum(cutoff, 1e-3)
    return np.asarray(np.choose(by, [cutoff, -(told + PATTERN), -(told + SCATTERED)]), np.float32)


class Cutouts(NamedTuple):
    """Alpha tests by triangle owner. `material` (drawables,) int32 index into `cutoff` (-1: none); `table` (materials, 6) int32:
    first level, levels, wrap u, wrap v, nearest, has texture; `levels` (n, 3) int64: offset, width, height; `alpha` uint8 texels;
    `factor` (materials,) float32 base alpha; `bias` (materials,) float32 levels added to the mip level that is tested."""

    material: np.ndarray
    cutoff: np.ndarray
    factor: np.ndarray
    table: np.ndarray
    levels: np.ndarray
    alpha: np.ndarray
    bias: np.ndarray


def rasterise(
    triangles: ScreenTriangles,
    owner: np.ndarray,
    taking_part: np.ndarray,
    cutouts: Cutouts,
    code: DepthCode,
    depth: np.ndarray,
    visible: np.ndarray,
    origin: tuple[int, int],
) -> None:
    """Draw into `depth` (h, w) float32 keys and `visible` (h, w) int32 indices into `triangles` (in place, test less-or-equal).

    An empty `visible` is left alone. taking_part: uint8 per drawable. owner: drawable of each world triangle.
    origin: frame pixel of depth[0, 0].
    """
    if len(triangles.ids):
        _rasterise(*triangles, owner, taking_part, *cutouts, code.bits, code.sign, depth, visible, origin[0], origin[1])


@njit(cache=True, parallel=True)
def clear(depth):
    """Nothing is drawn yet: a depth map (n,) is at its far end. By all cores, for memory's own pace is what this takes."""
    for n in prange(len(depth)):
        depth[n] = 1.0


@njit(cache=True, nogil=True)
def in_bands(box, first_row, rows, bands):
    """(starts (bands + 1,) int64, index int32): which boxes (n, 4) reach into each band of so many rows, in order; those of band k are
    index[starts[k] : starts[k + 1]]. A band's own loop over all boxes would read them all once a band."""
    starts = np.zeros(bands + 1, np.int64)
    for i in range(box.shape[0]):
        for k in range(max(box[i, 1] - first_row, 0) // rows, min((box[i, 3] - first_row) // rows, bands - 1) + 1):
            starts[k + 1] += 1
    for k in range(bands):
        starts[k + 1] += starts[k]
    at, index = starts[:-1].copy(), np.empty(starts[bands], np.int32)
    for i in range(box.shape[0]):
        for k in range(max(box[i, 1] - first_row, 0) // rows, min((box[i, 3] - first_row) // rows, bands - 1) + 1):
            index[at[k]] = i
            at[k] += 1
    return starts, index


@helper
def _uv_at(i, b, c, x0, y0, x1, y1, x2, y2, px, py, inv_w, uvs):
    """Perspective-correct uv of the alpha texture where the fixed-point pixel is (screen barycentrics over w)."""
    w0 = np.float64(edge(x1, y1, x2, y2, px, py)) * inv_w[i, 0]
    w1 = np.float64(edge(x2, y2, x0, y0, px, py)) * inv_w[i, b]
    w2 = np.float64(edge(x0, y0, x1, y1, px, py)) * inv_w[i, c]
    s = 1.0 / (w0 + w1 + w2)
    u = (w0 * uvs[i, 0] + w1 * uvs[i, 2 * b] + w2 * uvs[i, 2 * c]) * s
    v = (w0 * uvs[i, 1] + w1 * uvs[i, 2 * b + 1] + w2 * uvs[i, 2 * c + 1]) * s
    return u, v


@helper
def _keeps(i, b, c, x0, y0, x1, y1, x2, y2, px, py, inv_w, uvs, cutoff, factor, table, m, levels, alpha, bias):
    """glTF MASK rule: alpha >= cutoff is drawn. Alpha is trilinear at the isotropic mip level of this pixel, and so many more."""
    value = np.float64(factor)
    if table[m, 5] == 1:
        u, v = _uv_at(i, b, c, x0, y0, x1, y1, x2, y2, px, py, inv_w, uvs)
        ux, vx = _uv_at(i, b, c, x0, y0, x1, y1, x2, y2, px + SUBPIXEL, py, inv_w, uvs)
        uy, vy = _uv_at(i, b, c, x0, y0, x1, y1, x2, y2, px, py + SUBPIXEL, inv_w, uvs)
        w, h = levels[table[m, 0], 1], levels[table[m, 0], 2]
        long = max(((ux - u) * w) ** 2 + ((vx - v) * h) ** 2, ((uy - u) * w) ** 2 + ((vy - v) * h) ** 2)
        level = 0.5 * np.log2(max(long, 1e-12)) + bias
        value *= sample_alpha(u, v, level, table, m, levels, alpha)
    if cutoff < -SCATTERED:
        u, v = _uv_at(i, b, c, x0, y0, x1, y1, x2, y2, px, py, inv_w, uvs)
        return value > scattered(u, v)
    if cutoff < 0.0:
        return value > pattern(px // SUBPIXEL, py // SUBPIXEL)
    return value >= cutoff


@helper
def pattern(x, y):
    """What alpha has to exceed at a texel to be drawn dithered: sixteen even steps, spread over 4 x 4 texels (Bayer 1973)."""
    a, b = (x ^ y) & 3, y & 3
    rank = ((a & 1) << 3) | ((b & 1) << 2) | (a & 2) | (b >> 1)
    return (rank + 0.5) / 16.0


@helper
def sample_alpha(u, v, level, table, m, levels, alpha):
    """Trilinear alpha 0..1 at (u, v) and mip `level`; row m of `table` as in Cutouts."""
    level = min(max(level, 0.0), float(table[m, 1] - 1))
    if table[m, 4] == 1:
        level = np.floor(level + 0.5)
    base = int(level)
    part = level - base
    low = table[m, 0] + base
    value = _bilinear_alpha(u, v, table, m, levels, low, alpha)
    if part > 0.0:
        value += part * (_bilinear_alpha(u, v, table, m, levels, low + 1, alpha) - value)
    return value


def keeps_alpha(material: np.ndarray, uv: np.ndarray, level: np.ndarray, cutouts: Cutouts) -> np.ndarray:
    """(n,) bool: whether the alpha of materials (n,), -1 for none, reaches their cutoff at uv (n, 2) and mip levels (n,), whatever pattern
    a picture is drawn by."""
    c = cutouts
    return _keeps_alpha(material, uv, level, c.cutoff, c.factor, c.table, c.levels, c.alpha)


@njit(cache=True)
def _keeps_alpha(material, uv, level, cutoff, factor, table, levels, alpha):
    kept = np.ones(len(material), np.bool_)
    for i in range(len(material)):
        m = material[i]
        if m >= 0:
            value = float(factor[m])
            if table[m, 5] == 1:
                value *= sample_alpha(uv[i, 0], uv[i, 1], level[i], table, m, levels, alpha)
            if cutoff[m] == DITHERED:
                kept[i] = value > scattered(uv[i, 0], uv[i, 1])
            else:
                kept[i] = value >= true_cutoff(cutoff[m])
    return kept


@helper
def true_cutoff(cutoff):
    """The cutoff of a material, however it is tested in a picture: what is there does not depend on that."""
    if cutoff < -SCATTERED:
        return -cutoff - SCATTERED
    if cutoff < 0.0:
        return -cutoff - PATTERN
    return cutoff


@helper
def scattered(u, v):
    """A number from 0 to 1 that no two neighbours share: what a ray's alpha has to exceed where it is dithered."""
    a = np.sin(u * 12.9898 * 61.0 + v * 78.233 * 61.0) * 43758.5453
    return a - np.floor(a)


@njit(cache=True)
def at_barycentric(values, triangles, triangle, u, v):
    """(n, 2) float64 values of corners, two each, at barycentric u, v (n,) of the second and third corner of triangles (n,)."""
    result = np.empty((len(triangle), 2))
    for i in range(len(triangle)):
        a, b, c = triangles[triangle[i], 0], triangles[triangle[i], 1], triangles[triangle[i], 2]
        w = np.float64(np.float32(1.0) - np.float32(u[i]) - np.float32(v[i]))
        for k in range(2):
            result[i, k] = values[a, k] * w + values[b, k] * np.float64(u[i]) + values[c, k] * np.float64(v[i])
    return result


@helper
def _bilinear_alpha(u, v, table, m, levels, level, alpha):
    offset, w, h = levels[level, 0], levels[level, 1], levels[level, 2]
    if table[m, 4] == 1:
        row = wrap(int(np.floor(v * h)), h, table[m, 3])
        return alpha[offset + row * w + wrap(int(np.floor(u * w)), w, table[m, 2])] / 255.0
    xa, xb, fx = neighbours(u, w, table[m, 2])
    ya, yb, fy = neighbours(v, h, table[m, 3])
    top = alpha[offset + ya * w + xa] * (1.0 - fx) + alpha[offset + ya * w + xb] * fx
    bottom = alpha[offset + yb * w + xa] * (1.0 - fx) + alpha[offset + yb * w + xb] * fx
    return (top * (1.0 - fy) + bottom * fy) / 255.0


@njit(cache=True, inline="always")
def neighbours(u, n, mode):
    """(left texel, right texel, share of the right one) for a linear look-up at u on a row of n texels. Repeat is folded first:
    a division of whole numbers for each texel would cost more than all the rest."""
    if mode == 0:
        x = (u - np.floor(u)) * n - 0.5
        f = np.floor(x)
        a = int(f)
        b = a + 1
        return (a + n if a < 0 else a), (b - n if b >= n else b), x - f
    x = u * n - 0.5
    f = np.floor(x)
    return wrap(int(f), n, mode), wrap(int(f) + 1, n, mode), x - f


@helper
def wrap(i, n, mode):
    """Texel index after wrapping: 0 repeat, 1 mirror, 2 clamp (OpenGL ES 3.0, 3.8.10)."""
    if mode == 0:
        return i % n
    if mode == 1:
        j = i % (2 * n)
        return j if j < n else 2 * n - 1 - j
    return min(max(i, 0), n - 1)


@njit(
    void(
        int64[:, ::1],
        float32[:, ::1],
        float32[:, ::1],
        float32[:, ::1],
        int32[::1],
        int32[:, ::1],
        readonly(int32, 1),
        readonly(uint8, 1),
        readonly(int32, 1),
        readonly(float32, 1),
        readonly(float32, 1),
        readonly(int32, 2),
        readonly(int64, 2),
        readonly(uint8, 1),
        readonly(float32, 1),
        int64,
        float64,
        float32[:, ::1],
        int32[:, ::1],
        int64,
        int64,
    ),
    parallel=True,
    cache=True,
    nogil=True,
)
def _rasterise(
    fixed, zs, inv_w, uvs, ids, box, owner, taking_part, c_material, c_cutoff, c_factor, c_table, c_levels, c_alpha, c_bias,
    bits, sign, depth, visible, ox, oy,
):  # fmt: skip
    height, width = depth.shape
    rows = max(4, (height + BANDS - 1) // BANDS)
    bands = (height + rows - 1) // rows
    starts, index = in_bands(box, oy, rows, bands)
    wants_ids = visible.shape[0] > 0
    for band in prange(bands):
        first_row = oy + band * rows
        last_row = min(first_row + rows, oy + height) - 1
        for at in range(starts[band], starts[band + 1]):
            i = index[at]
            drawable = owner[ids[i]]
            if taking_part[drawable] == 0:
                continue
            x0, y0, x1, y1, x2, y2, b, c = upright(fixed, i)
            k0, k1, k2 = biases(x0, y0, x1, y1, x2, y2)
            vx, vy = np.float32(fixed[i, 0]) / np.float32(SUBPIXEL), np.float32(fixed[i, 1]) / np.float32(SUBPIXEL)
            material = c_material[drawable]
            low, high = max(box[i, 0], ox), min(box[i, 2], ox + width - 1)
            for y in range(max(box[i, 1], first_row), min(box[i, 3], last_row) + 1):
                py = np.int64(y) * SUBPIXEL + SUBPIXEL // 2
                dy = (np.float32(y) + np.float32(0.5)) - vy
                first, last = row_span(x0, y0, x1, y1, x2, y2, k0, k1, k2, low, y, high - low + 1)
                if material < 0 and not wants_ids:
                    for x in range(low + first, low + last + 1):
                        dx = (np.float32(x) + np.float32(0.5)) - vx
                        key = depth_key((zs[i, 0] + dx * zs[i, 1]) + dy * zs[i, 2], bits, sign)
                        if key <= depth[y - oy, x - ox]:
                            depth[y - oy, x - ox] = key
                    continue
                for x in range(low + first, low + last + 1):
                    px = np.int64(x) * SUBPIXEL + SUBPIXEL // 2
                    dx = (np.float32(x) + np.float32(0.5)) - vx
                    d = (zs[i, 0] + dx * zs[i, 1]) + dy * zs[i, 2]
                    key = depth_key(d, bits, sign)
                    if not key <= depth[y - oy, x - ox]:
                        continue
                    if material >= 0 and not _keeps(
                        i, b, c, x0, y0, x1, y1, x2, y2, px, py, inv_w, uvs, c_cutoff[material], c_factor[material],
                        c_table, material, c_levels, c_alpha, c_bias[material],
                    ):  # fmt: skip
                        continue
                    depth[y - oy, x - ox] = key
                    if wants_ids:
                        visible[y - oy, x - ox] = i


@dataclass(frozen=True)
class Fragment:
    """One triangle over one pixel: index into the screen triangles, world triangle, depth key, whether the cutout test kept it."""

    index: int
    triangle: int
    key: np.float32
    kept: bool


def fragments_at(
    triangles: ScreenTriangles, owner: np.ndarray, cutouts: Cutouts, code: DepthCode, x: int, y: int
) -> list[Fragment]:
    """Plain twin: every triangle that covers pixel (x, y), in draw order, whatever the depth test says."""
    near = np.flatnonzero(
        (triangles.box[:, 0] <= x) & (triangles.box[:, 2] >= x) & (triangles.box[:, 1] <= y) & (triangles.box[:, 3] >= y)
    )
    px, py = x * SUBPIXEL + SUBPIXEL // 2, y * SUBPIXEL + SUBPIXEL // 2
    result = []
    for i in near:
        corners = triangles.fixed[i].reshape(3, 2)
        order = (0, 1, 2)
        if _edge_plain(corners[0], corners[1], corners[2]) < 0:
            order = (0, 2, 1)
        p = [tuple(int(v) for v in corners[k]) for k in order]
        inside = True
        for k in range(3):
            a, b = p[(k + 1) % 3], p[(k + 2) % 3]
            e = (b[0] - a[0]) * (py - a[1]) - (b[1] - a[1]) * (px - a[0])
            owned = (a[1] == b[1] and b[0] > a[0]) or b[1] < a[1]
            inside &= e > 0 or (e == 0 and owned)
        if not inside:
            continue
        f = np.float32
        vx, vy = f(corners[0, 0]) / f(SUBPIXEL), f(corners[0, 1]) / f(SUBPIXEL)
        d = (triangles.z[i, 0] + ((f(x) + f(0.5)) - vx) * triangles.z[i, 1]) + ((f(y) + f(0.5)) - vy) * triangles.z[i, 2]
        material = cutouts.material[owner[triangles.ids[i]]]
        kept = material < 0 or keeps_plain(
            p, order, (px, py), triangles.inv_w[i], triangles.uv[i].reshape(3, 2), cutouts, int(material)
        )
        result.append(Fragment(int(i), int(triangles.ids[i]), depth_key(d, code.bits, code.sign), kept))
    return result


def keeps_plain(
    p: list[tuple[int, ...]],
    order: tuple[int, ...],
    at: tuple[int, int],
    inv_w: np.ndarray,
    uvs: np.ndarray,
    cutouts: Cutouts,
    m: int,
) -> bool:
    """Plain twin of `_keeps`: whether alpha at subpixel `at` reaches the cutoff of material m (glTF 2.0, alphaMode MASK).

    p: the corners in subpixels, counter-clockwise, which are corners `order` of inv_w (3,) and uvs (3, 2)."""
    alpha = float(cutouts.factor[m])
    start, levels, wrap_u, wrap_v, nearest, textured = (int(v) for v in cutouts.table[m])

    def uv(x: int, y: int) -> np.ndarray:
        area = np.array([_edge_plain(*(np.array(c) for c in (p[(k + 1) % 3], p[(k + 2) % 3], (x, y)))) for k in range(3)], float)
        weight = area * inv_w[list(order)]  # perspective: 1/w is what runs evenly over the screen
        return np.asarray(weight @ uvs[list(order)] / weight.sum())

    where = uv(*at)
    if textured:
        here, size = where, cutouts.levels[start, 1:3]
        right, down = uv(at[0] + SUBPIXEL, at[1]), uv(at[0], at[1] + SUBPIXEL)
        footprint = max(float(np.linalg.norm((right - here) * size)), float(np.linalg.norm((down - here) * size)))
        level = min(max(np.log2(max(footprint, 1e-6)) + float(cutouts.bias[m]), 0.0), levels - 1)
        level = np.floor(level + 0.5) if nearest else level
        below = _alpha_plain(here, int(level), start, (wrap_u, wrap_v), bool(nearest), cutouts)
        part = level - int(level)
        if part > 0:
            below += part * (_alpha_plain(here, int(level) + 1, start, (wrap_u, wrap_v), bool(nearest), cutouts) - below)
        alpha *= below
    if cutouts.cutoff[m] < -SCATTERED:
        return bool(alpha > scattered(*where))
    if cutouts.cutoff[m] < 0:
        return bool(alpha > pattern(at[0] // SUBPIXEL, at[1] // SUBPIXEL))
    return bool(alpha >= cutouts.cutoff[m])


def _alpha_plain(uv: np.ndarray, level: int, start: int, wraps: tuple[int, int], nearest: bool, cutouts: Cutouts) -> float:
    """Alpha 0..1 of one mip level at uv, bilinear or nearest."""
    offset, w, h = (int(v) for v in cutouts.levels[start + level])
    texels = cutouts.alpha[offset : offset + w * h].reshape(h, w) / 255.0

    def at(x: int, y: int) -> float:
        return float(texels[wrap(y, h, wraps[1]), wrap(x, w, wraps[0])])

    if nearest:
        x, y = (int(np.floor(c)) for c in uv * (w, h))
        return at(x, y)
    (x, y), (fx, fy) = np.floor(uv * (w, h) - 0.5).astype(int), (uv * (w, h) - 0.5) % 1.0
    rows = [at(x, y + j) * (1 - fx) + at(x + 1, y + j) * fx for j in (0, 1)]
    return float(rows[0] * (1 - fy) + rows[1] * fy)


def _edge_plain(a: np.ndarray, b: np.ndarray, c: np.ndarray) -> int:
    return int(b[0] - a[0]) * int(c[1] - a[1]) - int(b[1] - a[1]) * int(c[0] - a[0])
