"""Contact shadows by a short march in screen space: from a surface towards a light, against what the depth of the frame shows.

What the frame does not show is not met, and of what it shows only the front is known: its back is taken to lie a thickness behind (common
practice, no source). So it stands in for shadows near a foot, and is no measure of them."""

import math
from typing import Any

import numpy as np
from numba import njit, prange

from eddyfall.core.shade.columns import DISTANCE, NORMAL
from eddyfall.core.shade.lights import DIRECTIONAL, Lights, incoming

STEPS = 24
OFF_SHARE = (
    1e-3  # of the distance to the eye: where a march starts off its surface, and what is less in front than this is itself
)


@njit(cache=True, parallel=True, nogil=True)
def _march(
    rows, visible, receives, ox, oy, jx, jy, rays, right, up, back, width_px, height_px, half_w, half_h, lights, reach, thick, out
):
    height, width = visible.shape
    for py in prange(height):
        for px in range(width):
            if visible[py, px] < 0 or receives[py, px] == 0:
                continue
            i = py * width + px
            x, y = ox + px + 0.5 + jx, oy + py + 0.5 + jy
            dx = rays.d0[0] + x * rays.du[0] + y * rays.dv[0]
            dy = rays.d0[1] + x * rays.du[1] + y * rays.dv[1]
            dz = rays.d0[2] + x * rays.du[2] + y * rays.dv[2]
            away = np.float64(rows[i, DISTANCE])
            share = away / math.sqrt(dx * dx + dy * dy + dz * dz)
            nx, ny, nz = rows[i, NORMAL], rows[i, NORMAL + 1], rows[i, NORMAL + 2]
            ax = rays.eye[0] + dx * share + nx * away * OFF_SHARE
            ay = rays.eye[1] + dy * share + ny * away * OFF_SHARE
            az = rays.eye[2] + dz * share + nz * away * OFF_SHARE
            for k in range(lights.kind.shape[0]):
                if reach[k] <= 0.0:
                    continue
                lx, ly, lz, arrives, distance = incoming(k, ax, ay, az, lights)
                if arrives <= 0.0 or nx * lx + ny * ly + nz * lz <= 0.0:
                    continue
                far = reach[k] if lights.kind[k] == DIRECTIONAL else min(reach[k], distance)
                for step in range(1, STEPS + 1):
                    t = far * step / STEPS
                    sx, sy, sz = ax + lx * t - rays.eye[0], ay + ly * t - rays.eye[1], az + lz * t - rays.eye[2]
                    depth = -(sx * back[0] + sy * back[1] + sz * back[2])
                    if depth <= 1e-6:
                        break
                    u = ((sx * right[0] + sy * right[1] + sz * right[2]) / (depth * half_w) * 0.5 + 0.5) * width_px
                    v = (0.5 - (sx * up[0] + sy * up[1] + sz * up[2]) / (depth * half_h) * 0.5) * height_px
                    column, row = math.floor(u - jx) - ox, math.floor(v - jy) - oy
                    if column < 0 or row < 0 or column >= width or row >= height:
                        break
                    if visible[row, column] < 0:
                        continue
                    here = math.sqrt(sx * sx + sy * sy + sz * sz)
                    behind = here - np.float64(rows[row * width + column, DISTANCE])
                    if here * OFF_SHARE < behind < thick[k]:
                        out[py, px, k] = 0.0
                        break


def contact_march(
    surface: np.ndarray, visible: np.ndarray, receives: np.ndarray, origin: tuple[int, int], jitter: tuple[float, float], rays: Any,
    axes: np.ndarray, halves: tuple[float, float], size: tuple[int, int], lights: Lights, reach: np.ndarray, thick: np.ndarray,
    traced: np.ndarray,
) -> np.ndarray:  # fmt: skip
    """(h, w, lights) float32: what rays let through (traced (h, w, lights) or (1, 1, lights)), and 0 where a march of reach (lights,) m
    meets what the frame shows within thick (lights,) m behind its front. surface (h, w, row), visible (h, w), receives (h, w) bool; axes
    (3, 3) right, up and back of the camera, halves: half the width and height that it sees at 1 m; size: of the whole frame in px."""
    out = np.array(np.broadcast_to(traced, (*visible.shape, traced.shape[2])), np.float32)
    _march(
        surface.reshape(-1, surface.shape[2]), visible, receives.astype(np.uint8), *origin, *jitter, rays, axes[0], axes[1], axes[2],
        *size, *halves, lights, np.asarray(reach, np.float64), np.asarray(thick, np.float64), out,
    )  # fmt: skip
    return out
