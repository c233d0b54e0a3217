"""Tangents of a part that came without: glTF 2.0 (3.7.2.1) asks for those of MikkTSpace, by which exporters bake normal maps.

After Mikkelsen 2008, Simulation of Wrinkled Surfaces Revisited, and the program that goes with it (from memory). Corners that are alike in
place, normal and coordinates are one. About each, triangles that hang together by edges and are not mirrored against each other form a
group; a group has one tangent: the mean of its triangles' directions of u, laid into the plane of the normal, by their angles there.
"""

from collections import OrderedDict
from dataclasses import replace

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from eddyfall.core.hashing import array_digest, freeze
from eddyfall.core.scene.model import STRAIGHT, Primitive, TextureUse

REMEMBERED = 256  # parts
_known: OrderedDict[tuple[object, ...], tuple[np.ndarray, np.ndarray, np.ndarray]] = OrderedDict()


def corner_tangents(positions: np.ndarray, normals: np.ndarray, uv: np.ndarray, triangles: np.ndarray) -> np.ndarray:
    """(t, 3, 4) float32 tangents of the corners of triangles (t, 3), unit, with the side of the bitangent as glTF has it: v runs down the
    picture, so that it is minus that of MikkTSpace. All zero where coordinates span no area and no neighbour says more.
    positions, normals (v, 3); uv (v, 2)."""
    tangents, group = _of_groups(positions, normals, uv, triangles)
    return np.asarray(tangents[group])


def _of_groups(
    positions: np.ndarray, normals: np.ndarray, uv: np.ndarray, triangles: np.ndarray
) -> tuple[np.ndarray, np.ndarray]:
    """((g, 4) float32 tangents of groups, (t, 3) the group of each corner)."""
    points = [np.asarray(values, np.float32) for values in (positions, normals, uv)]
    same = _welded(np.concatenate(points, axis=1))[triangles]
    place, normal, flat = (values[triangles] for values in points)
    (e1, e2), (d1, d2) = ((v[:, 1] - v[:, 0], v[:, 2] - v[:, 0]) for v in (place.astype(float), flat.astype(float)))
    area = d1[:, 0] * d2[:, 1] - d1[:, 1] * d2[:, 0]
    side = np.where(area > 0, 1.0, -1.0)
    along = (d2[:, 1:] * e1 - d1[:, 1:] * e2) * side[:, None]
    across = (d1[:, :1] * e2 - d2[:, :1] * e1) * side[:, None]
    sound = (np.linalg.norm(np.cross(e1, e2), axis=1) > 0) & (np.abs(area) > 0)
    sound &= (np.linalg.norm(along, axis=1) > 0) & (np.linalg.norm(across, axis=1) > 0)
    group = _groups(same, np.where(sound, side, 0.0))

    # Each corner's share: its triangle's direction of u in the plane of its normal, by the angle of the corner in that plane.
    unit = normal.astype(float)
    share = _unit(_in_plane(along[:, None, :].repeat(3, axis=1), unit))
    before, after = (_unit(_in_plane(np.roll(place, k, axis=1).astype(float) - place, unit)) for k in (1, -1))
    share *= np.arccos(np.clip(np.einsum("tkj,tkj->tk", before, after), -1, 1))[..., None]
    share[~sound] = 0.0
    groups = int(group.max(initial=-1)) + 1
    sums = np.stack([np.bincount(group.reshape(-1), share[..., k].reshape(-1), groups) for k in range(3)], axis=1)
    of_group = _unit(sums)
    sides = np.zeros(groups)
    sides[group[sound].reshape(-1)] = -np.repeat(side[sound], 3)
    sides[~np.any(of_group, axis=1)] = 0.0
    return np.concatenate([of_group, sides[:, None]], axis=1).astype(np.float32), group


def combed(part: Primitive, use: TextureUse | None) -> Primitive:
    """A part with tangents for the normal map of `use`: as it is, if it has them, or no map or coordinates. Vertices whose corners have
    several tangents are told apart."""
    key = f"TEXCOORD_{use.uv_set}" if use is not None else ""
    if use is None or "TANGENT" in part.attributes or key not in part.attributes or not len(part.indices):
        return part
    names = ("POSITION", "NORMAL", key)
    asked = (*(array_digest(part.attributes[name]) for name in names), array_digest(part.indices), use.turn)
    if (found := _known.get(asked)) is None:
        uv = part.attributes[key] if use.turn == STRAIGHT else use.turned(part.attributes[key])
        tangents, group = _of_groups(part.positions, part.attributes["NORMAL"], uv, part.indices)
        found = _known[asked] = _told_apart(part.indices, tangents, group, len(part.positions))
        if len(_known) > REMEMBERED:
            _known.popitem(last=False)
    _known.move_to_end(asked)
    taken, indices, tangents = found
    if len(taken) == len(part.positions):
        return replace(part, attributes={**part.attributes, "TANGENT": tangents})
    attributes = {name: freeze(values[taken]) for name, values in part.attributes.items()}
    targets = tuple({name: freeze(values[taken]) for name, values in target.items()} for target in part.targets)
    return replace(part, attributes={**attributes, "TANGENT": tangents}, indices=indices, targets=targets)


