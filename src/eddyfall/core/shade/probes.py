"""Reflection probes as the frame reads them: what one place sees all around, folded into a square, blurred level by level by what rougher
coats mirror of it.

Octahedral maps after Meyer et al. 2010 and Cigolle et al. 2014; levels blurred by GGX lobes seen head-on, as the split sum asks for (Karis
2013), with samples taken from coarser levels where they lie far apart (Krivanek and Colbert 2008); what a probe shows put onto its box
after Lagarde and Zanuttini 2012; how much of it a place gets that it may not see after Majercik et al. 2019. All from memory."""

import math
from typing import NamedTuple

import numpy as np
from numba import njit, prange

from eddyfall.core.hashing import freeze
from eddyfall.core.kernel import helper, light_helper
from eddyfall.core.shade.brdf import ggx_d
from eddyfall.core.shade.columns import NORMAL

SHARPEST_LEFT = 2  # levels below the coarsest that is read: 4 x 4 texels hold what the roughest coat mirrors
LOBE_SAMPLES = 64  # of each texel of a blurred level
SEEN_SIDE = 16  # edge of the map of distances that tells what a probe sees
FINEST_SEEN = 64  # edge of the map of distances that it is made from, at the most
SEEN_SHARPNESS = 50.0  # power of the cosine that distances around a direction are weighted by
LEAST_SEEN = 0.05  # variance of distances is no smaller than (this share of their mean)^2
NEARER = 0.1  # of its distance that a place is taken to be nearer, so that what is seen does not shade itself
FAR_M = 60_000.0  # distance of the sky: the largest that a half float holds, near enough


class Probes(NamedTuple):
    """p probes: texels (t, 3) float32 nits; levels (k, 2) first texel and edge; maps (p, 2) first level and how many; place, low, high
    (p, 3) m; blend (p,) m; boxed, sees (p,) uint8; depths (p, side * side, 2) mean of distances in m and of their squares."""

    texels: np.ndarray
    levels: np.ndarray
    maps: np.ndarray
    place: np.ndarray
    low: np.ndarray
    high: np.ndarray
    blend: np.ndarray
    boxed: np.ndarray
    sees: np.ndarray
    depths: np.ndarray


NO_PROBES = Probes(
    *(freeze(np.zeros(shape, kind)) for shape, kind in (
        ((0, 3), np.float32), ((0, 2), np.int64), ((0, 2), np.int64), ((0, 3), np.float64), ((0, 3), np.float64), ((0, 3), np.float64),
        ((0,), np.float64), ((0,), np.uint8), ((0,), np.uint8), ((0, SEEN_SIDE**2, 2), np.float64),
    ))
)  # fmt: skip


@light_helper
def folded(x, y, z):
    """(u, v) in 0..1 of a direction, of any length but nought, in an octahedral map."""
    inv = 1.0 / (abs(x) + abs(y) + abs(z))
    p, q = x * inv, y * inv
    if z < 0.0:
        p, q = (1.0 - abs(q)) * (1.0 if p >= 0.0 else -1.0), (1.0 - abs(p)) * (1.0 if q >= 0.0 else -1.0)
    return 0.5 * p + 0.5, 0.5 * q + 0.5


@light_helper
def unfolded(u, v):
    """Unit direction of (u, v) in 0..1."""
    p, q = 2.0 * u - 1.0, 2.0 * v - 1.0
    z = 1.0 - abs(p) - abs(q)
    if z < 0.0:
        p, q = (1.0 - abs(q)) * (1.0 if p >= 0.0 else -1.0), (1.0 - abs(p)) * (1.0 if q >= 0.0 else -1.0)
    inv = 1.0 / math.sqrt(p * p + q * q + z * z)
    return p * inv, q * inv, z * inv


@helper
def _texel(column, row, edge):
    """Number of a texel; beyond an edge the map goes on where it is folded onto itself."""
    if column < 0 or column >= edge:
        column, row = min(max(column, 0), edge - 1), edge - 1 - row
    if row < 0 or row >= edge:
        column, row = edge - 1 - column, min(max(row, 0), edge - 1)
    return row * edge + column


@light_helper
def _between(texels, first, edge, u, v):
    """(r, g, b) between the four texels around a place of a level."""
    x, y = u * edge - 0.5, v * edge - 0.5
    column, row = math.floor(x), math.floor(y)
    fx, fy = x - column, y - row
    a, b = first + _texel(column, row, edge), first + _texel(column + 1, row, edge)
    c, d = first + _texel(column, row + 1, edge), first + _texel(column + 1, row + 1, edge)
    wa, wb, wc, wd = (1.0 - fx) * (1.0 - fy), fx * (1.0 - fy), (1.0 - fx) * fy, fx * fy
    return (
        texels[a, 0] * wa + texels[b, 0] * wb + texels[c, 0] * wc + texels[d, 0] * wd,
        texels[a, 1] * wa + texels[b, 1] * wb + texels[c, 1] * wc + texels[d, 1] * wd,
        texels[a, 2] * wa + texels[b, 2] * wb + texels[c, 2] * wc + texels[d, 2] * wd,
    )


