"""How much of the light around a surface what stands near it in the frame leaves: horizons in slices through the eye's ray (Jimenez, Wu,
Pesce and Jarabo 2016, Practical Realtime Strategies for Accurate Indirect Occlusion, from memory), weighed by the cosine.

Past a horizon all is taken to be blocked, and what the frame does not show blocks nothing."""

import math

import numpy as np
from numba import njit, prange

from eddyfall.core.rays.sampling import mixed, random
from eddyfall.core.screen.march import Screen


@njit(cache=True, parallel=True, nogil=True)
def _open(place, normal, pixel, seeds, screen, reach, steps, slices, out):
    height, width = screen.depth.shape
    wide, high = screen.half[0] / (0.5 * screen.size[0]), screen.half[1] / (0.5 * screen.size[1])
    for n in prange(len(place)):
        ex, ey, ez = place[n, 0] - screen.eye[0], place[n, 1] - screen.eye[1], place[n, 2] - screen.eye[2]
        # In the camera's frame: right, up, away.
        x = ex * screen.right[0] + ey * screen.right[1] + ez * screen.right[2]
        y = ex * screen.up[0] + ey * screen.up[1] + ez * screen.up[2]
        z = -(ex * screen.back[0] + ey * screen.back[1] + ez * screen.back[2])
        nx = normal[n, 0] * screen.right[0] + normal[n, 1] * screen.right[1] + normal[n, 2] * screen.right[2]
        ny = normal[n, 0] * screen.up[0] + normal[n, 1] * screen.up[1] + normal[n, 2] * screen.up[2]
        nz = -(normal[n, 0] * screen.back[0] + normal[n, 1] * screen.back[1] + normal[n, 2] * screen.back[2])
        away = math.sqrt(x * x + y * y + z * z)
        vx, vy, vz = -x / away, -y / away, -z / away
        column0, row0 = pixel[n] % width, pixel[n] // width
        key = mixed(seeds[n])
        far_px = reach / (z * wide)
        sees = 0.0
        for s in range(slices):
            angle = math.pi * (s + random(key, 2 * s)) / slices
            begin = random(key, 2 * s + 1)
            cx, cy = math.cos(angle), math.sin(angle)
            # The slice's plane holds the view and this way over the screen; its axis is square to both.
            tx, ty, tz = cx - vx * (cx * vx + cy * vy), cy - vy * (cx * vx + cy * vy), -vz * (cx * vx + cy * vy)
            length = math.sqrt(tx * tx + ty * ty + tz * tz)
            tx, ty, tz = tx / length, ty / length, tz / length
            qx, qy, qz = vy * tz - vz * ty, vz * tx - vx * tz, vx * ty - vy * tx
            out_of = nx * qx + ny * qy + nz * qz
            px, py, pz = nx - qx * out_of, ny - qy * out_of, nz - qz * out_of
            size = math.sqrt(px * px + py * py + pz * pz)
            if size < 1e-6:
                continue
            cosine = min(max((px * vx + py * vy + pz * vz) / size, -1.0), 1.0)
            side = px * tx + py * ty + pz * tz
            gamma = math.acos(cosine) if side >= 0.0 else -math.acos(cosine)
            low, high_cos = -1.0, -1.0
            for way in range(2):
                sign = 1.0 if way else -1.0
                best = math.cos(gamma + sign * 0.5 * math.pi)
                for k in range(steps):
                    share = (k + begin) / steps
                    step = 1.0 + share * share * far_px
                    column = math.floor(column0 + 0.5 + sign * cx * step)
                    row = math.floor(row0 + 0.5 - sign * cy * step)
                    if column < 0 or row < 0 or column >= width or row >= height:
                        break
                    fx, fy = column + 0.5 + screen.at[0], row + 0.5 + screen.at[1]
                    if fx < screen.low[0] or fy < screen.low[1] or fx >= screen.high[0] or fy >= screen.high[1]:
                        break
                    depth = screen.depth[row, column]
                    if not depth < 1e30:
                        continue
                    dx = (fx - 0.5 * screen.size[0]) * wide * depth - x
                    dy = (0.5 * screen.size[1] - fy) * high * depth - y
                    dz = depth - z
                    long = math.sqrt(dx * dx + dy * dy + dz * dz)
                    if long > reach or long < 1e-9:
                        continue
                    best = max(best, (dx * vx + dy * vy + dz * vz) / long)
                if way:
                    high_cos = best
                else:
                    low = best
            h1, h2 = -math.acos(min(max(low, -1.0), 1.0)), math.acos(min(max(high_cos, -1.0), 1.0))
            h1 = gamma + max(h1 - gamma, -0.5 * math.pi)
            h2 = gamma + min(h2 - gamma, 0.5 * math.pi)
            arc = 0.25 * (
                -math.cos(2.0 * h1 - gamma) + math.cos(gamma) + 2.0 * h1 * math.sin(gamma)
                - math.cos(2.0 * h2 - gamma) + math.cos(gamma) + 2.0 * h2 * math.sin(gamma)
            )  # fmt: skip
            sees += size * arc
        out[n] = min(max(sees / slices, 0.0), 1.0)


