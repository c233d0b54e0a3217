"""All fragments of some triangles, pixel by pixel, whatever lies before them: what is drawn in layers is peeled from these."""

from typing import NamedTuple

import numpy as np
from numba import njit, prange

from eddyfall.core.raster.depth_format import DepthCode, depth_key
from eddyfall.core.raster.edges import biases, row_span, upright
from eddyfall.core.raster.project import SUBPIXEL, ScreenTriangles
from eddyfall.core.raster.rasterise import BANDS


class Covering(NamedTuple):
    """n fragments by pixel; those of pixel i (row by row) are starts[i] .. starts[i + 1], in the order of triangles. screen (n,) int32:
    which of the screen triangles, key (n,) float32 of their depth."""

    starts: np.ndarray
    screen: np.ndarray
    key: np.ndarray

    @property
    def pixel(self) -> np.ndarray:
        """(n,) pixel of each, row by row."""
        return np.repeat(np.arange(len(self.starts) - 1), np.diff(self.starts))


def covering(triangles: ScreenTriangles, code: DepthCode, shape: tuple[int, int], origin: tuple[int, int]) -> Covering:
    """Every fragment of screen triangles in a window of shape (h, w) px whose first pixel is `origin`; no alpha test is made."""
    height, width = shape
    starts, counts = np.zeros(height * width + 1, np.int64), np.zeros(shape, np.int64)
    none, no_key = np.zeros(0, np.int32), np.zeros(0, np.float32)
    if not len(triangles.ids):
        return Covering(starts, none, no_key)
    given = (triangles.fixed, triangles.z, triangles.box, code.bits, code.sign, *origin)
    _covering(*given, False, starts, counts, none, no_key)
    starts[1:] = np.cumsum(counts.ravel())
    index, key = np.zeros(int(starts[-1]), np.int32), np.zeros(int(starts[-1]), np.float32)
    counts[:] = 0
    _covering(*given, True, starts, counts, index, key)
    return Covering(starts, index, key)


@njit(cache=True, parallel=True, nogil=True)
def _covering(fixed, zs, box, bits, sign, ox, oy, keep, starts, counts, f_index, f_key):
    height, width = counts.shape
    rows = max(4, (height + BANDS - 1) // BANDS)
    for band in prange((height + rows - 1) // rows):
        first_row = oy + band * rows
        last_row = min(first_row + rows, oy + height) - 1
        for i in range(fixed.shape[0]):
            if box[i, 3] < first_row or box[i, 1] > last_row:
                continue
            x0, y0, x1, y1, x2, y2, _, _ = upright(fixed, i)
            k0, k1, k2 = biases(x0, y0, x1, y1, x2, y2)
            vx, vy = np.float32(fixed[i, 0]) / np.float32(SUBPIXEL), np.float32(fixed[i, 1]) / np.float32(SUBPIXEL)
            for y in range(max(box[i, 1], first_row), min(box[i, 3], last_row) + 1):
                dy = (np.float32(y) + np.float32(0.5)) - vy
                low = max(box[i, 0], ox)
                high = min(box[i, 2], ox + width - 1)
                first, last = row_span(x0, y0, x1, y1, x2, y2, k0, k1, k2, low, y, high - low + 1)
                for x in range(low + first, low + last + 1):
                    v, u = y - oy, x - ox
                    if keep:
                        dx = (np.float32(x) + np.float32(0.5)) - vx
                        n = starts[v * width + u] + counts[v, u]
                        f_index[n] = i
                        f_key[n] = depth_key((zs[i, 0] + dx * zs[i, 1]) + dy * zs[i, 2], bits, sign)
                    counts[v, u] += 1