@light_helper
def probe_light(p, x, y, z, rough, probes):
    """(r, g, b) nits that probe p shows in a direction, blurred for a roughness: between two of its levels."""
    first, last = probes.maps[p, 0], max(probes.maps[p, 1] - 1 - SHARPEST_LEFT, 0)
    level = min(max(rough, 0.0), 1.0) * last
    low = int(level)
    share = level - low
    u, v = folded(x, y, z)
    r, g, b = _between(probes.texels, probes.levels[first + low, 0], probes.levels[first + low, 1], u, v)
    if share > 0.0:
        high = first + low + 1
        r1, g1, b1 = _between(probes.texels, probes.levels[high, 0], probes.levels[high, 1], u, v)
        r, g, b = r + (r1 - r) * share, g + (g1 - g) * share, b + (b1 - b) * share
    return r, g, b


@light_helper
def looked_along(p, px, py, pz, dx, dy, dz, probes):
    """(x, y, z), of any length: where probe p is looked up for what a place mirrors from a direction. With a box: towards the place of
    the box that the ray would meet."""
    if probes.boxed[p] == 0:
        return dx, dy, dz
    t = 1e30
    for axis in range(3):
        at = px if axis == 0 else py if axis == 1 else pz
        d = dx if axis == 0 else dy if axis == 1 else dz
        if d > 1e-12:
            t = min(t, (probes.high[p, axis] - at) / d)
        elif d < -1e-12:
            t = min(t, (probes.low[p, axis] - at) / d)
    if t <= 0.0 or t >= 1e30:
        return dx, dy, dz
    x, y, z = px + t * dx - probes.place[p, 0], py + t * dy - probes.place[p, 1], pz + t * dz - probes.place[p, 2]
    if abs(x) + abs(y) + abs(z) < 1e-9:
        return dx, dy, dz
    return x, y, z


@light_helper
def share_of(p, px, py, pz, probes):
    """How much of probe p a place gets, before it is shared with others: 1 inside its box, falling to 0 at its faces over `blend`; less
    where the probe may not see the place (Chebyshev's inequality over the distances that it knows)."""
    share = 1.0
    for axis in range(3):
        at = px if axis == 0 else py if axis == 1 else pz
        inside = min(at - probes.low[p, axis], probes.high[p, axis] - at)
        if inside < 0.0:
            return 0.0
        if probes.blend[p] > 0.0:
            share = min(share, inside / probes.blend[p])
    if probes.sees[p] == 0:
        return share
    x, y, z = px - probes.place[p, 0], py - probes.place[p, 1], pz - probes.place[p, 2]
    away = math.sqrt(x * x + y * y + z * z)
    if away < 1e-9:
        return share
    u, v = folded(x, y, z)
    across, up = u * SEEN_SIDE - 0.5, v * SEEN_SIDE - 0.5
    column, row = math.floor(across), math.floor(up)
    mean, square = 0.0, 0.0
    for k in range(4):
        i, j = k % 2, k // 2
        weight = (across - column if i else 1.0 - across + column) * (up - row if j else 1.0 - up + row)
        at = _texel(column + i, row + j, SEEN_SIDE)
        mean, square = mean + weight * probes.depths[p, at, 0], square + weight * probes.depths[p, at, 1]
    away *= 1.0 - NEARER
    if away <= mean:
        return share
    variance = max(square - mean * mean, (LEAST_SEEN * mean) ** 2)
    seen = variance / (variance + (away - mean) ** 2)
    return share * seen * seen * seen


@njit(cache=True, parallel=True, nogil=True)
def _shown(place, direction, rough, probes, light, total):
    for i in prange(len(place)):
        px, py, pz = place[i, 0], place[i, 1], place[i, 2]
        dx, dy, dz = direction[i, 0], direction[i, 1], direction[i, 2]
        r, g, b, sum_of = 0.0, 0.0, 0.0, 0.0
        for p in range(len(probes.maps)):
            share = share_of(p, px, py, pz, probes)
            if share <= 0.0:
                continue
            x, y, z = looked_along(p, px, py, pz, dx, dy, dz, probes)
            pr, pg, pb = probe_light(p, x, y, z, rough[i], probes)
            r, g, b, sum_of = r + share * pr, g + share * pg, b + share * pb, sum_of + share
        # Where boxes overlap, they share the place; where they end, the rest is left to what lights it otherwise.
        inv = 1.0 / sum_of if sum_of > 1.0 else 1.0
        light[i, 0], light[i, 1], light[i, 2], total[i] = r * inv, g * inv, b * inv, sum_of * inv


