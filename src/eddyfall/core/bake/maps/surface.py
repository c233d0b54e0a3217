"""A surface as light meets it, however it is cut into triangles: cutting a floor along a wall leaves what light does to others as it was.

Triangles that lie in one plane and share edges are taken together; what counts of such a patch is its corners, its side and its area.
"""

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from eddyfall.core.hashing import digest
from eddyfall.core.uv.charts import edges_of, weld

FLAT = 1e-5  # of the surface's size: what float32 leaves of a corner made on an edge


def surface_digest(places: np.ndarray) -> str:
    """Hash of triangles (t, 3, 3) in world metres that is the same for every way to cut their flat patches. A change smaller than a
    hundred-thousandth of the surface's size may not show in it."""
    places = np.asarray(places, np.float32) + np.float32(0)
    if not len(places):
        return digest("empty")
    corners = places.astype(np.float64)
    limit = FLAT * max(float(np.ptp(corners.reshape(-1, 3), axis=0).max()), 1e-30)
    cross = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    length = np.linalg.norm(cross, axis=1)
    ids = weld(places.reshape(-1, 3)).reshape(-1, 3)
    patch = _patches(ids, corners, cross, length, limit)
    count = np.bincount(patch)
    summed = np.stack([np.bincount(patch, cross[:, k]) for k in range(3)], axis=1)
    normal = np.asarray(summed / np.maximum(np.linalg.norm(summed, axis=1), 1e-30)[:, None], np.float64)
    height = (corners * normal[patch][:, None]).sum(axis=2)
    middle = np.bincount(patch, height.mean(axis=1)) / count
    off = np.zeros(len(count))
    np.maximum.at(off, patch, np.abs(height - middle[patch][:, None]).max(axis=1))
    flat = (count > 1) & (off <= limit)
    keys = _flat_keys(ids, places, corners, patch, flat, normal, np.bincount(patch, length) / 2, limit)
    return digest(np.sort(keys), _plain(places[~flat[patch]]))


def _patches(ids: np.ndarray, corners: np.ndarray, cross: np.ndarray, length: np.ndarray, limit: float) -> np.ndarray:
    """(t,) number of the flat patch each triangle belongs to: joined across edges that exactly two triangles of one side share."""
    low, high, at = edges_of(ids)
    key = low * (int(ids.max()) + 1) + high
    order = np.argsort(key, kind="stable")
    key, triangle = key[order], at[order] // 3
    starts = np.flatnonzero(np.concatenate([[True], key[1:] != key[:-1]]))
    pair = starts[np.diff(np.append(starts, len(key))) == 2]
    a, b = triangle[pair], triangle[pair + 1]
    unit = cross / np.maximum(length, 1e-30)[:, None]
    off = np.abs(((corners[b] - corners[a][:, :1]) * unit[a][:, None]).sum(axis=2)).max(axis=1)
    flat = (off <= limit) & ((unit[a] * unit[b]).sum(axis=1) > 0.9) & (length[a] > 0) & (length[b] > 0)
    joined = coo_matrix((np.ones(int(flat.sum()), bool), (a[flat], b[flat])), shape=(len(ids), len(ids)))
    return np.asarray(connected_components(joined, directed=False)[1])


def _flat_keys(
    ids: np.ndarray, places: np.ndarray, corners: np.ndarray, patch: np.ndarray, flat: np.ndarray, normal: np.ndarray, area: np.ndarray,
    limit: float,
) -> np.ndarray:  # fmt: skip
    """(f,) uint64 key of each flat patch: its corners where the border turns, the side it faces, its area to a thousandth."""
    mine = flat[patch]
    low, high, at = edges_of(ids)
    owner = patch[at // 3]
    keep = mine[at // 3]
    low, high, at, owner = low[keep], high[keep], at[keep], owner[keep]
    if not len(at):
        return np.zeros(0, np.uint64)
    n = int(ids.max()) + 1
    _, first, times = np.unique((owner * n + low) * n + high, return_index=True, return_counts=True)
    border = first[times == 1]
    start, end = at[border], at[border] // 3 * 3 + (at[border] % 3 + 1) % 3
    vertex, point = ids.reshape(-1), corners.reshape(-1, 3)
    leaves, arrives = owner[border] * n + vertex[start], owner[border] * n + vertex[end]
    known, where, out = np.unique(leaves, return_index=True, return_counts=True)
    order = np.argsort(arrives, kind="stable")
    left, right = np.searchsorted(arrives[order], known, "left"), np.searchsorted(arrives[order], known, "right")
    simple = (out == 1) & (right - left == 1)
    here = point[start[where]]
    after, before = point[end[where]], point[start[order[np.minimum(left, len(order) - 1)]]]
    kept = ~simple | _turns(here, before, after, limit)
    values = _mixed(places.reshape(-1, 3)[start[where[kept]]])
    result = np.zeros(len(flat), np.uint64)
    np.add.at(result, known[kept] // n, values)
    axis = np.abs(normal).argmax(axis=1)
    side = axis * 2 + (np.take_along_axis(normal, axis[:, None], axis=1)[:, 0] > 0)
    bucket = np.rint(np.log(np.maximum(area, 1e-30)) * 1000).astype(np.int64)
    result += _scrambled((side + bucket * 8).astype(np.uint64))
    return np.asarray(_scrambled(result)[flat])


def _turns(at: np.ndarray, a: np.ndarray, b: np.ndarray, limit: float) -> np.ndarray:
    """(n,) bool: whether a border turns at points between their two neighbours: off their line, or not between them."""
    line = b - a
    long = (line**2).sum(axis=1)
    share = ((at - a) * line).sum(axis=1) / np.maximum(long, 1e-300)
    away = np.linalg.norm(at - a - share[:, None] * line, axis=1)
    return np.asarray((long <= limit**2) | (share < 0) | (share > 1) | (away > limit))


def _scrambled(x: np.ndarray) -> np.ndarray:
    """uint64 mixed by splitmix64's finaliser (Steele, Lea and Flood 2014, from memory)."""
    x = x + np.uint64(0x9E3779B97F4A7C15)
    x = (x ^ (x >> np.uint64(30))) * np.uint64(0xBF58476D1CE4E5B9)
    x = (x ^ (x >> np.uint64(27))) * np.uint64(0x94D049BB133111EB)
    return np.asarray(x ^ (x >> np.uint64(31)))


def _mixed(points: np.ndarray) -> np.ndarray:
    """(n,) uint64 of float32 places (n, 3)."""
    bits = np.ascontiguousarray(points, np.float32).view(np.uint32).astype(np.uint64)
    return np.asarray(_scrambled(_scrambled(_scrambled(bits[:, 0]) ^ bits[:, 1]) ^ bits[:, 2]))


def _plain(places: np.ndarray) -> str:
    """Hash of triangles as they are, in any order, each from its least corner on."""
    if not len(places):
        return ""
    first = np.lexsort((places[..., 2], places[..., 1], places[..., 0]), axis=1)[:, 0]
    turn = (first[:, None] + np.arange(3)) % 3
    rows = np.take_along_axis(places, turn[..., None], axis=1).reshape(len(places), 9)
    return digest(np.ascontiguousarray(rows[np.lexsort(rows.T[::-1])]))
