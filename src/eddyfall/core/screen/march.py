"""A ray followed through the depth of a frame, evenly over the screen (after McGuire and Mara 2014, Efficient GPU Screen-Space Ray Tracing,
from memory).

Of what the frame shows only the front is known: a ray counts as having met it from there to a thickness behind. What the frame does not
show is not met. So it finds what is there to find at the most, and takes for met what is only near."""

import math
from typing import NamedTuple

import numpy as np
from numba import njit, prange

from eddyfall.core.kernel import light_helper
from eddyfall.core.shade.columns import NORMAL, NORMAL_XYZ

OFF_SHARE = 1e-3  # of the distance to the eye: what is less behind what is shown than this lies on it


class Screen(NamedTuple):
    """What a march is held against. depth (h, w) float64: view depth in m, inf: nothing there; nearness (h, w) float32: one over it; rows
    (h * w, row): surfaces; eye and axes right, up, back (3,); half (2,): half of what is seen at 1 m, across and up; size (2,) px of the
    frame without its margin; at (2,): where the first pixel of `depth` lies in it, jitter taken off; near_m: nothing nearer is met; low,
    high (2,) px within which it looks."""

    depth: np.ndarray
    nearness: np.ndarray
    rows: np.ndarray
    eye: np.ndarray
    right: np.ndarray
    up: np.ndarray
    back: np.ndarray
    half: np.ndarray
    size: np.ndarray
    at: np.ndarray
    near_m: float
    low: np.ndarray
    high: np.ndarray


@light_helper
def march_at(px, py, pz, dx, dy, dz, screen, reach, thick, steps, jitter):
    """Index of the pixel that the ray from p along unit d meets, -1: none."""
    sx, sy, sz = px - screen.eye[0], py - screen.eye[1], pz - screen.eye[2]
    near = screen.near_m
    x0 = sx * screen.right[0] + sy * screen.right[1] + sz * screen.right[2]
    y0 = sx * screen.up[0] + sy * screen.up[1] + sz * screen.up[2]
    z0 = -(sx * screen.back[0] + sy * screen.back[1] + sz * screen.back[2])
    ux = dx * screen.right[0] + dy * screen.right[1] + dz * screen.right[2]
    uy = dx * screen.up[0] + dy * screen.up[1] + dz * screen.up[2]
    uz = -(dx * screen.back[0] + dy * screen.back[1] + dz * screen.back[2])
    if z0 <= near:
        return -1
    far = reach
    if z0 + far * uz < near:
        far = (near - z0) / uz
    z1 = z0 + far * uz
    wide, high = screen.half[0] / (0.5 * screen.size[0]), screen.half[1] / (0.5 * screen.size[1])
    ax, ay = 0.5 * screen.size[0] + x0 / (z0 * wide), 0.5 * screen.size[1] - y0 / (z0 * high)
    bx = 0.5 * screen.size[0] + (x0 + far * ux) / (z1 * wide) - ax
    by = 0.5 * screen.size[1] - (y0 + far * uy) / (z1 * high) - ay
    # As far as it stays within what may be looked at (Liang and Barsky 1984).
    end = 1.0
    if bx > 0.0:
        end = min(end, (screen.high[0] - ax) / bx)
    elif bx < 0.0:
        end = min(end, (screen.low[0] - ax) / bx)
    if by > 0.0:
        end = min(end, (screen.high[1] - ay) / by)
    elif by < 0.0:
        end = min(end, (screen.low[1] - ay) / by)
    if end <= 0.0:
        return -1
    height, width = screen.depth.shape
    nearness, rows = screen.nearness, screen.rows
    ax, ay = ax - screen.at[0], ay - screen.at[1]
    own_column, own_row = math.floor(ax), math.floor(ay)
    stride = end / steps
    s = stride * jitter
    x, y, k = ax + s * bx, ay + s * by, 1.0 / z0 + s * (1.0 / z1 - 1.0 / z0)
    bx, by, dk = bx * stride, by * stride, (1.0 / z1 - 1.0 / z0) * stride
    for _ in range(steps):
        column, row = int(x), int(y)
        # Behind what is shown: its nearness is greater. How far, is only asked then.
        if 0 <= column < width and 0 <= row < height and x >= 0.0 and y >= 0.0 and k < nearness[row, column]:
            z = 1.0 / k
            behind = z - screen.depth[row, column]
            if z * OFF_SHARE < behind < thick and (column != own_column or row != own_row):
                i = row * width + column
                if rows[i, NORMAL] * dx + rows[i, NORMAL + 1] * dy + rows[i, NORMAL + 2] * dz < 0.0:
                    return i
        x, y, k = x + bx, y + by, k + dk
    return -1


@njit(cache=True, parallel=True, nogil=True)
def _march(place, direction, jitter, screen, reach, thick, steps, out):
    for i in prange(len(place)):
        out[i] = march_at(
            place[i, 0], place[i, 1], place[i, 2], direction[i, 0], direction[i, 1], direction[i, 2], screen, reach, thick, steps,
            jitter[i],
        )  # fmt: skip


def marched(
    place: np.ndarray, direction: np.ndarray, jitter: np.ndarray, screen: Screen, reach_m: float, thickness_m: float, steps: int
) -> np.ndarray:
    """(n,) int64 pixel of the screen's window, row by row, that each ray meets, -1: none. place, direction (n, 3): start in m and unit way;
    jitter (n,) in (0, 1]: where within its step each place that is looked at lies."""
    out = np.empty(len(place), np.int64)
    _march(
        np.asarray(place, np.float64), np.asarray(direction, np.float64), np.asarray(jitter, np.float64), screen, float(reach_m),
        float(thickness_m), int(steps), out,
    )  # fmt: skip
    return out


def march_plain(
    place: np.ndarray, direction: np.ndarray, jitter: float, screen: Screen, reach_m: float, thickness_m: float, steps: int
) -> int:
    """Plain twin: the pixel that one ray meets, -1: none."""
    axes = np.stack([screen.right, screen.up, -screen.back])
    start, way = axes @ (place - screen.eye), axes @ direction
    if start[2] <= screen.near_m:
        return -1
    far = reach_m if start[2] + reach_m * way[2] >= screen.near_m else (screen.near_m - start[2]) / way[2]

    def at(p: np.ndarray) -> np.ndarray:
        return np.asarray((p[:2] / (p[2] * screen.half) * (1, -1) + 1) / 2 * screen.size)

    a, b = at(start), at(start + far * way)
    ends = [1.0] + [
        ((screen.high if b[k] > a[k] else screen.low)[k] - a[k]) / (b[k] - a[k]) for k in (0, 1) if abs(b[k] - a[k]) > 0
    ]
    if min(ends) <= 0:
        return -1
    height, width = screen.depth.shape
    own = np.floor(a - screen.at)
    for s in min(ends) * (np.arange(steps) + jitter) / steps:
        column, row = np.floor(a + s * (b - a) - screen.at).astype(int)
        if not (0 <= column < width and 0 <= row < height) or (own == (column, row)).all():
            continue
        z = 1 / (1 / start[2] + s * (1 / (start[2] + far * way[2]) - 1 / start[2]))
        behind = z - screen.depth[row, column]
        if z * OFF_SHARE < behind < thickness_m and screen.rows[row * width + column, NORMAL_XYZ] @ direction < 0:
            return int(row * width + column)
    return -1