def shown_by(probes: Probes, place: np.ndarray, direction: np.ndarray, rough: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """((n, 3) nits that probes show at places (n, 3) along unit directions (n, 3), blurred for roughness (n,); (n,) how much of the light
    there that stands for, 0 to 1)."""
    light, total = np.zeros((len(place), 3)), np.zeros(len(place))
    _shown(
        np.ascontiguousarray(place, np.float64), np.ascontiguousarray(direction, np.float64), np.asarray(rough, np.float64), probes,
        light, total,
    )  # fmt: skip
    return light, total


@njit(cache=True, parallel=True, nogil=True)
def _shares(place, probes, out):
    for i in prange(len(place)):
        for p in range(len(probes.maps)):
            out[i, p] = share_of(p, place[i, 0], place[i, 1], place[i, 2], probes)


def shares_at(probes: Probes, place: np.ndarray) -> np.ndarray:
    """(n, p) share that each probe has at places (n, 3), 0 to 1 and no more than 1 together."""
    out = np.zeros((len(place), len(probes.maps)))
    _shares(np.ascontiguousarray(place, np.float64), probes, out)
    return np.asarray(out / np.maximum(out.sum(axis=1, keepdims=True), 1.0))


@njit(cache=True, parallel=True, nogil=True)
def _ways(place, direction, probes, p, out):
    for i in prange(len(place)):
        x, y, z = looked_along(
            p, place[i, 0], place[i, 1], place[i, 2], direction[i, 0], direction[i, 1], direction[i, 2], probes
        )
        inv = 1.0 / math.sqrt(x * x + y * y + z * z)
        out[i, 0], out[i, 1], out[i, 2] = x * inv, y * inv, z * inv


def ways_into(probes: Probes, p: int, place: np.ndarray, direction: np.ndarray) -> np.ndarray:
    """(n, 3) unit directions in which probe p is looked up for what places (n, 3) mirror from directions (n, 3)."""
    out = np.zeros((len(place), 3))
    _ways(np.ascontiguousarray(place, np.float64), np.ascontiguousarray(direction, np.float64), probes, p, out)
    return out


@njit(cache=True, parallel=True, nogil=True)
def _mirrored(rows, to_eye, direction):
    for i in prange(len(rows)):
        nx, ny, nz = np.float64(rows[i, NORMAL]), np.float64(rows[i, NORMAL + 1]), np.float64(rows[i, NORMAL + 2])
        twice = 2.0 * (nx * to_eye[i, 0] + ny * to_eye[i, 1] + nz * to_eye[i, 2])
        direction[i, 0], direction[i, 1], direction[i, 2] = (
            twice * nx - to_eye[i, 0],
            twice * ny - to_eye[i, 1],
            twice * nz - to_eye[i, 2],
        )


def mirrored_ways(rows: np.ndarray, to_eye: np.ndarray) -> np.ndarray:
    """(n, 3) unit directions in which surface rows (n, row), seen along to_eye (n, 3), mirror."""
    direction = np.empty((len(rows), 3))
    _mirrored(np.asarray(rows), np.asarray(to_eye, np.float64), direction)
    return direction


@njit(cache=True)
def ways_of(texel, edge, across, up):
    """(n, 3) unit directions of a map's texels (n,), at (across, up) (n,) in 0..1 of each."""
    out = np.empty((len(texel), 3))
    for k in range(len(texel)):
        column, row = texel[k] % edge, texel[k] // edge
        out[k, 0], out[k, 1], out[k, 2] = unfolded((column + across[k]) / edge, (row + up[k]) / edge)
    return out


def middles_of(edge: int) -> np.ndarray:
    """(edge * edge, 3) unit directions of the middles of a map's texels."""
    half = np.full(edge * edge, 0.5)
    return np.asarray(ways_of(np.arange(edge * edge), edge, half, half))


@njit(cache=True, parallel=True, nogil=True)
def _blurred(texels, levels, rough, edge, samples, out):
    """A level for a roughness, by lobes seen head-on: samples from the level whose texels are about as far apart as they are."""
    alpha = max(rough * rough, 2e-3)
    texel = 4.0 * math.pi / (levels[0, 1] * levels[0, 1])
    for k in prange(edge * edge):
        nx, ny, nz = unfolded((k % edge + 0.5) / edge, (k // edge + 0.5) / edge)
        ux, uy, uz = (0.0, 1.0, 0.0) if abs(ny) < 0.9 else (1.0, 0.0, 0.0)
        ax, ay, az = ny * uz - nz * uy, nz * ux - nx * uz, nx * uy - ny * ux
        inv = 1.0 / math.sqrt(ax * ax + ay * ay + az * az)
        ax, ay, az = ax * inv, ay * inv, az * inv
        bx, by, bz = ny * az - nz * ay, nz * ax - nx * az, nx * ay - ny * ax
        r, g, b, total = 0.0, 0.0, 0.0, 0.0
        for s in range(samples):
            w = (s + 0.5) / samples
            angle = 2.0 * math.pi * ((s * 0.6180339887498949) % 1.0)  # golden ratio: evenly round
            nh = math.sqrt((1.0 - w) / (1.0 + (alpha * alpha - 1.0) * w))
            sh = math.sqrt(max(1.0 - nh * nh, 0.0))
            # Light from l = 2 (n.h) h - n, about n.
            along, side = 2.0 * nh * nh - 1.0, 2.0 * nh * sh
            if along <= 0.0:
                continue
            c, d = side * math.cos(angle), side * math.sin(angle)
            x, y, z = along * nx + c * ax + d * bx, along * ny + c * ay + d * by, along * nz + c * az + d * bz
            chance = ggx_d(nh, alpha) / 4.0
            level = 0.5 * math.log2(max(1.0 / (samples * chance * texel), 1.0))
            low = min(int(level), len(levels) - 1)
            u, v = folded(x, y, z)
            sr, sg, sb = _between(texels, levels[low, 0], levels[low, 1], u, v)
            r, g, b, total = r + sr * along, g + sg * along, b + sb * along, total + along
        out[k, 0], out[k, 1], out[k, 2] = r / total, g / total, b / total


def blurred_levels(finest: np.ndarray) -> list[np.ndarray]:
    """All levels of a map (edge, edge, 3), edge a power of two: the finest as it is, each of the next for a rougher coat, down to one
    texel; those below the coarsest that is read are means of the one above."""
    edge = len(finest)
    plain = [np.ascontiguousarray(finest, np.float32)]
    levels: list[tuple[int, int]] = []
    while len(plain[-1]) > 1:
        plain.append(plain[-1].reshape(len(plain[-1]) // 2, 2, -1, 2, 3).mean(axis=(1, 3)).astype(np.float32))
    for level in plain:
        levels.append((sum(n * n for _, n in levels), len(level)))
    texels, where = np.concatenate([level.reshape(-1, 3) for level in plain]), np.array(levels, np.int64)
    last = max(len(plain) - 1 - SHARPEST_LEFT, 0)
    result = [plain[0]]
    for k in range(1, len(plain)):
        if k > last:
            result.append(result[-1].reshape(len(result[-1]) // 2, 2, -1, 2, 3).mean(axis=(1, 3)).astype(np.float32))
            continue
        out = np.empty(((edge >> k) ** 2, 3), np.float32)
        _blurred(texels, where, k / last, edge >> k, LOBE_SAMPLES, out)
        result.append(out.reshape(edge >> k, edge >> k, 3))
    return result


def seen_depths(distance: np.ndarray) -> np.ndarray:
    """(side * side, 2) mean of distances (edge, edge) in m around each direction, and of their squares: weighted by a power of the cosine,
    and by the solid angle of their texels."""
    far = np.minimum(distance.astype(np.float64), FAR_M)
    mean, square = far, far**2
    while len(mean) > FINEST_SEEN:
        mean, square = (of.reshape(len(of) // 2, 2, -1, 2).mean(axis=(1, 3)) for of in (mean, square))
    edge = len(mean)
    cosine = np.maximum(middles_of(SEEN_SIDE) @ middles_of(edge).T, 0.0)
    weight = cosine**SEEN_SHARPNESS * solid_angles(edge)
    weight /= weight.sum(axis=1, keepdims=True)
    return np.stack([weight @ mean.reshape(-1), weight @ square.reshape(-1)], axis=1)


def solid_angles(edge: int) -> np.ndarray:
    """(edge * edge,) sr of a map's texels; they sum to 4 pi. By the folding's density at their middles, 1 / |p|^3 on the octahedron."""
    u, v = np.meshgrid((np.arange(edge) + 0.5) / edge * 2 - 1, (np.arange(edge) + 0.5) / edge * 2 - 1)
    z = 1 - np.abs(u) - np.abs(v)
    fold = z < 0
    x, y = np.where(fold, 1 - np.abs(v), np.abs(u)), np.where(fold, 1 - np.abs(u), np.abs(v))
    density = (x**2 + y**2 + z**2) ** -1.5
    return np.asarray((density * (4 * np.pi / density.sum())).reshape(-1))
