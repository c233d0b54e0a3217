"""World triangles to screen triangles: float32 transform, near and guard-band clipping, back-face removal, fixed-point snap.

Positions snap to 1/256 pixel and depth is a float32 plane over the screen, as on real hardware: coincident faces speckle.
"""

from typing import NamedTuple

import numpy as np
from numba import float32, int8, int32, int64, njit, prange, types, uint8, void

from eddyfall.core.kernel import helper


def readonly(kind: types.Type, dimensions: int) -> types.Array:
    """Numba type of an array of any layout that a kernel only reads: takes frozen arrays and others."""
    return types.Array(kind, dimensions, "A", readonly=True)


SUBPIXEL = 256
GUARD = 24.0


class ScreenTriangles(NamedTuple):
    """n triangles in draw order. fixed (n, 6) int64 x0 y0 x1 y1 x2 y2 in 1/256 px; z (n, 3) float32: z at vertex 0, d/dx,
    d/dy; inv_w (n, 3); uv (n, 6) float32 of the alpha texture; ids (n,) int32 triangle; box (n, 4) int32 x0 y0 x1 y1 inclusive."""

    fixed: np.ndarray
    z: np.ndarray
    inv_w: np.ndarray
    uv: np.ndarray
    ids: np.ndarray
    box: np.ndarray


def project(
    positions: np.ndarray,
    uv: np.ndarray,
    triangles: np.ndarray,
    chosen: np.ndarray,
    cull_side: np.ndarray,
    matrix: np.ndarray,
    size: tuple[int, int],
    window: tuple[int, int, int, int],
) -> ScreenTriangles:
    """Screen triangles of the `chosen` world triangles (int32, draw order) that touch `window` (x0, y0, x1, y1; half open).

    matrix: float32 (4, 4) world to clip, depth 0..1. cull_side: int8 per chosen triangle: 1 removes back faces,
    -1 front faces, 0 keeps both sides. size: full frame width, height in pixels.
    """
    clip = _transform(positions, matrix)
    kinds = _classify(clip, triangles, chosen, np.float32(GUARD), size[0], size[1], np.array(window, np.int64))
    counts = np.where(kinds == 2, 7, kinds).astype(np.int64)
    starts = np.cumsum(counts) - counts
    total = int(counts.sum())
    out = ScreenTriangles(  # rows that nothing is written to keep the id -1, and are left out below
        np.empty((total, 6), np.int64), np.empty((total, 3), np.float32), np.empty((total, 3), np.float32),
        np.empty((total, 6), np.float32), np.full(total, -1, np.int32), np.empty((total, 4), np.int32),
    )  # fmt: skip
    if total:
        _emit(clip, uv, triangles, chosen, cull_side, kinds, starts, size[0], size[1], np.array(window, np.int64), *out)
    used = np.flatnonzero(out.ids >= 0)
    return out if len(used) == total else ScreenTriangles(*(a.take(used, axis=0) for a in out))


@njit(float32[:, ::1](readonly(float32, 2), readonly(float32, 2)), parallel=True, cache=True, nogil=True)
def _transform(positions, matrix):
    n = positions.shape[0]
    out = np.empty((n, 4), np.float32)
    for i in prange(n):
        x, y, z = positions[i, 0], positions[i, 1], positions[i, 2]
        for r in range(4):
            out[i, r] = ((matrix[r, 0] * x + matrix[r, 1] * y) + matrix[r, 2] * z) + matrix[r, 3]
    return out


def transform_plain(positions: np.ndarray, matrix: np.ndarray) -> np.ndarray:
    """Plain twin of the vertex transform: float32 (n, 4), summed in the same order."""
    x, y, z = (positions[:, i : i + 1].astype(np.float32) for i in range(3))
    m = matrix.astype(np.float32)
    return ((m[:, 0] * x + m[:, 1] * y) + m[:, 2] * z) + m[:, 3]


@njit(
    uint8[::1](float32[:, ::1], readonly(int32, 2), readonly(int32, 1), float32, int64, int64, int64[::1]),
    parallel=True, cache=True, nogil=True,
)  # fmt: skip
def _classify(clip, triangles, chosen, guard, width, height, window):
    """0 outside, 1 inside the guard band, 2 must be clipped. The window, grown by a pixel, is tested in clip space."""
    n = chosen.shape[0]
    kinds = np.zeros(n, np.uint8)
    left = np.float32(2.0 * (window[0] - 1) / width - 1.0)
    right = np.float32(2.0 * (window[2] + 1) / width - 1.0)
    top = np.float32(1.0 - 2.0 * (window[1] - 1) / height)
    bottom = np.float32(1.0 - 2.0 * (window[3] + 1) / height)
    for i in prange(n):
        t = chosen[i]
        out_l = out_r = out_t = out_b = out_near = out_far = 0
        clipped = False
        for k in range(3):
            v = triangles[t, k]
            x, y, z, w = clip[v, 0], clip[v, 1], clip[v, 2], clip[v, 3]
            if x < left * w:
                out_l += 1
            if x > right * w:
                out_r += 1
            if y > top * w:
                out_t += 1
            if y < bottom * w:
                out_b += 1
            if z < np.float32(0.0):
                out_near += 1
            if z > w:
                out_far += 1
            if w <= np.float32(1e-6) or z < np.float32(0.0) or z > w or abs(x) > guard * w or abs(y) > guard * w:
                clipped = True
        if out_l == 3 or out_r == 3 or out_t == 3 or out_b == 3 or out_near == 3 or out_far == 3:
            continue
        kinds[i] = 2 if clipped else 1
    return kinds


