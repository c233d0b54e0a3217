"""Operations on faces that matter to bakes: double them, turn them alike, delete what nothing can see."""

from dataclasses import replace
from typing import Any

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import breadth_first_order, connected_components

from eddyfall.core.bake.light.gather import samples_of
from eddyfall.core.bake.light.light_scene import light_scene
from eddyfall.core.bake.light.probes import triangle_job
from eddyfall.core.errors import ChangeError
from eddyfall.core.hashing import freeze
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.changes import Change, Operation, apply_change, operation
from eddyfall.core.scene.drawables import final_mesh, pack
from eddyfall.core.scene.model import Mesh, Primitive
from eddyfall.core.uv.charts import edges_of, weld

HIDDEN_SAMPLES = 64
HIDDEN_SHARE = 0.98


def _mesh(build: Build, params: dict[str, Any]) -> int:
    key = params.get("mesh")
    if key not in build.scene.mesh_keys:
        raise ChangeError(f"mesh {key!r} does not exist")
    return build.scene.mesh_keys.index(key)


@operation("face.add_backs")
def add_backs(build: Build, params: dict[str, Any]) -> Build:
    """Double every face of `mesh`, turned round, in the same place with the same UVs."""
    index = _mesh(build, params)
    parts = []
    for part in build.scene.meshes[index].primitives:
        n = len(part.positions)
        attributes = {k: freeze(np.concatenate([v, -v if k == "NORMAL" else v])) for k, v in part.attributes.items()}
        indices = np.concatenate([part.indices, part.indices[:, [0, 2, 1]] + np.int32(n)])
        parts.append(Primitive(attributes, freeze(indices.astype(np.int32)), part.material, part.source_index))
    return replace(build, scene=build.scene.with_mesh(index, Mesh(build.scene.meshes[index].name, tuple(parts))))


@operation("face.rewind")
def rewind(build: Build, params: dict[str, Any]) -> Build:
    """Turn faces of `mesh` so that neighbours run along their common edge in opposite ways; most of each surface keeps its side."""
    index = _mesh(build, params)
    source = build.scene.meshes[index]
    corners = np.concatenate([p.positions.astype(np.float64)[p.indices] for p in source.primitives])
    flip = faces_to_turn(corners)
    parts, at = [], 0
    for part in source.primitives:
        mine = flip[at : at + part.triangles]
        at += part.triangles
        if not mine.any():
            parts.append(part)
            continue
        # Vertices of turned faces are doubled, since their normals turn too.
        turned = np.unique(part.indices[mine])
        number = np.full(len(part.positions), -1, np.int64)
        number[turned] = len(part.positions) + np.arange(len(turned))
        attributes = {
            k: freeze(np.concatenate([v, -v[turned] if k == "NORMAL" else v[turned]])) for k, v in part.attributes.items()
        }
        indices = part.indices.astype(np.int64).copy()
        indices[mine] = number[indices[mine]][:, [0, 2, 1]]
        parts.append(Primitive(attributes, freeze(indices.astype(np.int32)), part.material, part.source_index))
    return replace(build, scene=build.scene.with_mesh(index, Mesh(source.name, tuple(parts))))


def faces_to_turn(corners: np.ndarray) -> np.ndarray:
    """(t,) bool: faces to turn so that every edge of two faces is run along both ways; the larger area of each piece stays."""
    t = len(corners)
    ids = weld(corners.reshape(-1, 3)).reshape(-1, 3)
    low, high, at = edges_of(ids)
    forward = (ids == np.minimum(ids, np.roll(ids, -1, axis=1))).reshape(-1)
    keep = low != high
    key, triangle, ahead = (low * (int(ids.max()) + 1) + high)[keep], (at // 3)[keep], forward[keep]
    order = np.argsort(key, kind="stable")
    key, triangle, ahead = key[order], triangle[order], ahead[order]
    _, start, count = np.unique(key, return_index=True, return_counts=True)
    pair = start[count == 2]
    a, b, alike = triangle[pair], triangle[pair + 1], ahead[pair] == ahead[pair + 1]
    graph = coo_matrix((np.ones(len(a)), (a, b)), shape=(t, t)).tocsr()
    pieces, label = connected_components(graph, directed=False)
    area = np.linalg.norm(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1)
    differs = {(int(i), int(j)): bool(s) for i, j, s in zip(a, b, alike)}
    turn = np.zeros(t, bool)
    for piece in range(pieces):
        root = int(np.flatnonzero(label == piece)[0])
        nodes, before = breadth_first_order(graph, root, directed=False)
        for node in nodes[1:]:
            parent = int(before[node])
            turn[node] = turn[parent] ^ differs.get((parent, int(node)), differs.get((int(node), parent), False))
        mine = label == piece
        if area[mine & turn].sum() > area[mine & ~turn].sum():
            turn[mine] ^= True
    return turn


@operation("face.delete_hidden")
def delete_hidden(build: Build, params: dict[str, Any]) -> Build:
    """Delete the faces of `mesh`, as `node` places it, that nothing can see; `pack`: then pack its charts anew. Copies become real."""
    index = _mesh(build, params)
    key = build.scene.mesh_keys[index]
    geometry = pack(build.scene, build.setup)
    node = params.get("node")
    members = [i for i, d in enumerate(geometry.drawables) if d.mesh == key and (node is None or d.node == node)]
    if not members:
        raise ChangeError(f"node {node!r} does not carry mesh {key!r}")
    first = geometry.drawables[members[0]].node
    members = [i for i in members if geometry.drawables[i].node == first]
    scene = light_scene(build, geometry, None)
    source = final_mesh(build.scene, build.setup, index)
    parts = []
    for i, part in zip(members, source.primitives):
        d = geometry.drawables[i]
        job = triangle_job(geometry, np.arange(d.first, d.last), key, HIDDEN_SAMPLES)
        hidden = samples_of(replace(scene, light_names=(), _embree=scene._embree), job).hidden.mean(axis=1) >= HIDDEN_SHARE
        if hidden.all():
            raise ChangeError(f"every face of {key!r} is hidden")
        kept = part.indices[~hidden]
        used, ids = np.unique(kept, return_inverse=True)
        attributes = {k: freeze(v[used]) for k, v in part.attributes.items()}
        parts.append(Primitive(attributes, freeze(ids.reshape(-1, 3).astype(np.int32)), part.material, part.source_index))
    meshes = dict(build.setup.meshes)
    if key in meshes and meshes[key].copies:
        meshes[key] = meshes[key].model_copy(update={"copies": {}})
    result = replace(
        build,
        scene=build.scene.with_mesh(index, Mesh(source.name, tuple(parts))),
        setup=build.setup.model_copy(update={"meshes": meshes}),
    )
    if params.get("pack"):
        again = Change(id="pack", scope="mesh", operation=Operation(name="uv.pack", params={"mesh": key}))
        result = apply_change(result, again)
    return result
