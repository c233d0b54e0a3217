"""Where the charts of copies go: each a tile of its own, in a row along U or in a block, or all fitted into one tile."""

import math
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from eddyfall.core.errors import ChangeError
from eddyfall.core.hashing import freeze
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.changes import operation
from eddyfall.core.scene.model import Mesh
from eddyfall.core.scene.setup.tables import CopyRule
from eddyfall.core.uv.lightmaps import copy_entry, lightmap_uv_set


@dataclass(frozen=True)
class TileLayout:
    """Copy rules whose offsets part the copies. The chart spans `wide` x `tall` tiles from tile (first, first_v); the copies stand in
    `across` columns and `down` rows."""

    rules: dict[str, CopyRule]
    wide: int
    tall: int
    first: int
    first_v: int
    across: int
    down: int

    @property
    def tiles(self) -> int:
        """Copies in all, the original counted."""
        return self.across * self.down


def own_tiles(build: Build, mesh: int, block: bool = False) -> TileLayout:
    """Rules of mesh number `mesh` with offsets that give each copy whole tiles of its own, along U; block: mirrors alternate U and V.

    Each plane of a mirror gets a step of its own: one that several share lays copies over each other. A shell's edge strip is unwrapped
    into tiles beyond, since a bare one has no place of its own.
    """
    key = build.scene.mesh_keys[mesh]
    name = f"TEXCOORD_{lightmap_uv_set(build, mesh)}"
    spans = [p.attributes[name] for p in build.scene.meshes[mesh].primitives if name in p.attributes]
    spans = spans or [np.array([[0.0, 0.0], [1.0, 1.0]])]  # a mesh that is still to be unwrapped
    low, high = np.min([s.min(axis=0) for s in spans], axis=0), np.max([s.max(axis=0) for s in spans], axis=0)
    first = [math.floor(float(v) + 1e-6) for v in low]
    span = [max(1, math.ceil(float(v) - 1e-6) - f) for v, f in zip(high, first)]
    result: dict[str, CopyRule] = {}
    count = [1, 1]
    before = copy_entry(build, key).copies
    for rule_name, rule in sorted(before.items(), key=lambda item: (item[1].order, item[0])):
        if rule.kind == "mirror":
            planes = []
            for plane in rule.planes:
                along = 1 if block and count[0] > count[1] else 0
                planes.append(plane.model_copy(update={"uv_offset": _tiles_along(along, span[along] * count[along])}))
                count[along] *= 2
            result[rule_name] = rule.model_copy(update={"planes": tuple(planes), "uv_mirrored": False})
            continue
        update: dict[str, Any] = {"uv_offset": _tiles_along(0, span[0] * count[0])}
        if rule.kind == "shell":
            update["strip"] = "unwrapped" if rule.strip == "bare" else rule.strip
        result[rule_name] = rule.model_copy(update=update)
        count[0] *= rule.count if rule.kind == "array" else 2 if update["strip"] == "none" else 3
    return TileLayout(result, span[0], span[1], first[0], first[1], count[0], count[1])


def _tiles_along(axis: int, tiles: float) -> tuple[float, float]:
    return (float(tiles), 0.0) if axis == 0 else (0.0, float(tiles))


@operation("uv.share_tile")
def share_tile(build: Build, params: dict[str, Any]) -> Build:
    """Lay the copies of mesh `mesh` side by side in one tile: its lightmap UVs are divided by their number, their offsets follow.

    ChangeError if there is no such mesh, no copies, or its lightmap shares TEXCOORD_0 with its textures.
    """
    key = params.get("mesh")
    if key not in build.scene.mesh_keys:
        raise ChangeError(f"mesh {key!r} does not exist")
    index = build.scene.mesh_keys.index(key)
    if not copy_entry(build, key).copies:
        raise ChangeError(f"mesh {key!r} has no copies to fit into one tile")
    if lightmap_uv_set(build, index) != 1:
        raise ChangeError("its lightmap shares TEXCOORD_0 with its textures; give it a UV set of its own first")
    layout = own_tiles(build, index, block=True)
    scale = np.array([1.0 / (layout.wide * layout.across), 1.0 / (layout.tall * layout.down)])
    parts = []
    for part in build.scene.meshes[index].primitives:
        attributes = dict(part.attributes)
        if "TEXCOORD_1" in attributes:
            uv = attributes["TEXCOORD_1"].astype(np.float64) - [layout.first, layout.first_v]
            attributes["TEXCOORD_1"] = freeze((uv * scale).astype(np.float32))
        parts.append(replace(part, attributes=attributes))
    rules = {name: _scaled(rule, scale) for name, rule in layout.rules.items()}
    meshes = {**build.setup.meshes, key: copy_entry(build, key).model_copy(update={"copies": rules})}
    return replace(
        build,
        scene=build.scene.with_mesh(index, Mesh(build.scene.meshes[index].name, tuple(parts))),
        setup=build.setup.model_copy(update={"meshes": meshes}),
    )


def _scaled(rule: CopyRule, scale: np.ndarray) -> CopyRule:
    def smaller(offset: tuple[float, float]) -> tuple[float, float]:
        return offset[0] * float(scale[0]), offset[1] * float(scale[1])

    planes = tuple(p.model_copy(update={"uv_offset": smaller(p.uv_offset)}) for p in rule.planes)
    return rule.model_copy(update={"uv_offset": smaller(rule.uv_offset), "planes": planes})


@operation("copies.own_parts")
def own_parts(build: Build, params: dict[str, Any]) -> Build:
    """Give the copies that each rule of `mesh` makes a material of their own: a twin of theirs under another name."""
    key = params.get("mesh")
    if key not in build.scene.mesh_keys:
        raise ChangeError(f"mesh {key!r} does not exist")
    entry = copy_entry(build, key)
    if not entry.copies:
        raise ChangeError(f"mesh {key!r} has no copies")
    source = next(
        (p.material for p in build.scene.meshes[build.scene.mesh_keys.index(key)].primitives if p.material is not None), None
    )
    if source is None:
        raise ChangeError(f"mesh {key!r} has no material to copy")
    materials, setup_materials, rules = list(build.scene.materials), dict(build.setup.materials), {}
    for name, rule in sorted(entry.copies.items(), key=lambda item: (item[1].order, item[0])):
        taken = {m.name for m in materials}
        twin = next(n for i in range(1, 10_000) if (n := f"{materials[source].name} copy {i}") not in taken)
        materials.append(replace(materials[source], name=twin))
        entry_of_source = build.setup.materials.get(build.scene.material_keys[source])
        if entry_of_source is not None:
            setup_materials[twin] = entry_of_source
        rules[name] = rule.model_copy(update={"material": twin})
    meshes = {**build.setup.meshes, key: entry.model_copy(update={"copies": rules})}
    setup = build.setup.model_copy(update={"meshes": meshes, "materials": setup_materials})
    return replace(build, scene=replace(build.scene, materials=tuple(materials)), setup=setup)
