"""The river front delivered a second time, over twelve edits that were kept on the first: renames, a node that is two now, two that are
one, a moved thing, a lost one, a new one, new pictures and values. What each edit comes to is in the truth table."""

import json
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np

from eddyfall.core import defects  # noqa: F401  (registers the buffer operations)
from eddyfall.core.hashing import freeze
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.changes import Change, Operation, Scope, apply_change, set_leaf
from eddyfall.core.scene.gltf_write import write_glb
from eddyfall.core.scene.model import Mesh, Node, Primitive, Scene
from eddyfall.demo.files import write_files
from eddyfall.demo.shapes import Shape
from eddyfall.demo.write import make_demo

NAME = "weirgate_quay"
SECOND = f"{NAME}.second.glb"
RENAMED = {"river": "river_surface", "hall_windows": "hall_glazing"}
RENAMED_MATERIALS = {"window_glass": "glazing"}

# By edit: what it sets, and what it comes to.
EDITS: tuple[tuple[str, Scope, tuple[str, ...], Any, str], ...] = (
    ("thinner-fog", "project", ("fog", "fog_per_m"), 0.0012, "kept"),
    ("shadows-to-450", "project", ("shadow", "reach_m"), 450.0, "kept"),
    ("river-first", "node", ("nodes", "river", "draw_rank"), -2, "moved"),
    ("glass-both-sides", "material", ("materials", "window_glass", "double_sided"), True, "moved"),
    ("gates-padded", "node", ("nodes", "sluice_gates", "bounds_padding_m"), 0.3, "adapted"),
    ("net-1-unshaded", "node", ("nodes", "fender_net_1", "draw_distance_m"), 300.0, "adapted"),
    ("net-2-near", "node", ("nodes", "fender_net_2", "draw_distance_m"), 120.0, "asked"),
    ("louvre-casts-not", "node", ("nodes", "tower_louvre", "casts"), False, "lost"),
    ("rail-both-sides", "material", ("materials", "rail_paint", "double_sided"), True, "delivered"),
)
OPERATIONS: tuple[tuple[str, Scope, str, dict[str, Any], str], ...] = (
    ("hoist-raised", "node", "node.move", {"node": "near_pier_hoist", "by_m": [0.0, 0.2, 0.0]}, "asked"),
    ("gear-of-metal", "material", "material.metallic", {"material": "gate_steel", "value": 0.9}, "kept"),
    ("door-turned", "mesh", "mesh.turn_normals", {"mesh": "hall_door"}, "adapted"),
)


def edits(build: Build) -> tuple[Change, ...]:
    """Twelve kept changes of the first delivery, as a ledger holds them."""
    made: list[Change] = []
    for name, scope, path, value, _ in EDITS:
        change = set_leaf(build, path, value, scope=scope, title=name.replace("-", " ")).model_copy(update={"id": name})
        build = apply_change(build, change)
        made.append(change)
    for name, scope, operation, params, _ in OPERATIONS:
        change = Change(id=name, title=name.replace("-", " "), scope=scope, operation=Operation(name=operation, params=params))
        build = apply_change(build, change)
        made.append(change)
    return tuple(made)


def fates() -> dict[str, str]:
    """What each edit comes to in the second delivery."""
    return {name: fate for name, *_, fate in (*EDITS, *OPERATIONS)}


def second(scene: Scene) -> Scene:
    """The second delivery of a scene."""
    scene = _renamed(_changed(scene))
    scene = _split(scene, "sluice_gates", ("sluice_gate_low", "sluice_gate_high"))
    scene = _merged(scene, ("fender_net_1", "fender_net_2"), "fender_nets_west")
    scene = _without(scene, "tower_louvre")
    ring = Shape().box((-3.0, 2.2, 1.9), (-2.4, 2.8, 2.0)).primitive(scene.material_keys.index("rail_paint"))
    meshes = (*scene.meshes, Mesh("life_ring", (ring,)))
    return replace(scene, meshes=meshes, nodes=(*scene.nodes, Node("life_ring", np.eye(4), mesh=len(scene.meshes))))


