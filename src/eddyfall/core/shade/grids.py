"""Light grids: what arrives at the points of a box, kept as spherical harmonics of order 2, and what a moving thing between them gets.

Irradiance by nine numbers after Ramamoorthi and Hanrahan 2001; what a point does not see of a place after Majercik et al. 2019; both from
memory. Light from one side rings: its irradiance dips below nought behind. Bands drawn towards even light by a share s take the dip away
from s = .137 on: .25 - .2896 (1 - s) is its depth (derived)."""

import math
from typing import NamedTuple

import numpy as np
from numba import njit, prange

from eddyfall.core.hashing import freeze
from eddyfall.core.kernel import helper, light_helper
from eddyfall.core.shade.probes import folded

NUMBERS = 9
DEPTH_SIDE = 8  # edge of each point's map of distances
NEARER = 0.1  # of its distance that a place is taken to be nearer, so that what is seen does not shade itself
LEAST_SEEN = 0.05
COSINE_BANDS = (math.pi, 2 * math.pi / 3, math.pi / 4)  # of a clamped cosine, by band
BAND = np.array([0, 1, 1, 1, 2, 2, 2, 2, 2])


class Grids(NamedTuple):
    """g grids: numbers (t, 9, 3) float32 of what arrives at points, in nits; depths (t, side * side, 2) mean of distances in m and of their
    squares; first (g,) point of each, counts (g, 3) along x, y, z; low, high (g, 3) m; sees (g,) uint8; bands (g, 3): what irradiance makes
    of each band."""

    numbers: np.ndarray
    depths: np.ndarray
    first: np.ndarray
    counts: np.ndarray
    low: np.ndarray
    high: np.ndarray
    sees: np.ndarray
    bands: np.ndarray


NO_GRIDS = Grids(
    *(freeze(np.zeros(shape, kind)) for shape, kind in (
        ((0, NUMBERS, 3), np.float32), ((0, DEPTH_SIDE**2, 2), np.float32), ((0,), np.int64), ((0, 3), np.int64), ((0, 3), np.float64),
        ((0, 3), np.float64), ((0,), np.uint8), ((0, 3), np.float64),
    ))
)  # fmt: skip


@light_helper
def harmonic(k, x, y, z):
    """Real spherical harmonic number k (band 0; band 1: y, z, x; band 2: xy, yz, 3z^2 - 1, xz, x^2 - y^2) of a unit direction."""
    if k == 0:
        return 0.28209479177387814
    if k == 1:
        return 0.4886025119029199 * y
    if k == 2:
        return 0.4886025119029199 * z
    if k == 3:
        return 0.4886025119029199 * x
    if k == 4:
        return 1.0925484305920792 * x * y
    if k == 5:
        return 1.0925484305920792 * y * z
    if k == 6:
        return 0.31539156525252005 * (3.0 * z * z - 1.0)
    if k == 7:
        return 1.0925484305920792 * x * z
    return 0.5462742152960396 * (x * x - y * y)


def harmonics(ways: np.ndarray) -> np.ndarray:
    """Plain twin: (n, 9) real spherical harmonics of unit directions (n, 3)."""
    x, y, z = np.asarray(ways, float).T
    one, two = math.sqrt(3 / (4 * math.pi)), math.sqrt(15 / (4 * math.pi))
    return np.stack([
        np.full(len(x), math.sqrt(1 / (4 * math.pi))), one * y, one * z, one * x, two * x * y, two * y * z,
        math.sqrt(5 / (16 * math.pi)) * (3 * z * z - 1), two * x * z, two / 2 * (x * x - y * y),
    ], axis=1)  # fmt: skip


@njit(cache=True)
def projected(ways, light, weight):
    """(9, 3) numbers of light (n, 3) along unit directions (n, 3) that each stand for weight (n,) sr."""
    out = np.zeros((9, 3))
    for i in range(len(ways)):
        for k in range(9):
            h = harmonic(k, ways[i, 0], ways[i, 1], ways[i, 2]) * weight[i]
            for c in range(3):
                out[k, c] += h * light[i, c]
    return out


def bands_of(smoothed: float) -> np.ndarray:
    """(3,) what irradiance makes of each band, drawn so far (0 to 1) towards even light against ringing."""
    return np.array([a * (1.0 if band == 0 else 1 - smoothed) for band, a in enumerate(COSINE_BANDS)])


@helper
def _holds(g, x, y, z, grids):
    """Whether a grid holds a place: within half a cell of its points."""
    for axis in range(3):
        at = x if axis == 0 else y if axis == 1 else z
        half = 0.5 * (grids.high[g, axis] - grids.low[g, axis]) / (grids.counts[g, axis] - 1)
        if at < grids.low[g, axis] - half or at > grids.high[g, axis] + half:
            return False
    return True


