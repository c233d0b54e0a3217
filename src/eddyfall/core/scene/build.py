"""A build: one scene and one setup, both immutable."""

from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any

import numpy as np

from eddyfall.core.errors import SetupError
from eddyfall.core.hashing import digest
from eddyfall.core.scene.drawables import final_mesh
from eddyfall.core.scene.model import Scene, sky_named
from eddyfall.core.scene.resolve import skies_named
from eddyfall.core.scene.setup import Setup
from eddyfall.core.scene.setup.tables import NodeSetup
from eddyfall.core.scene.splits import plane_through


@dataclass(frozen=True)
class Build:
    """`raw_setup` is the user's own document, which hand-over patches; `notes` are what intake has to say."""

    scene: Scene
    setup: Setup
    raw_setup: dict[str, Any] = field(default_factory=dict, metadata={"hashed": False})
    notes: tuple[str, ...] = field(default=(), metadata={"hashed": False})

    def with_setup(self, setup: Setup) -> "Build":
        """The build with another setup."""
        return replace(self, setup=setup)

    @cached_property
    def content_hash(self) -> str:
        return digest(self)


def check_keys(scene: Scene, setup: Setup) -> list[str]:
    """Notes on setup keys that name nothing in the scene; SetupError where rendering would depend on them."""
    notes = []
    tables: list[tuple[str, dict[str, Any], set[str]]] = [
        ("materials", setup.materials, set(scene.material_keys)),
        ("meshes", setup.meshes, set(scene.mesh_keys)),
        ("nodes", setup.nodes, set(scene.node_keys)),
    ]
    for name, table, keys in tables:
        notes += [f"the setup's {name}.{key} names nothing in the scene" for key in table if key not in keys]
    member_of: dict[str, str] = {}
    for name, point in setup.sort_points.items():
        for node in point.members:
            if node in member_of:
                raise SetupError(f"node {node!r} is a member of {member_of[node]!r} already", f"sort_points.{name}.members")
            member_of[node] = name
        notes += [
            f"the setup's sort_points.{name} names node {n!r}, which is not in the scene"
            for n in point.members
            if n not in scene.node_number
        ]
    for key, node_setup in setup.nodes.items():
        if node_setup.split_at and key in scene.node_number:
            notes += _splits_checked(scene, setup, key, node_setup)
        if node_setup.triangle_order and key in scene.node_number:
            _order_checked(scene, setup, key, node_setup.triangle_order)
    filled: dict[str, str] = {}
    for name, volume in setup.volumes.items():
        if volume.node in filled:
            raise SetupError(f"node {volume.node!r} bounds {filled[volume.node]!r} already", f"volumes.{name}.node")
        filled[volume.node] = name
        if volume.node not in scene.node_number:
            notes.append(f"the setup's volumes.{name} names node {volume.node!r}, which is not in the scene")
    lights = set(scene.light_keys)
    notes += [
        f"the setup's lights.{k} names nothing in the scene"
        for k, v in setup.lights.items()
        if v.kind is None and k not in lights
    ]
    cameras = {scene.node_keys[i] for i, n in enumerate(scene.nodes) if n.camera is not None}
    for key, view in setup.viewpoints.items():
        if view.camera is not None and view.camera not in cameras:
            raise SetupError(f"camera node {view.camera!r} is not in the scene", f"viewpoints.{key}.camera")
    notes += [
        f"sky.picture {name!r} is not there: the three radiances are drawn; there are: {', '.join(s.name for s in scene.skies) or 'none'}"
        for name in skies_named(setup)
        if sky_named(scene.skies, name) is None
    ]
    images = set(scene.image_keys)
    bound = {f"materials.{k}.maps.{role}.image": m.image for k, e in setup.materials.items() for role, m in e.maps.items()}
    bound |= {f"shaders.{k}.slots.{role}.default": m.default for k, e in setup.shaders.items() for role, m in e.slots.items()}
    notes += [
        f"{path} {image!r} is no picture of the scene"
        for path, image in bound.items()
        if image is not None and image not in images
    ]
    materials = set(scene.material_keys)
    for key, mesh in setup.meshes.items():
        for rule_name, rule in mesh.copies.items():
            if rule.material is not None and rule.material not in materials:
                raise SetupError(f"material {rule.material!r} is not in the scene", f"meshes.{key}.copies.{rule_name}.material")
        if mesh.dense and key in scene.mesh_keys:
            blended = _blended_part(scene, setup, scene.mesh_keys.index(key))
            if blended is not None:
                raise SetupError(
                    f"its material {blended} is blended: only opaque and cutout meshes can be dense", f"meshes.{key}.dense"
                )
    return notes


def _splits_checked(scene: Scene, setup: Setup, key: str, entry: NodeSetup) -> list[str]:
    """Notes on nodes that are not there; SetupError if what a node is to be split at is not flat, or it has a lightmap."""
    where, number = f"nodes.{key}.split_at", scene.node_number
    mesh = scene.nodes[number[key]].mesh
    if mesh is not None and entry.lightmapped and not entry.moves:
        of_mesh = setup.meshes.get(scene.mesh_keys[mesh])
        if of_mesh is not None and of_mesh.lightmap_uv is not None:
            raise SetupError("it has a lightmap, which is of all of it", where)
    for name in entry.split_at:
        if name == key:
            raise SetupError("a node cannot be split at itself", where)
        of = scene.nodes[number[name]].mesh if name in number else None
        if (
            of is not None
            and plane_through(np.concatenate([p.positions for p in final_mesh(scene, setup, of).primitives])) is None
        ):
            raise SetupError(f"node {name!r} is not flat", where)
    return [f"the setup's {where} names node {n!r}, which has no shape in the scene" for n in entry.split_at
            if n not in number or scene.nodes[number[n]].mesh is None]  # fmt: skip


def _order_checked(scene: Scene, setup: Setup, key: str, order: tuple[int, ...]) -> None:
    """SetupError if an order of a node's triangles does not name each of them once."""
    where, mesh = f"nodes.{key}.triangle_order", scene.nodes[scene.node_number[key]].mesh
    parts = final_mesh(scene, setup, mesh).primitives if mesh is not None else ()
    if len(parts) != 1:
        raise SetupError(f"it is of a node of one part, this has {len(parts)}", where)
    if sorted(order) != list(range(len(parts[0].indices))):
        raise SetupError(f"it has to name each of 0 .. {len(parts[0].indices) - 1} once", where)


def _blended_part(scene: Scene, setup: Setup, mesh: int) -> str | None:
    """The first material of a mesh that is blended; None if none is."""
    for part in scene.meshes[mesh].primitives:
        if part.material is None:
            continue
        key, material = scene.material_keys[part.material], scene.materials[part.material]
        entry = setup.materials.get(key)
        blend = entry.blend if entry is not None else None
        if material.alpha_mode == "BLEND" if blend is None else blend not in ("opaque", "cutout"):
            return key
    return None


def made_up_keys(scene: Scene) -> list[str]:
    """Notes on keys Eddyfall made because glTF names are missing or doubled."""
    notes = []
    for what, keys, names in (
        ("mesh", scene.mesh_keys, [m.name for m in scene.meshes]),
        ("node", scene.node_keys, [n.name for n in scene.nodes]),
        ("material", scene.material_keys, [m.name for m in scene.materials]),
    ):
        made = [key for key, name in zip(keys, names) if key != name]
        if made:
            listed = ", ".join(made[:6]) + (f" and {len(made) - 6} more" if len(made) > 6 else "")
            notes.append(f"{what} keys made up for missing or doubled names: {listed}")
    return notes
