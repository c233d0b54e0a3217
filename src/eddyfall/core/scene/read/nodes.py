"""Nodes of a glTF file: trees, what they carry, and that they stand somewhere."""

from dataclasses import replace
from typing import Any

import numpy as np

from eddyfall.core.errors import SceneError
from eddyfall.core.scene.model import Mesh, Node, Scene, Skin
from eddyfall.core.scene.read.accessors import index_into, numbers, objects, part_of
from eddyfall.core.scene.read.instances import INSTANCING, read_instances
from eddyfall.core.scene.read.meshes import FARTHEST_M
from eddyfall.core.scene.read.placing import matrix_of_entry
from eddyfall.core.scene.read.reading import Reading
from eddyfall.core.scene.read.skins import skin_of
from eddyfall.core.scene.skins import is_skinned, posed

MAX_NODES = 200_000
MAX_NODE_DEPTH = 256


def read_nodes(r: Reading, meshes: tuple[Mesh, ...], lights: int, cameras: int, skins: tuple[Skin, ...]) -> tuple[Node, ...]:
    """Its nodes, instances after them; those that no shown scene reaches carry nothing."""
    entries = objects(r.doc, "nodes")
    if len(entries) > MAX_NODES:
        raise SceneError(f"{len(entries)} nodes, more than {MAX_NODES}", "nodes")
    parents: list[int | None] = [None] * len(entries)
    for i, entry in enumerate(entries):
        children = entry.get("children", [])
        if not isinstance(children, list):
            raise SceneError("children must be a list", f"node {i}")
        for child in children:
            c = index_into(child, entries, "node", f"node {i} children")
            if parents[c] is not None or c == i:
                raise SceneError("has two parents or is its own child: nodes must form trees", f"node {c}")
            parents[c] = i
    depth = [0] * len(entries)
    for i in range(len(entries)):
        steps, at = 0, parents[i]
        while at is not None and depth[at] == 0:
            steps, at = steps + 1, parents[at]
            if steps > MAX_NODE_DEPTH:
                raise SceneError(f"nodes are recursive or nested deeper than {MAX_NODE_DEPTH}", f"node {i}")
        depth[i] = 1 + steps + (depth[at] if at is not None else 0)
        if depth[i] > MAX_NODE_DEPTH + 1:
            raise SceneError(f"nodes are nested deeper than {MAX_NODE_DEPTH}", f"node {i}")
    shown = _reachable(r, entries, parents)
    nodes: list[Node] = []
    copies: list[Node] = []
    for i, entry in enumerate(entries):
        name = r.name(entry, f"node {i}")
        here = f"node {i} {name!r}"
        mesh, camera = entry.get("mesh"), entry.get("camera")
        light = part_of(part_of(entry, "extensions", here), "KHR_lights_punctual", here).get("light")
        if mesh is not None:
            mesh = index_into(mesh, list(meshes), "mesh", here)
        if camera is not None:
            camera = index_into(camera, [None] * cameras, "camera", here)
        if light is not None:
            light = index_into(light, [None] * lights, "light", here)
        if i not in shown:
            mesh = camera = light = None
        skin = skin_of(r, entry, here, None if mesh is None else meshes[mesh], skins)
        weights = morph_weights(r, entry, here, mesh, meshes)
        if mesh is not None and INSTANCING in part_of(entry, "extensions", here):
            every = enumerate(read_instances(r, entry, here), start=1)
            copies += [Node(f"{name} {k}", m, i, mesh, None, None, skin, weights, True) for k, m in every]
            if len(entries) + len(copies) > MAX_NODES:
                raise SceneError(f"with its instances there are more than {MAX_NODES} nodes", here)
            mesh = skin = None
        nodes.append(Node(name, matrix_of_entry(entry, here), parents[i], mesh, light, camera, skin, weights))
    return (*nodes, *copies)


def morph_weights(r: Reading, entry: dict[str, Any], here: str, mesh: int | None, meshes: tuple[Mesh, ...]) -> tuple[float, ...]:
    """Morph weights of a node: its own, else its mesh's."""
    targets = max((len(part.targets) for part in meshes[mesh].primitives), default=0) if mesh is not None else 0
    if not targets or mesh is None:
        return ()
    of_mesh = objects(r.doc, "meshes")[mesh]
    owner = entry if "weights" in entry else of_mesh
    return numbers(owner, "weights", targets, (0.0,) * targets, here)


def placed(r: Reading, scene: Scene) -> Scene:
    """The scene, its nodes checked where they stand: cameras without an axis are left out, what lies too far off is refused."""
    nodes = list(scene.nodes)
    boxes = [_box(mesh) for mesh in scene.meshes]
    for i, node in enumerate(scene.nodes):
        if node.mesh is None and node.light is None and node.camera is None:
            continue
        here, world = f"node {i} {node.name!r}", scene.world_matrices[i]
        if not np.isfinite(world).all() or np.abs(world[:3, 3]).max() > FARTHEST_M:
            raise SceneError("it stands beyond 10,000 km, or nowhere", here)
        axes = np.linalg.norm(world[:3, :3], axis=0)
        if node.camera is not None and (axes.min() < 1e-12 or not np.isfinite(axes).all()):
            r.notes.append(f"left out: the camera of {here}: its scale is 0, so that it looks nowhere")
            nodes[i] = replace(node, camera=None)
        skinned = [p for p in scene.meshes[node.mesh].primitives if is_skinned(scene, node, p)] if node.mesh is not None else []
        if any(not np.abs(posed(scene, i, part).positions).max() <= FARTHEST_M for part in skinned):
            raise SceneError("its joints put it beyond 10,000 km, or nowhere", here)
        if node.mesh is not None and not skinned and boxes[node.mesh] is not None:
            corners = boxes[node.mesh] @ world[:3, :3].T + world[:3, 3]
            if not np.abs(corners).max() <= FARTHEST_M:
                raise SceneError("a position lies beyond 10,000 km", here)
    return replace(scene, nodes=tuple(nodes), notes=tuple(r.notes))


def _reachable(r: Reading, entries: list[dict[str, Any]], parents: list[int | None]) -> set[int]:
    scenes = objects(r.doc, "scenes")
    if not scenes:
        return set(range(len(entries)))
    scene = scenes[index_into(r.doc.get("scene", 0), scenes, "scene", "scene")]
    roots = scene.get("nodes", [])
    if not isinstance(roots, list):
        raise SceneError("nodes must be a list", "scene")
    stack = [index_into(r, entries, "node", "scene") for r in roots]
    seen: set[int] = set()
    while stack:
        i = stack.pop()
        if i not in seen:
            seen.add(i)
            stack.extend(entries[i].get("children", []))
    return seen


def _box(mesh: Mesh) -> np.ndarray | None:
    """(8, 3) float64 corners of the box around a mesh, in its own space; None if it has no parts."""
    if not mesh.primitives:
        return None
    low = np.min([p.positions.min(axis=0) for p in mesh.primitives], axis=0).astype(np.float64)
    high = np.max([p.positions.max(axis=0) for p in mesh.primitives], axis=0).astype(np.float64)
    return np.array([[x, y, z] for x in (low[0], high[0]) for y in (low[1], high[1]) for z in (low[2], high[2])])
