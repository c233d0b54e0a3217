"""Chart overlap, exact: which triangles collide, how much of the surface and of the texels is doubled, by union.

Two triangles collide if their intersection is larger than 1e-3 texel^2. Bit-equal stacked copies are merged first.
"""

from dataclasses import dataclass

import numpy as np
from numba import njit, prange

from eddyfall.core.kernel import helper
from eddyfall.core.uv.polygons import MOST, clip_half, intersect, polygon_area

AREA_LIMIT_TEXELS = 1e-3
MOST_TILES = 256  # that one triangle may reach over where UVs wrap
MOST_CELLS = 50_000  # that all of them may be cut into
SLIVER_TEXELS = 1e-3  # float32 UVs of texel-aligned charts stray this far over the line
MAX_GRID_TEXELS = 64_000_000
MAX_PIECES = 4096


@dataclass(frozen=True)
class Overlap:
    """Result for one lightmap. Shares are 0..1; pairs counts colliding pairs with stacked copies multiplied out."""

    pairs: int
    surface_share: float
    texel_share: float
    texels_covered: int
    texels_doubled: int
    degenerate: int
    out_of_range_share: float
    tiles: tuple[int, int, int, int]
    collided: np.ndarray


def measure_overlap(uv: np.ndarray, world_area: np.ndarray, resolution: int, *, as_is: bool = False) -> Overlap:
    """Overlap of one lightmap's triangles.

    uv (t, 3, 2) in tiles; world_area (t,) m^2 weighs the surface share (UV area where all are 0); resolution in texels a tile;
    as_is tests fract(uv) instead of the unwrapped plane. `collided` (t,) bool says which triangles collide.
    """
    uv = np.ascontiguousarray(uv, np.float64)
    signed = _signed_area(uv)
    weights = np.asarray(world_area, np.float64)
    if weights.sum() <= 0:
        weights = np.abs(signed)
    if not len(uv):
        return Overlap(0, 0.0, 0.0, 0, 0, 0, 0.0, (0, 0, 0, 0), np.zeros(0, bool))
    low, high = np.floor(uv.min(axis=(0, 1)) + 1e-9), np.ceil(uv.max(axis=(0, 1)) - 1e-9)
    tiles = int(low[0]), int(low[1]), int(high[0]), int(high[1])
    outside = (uv.min(axis=(1, 2)) < -1e-6) | (uv.max(axis=(1, 2)) > 1 + 1e-6)
    degenerate = int(((np.abs(signed) * resolution**2 < AREA_LIMIT_TEXELS) & (np.asarray(world_area) > 0)).sum())
    pieces, parent = into_tile(uv) if as_is else (uv, np.arange(len(uv)))
    pieces = np.where((_signed_area(pieces) < 0)[:, None, None], pieces[:, [0, 2, 1]], pieces) * resolution
    keep = _signed_area(pieces) > AREA_LIMIT_TEXELS
    pieces, parent = np.ascontiguousarray(pieces[keep]), parent[keep]
    unique, multiplicity, group = _merge_stacked(pieces)
    pairs = colliding_pairs(unique, AREA_LIMIT_TEXELS)
    covered = _covered_areas(unique, pairs)
    areas = _signed_area(unique)
    covered = np.where(multiplicity > 1, areas, np.minimum(covered, areas))
    total = np.zeros(len(uv))
    doubled = np.zeros(len(uv))
    np.add.at(total, parent, _signed_area(pieces))
    np.add.at(doubled, parent, covered[group])
    share = np.divide(doubled, total, out=np.zeros_like(total), where=total > 0)
    usable = np.where(total > 0, weights, 0.0)
    one, two = _texel_counts(unique, pairs, multiplicity, resolution)
    number = int((multiplicity * (multiplicity - 1) // 2).sum() + (multiplicity[pairs[:, 0]] * multiplicity[pairs[:, 1]]).sum())
    return Overlap(
        number,
        float((usable * share).sum() / usable.sum()) if usable.sum() > 0 else 0.0,
        two / one if one else 0.0,
        one,
        two,
        degenerate,
        float(weights[outside].sum() / weights.sum()) if weights.sum() > 0 else 0.0,
        tiles,
        share > 0,
    )


def doubled_areas(uv: np.ndarray, resolution: int, *, as_is: bool = False, most: int = 4000) -> np.ndarray:
    """(n, 3, 2) triangles in tiles that cover what two or more charts share, from the first `most` colliding pairs; for drawing."""
    uv = np.ascontiguousarray(uv, np.float64)
    if not len(uv):
        return np.zeros((0, 3, 2))
    pieces = into_tile(uv)[0] if as_is else uv
    pieces = np.where((_signed_area(pieces) < 0)[:, None, None], pieces[:, [0, 2, 1]], pieces) * resolution
    unique, multiplicity, _ = _merge_stacked(np.ascontiguousarray(pieces[_signed_area(pieces) > AREA_LIMIT_TEXELS]))
    result = [unique[multiplicity > 1]]
    a, b = np.zeros((MOST, 2)), np.zeros((MOST, 2))
    for i, j in colliding_pairs(unique, AREA_LIMIT_TEXELS)[:most]:
        n = intersect(unique, i, j, a, b)
        if n >= 3:
            result.append(np.array([[a[0], a[k], a[k + 1]] for k in range(1, n - 1)]))
    return np.concatenate(result) / resolution


def _signed_area(tri: np.ndarray) -> np.ndarray:
    a, b = tri[:, 1] - tri[:, 0], tri[:, 2] - tri[:, 0]
    return np.asarray(0.5 * (a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0]))


def beyond_measure(uv: np.ndarray) -> np.ndarray:
    """(t,) bool: triangles (t, 3, 2) that reach over so many tiles that no texel of a wrapping map could be theirs: broken UVs, which
    would only take for ever to cut."""
    spans = np.maximum(np.ceil(uv.max(axis=1) - 1e-12) - np.floor(uv.min(axis=1) + 1e-12), 1).prod(axis=1)
    order = np.argsort(spans, kind="stable")
    ladder = np.empty(len(uv))
    ladder[order] = np.cumsum(spans[order])
    return np.asarray((spans > MOST_TILES) | ((spans > 4) & (ladder > MOST_CELLS)))


def into_tile(uv: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Triangles cut at tile borders and moved into 0..1, with the index of the one each came from; none of those beyond measure."""
    low = np.floor(uv.min(axis=1) + 1e-12)
    high = np.ceil(uv.max(axis=1) - 1e-12)
    single = ((high - low) <= 1).all(axis=1)
    result, parent = [uv[single] - low[single][:, None]], [np.flatnonzero(single)]
    a, b = np.zeros((MOST, 2)), np.zeros((MOST, 2))
    for t in np.flatnonzero(~single & ~beyond_measure(uv)):
        for ty in range(int(low[t, 1]), int(high[t, 1])):
            for tx in range(int(low[t, 0]), int(high[t, 0])):
                corners = np.array([[tx, ty], [tx + 1, ty], [tx + 1, ty + 1], [tx, ty + 1]], float)
                a[:3], n = uv[t], 3
                for k in range(4):
                    n = clip_half(a, n, *corners[k], *corners[(k + 1) % 4], 1.0, b)
                    a, b = b, a
                if n >= 3:
                    fan = np.array([[a[0], a[k], a[k + 1]] for k in range(1, n - 1)]) - [tx, ty]
                    result.append(fan)
                    parent.append(np.full(len(fan), t))
    return np.concatenate(result), np.concatenate(parent)


def _merge_stacked(tris: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """(one of each bit-equal triangle, how many, which of them each triangle is)."""
    if not len(tris):
        return tris, np.zeros(0, int), np.zeros(0, int)
    corners = np.sort((tris[..., 0] + 0.0) + 1j * (tris[..., 1] + 0.0), axis=1)
    bits = np.ascontiguousarray(corners).view(np.uint64).reshape(len(tris), 6)
    odd = np.array(
        [0x9E3779B97F4A7C15, 0xC2B2AE3D27D4EB4F, 0x165667B19E3779F9, 0xD6E8FEB86659FD93, 0xA0761D6478BD642F, 0xE7037ED1A0B428DB],
        np.uint64,
    )
    mixed = (bits ^ (bits >> np.uint64(29))) * odd
    key = np.bitwise_xor.reduce(mixed ^ (mixed >> np.uint64(32)), axis=1)
    _, first, group, count = np.unique(key, return_index=True, return_inverse=True, return_counts=True)
    if not (bits[first[group]] == bits).all():
        _, first, group, count = np.unique(bits, axis=0, return_index=True, return_inverse=True, return_counts=True)
    return np.ascontiguousarray(tris[first]), count, group.reshape(-1)


def colliding_pairs(tris: np.ndarray, limit: float) -> np.ndarray:
    """(p, 2) int64 pairs of counter-clockwise triangles (t, 3, 2) whose intersection is larger than `limit`; sweep along x."""
    if len(tris) < 2:
        return np.zeros((0, 2), np.int64)
    order = np.argsort(tris[..., 0].min(axis=1), kind="stable")
    sorted_tris = np.ascontiguousarray(tris[order])
    counts = _sweep(sorted_tris, limit, np.zeros(len(tris), np.int64), np.zeros((0, 2), np.int64))
    starts = np.cumsum(counts) - counts
    pairs = np.zeros((int(counts.sum()), 2), np.int64)
    if len(pairs):
        _sweep(sorted_tris, limit, starts, pairs)
    return order[pairs].reshape(-1, 2)


@njit(cache=True, parallel=True, nogil=True)
def _sweep(tris, limit, starts, pairs):
    """Count the collisions of each triangle with later ones in x order; if `pairs` has room, write them from `starts`."""
    n = tris.shape[0]
    counts = np.zeros(n, np.int64)
    box = np.empty((n, 4))
    for i in prange(n):
        box[i, 0] = min(tris[i, 0, 0], tris[i, 1, 0], tris[i, 2, 0])
        box[i, 1] = max(tris[i, 0, 0], tris[i, 1, 0], tris[i, 2, 0])
        box[i, 2] = min(tris[i, 0, 1], tris[i, 1, 1], tris[i, 2, 1])
        box[i, 3] = max(tris[i, 0, 1], tris[i, 1, 1], tris[i, 2, 1])
    chunk = (n + 255) // 256
    for part in prange(256):
        a, b = np.empty((MOST, 2)), np.empty((MOST, 2))
        for i in range(part * chunk, min((part + 1) * chunk, n)):
            x1, y0, y1 = box[i, 1], box[i, 2], box[i, 3]
            found = 0
            for j in range(i + 1, n):
                if box[j, 0] >= x1:
                    break
                if box[j, 2] >= y1 or box[j, 3] <= y0:
                    continue
                m = intersect(tris, i, j, a, b)
                if m >= 3 and polygon_area(a, m) > limit:
                    if pairs.shape[0] > 0:
                        pairs[starts[i] + found, 0] = i
                        pairs[starts[i] + found, 1] = j
                    found += 1
            counts[i] = found
    return counts


@njit(cache=True, parallel=True, nogil=True)
def pair_areas(tris, pairs):
    """(p,) intersection areas of given pairs of counter-clockwise triangles."""
    n = pairs.shape[0]
    out = np.zeros(n)
    chunk = (n + 255) // 256
    for part in prange(256):
        a, b = np.empty((MOST, 2)), np.empty((MOST, 2))
        for p in range(part * chunk, min((part + 1) * chunk, n)):
            m = intersect(tris, pairs[p, 0], pairs[p, 1], a, b)
            if m >= 3:
                out[p] = polygon_area(a, m)
    return out


def _covered_areas(tris: np.ndarray, pairs: np.ndarray) -> np.ndarray:
    """(t,) area of each triangle that others cover, by union: the triangle minus what is left after cutting the others out."""
    both = np.concatenate([pairs, pairs[:, ::-1]])
    both = both[np.argsort(both[:, 0], kind="stable")]
    starts = np.searchsorted(both[:, 0], np.arange(len(tris) + 1))
    return np.asarray(_cut_out(tris, np.ascontiguousarray(both[:, 1]), starts))


@njit(cache=True, parallel=True, nogil=True)
def _cut_out(tris, others, starts):
    n = tris.shape[0]
    covered = np.zeros(n)
    parts = min(32, n)
    for part in prange(parts):
        pieces, corners = np.empty((MAX_PIECES, MOST, 2)), np.zeros(MAX_PIECES, np.int64)
        rest, a, b = np.empty((MOST, 2)), np.empty((MOST, 2)), np.empty((MOST, 2))
        for t in range(part * n // parts, (part + 1) * n // parts):
            if starts[t] == starts[t + 1]:
                continue
            for k in range(3):
                pieces[0, k, 0], pieces[0, k, 1] = tris[t, k, 0], tris[t, k, 1]
            corners[0] = 3
            count = 1
            for o in range(starts[t], starts[t + 1]):
                if count == 0:
                    break
                count = _subtract(pieces, corners, count, tris, others[o], rest, a, b)
            left = 0.0
            for p in range(count):
                left += polygon_area(pieces[p], corners[p])
            whole = 0.0
            for k in range(3):
                a[k, 0], a[k, 1] = tris[t, k, 0], tris[t, k, 1]
            whole = polygon_area(a, 3)
            covered[t] = max(whole - left, 0.0)
    return covered


@helper
def _subtract(pieces, corners, count, tris, o, rest, a, b):
    """Cut triangle o out of every piece, in place; what is outside each of its edges in turn stays. Returns the new count."""
    made = count
    p = 0
    old = count
    while p < old:
        n = corners[p]
        for k in range(n):
            rest[k, 0], rest[k, 1] = pieces[p, k, 0], pieces[p, k, 1]
        corners[p] = 0
        for e in range(3):
            f = e + 1 if e < 2 else 0
            ax, ay, bx, by = tris[o, e, 0], tris[o, e, 1], tris[o, f, 0], tris[o, f, 1]
            m = clip_half(rest, n, ax, ay, bx, by, -1.0, a)
            if m >= 3 and m < MOST - 2 and polygon_area(a, m) > 1e-9 and made < MAX_PIECES:
                for k in range(m):
                    pieces[made, k, 0], pieces[made, k, 1] = a[k, 0], a[k, 1]
                corners[made] = m
                made += 1
            n = clip_half(rest, n, ax, ay, bx, by, 1.0, b)
            if n < 3:
                break
            for k in range(n):
                rest[k, 0], rest[k, 1] = b[k, 0], b[k, 1]
        p += 1
    kept = 0
    for p in range(made):
        if corners[p] >= 3:
            if kept != p:
                for k in range(corners[p]):
                    pieces[kept, k, 0], pieces[kept, k, 1] = pieces[p, k, 0], pieces[p, k, 1]
                corners[kept] = corners[p]
            kept += 1
    return kept


def _texel_counts(tris: np.ndarray, pairs: np.ndarray, multiplicity: np.ndarray, resolution: int) -> tuple[int, int]:
    """(texels that hold any part of a chart, texels that hold a part covered twice)."""
    if not len(tris):
        return 0, 0
    low = np.floor(tris.min(axis=(0, 1)))
    size = np.ceil(tris.max(axis=(0, 1))) - low + 1
    scale = 1.0
    if size[0] * size[1] > MAX_GRID_TEXELS:
        scale = float(np.sqrt(MAX_GRID_TEXELS / (size[0] * size[1])))
        size = np.ceil(size * scale) + 1
    grid = np.zeros((int(size[1]), int(size[0])), np.uint8)
    _mark((tris - low) * scale, pairs, (multiplicity > 1).astype(np.uint8), grid)
    return int((grid > 0).sum()), int((grid > 1).sum())


@njit(cache=True, nogil=True)
def _mark(tris, pairs, stacked, grid):
    a, b = np.empty((MOST, 2)), np.empty((MOST, 2))
    for t in range(tris.shape[0]):
        for k in range(3):
            a[k, 0], a[k, 1] = tris[t, k, 0], tris[t, k, 1]
        _mark_polygon(a, 3, grid, 2 if stacked[t] == 1 else 1)
    for p in range(pairs.shape[0]):
        n = intersect(tris, pairs[p, 0], pairs[p, 1], a, b)
        if n >= 3:
            _mark_polygon(a, n, grid, 2)


@helper
def _mark_polygon(poly, n, grid, value):
    """Raise every texel whose inside the convex polygon enters to `value`."""
    low, high = poly[0, 1], poly[0, 1]
    for k in range(1, n):
        low, high = min(low, poly[k, 1]), max(high, poly[k, 1])
    for row in range(max(int(np.floor(low + SLIVER_TEXELS)), 0), min(int(np.ceil(high - SLIVER_TEXELS)), grid.shape[0])):
        left, right = 1e300, -1e300
        y0, y1 = float(row), float(row + 1)
        for k in range(n):
            m = k + 1 if k + 1 < n else 0
            ax, ay, bx, by = poly[k, 0], poly[k, 1], poly[m, 0], poly[m, 1]
            if y0 <= ay <= y1:
                left, right = min(left, ax), max(right, ax)
            for y in (y0, y1):
                if (ay - y) * (by - y) < 0.0:
                    x = ax + (y - ay) / (by - ay) * (bx - ax)
                    left, right = min(left, x), max(right, x)
        for column in range(max(int(np.floor(left + SLIVER_TEXELS)), 0), min(int(np.ceil(right - SLIVER_TEXELS)), grid.shape[1])):
            if grid[row, column] < value:
                grid[row, column] = value
