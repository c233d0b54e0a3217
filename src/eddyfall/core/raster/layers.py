"""The two nearest fragments of every pixel, whatever the draw order: what a depth buffer has to tell apart."""

import numpy as np
from numba import float32, float64, int32, int64, njit, prange, uint8, void

from eddyfall.core.raster.depth_format import DepthCode, depth_key
from eddyfall.core.raster.edges import biases, covers, upright
from eddyfall.core.raster.project import SUBPIXEL, ScreenTriangles, readonly
from eddyfall.core.raster.rasterise import BANDS, Cutouts, _keeps


def two_nearest(
    triangles: ScreenTriangles, owner: np.ndarray, taking_part: np.ndarray, cutouts: Cutouts, code: DepthCode,
    shape: tuple[int, int], origin: tuple[int, int],
) -> tuple[np.ndarray, np.ndarray]:  # fmt: skip
    """(keys (h, w, 2) float32, indices (h, w, 2) int32 into `triangles`), nearest first, -1 where there is none."""
    keys = np.full((*shape, 2), np.inf, np.float32)
    found = np.full((*shape, 2), -1, np.int32)
    if len(triangles.ids):
        _two_nearest(*triangles, owner, taking_part, *cutouts, code.bits, code.sign, keys, found, origin[0], origin[1])
    return keys, found


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
        float32[:, :, ::1],
        int32[:, :, ::1],
        int64,
        int64,
    ),
    parallel=True,
    cache=True,
    nogil=True,
)
def _two_nearest(
    fixed, zs, inv_w, uvs, ids, box, owner, taking_part, c_material, c_cutoff, c_factor, c_table, c_levels, c_alpha, c_bias,
    bits, sign, keys, found, ox, oy,
):  # fmt: skip
    height, width = keys.shape[0], keys.shape[1]
    rows = max(4, (height + BANDS - 1) // BANDS)
    for band in prange((height + rows - 1) // rows):
        first_row = oy + band * rows
        last_row = min(first_row + rows, oy + height) - 1
        for i in range(ids.shape[0]):
            if box[i, 3] < first_row or box[i, 1] > last_row:
                continue
            drawable = owner[ids[i]]
            if taking_part[drawable] == 0:
                continue
            x0, y0, x1, y1, x2, y2, b, c = upright(fixed, i)
            k0, k1, k2 = biases(x0, y0, x1, y1, x2, y2)
            vx, vy = np.float32(fixed[i, 0]) / np.float32(SUBPIXEL), np.float32(fixed[i, 1]) / np.float32(SUBPIXEL)
            material = c_material[drawable]
            for y in range(max(box[i, 1], first_row), min(box[i, 3], last_row) + 1):
                py = np.int64(y) * SUBPIXEL + SUBPIXEL // 2
                dy = (np.float32(y) + np.float32(0.5)) - vy
                for x in range(max(box[i, 0], ox), min(box[i, 2], ox + width - 1) + 1):
                    px = np.int64(x) * SUBPIXEL + SUBPIXEL // 2
                    if not covers(x0, y0, x1, y1, x2, y2, k0, k1, k2, px, py):
                        continue
                    dx = (np.float32(x) + np.float32(0.5)) - vx
                    key = depth_key((zs[i, 0] + dx * zs[i, 1]) + dy * zs[i, 2], bits, sign)
                    if key >= keys[y - oy, x - ox, 1]:
                        continue
                    if material >= 0 and not _keeps(
                        i,
                        b,
                        c,
                        x0,
                        y0,
                        x1,
                        y1,
                        x2,
                        y2,
                        px,
                        py,
                        inv_w,
                        uvs,
                        c_cutoff[material],
                        c_factor[material],
                        c_table,
                        material,
                        c_levels,
                        c_alpha,
                        c_bias[material],
                    ):
                        continue
                    if key < keys[y - oy, x - ox, 0]:
                        keys[y - oy, x - ox, 1] = keys[y - oy, x - ox, 0]
                        found[y - oy, x - ox, 1] = found[y - oy, x - ox, 0]
                        keys[y - oy, x - ox, 0] = key
                        found[y - oy, x - ox, 0] = i
                    else:
                        keys[y - oy, x - ox, 1] = key
                        found[y - oy, x - ox, 1] = i