@light_helper
def _seen(point, sx, sy, sz, grids):
    """How much of a point's light a place gets, that lies off it by s, by the distances that the point knows (Chebyshev's inequality)."""
    away = math.sqrt(sx * sx + sy * sy + sz * sz)
    if away < 1e-6:
        return 1.0
    u, v = folded(sx, sy, sz)
    at = min(int(v * DEPTH_SIDE), DEPTH_SIDE - 1) * DEPTH_SIDE + min(int(u * DEPTH_SIDE), DEPTH_SIDE - 1)
    mean, square = np.float64(grids.depths[point, at, 0]), np.float64(grids.depths[point, at, 1])
    away *= 1.0 - NEARER
    if away <= mean:
        return 1.0
    variance = max(square - mean * mean, (LEAST_SEEN * mean) ** 2)
    seen = variance / (variance + (away - mean) ** 2)
    return seen * seen * seen


@light_helper
def _corner(g, x, y, z, k, grids):
    """(number of point, share, its place off (x, y, z)) of corner k of 8 of the cell that a place lies in."""
    share, index = 1.0, 0
    dx, dy, dz = 0.0, 0.0, 0.0
    for axis in range(3):
        at = x if axis == 0 else y if axis == 1 else z
        n = grids.counts[g, axis]
        step = (grids.high[g, axis] - grids.low[g, axis]) / (n - 1)
        f = min(max((at - grids.low[g, axis]) / step, 0.0), n - 1.000001)
        cell = int(f)
        up = (k >> axis) & 1
        share *= (f - cell) if up else 1.0 - (f - cell)
        off = at - (grids.low[g, axis] + (cell + up) * step)
        if axis == 0:
            index, dx = cell + up, off
        elif axis == 1:
            index, dy = index + (cell + up) * grids.counts[g, 0], off
        else:
            index, dz = index + (cell + up) * grids.counts[g, 0] * grids.counts[g, 1], off
    return grids.first[g] + index, share, dx, dy, dz


@njit(cache=True, parallel=True, nogil=True)
def _gathered(place, normal, grids, lux, which):
    for i in prange(len(place)):
        x, y, z = place[i, 0], place[i, 1], place[i, 2]
        which[i] = -1
        for g in range(len(grids.first)):
            if not _holds(g, x, y, z, grids):
                continue
            which[i] = g
            r, green, b, total = 0.0, 0.0, 0.0, 0.0
            for k in range(8):
                point, share, dx, dy, dz = _corner(g, x, y, z, k, grids)
                if grids.sees[g]:
                    share *= max(_seen(point, dx, dy, dz, grids), 1e-4)
                total += share
                for h in range(9):
                    band = 0 if h == 0 else 1 if h < 4 else 2
                    weight = share * grids.bands[g, band] * harmonic(h, normal[i, 0], normal[i, 1], normal[i, 2])
                    r += weight * grids.numbers[point, h, 0]
                    green += weight * grids.numbers[point, h, 1]
                    b += weight * grids.numbers[point, h, 2]
            inv = 1.0 / total if total > 0.0 else 0.0
            lux[i, 0], lux[i, 1], lux[i, 2] = max(r * inv, 0.0), max(green * inv, 0.0), max(b * inv, 0.0)
            break


def gathered(grids: Grids, place: np.ndarray, normal: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """((n, 3) lx that grids give to places (n, 3) with unit normals (n, 3); (n,) which grid holds each, -1: none)."""
    lux, which = np.zeros((len(place), 3)), np.full(len(place), -1, np.int64)
    _gathered(np.ascontiguousarray(place, np.float64), np.ascontiguousarray(normal, np.float64), grids, lux, which)
    return lux, which


@njit(cache=True)
def corners_of(place, g, grids):
    """((n, 8) numbers of the points of the cells that places (n, 3) in grid g lie in, (n, 8) shares of each by distance alone)."""
    points, shares = np.zeros((len(place), 8), np.int64), np.zeros((len(place), 8))
    for i in range(len(place)):
        for k in range(8):
            points[i, k], shares[i, k], _, _, _ = _corner(g, place[i, 0], place[i, 1], place[i, 2], k, grids)
    return points, shares


def points_of(low: np.ndarray, high: np.ndarray, counts: tuple[int, int, int]) -> np.ndarray:
    """(n, 3) m of a grid's points, x fastest, z slowest."""
    x, y, z = (np.linspace(a, b, n) for a, b, n in zip(low, high, counts))
    zz, yy, xx = np.meshgrid(z, y, x, indexing="ij")
    return np.stack([xx.ravel(), yy.ravel(), zz.ravel()], axis=1)