def _told_apart(
    indices: np.ndarray, tangents: np.ndarray, group: np.ndarray, count: int
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """((n,) vertex that each vertex is taken from, (t, 3) triangles, (n, 4) tangents): all vertices as they were, in front, with the
    tangent that the first of their corners has; then those of corners that have another one."""
    flat, of_group = indices.reshape(-1).astype(np.int64), _welded(tangents)
    kind, kinds = of_group[group].reshape(-1), int(of_group.max()) + 1
    _, first, which = np.unique(flat * kinds + kind, return_index=True, return_inverse=True)
    of = flat[first]
    order = np.argsort(first, kind="stable")  # of one vertex, the tangent that comes first stays with it
    _, leading = np.unique(of[order], return_index=True)
    leads = np.zeros(len(first), bool)
    leads[order[leading]] = True
    number = np.empty(len(first), np.int64)
    number[leads] = of[leads]
    number[~leads] = count + np.arange(int((~leads).sum()))
    taken = np.concatenate([np.arange(count), of[~leads]])
    made = np.zeros((len(taken), 4), np.float32)
    made[number] = tangents[group.reshape(-1)[first]]
    return taken, freeze(number[which.reshape(-1)].reshape(-1, 3).astype(np.int32)), freeze(made)


def _welded(rows: np.ndarray) -> np.ndarray:
    """(n,) one number for all rows (n, k) that are alike."""
    plain = np.ascontiguousarray(rows + np.float32(0))  # no minus zero
    return np.unique(plain.view(np.dtype((np.void, plain.dtype.itemsize * plain.shape[1]))).reshape(-1), return_inverse=True)[
        1
    ].reshape(-1)


def _groups(same: np.ndarray, side: np.ndarray) -> np.ndarray:
    """(t, 3) group of each corner: those of one point (t, 3) whose triangles hang together by edges and have one side (t,): 1, -1, or 0 for
    one that takes that of a neighbour."""
    count = len(same)
    begin, end = same, np.roll(same, -1, axis=1)
    edges = np.stack([np.minimum(begin, end), np.maximum(begin, end)], axis=-1).reshape(-1, 2)
    turned = (begin > end).reshape(-1)
    order = np.lexsort((turned, edges[:, 1], edges[:, 0]))
    # Two triangles that run along an edge both ways: neighbours in this order.
    a, b = order[:-1], order[1:]
    paired = (edges[a] == edges[b]).all(axis=1) & ~turned[a] & turned[b]
    a, b = a[paired], b[paired]
    alone = _joined(side, a, b, side != 0)
    if side.all():
        return alone
    first = np.full(int(alone.max(initial=-1)) + 1, 3 * count)
    np.minimum.at(first, alone.reshape(-1), np.arange(3 * count))
    return _joined(_taken_on(side, a, b, first[alone].reshape(-1)), a, b, np.ones(count, bool))


def _joined(side: np.ndarray, a: np.ndarray, b: np.ndarray, of: np.ndarray) -> np.ndarray:
    """(t, 3) numbers of groups that hang together by edges, which begin at corners a and b (e,), of triangles (t,) bool."""
    one = (side[a // 3] == side[b // 3]) & of[a // 3] & of[b // 3]
    a, b = a[one], b[one]
    # An edge runs from its corner to the one after; its neighbour's runs the other way.
    pairs = np.concatenate([np.stack([a, _after(b)]), np.stack([_after(a), b])], axis=1)
    graph = coo_matrix((np.ones(pairs.shape[1], np.int8), (pairs[0], pairs[1])), (3 * len(side), 3 * len(side)))
    return np.asarray(connected_components(graph, directed=False)[1]).reshape(-1, 3)


def _after(corner: np.ndarray) -> np.ndarray:
    """The next corner of its triangle."""
    return np.asarray(corner - corner % 3 + (corner % 3 + 1) % 3)


def _taken_on(side: np.ndarray, a: np.ndarray, b: np.ndarray, first: np.ndarray) -> np.ndarray:
    """Sides (t,) where those without one have that of the neighbour whose group comes first; first (3 t,): the corner with which that of
    a corner begins."""
    side = side.copy()
    here, there = np.concatenate([a, b]) // 3, np.concatenate([b, a]) // 3
    rank = np.minimum(first, first[_after(np.arange(len(first)))])[np.concatenate([b, a])]
    order = np.argsort(-rank, kind="stable")
    here, there = here[order], there[order]
    while (takes := (side[here] == 0) & (side[there] != 0)).any():
        side[here[takes]] = side[there[takes]]
    return side


def _in_plane(vectors: np.ndarray, normals: np.ndarray) -> np.ndarray:
    return np.asarray(vectors - normals * np.einsum("...j,...j->...", vectors, normals)[..., None])


def _unit(vectors: np.ndarray) -> np.ndarray:
    return np.asarray(vectors / np.maximum(np.linalg.norm(vectors, axis=-1, keepdims=True), 1e-30))