def horizons(
    place: np.ndarray, normal: np.ndarray, pixel: np.ndarray, seeds: np.ndarray, screen: Screen, reach_m: float, steps: int, slices: int
) -> np.ndarray:  # fmt: skip
    """(n,) share of even light, by the cosine, that reaches places (n, 3) in m with normals (n, 3), which pixels (n,) of the screen show,
    row by row; what stands within reach_m counts, held against at `steps` places on each side of each slice; seeds (n,) uint64 turn the
    slices."""
    out = np.ones(len(place))
    _open(
        np.asarray(place, np.float64), np.asarray(normal, np.float64), np.asarray(pixel, np.int64), seeds, screen, float(reach_m),
        int(steps), int(slices), out,
    )  # fmt: skip
    return out


def horizon_plain(
    place: np.ndarray, normal: np.ndarray, pixel: int, numbers: np.ndarray, screen: Screen, reach_m: float, steps: int
) -> float:
    """Plain twin: the share at one place, from numbers (slices, 2) in [0, 1) that turn each slice and set off its steps. Of each slice the
    cosine-weighted arc between its two horizons is summed up in small steps of the angle."""
    axes = np.stack([screen.right, screen.up, -screen.back])
    height, width = screen.depth.shape
    middle, view = axes @ (place - screen.eye), axes @ (screen.eye - place)
    n, view, per_px = axes @ normal, view / np.linalg.norm(view), screen.half / (0.5 * screen.size)
    row0, column0 = divmod(pixel, width)
    total = 0.0
    for s, (turn, begin) in enumerate(numbers):
        angle = np.pi * (s + turn) / len(numbers)
        over = np.array([np.cos(angle), np.sin(angle), 0.0])
        across = over - view * (over @ view)
        across /= np.linalg.norm(across)
        ends = []
        for sign in (-1, 1):
            cosines = []
            for share in (np.arange(steps) + begin) / steps:
                step = 1 + share**2 * reach_m / (middle[2] * per_px[0])
                column, row = np.floor([column0 + 0.5 + sign * over[0] * step, row0 + 0.5 - sign * over[1] * step]).astype(int)
                at = np.array([column, row]) + 0.5 + screen.at
                if not (0 <= column < width and 0 <= row < height) or (at < screen.low).any() or (at >= screen.high).any():
                    break
                depth = screen.depth[row, column]
                if np.isfinite(depth):
                    seen = (at - 0.5 * screen.size) * (1, -1) * per_px * depth
                    away = np.array([*seen, depth]) - middle
                    if 1e-9 < np.linalg.norm(away) <= reach_m:
                        cosines.append(float(away @ view / np.linalg.norm(away)))
            ends.append(sign * np.arccos(np.clip(max(cosines, default=-1.0), -1, 1)))
        theta = np.linspace(ends[0], ends[1], 4001)
        along = np.cos(theta)[:, None] * view + np.sin(theta)[:, None] * across
        total += np.trapezoid(np.maximum(along @ n, 0.0) * np.abs(np.sin(theta)), theta)
    return float(np.clip(total / len(numbers), 0.0, 1.0))
