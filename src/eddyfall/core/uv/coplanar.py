"""Faces in one place: pairs of drawables that share a plane, and the area they share. World metres."""

import math

import numpy as np
from numba import njit, prange

from eddyfall.core.scene.drawables import Geometry
from eddyfall.core.uv.overlap import colliding_pairs, pair_areas
from eddyfall.core.uv.polygons import MOST, clip_half, intersect, polygon_area

PARALLEL = math.cos(math.radians(0.1))
ONE_PLANE_M = 1e-5  # in scenes of a metre and more; less in smaller ones
LEAST_AREA_M2 = 1e-4  # likewise
FULL_SIZE_M = 1.0


def scale_of(geometry: Geometry) -> float:
    """What lengths of this file are multiplied by: 1 in scenes of a metre and more, the diagonal in metres in smaller ones."""
    return min(1.0, geometry.diagonal_m / FULL_SIZE_M)


def one_plane_m(geometry: Geometry) -> float:
    """How far faces on one plane may stray from it: a hundred-thousandth of a small scene, or what float32 leaves so far out."""
    return max(ONE_PLANE_M * scale_of(geometry), 0.5 * geometry.coordinate_step_m)


def on_one_plane(geometry: Geometry, solid: np.ndarray, double_sided: np.ndarray) -> set[tuple[int, int]]:
    """Pairs of different solid drawables with overlapping faces within 0.01 mm (less in small scenes) of one plane, facing alike."""
    scale = scale_of(geometry)
    chosen = np.flatnonzero(solid[geometry.owner])
    corners = geometry.positions[geometry.triangles[chosen]].astype(np.float64)
    normal = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    size = np.linalg.norm(normal, axis=1)
    keep = size > 1e-10 * scale**2
    chosen, corners, normal = chosen[keep], corners[keep], normal[keep] / size[keep][:, None]
    if len(chosen) < 2:
        return set()
    entry, cell = _normal_cells(normal)
    low, high = corners.min(axis=1), corners.max(axis=1)
    axis = int(np.argmax(low.max(axis=0) - low.min(axis=0)))
    order = np.lexsort((low[entry, axis], cell))
    entry, cell = entry[order], cell[order]
    axes = [axis, (axis + 1) % 3, (axis + 2) % 3]
    found = _coplanar(
        cell,
        np.ascontiguousarray(low[entry][:, axes]),
        np.ascontiguousarray(high[entry][:, axes]),
        np.ascontiguousarray(normal[entry]),
        np.ascontiguousarray(corners[entry]),
        geometry.owner[chosen[entry]].astype(np.int64),
        double_sided[geometry.owner[chosen[entry]]].astype(np.uint8),
        PARALLEL,
        one_plane_m(geometry),
    )
    found = chosen[entry[found[found[:, 0] >= 0]]]
    result = set()
    owners = np.sort(geometry.owner[found].astype(np.int64), axis=1)
    groups = owners[:, 0] * len(geometry.drawables) + owners[:, 1]
    for group in np.unique(groups):
        pairs = np.unique(np.sort(found[groups == group], axis=1), axis=0)
        if _overlap_area(geometry, pairs) > LEAST_AREA_M2 * scale**2:
            result.add((int(group) // len(geometry.drawables), int(group) % len(geometry.drawables)))
    return result


def _normal_cells(normal: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """(entries, cells): triangles sorted into cells of like normals, sign ignored, on an octahedral map; one near a border is
    entered on both sides of it, so that parallel faces always share a cell."""
    grid, margin = 64, 0.12
    largest = np.take_along_axis(normal, np.abs(normal).argmax(axis=1)[:, None], axis=1)
    n = normal * np.where(largest < 0, -1.0, 1.0)
    n = n / np.abs(n).sum(axis=1, keepdims=True)
    fold = n[:, 2] < 0
    uv = np.where(fold[:, None], (1 - np.abs(n[:, [1, 0]])) * np.where(n[:, :2] >= 0, 1.0, -1.0), n[:, :2])
    # Shifted by a third of a cell, so that axis-aligned faces do not lie on borders.
    at = (uv + 1) * (grid / 2) + 1 / 3
    entries, cells = [], []
    for du in (-margin, margin):
        for dv in (-margin, margin):
            c = np.floor(at + np.array([du, dv])).astype(np.int64)
            entries.append(np.arange(len(n)))
            cells.append(c[:, 0] * (grid + 2) + c[:, 1])
    cell_count = (grid + 2) ** 2
    both = np.sort(np.concatenate(entries) * cell_count + np.concatenate(cells))
    both = both[np.append(True, both[1:] != both[:-1])]  # np.unique hashes, which takes three times as long here
    return both // cell_count, both % cell_count


@njit(cache=True, parallel=True, nogil=True)
def _coplanar(cell, low, high, normal, corners, owner, double_sided, parallel, limit):
    """(64 n, 2) int64 pairs of triangles of different owners whose boxes touch and planes coincide; -1 where unused."""
    n = low.shape[0]
    parts = 64
    room = max(1024, n // 8)
    out = np.full((parts * room, 2), -1, np.int64)
    chunk = (n + parts - 1) // parts
    for part in prange(parts):
        made = part * room
        for i in range(part * chunk, min((part + 1) * chunk, n)):
            for j in range(i + 1, n):
                if cell[j] != cell[i] or low[j, 0] > high[i, 0] + limit:
                    break
                if owner[i] == owner[j] or low[j, 1] > high[i, 1] + limit or low[i, 1] > high[j, 1] + limit:
                    continue
                if low[j, 2] > high[i, 2] + limit or low[i, 2] > high[j, 2] + limit:
                    continue
                d = normal[i, 0] * normal[j, 0] + normal[i, 1] * normal[j, 1] + normal[i, 2] * normal[j, 2]
                if abs(d) < parallel or (d < 0 and double_sided[i] == 0 and double_sided[j] == 0):
                    continue
                gap = 0.0
                for k in range(3):
                    g = 0.0
                    for c in range(3):
                        g += normal[i, c] * (corners[j, k, c] - corners[i, 0, c])
                    gap = max(gap, abs(g))
                if gap <= limit and made < (part + 1) * room:
                    out[made, 0], out[made, 1] = i, j
                    made += 1
    return out


def _overlap_area(geometry: Geometry, pairs: np.ndarray) -> float:
    """Area in m^2 shared by pairs (n, 2) of coplanar triangles, in the plane of the first."""
    ids = np.unique(pairs.reshape(-1))
    corners = geometry.positions[geometry.triangles[ids]].astype(np.float64)
    a = corners[np.searchsorted(ids, pairs[0, 0])]
    e1 = a[1] - a[0]
    e1 /= np.linalg.norm(e1)
    normal = np.cross(e1, a[2] - a[0])
    normal /= np.linalg.norm(normal)
    flat = (corners - a[0]) @ np.stack([e1, np.cross(normal, e1)], axis=1)
    turn = (flat[:, 1, 0] - flat[:, 0, 0]) * (flat[:, 2, 1] - flat[:, 0, 1]) - (flat[:, 2, 0] - flat[:, 0, 0]) * (
        flat[:, 1, 1] - flat[:, 0, 1]
    )
    flat = np.ascontiguousarray(np.where((turn < 0)[:, None, None], flat[:, [0, 2, 1]], flat))
    index = np.searchsorted(ids, pairs)
    return float(pair_areas(flat, np.ascontiguousarray(index)).sum())


def shared_area(geometry: Geometry, a: int, b: int, normal: np.ndarray, gap_m: float) -> float:
    """Area in m^2 over which faces of drawables a and b that are square to `normal` lie within the gap of each other.

    The planes may be tilted against each other by what still counts as parallel: the overlap is cut where they part."""
    ids = []
    for d in {a, b}:
        span = np.arange(geometry.drawables[d].first, geometry.drawables[d].last)
        corners = geometry.positions[geometry.triangles[span]].astype(np.float64)
        n = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
        n /= np.maximum(np.linalg.norm(n, axis=1, keepdims=True), 1e-300)
        ids.append(span[np.abs(n @ normal) > PARALLEL])
    tris = np.concatenate(ids)
    if len(tris) < 2:
        return 0.0
    corners = geometry.positions[geometry.triangles[tris]].astype(np.float64)
    corners -= corners[0, 0]
    ref = np.array([1.0, 0, 0]) if abs(normal[0]) < 0.9 else np.array([0, 1.0, 0])
    e1 = np.cross(normal, ref)
    e1 /= np.linalg.norm(e1)
    flat = corners @ np.stack([e1, np.cross(normal, e1)], axis=1)
    turn = (flat[:, 1, 0] - flat[:, 0, 0]) * (flat[:, 2, 1] - flat[:, 0, 1]) - (flat[:, 2, 0] - flat[:, 0, 0]) * (
        flat[:, 1, 1] - flat[:, 0, 1]
    )
    order = np.where((turn < 0)[:, None], [0, 2, 1], [0, 1, 2])
    flat = np.ascontiguousarray(np.take_along_axis(flat, order[:, :, None], axis=1))
    height = np.take_along_axis(corners @ normal, order, axis=1)
    pairs = colliding_pairs(flat, 1e-9 * scale_of(geometry) ** 2)
    owner = geometry.owner[tris]
    across = np.ones(len(pairs), bool) if a == b else owner[pairs[:, 0]] != owner[pairs[:, 1]]
    limit = gap_m + max(1e-4 * scale_of(geometry), geometry.coordinate_step_m)
    return float(areas_within(flat, _planes(flat, height), np.ascontiguousarray(pairs[across]), limit).sum())


def _planes(flat: np.ndarray, height: np.ndarray) -> np.ndarray:
    """(t, 3) c, gx, gy of the height c + gx x + gy y of triangles (t, 3, 2) whose corners have heights (t, 3)."""
    d1, d2 = flat[:, 1] - flat[:, 0], flat[:, 2] - flat[:, 0]
    h1, h2 = height[:, 1] - height[:, 0], height[:, 2] - height[:, 0]
    det = d1[:, 0] * d2[:, 1] - d1[:, 1] * d2[:, 0]
    det = np.where(np.abs(det) > 1e-300, det, 1e-300)
    gx, gy = (h1 * d2[:, 1] - h2 * d1[:, 1]) / det, (d1[:, 0] * h2 - d2[:, 0] * h1) / det
    return np.stack([height[:, 0] - gx * flat[:, 0, 0] - gy * flat[:, 0, 1], gx, gy], axis=1)


@njit(cache=True, nogil=True)
def areas_within(tris, planes, pairs, limit):
    """(p,) area of the intersection of each pair of counter-clockwise triangles where their heights differ by at most `limit`."""
    out = np.zeros(pairs.shape[0])
    a, b = np.empty((MOST, 2)), np.empty((MOST, 2))
    for p in range(pairs.shape[0]):
        i, j = pairs[p, 0], pairs[p, 1]
        m = intersect(tris, i, j, a, b)
        if m < 3:
            continue
        c, gx, gy = planes[j, 0] - planes[i, 0], planes[j, 1] - planes[i, 1], planes[j, 2] - planes[i, 2]
        g2 = gx * gx + gy * gy
        if g2 < 1e-24:  # side by side all over
            if abs(c) > limit:
                m = 0
        else:
            for side in (1.0, -1.0):  # keep where side * (c + g . p) <= limit
                at = (side * limit - c) / g2
                x, y = gx * at, gy * at
                m = clip_half(a, m, x, y, x + gy * side, y - gx * side, -1.0, b)
                if m < 3:
                    m = 0
                    break
                for k in range(m):
                    a[k, 0], a[k, 1] = b[k, 0], b[k, 1]
        if m >= 3:
            out[p] = polygon_area(a, m)
    return out