@njit(cache=True)
def _clip(poly, count):
    """Sutherland-Hodgman against near, far and the four guard planes, in clip space, in float32."""
    other = np.empty((12, 6), np.float32)
    zero, guard = np.float32(0.0), np.float32(GUARD)
    for plane in range(6):
        made = 0
        for i in range(count):
            j = (i + 1) % count
            a = _distance(poly, i, plane, guard)
            b = _distance(poly, j, plane, guard)
            if a >= zero:
                for c in range(6):
                    other[made, c] = poly[i, c]
                made += 1
            if (a >= zero) != (b >= zero):
                s = a / (a - b)
                for c in range(6):
                    other[made, c] = poly[i, c] + s * (poly[j, c] - poly[i, c])
                made += 1
        for i in range(made):
            for c in range(6):
                poly[i, c] = other[i, c]
        count = made
        if count < 3:
            return 0
    return count


@njit(cache=True, inline="always")
def _distance(poly, i, plane, guard):
    x, y, z, w = poly[i, 0], poly[i, 1], poly[i, 2], poly[i, 3]
    if plane == 0:
        return z
    if plane == 1:
        return w - z
    if plane == 2:
        return guard * w - x
    if plane == 3:
        return guard * w + x
    if plane == 4:
        return guard * w - y
    return guard * w + y


@helper
def _setup(poly, corners, k, width, height, cull, window, slot, fixed, zs, inv_w, uvs, box):
    """Write the fan triangle (0, k, k + 1) into `slot`; False if it faces away, has no area or misses the window."""
    one = np.float32(1.0)
    half_w, half_h = np.float32(0.5 * width), np.float32(0.5 * height)
    px, py, pz = corners[0], corners[1], corners[2]
    for n in range(3):
        v = 0 if n == 0 else k + n - 1
        w = poly[v, 3]
        if w <= np.float32(0.0):
            return False
        inv = one / w
        px[n] = (poly[v, 0] * inv + one) * half_w
        py[n] = (one - poly[v, 1] * inv) * half_h
        pz[n] = poly[v, 2] * inv
        inv_w[slot, n] = inv
        uvs[slot, 2 * n] = poly[v, 4]
        uvs[slot, 2 * n + 1] = poly[v, 5]
        fx = np.int64(np.rint(np.float64(px[n]) * SUBPIXEL))
        fy = np.int64(np.rint(np.float64(py[n]) * SUBPIXEL))
        fixed[slot, 2 * n] = fx
        fixed[slot, 2 * n + 1] = fy
        px[n] = np.float32(fx) / np.float32(SUBPIXEL)
        py[n] = np.float32(fy) / np.float32(SUBPIXEL)
    area = (fixed[slot, 2] - fixed[slot, 0]) * (fixed[slot, 5] - fixed[slot, 1]) - (fixed[slot, 4] - fixed[slot, 0]) * (
        fixed[slot, 3] - fixed[slot, 1]
    )
    # Rows run down, so a front face (counter-clockwise in the world) has negative area here.
    if area == 0 or (cull == 1 and area > 0) or (cull == -1 and area < 0):
        return False
    low_x = min(fixed[slot, 0], fixed[slot, 2], fixed[slot, 4])
    high_x = max(fixed[slot, 0], fixed[slot, 2], fixed[slot, 4])
    low_y = min(fixed[slot, 1], fixed[slot, 3], fixed[slot, 5])
    high_y = max(fixed[slot, 1], fixed[slot, 3], fixed[slot, 5])
    half = SUBPIXEL // 2
    x0 = max((low_x + half - 1) // SUBPIXEL, window[0])
    x1 = min((high_x - half) // SUBPIXEL, window[2] - 1)
    y0 = max((low_y + half - 1) // SUBPIXEL, window[1])
    y1 = min((high_y - half) // SUBPIXEL, window[3] - 1)
    if x0 > x1 or y0 > y1:
        return False
    box[slot, 0], box[slot, 1], box[slot, 2], box[slot, 3] = x0, y0, x1, y1
    ax, ay = px[1] - px[0], py[1] - py[0]
    bx, by = px[2] - px[0], py[2] - py[0]
    det = ax * by - bx * ay
    dz1, dz2 = pz[1] - pz[0], pz[2] - pz[0]
    zs[slot, 0] = pz[0]
    zs[slot, 1] = (dz1 * by - dz2 * ay) / det
    zs[slot, 2] = (dz2 * ax - dz1 * bx) / det
    return True


@njit(
    void(
        float32[:, ::1], readonly(float32, 2), readonly(int32, 2), readonly(int32, 1), readonly(int8, 1), uint8[::1], int64[::1],
        int64, int64, int64[::1],
        int64[:, ::1], float32[:, ::1], float32[:, ::1], float32[:, ::1], int32[::1], int32[:, ::1],
    ),
    parallel=True, cache=True, nogil=True,
)  # fmt: skip
def _emit(clip, uv, triangles, chosen, cull_side, kinds, starts, width, height, window, fixed, zs, inv_w, uvs, ids, box):
    n = chosen.shape[0]
    chunk = (n + 63) // 64
    for part in prange(64):
        poly = np.empty((12, 6), np.float32)
        corners = np.empty((3, 3), np.float32)
        for i in range(part * chunk, min((part + 1) * chunk, n)):
            if kinds[i] == 0:
                continue
            t = chosen[i]
            for k in range(3):
                v = triangles[t, k]
                for c in range(4):
                    poly[k, c] = clip[v, c]
                poly[k, 4] = uv[v, 0]
                poly[k, 5] = uv[v, 1]
            count = 3
            if kinds[i] == 2:
                count = _clip(poly, count)
            slot = starts[i]
            for k in range(1, count - 1):
                if _setup(poly, corners, k, width, height, cull_side[i], window, slot, fixed, zs, inv_w, uvs, box):
                    ids[slot] = t
                    slot += 1
