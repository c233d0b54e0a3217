"""Where the charts of copies go: each a tile of its own along U, or all squashed side by side into one tile."""

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
    """Copy rules whose offsets part the copies; `wide` tiles each copy spans along U from tile `first`, `tiles` copies in all."""

    rules: dict[str, CopyRule]
    wide: int
    tiles: int
    first: int


def own_tiles(build: Build, mesh: int) -> TileLayout:
    """Rules of mesh number `mesh` with offsets along U that give each copy whole tiles of its own.

    One offset cannot part the copies of a mirror on several axes, so such a rule is split into one rule an axis.
    """
    key = build.scene.mesh_keys[mesh]
    name = f"TEXCOORD_{lightmap_uv_set(build, mesh)}"
    spans = [p.attributes[name][:, 0] for p in build.scene.meshes[mesh].primitives if name in p.attributes]
    low, high = min(float(s.min()) for s in spans), max(float(s.max()) for s in spans)
    first = math.floor(low + 1e-6)
    wide = max(1, math.ceil(high - 1e-6) - first)
    result: dict[str, CopyRule] = {}
    stride = wide
    before = copy_entry(build, key).copies
    split = any(rule.kind == "mirror" and len(rule.axes) > 1 for rule in before.values())
    for rule_name, rule in sorted(before.items(), key=lambda item: (item[1].order, item[0])):
        parts = {rule_name: rule}
        if rule.kind == "mirror" and len(rule.axes) > 1:
            parts = {f"{rule_name} {axis}": rule.model_copy(update={"axes": (axis,)}) for axis in rule.axes}
        for part_name, part in parts.items():
            order = len(result) if split else part.order
            result[part_name] = part.model_copy(update={"uv_offset": (float(stride), 0.0), "order": order})
            stride *= part.count if part.kind == "array" else 2
    return TileLayout(result, wide, stride // wide, first)


@operation("uv.squash")
def squash(build: Build, params: dict[str, Any]) -> Build:
    """Lay the copies of mesh `mesh` side by side in one tile: its lightmap U is divided by their number, their offsets follow.

    ChangeError if there is no such mesh, no copies, or its lightmap shares TEXCOORD_0 with its textures.
    """
    key = params.get("mesh")
    if key not in build.scene.mesh_keys:
        raise ChangeError(f"mesh {key!r} does not exist")
    index = build.scene.mesh_keys.index(key)
    if not copy_entry(build, key).copies:
        raise ChangeError(f"mesh {key!r} has no copies to squash")
    if lightmap_uv_set(build, index) != 1:
        raise ChangeError("its lightmap shares TEXCOORD_0 with its textures; give it a UV set of its own first")
    layout = own_tiles(build, index)
    scale = np.array([1.0 / (layout.wide * layout.tiles), 1.0])
    parts = []
    for part in build.scene.meshes[index].primitives:
        attributes = dict(part.attributes)
        if "TEXCOORD_1" in attributes:
            uv = attributes["TEXCOORD_1"].astype(np.float64) - [layout.first, 0.0]
            attributes["TEXCOORD_1"] = freeze((uv * scale).astype(np.float32))
        parts.append(replace(part, attributes=attributes))
    rules = {
        name: rule.model_copy(update={"uv_offset": (rule.uv_offset[0] * float(scale[0]), 0.0)})
        for name, rule in layout.rules.items()
    }
    meshes = {**build.setup.meshes, key: copy_entry(build, key).model_copy(update={"copies": rules})}
    return replace(
        build,
        scene=build.scene.with_mesh(index, Mesh(build.scene.meshes[index].name, tuple(parts))),
        setup=build.setup.model_copy(update={"meshes": meshes}),
    )
