"""Buffer operations that need nothing but the scene."""

from dataclasses import replace
from typing import Any

import numpy as np

from eddyfall.core.errors import ChangeError
from eddyfall.core.hashing import freeze
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.changes import operation
from eddyfall.core.scene.graft import grafted
from eddyfall.core.scene.model import Node


@operation("node.move")
def move_node(build: Build, params: dict[str, Any]) -> Build:
    """Move a node by by_m (x, y, z metres, world space). ChangeError for unknown nodes or values that are no numbers."""
    key, by = params.get("node"), params.get("by_m")
    if not isinstance(key, str) or key not in build.scene.node_number:
        raise ChangeError(f"node {key!r} does not exist")
    by = _metres(by, 1e6)
    index = build.scene.node_number[key]
    node = build.scene.nodes[index]
    parent = np.eye(4) if node.parent is None else build.scene.world_matrices[node.parent]
    matrix = np.array(node.matrix)
    matrix[:3, 3] += np.linalg.solve(parent[:3, :3], by)
    return replace(build, scene=build.scene.with_node(index, replace(node, matrix=freeze(matrix))))


@operation("node.stand_in")
def stand_in(build: Build, params: dict[str, Any]) -> Build:
    """Let a `mesh` of the scene stand at `place` (4 x 4 by rows, world): in the empty `node`, or in a new one of that name; with `of`, as
    `graft.packed` gives it, the mesh is brought along. ChangeError for unknown meshes, a node that has a shape, a place that is none."""
    key, mesh, place, brought = params.get("node"), params.get("mesh"), params.get("place"), params.get("of")
    if brought is None and (not isinstance(mesh, str) or mesh not in build.scene.mesh_keys):
        raise ChangeError(f"mesh {mesh!r} does not exist")
    if not isinstance(key, str) or not key:
        raise ChangeError("node must be a name")
    numbers = place if isinstance(place, list) else []
    if len(numbers) != 16 or not all(isinstance(v, (int, float)) and type(v) is not bool and abs(v) < 1e6 for v in numbers):
        raise ChangeError("place must be 16 numbers")
    world = np.array(numbers, float).reshape(4, 4)
    if not np.allclose(world[3], (0, 0, 0, 1)) or abs(np.linalg.det(world[:3, :3])) < 1e-12:
        raise ChangeError("place must be the matrix of a place that has a size")
    scene = build.scene
    if key in scene.node_number:
        index = scene.node_number[key]
        if scene.nodes[index].mesh is not None or any(n.parent == index for n in scene.nodes):
            raise ChangeError(f"node {key!r} is not empty")
    if brought is None:
        number = scene.mesh_keys.index(str(mesh))
    else:
        scene, number = grafted(scene, brought)
    if key not in scene.node_number:
        made = Node(key, freeze(world), mesh=number)
        return replace(build, scene=replace(scene, nodes=(*scene.nodes, made)))
    node = scene.nodes[index]
    parent = np.eye(4) if node.parent is None else scene.world_matrices[node.parent]
    matrix = freeze(np.linalg.solve(parent, world))
    return replace(build, scene=scene.with_node(index, replace(node, mesh=number, matrix=matrix)))


@operation("scene.move")
def move_scene(build: Build, params: dict[str, Any]) -> Build:
    """Move all there is by by_m (x, y, z metres): root nodes, viewpoints and keys of moves with eye and target, focus regions, probes,
    light grids, sort points. ChangeError for no numbers."""
    by = _metres(params.get("by_m"), 1e8)
    nodes = []
    for node in build.scene.nodes:
        matrix = np.array(node.matrix)
        if node.parent is None:
            matrix[:3, 3] += by
        nodes.append(replace(node, matrix=freeze(matrix)))

    def moved(place: Any) -> Any:
        return tuple(float(v) for v in np.asarray(place) + by)

    setup = build.setup
    views = {
        key: v if v.eye is None or v.target is None else v.model_copy(update={"eye": moved(v.eye), "target": moved(v.target)})
        for key, v in setup.viewpoints.items()
    }
    tables: dict[str, Any] = {"viewpoints": views}
    corners = ("low_m", "high_m")
    for name, places in (
        ("focus_regions", corners), ("grids", corners), ("probes", ("place_m", *corners)), ("sort_points", ("place_m",)),
    ):  # fmt: skip
        entries = getattr(setup, name).items()
        tables[name] = {k: e.model_copy(update={leaf: moved(getattr(e, leaf)) for leaf in places}) for k, e in entries}
    tables["moves"] = {
        name: move.model_copy(
            update={
                "keys": {
                    k: at if at.eye is None else at.model_copy(update={"eye": moved(at.eye), "target": moved(at.target)})
                    for k, at in move.keys.items()
                }
            }
        )
        for name, move in setup.moves.items()
    }
    scene = replace(build.scene, nodes=tuple(nodes))
    return replace(build, scene=scene, setup=setup.model_copy(update=tables))


@operation("material.metallic")
def set_metallic(build: Build, params: dict[str, Any]) -> Build:
    """Set a material's metallic factor to value, 0 to 1. ChangeError for unknown materials or other values."""
    key, value = params.get("material"), params.get("value")
    if not isinstance(key, str) or key not in build.scene.material_keys:
        raise ChangeError(f"material {key!r} does not exist")
    if not isinstance(value, (int, float)) or isinstance(value, bool) or not 0 <= value <= 1:
        raise ChangeError("value must be a number from 0 to 1")
    index = build.scene.material_keys.index(key)
    materials = list(build.scene.materials)
    materials[index] = replace(materials[index], metallic=float(value))
    return replace(build, scene=replace(build.scene, materials=tuple(materials)))


@operation("mesh.turn_normals")
def turn_normals(build: Build, params: dict[str, Any]) -> Build:
    """Turn the vertex normals of a mesh round; faces stay as they are. ChangeError for unknown meshes and those without normals."""
    key = params.get("mesh")
    if not isinstance(key, str) or key not in build.scene.mesh_keys:
        raise ChangeError(f"mesh {key!r} does not exist")
    index = build.scene.mesh_keys.index(key)
    mesh = build.scene.meshes[index]
    if not all("NORMAL" in p.attributes for p in mesh.primitives):
        raise ChangeError(f"mesh {key!r} has no normals")
    turned = tuple(replace(p, attributes={**p.attributes, "NORMAL": freeze(-p.attributes["NORMAL"])}) for p in mesh.primitives)
    return replace(build, scene=build.scene.with_mesh(index, replace(mesh, primitives=turned)))


def _metres(by: Any, most: float) -> np.ndarray:
    numbers = isinstance(by, list) and len(by) == 3 and all(isinstance(v, (int, float)) and not isinstance(v, bool) for v in by)
    if not numbers or not all(abs(v) < most for v in by):
        raise ChangeError("by_m must be three numbers")
    return np.array(by, float)
