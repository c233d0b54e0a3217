"""Rays that go on from what a frame shows, and what is to be made of the light they bring: under the coat, and by it."""

import numpy as np
from numba import njit, prange

from eddyfall.core.rays.sampling import about, cosine_point, even_point, mixed, random
from eddyfall.core.shade.coat import coat_at, edge_at
from eddyfall.core.shade.columns import ALBEDO_RGB, F0, F0_RGB, NORMAL, OPEN, ROUGH
from eddyfall.core.shade.lobes import drawn, layers


@njit(cache=True, parallel=True, nogil=True)
def _even(normals, seeds, ray, out, jitter):
    for n in prange(len(seeds)):
        key = mixed(seeds[n])
        first, second = even_point(ray, key)
        x, y, z = cosine_point(first, second)
        out[n, 0], out[n, 1], out[n, 2] = about(normals[n, 0], normals[n, 1], normals[n, 2], x, y, z)
        jitter[n] = 1.0 - random(key, ray + 7)


def even_rays(normals: np.ndarray, seeds: np.ndarray, ray: int) -> tuple[np.ndarray, np.ndarray]:
    """(unit directions (n, 3) about normals (n, 3), cosine-weighted; numbers (n,) in (0, 1]) of ray number `ray` of bundles with seeds (n,)
    uint64: the first 2^k of a bundle lie evenly."""
    out, jitter = np.empty((len(seeds), 3)), np.empty(len(seeds))
    _even(np.asarray(normals, np.float64), seeds, ray, out, jitter)
    return out, jitter


@njit(cache=True, parallel=True, nogil=True)
def _mirrored(rows, albedo, f0, to_eye, seeds, ray, out, weight, jitter):
    for n in prange(len(seeds)):
        key = mixed(seeds[n])
        first, second = even_point(ray, key)
        nx, ny, nz = np.float64(rows[n, NORMAL]), np.float64(rows[n, NORMAL + 1]), np.float64(rows[n, NORMAL + 2])
        vx, vy, vz = to_eye[n, 0], to_eye[n, 1], to_eye[n, 2]
        rough = np.float64(rows[n, ROUGH])
        lx, ly, lz = drawn(rough, 1.0, nx, ny, nz, vx, vy, vz, 0.0, first, second)
        out[n, 0], out[n, 1], out[n, 2] = lx, ly, lz
        _, _, _, r, g, b, chance = layers(albedo, f0, n, rough, 1.0, nx, ny, nz, vx, vy, vz, lx, ly, lz)
        inv = 1.0 / chance if chance > 0.0 else 0.0
        weight[n, 0], weight[n, 1], weight[n, 2] = r * inv, g * inv, b * inv
        jitter[n] = 1.0 - random(key, ray + 7)


def mirrored_rays(rows: np.ndarray, to_eye: np.ndarray, seeds: np.ndarray, ray: int) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """(unit directions (n, 3), what the coat makes of light along each (n, 3), numbers (n,) in (0, 1]) of surface rows (n, row) seen along
    to_eye (n, 3): drawn by visible normals."""
    n = len(seeds)
    out, weight, jitter = np.empty((n, 3)), np.empty((n, 3)), np.empty(n)
    albedo, f0 = (np.ascontiguousarray(rows[:, part], np.float64) for part in (ALBEDO_RGB, F0_RGB))
    _mirrored(rows, albedo, f0, np.asarray(to_eye, np.float64), seeds, ray, out, weight, jitter)
    return out, weight, jitter


@njit(cache=True, parallel=True, nogil=True)
def _shares(rows, to_eye, under, coat):
    for n in prange(len(rows)):
        along = rows[n, NORMAL] * to_eye[n, 0] + rows[n, NORMAL + 1] * to_eye[n, 1] + rows[n, NORMAL + 2] * to_eye[n, 2]
        n_dot_v, rough = min(max(along, 0.0), 1.0), np.float64(rows[n, ROUGH])
        a, b, edge = coat_at(n_dot_v, rough, 0), coat_at(n_dot_v, rough, 1), edge_at(n_dot_v)
        for c in range(3):
            f0 = np.float64(rows[n, F0 + c])
            f90 = min(1.0, 50.0 * f0)
            diffuse, gloss = rows[n, c] * (1.0 - (f0 * (1.0 - edge) + f90 * edge)), f0 * a + f90 * b
            scale = rows[n, OPEN] / max(diffuse + gloss, 1.0)
            under[n, c], coat[n, c] = diffuse * scale, gloss * scale


def shares_of_even_light(rows: np.ndarray, to_eye: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """((n, 3), (n, 3)) share of even light that surface rows (n, row) reflect towards to_eye (n, 3) under their coat, and by it; dimmed by
    their occlusion map. As `coat.even_plain` has it for one."""
    under, coat = np.empty((len(rows), 3)), np.empty((len(rows), 3))
    _shares(np.asarray(rows), np.asarray(to_eye, np.float64), under, coat)
    return under, coat


def faded(pixel: np.ndarray, width: int, at: np.ndarray, low: np.ndarray, high: np.ndarray, over_px: int) -> np.ndarray:
    """(n,) how much of what rays found at pixels (n,) counts: 1, falling to 0 over so many px before the edge of low to high (2,)."""
    if over_px == 0:
        return np.ones(len(pixel))
    x, y = pixel % width + at[0] + 0.5, pixel // width + at[1] + 0.5
    inside = np.minimum(np.minimum(x - low[0], high[0] - x), np.minimum(y - low[1], high[1] - y))
    return np.asarray(np.clip(inside / over_px, 0.0, 1.0))


def seeds_of(x: np.ndarray, y: np.ndarray, which: int) -> np.ndarray:
    """(n,) uint64 seeds of pixels x, y (n,) of a frame, each for itself; which: of which pass."""
    return np.asarray((np.asarray(y, np.int64) * 131_072 + np.asarray(x, np.int64) + (which << 40)).astype(np.uint64))