def _changed(scene: Scene) -> Scene:
    """New values: a brick picture, gate paint, a rail of two sides, a hoist half a metre on, a door of other triangles."""
    images = list(scene.images)
    brick = scene.image_keys.index("brick")
    pixels = np.array(images[brick].pixels)
    pixels[..., :3] = np.clip(pixels[..., :3].astype(int) + np.array([14, 4, -6]), 0, 255)
    images[brick] = replace(images[brick], name="brick_repointed", pixels=freeze(pixels))
    values: dict[str, dict[str, Any]] = {"gate_paint": {"roughness": 0.3}, "rail_paint": {"double_sided": True}}
    materials = tuple(replace(m, **values.get(m.name, {})) for m in scene.materials)
    matrix = np.array(scene.nodes[scene.node_number["near_pier_hoist"]].matrix)
    matrix[:3, 3] += (0.5, 0.0, 0.0)
    number = scene.node_number["near_pier_hoist"]
    scene = scene.with_node(number, replace(scene.nodes[number], matrix=freeze(matrix)))
    door = scene.mesh_keys.index("hall_door")
    part = scene.meshes[door].primitives[0]
    positions = np.array(part.positions)
    positions[:, 1] += np.where(positions[:, 1] > positions[:, 1].mean(), np.float32(0.15), np.float32(0.0))
    part = replace(part, attributes={**part.attributes, "POSITION": freeze(positions)})
    scene = scene.with_mesh(door, replace(scene.meshes[door], primitives=(part,)))
    return replace(scene, images=tuple(images), materials=materials)


def _renamed(scene: Scene) -> Scene:
    nodes = tuple(replace(n, name=RENAMED.get(n.name, n.name)) for n in scene.nodes)
    materials = tuple(replace(m, name=RENAMED_MATERIALS.get(m.name, m.name)) for m in scene.materials)
    return replace(scene, nodes=nodes, materials=materials)


def _split(scene: Scene, name: str, names: tuple[str, str]) -> Scene:
    """A node's triangles on two nodes, by the side of its middle they lie on."""
    number = scene.node_number[name]
    node = scene.nodes[number]
    assert node.mesh is not None
    part = scene.meshes[node.mesh].primitives[0]
    middle = part.positions[part.indices].mean(axis=1)
    axis = int(np.argmax(np.ptp(middle, axis=0)))
    low = middle[:, axis] <= np.median(middle[:, axis])
    halves = [Mesh(n, (_some(part, part.indices[side]),)) for n, side in zip(names, (low, ~low))]
    scene = scene.with_mesh(node.mesh, halves[0])
    scene = scene.with_node(number, replace(node, name=names[0]))
    return replace(
        scene, meshes=(*scene.meshes, halves[1]), nodes=(*scene.nodes, replace(node, name=names[1], mesh=len(scene.meshes)))
    )  # fmt: skip


def _merged(scene: Scene, names: Sequence[str], into: str) -> Scene:
    """Nodes of one material as one node."""
    numbers = [scene.node_number[n] for n in names]
    meshes = [scene.nodes[i].mesh for i in numbers]
    parts = [scene.meshes[m].primitives[0] for m in meshes if m is not None]
    worlds = [scene.world_matrices[i] for i in numbers]
    columns = {key: [p.attributes[key] for p in parts] for key in parts[0].attributes}
    columns["POSITION"] = [(p.positions @ w[:3, :3].T + w[:3, 3]).astype(np.float32) for p, w in zip(parts, worlds)]
    starts = np.cumsum([0, *(len(p.positions) for p in parts[:-1])])
    indices = np.concatenate([p.indices + np.int32(start) for p, start in zip(parts, starts)])
    whole = Primitive(
        {key: freeze(np.concatenate(values)) for key, values in columns.items()}, freeze(indices), parts[0].material
    )
    scene = replace(scene, meshes=(*scene.meshes, Mesh(into, (whole,))))
    made = Node(into, np.eye(4), mesh=len(scene.meshes) - 1)
    scene = scene.with_node(numbers[0], made)
    return _without(scene, names[1])


def _without(scene: Scene, name: str) -> Scene:
    number = scene.node_number[name]
    return replace(scene, nodes=tuple(n for i, n in enumerate(scene.nodes) if i != number))


def _some(part: Primitive, indices: np.ndarray) -> Primitive:
    used, numbers = np.unique(indices, return_inverse=True)
    attributes = {key: freeze(values[used]) for key, values in part.attributes.items()}
    return Primitive(attributes, freeze(numbers.reshape(-1, 3).astype(np.int32)), part.material)


def write_deliveries(folder: Path) -> dict[str, Path]:
    """Write both deliveries, the edits kept on the first as a file of changes, and a truth table of what they come to."""
    build, _ = make_demo()
    paths = write_files(folder, NAME, build, {"edits": fates()})
    paths["second"] = folder / SECOND
    paths["second"].write_bytes(write_glb(second(build.scene)))
    paths["changes"] = folder / f"{NAME}.changes.json"
    kept = [change.model_dump(mode="json") for change in edits(build)]
    paths["changes"].write_text(json.dumps({"eddyfall_changes": 1, "changes": kept}, indent=2))
    return paths
