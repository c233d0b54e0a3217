"""Charts packed anew: copies evaluated for good, every triangle a place of its own in one tile. Packing is xatlas's."""

from dataclasses import replace
from typing import Any

import numpy as np
import xatlas

from eddyfall.core.errors import ChangeError
from eddyfall.core.hashing import freeze
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.changes import operation
from eddyfall.core.scene.drawables import final_mesh
from eddyfall.core.scene.model import Mesh, Primitive
from eddyfall.core.scene.setup.sections.bake import Bake
from eddyfall.core.uv.atlas import new_atlas
from eddyfall.core.uv.lightmaps import lightmap_uv_set, mesh_resolution


@operation("uv.repack")
def repack(build: Build, params: dict[str, Any]) -> Build:
    """Unwrap and pack the lightmap UVs of mesh `mesh` into TEXCOORD_1, its copies evaluated for good and their rules removed.

    A lightmap that shared TEXCOORD_0 with the mesh's textures takes TEXCOORD_1 from then on.
    """
    key = params.get("mesh")
    if key not in build.scene.mesh_keys:
        raise ChangeError(f"mesh {key!r} does not exist")
    gutter = params.get("gutter_texels", build.setup[Bake].gutter_texels)
    if not isinstance(gutter, int) or not 0 <= gutter <= 64:
        raise ChangeError("gutter_texels must be a whole number from 0 to 64")
    index = build.scene.mesh_keys.index(key)
    if any(1 in _texture_sets(build, part) for part in build.scene.meshes[index].primitives):
        raise ChangeError(f"textures of {key!r} use TEXCOORD_1")
    mesh = repack_mesh(final_mesh(build.scene, build.setup, index), mesh_resolution(build, index), gutter)
    meshes = dict(build.setup.meshes)
    if key in meshes and meshes[key].copies:
        meshes[key] = meshes[key].model_copy(update={"copies": {}})
    if lightmap_uv_set(build, index) == 0:
        meshes[key] = meshes[key].model_copy(update={"lightmap_uv": 1})
    return replace(build, scene=build.scene.with_mesh(index, mesh), setup=build.setup.model_copy(update={"meshes": meshes}))


def _texture_sets(build: Build, part: Primitive) -> set[int]:
    """UV sets that the textures of a part use."""
    if part.material is None:
        return set()
    uses = build.scene.materials[part.material].every_use.values()
    return {use.uv_set for use in uses if use is not None}


def repack_mesh(mesh: Mesh, resolution: int, gutter_texels: int) -> Mesh:
    """The mesh with a fresh TEXCOORD_1 in 0..1 shared by all its parts; vertices split where charts part."""
    with new_atlas() as atlas:
        for part in mesh.primitives:
            atlas.add_mesh(part.positions, part.indices.astype(np.uint32), part.attributes["NORMAL"])
        pack = xatlas.PackOptions()
        pack.padding = int(gutter_texels)
        pack.bilinear = True
        pack.resolution = int(resolution)
        atlas.generate(xatlas.ChartOptions(), pack)
        # Charts that do not fit one page spill onto more: lay the pages side by side in a square and shrink them into the tile.
        side = max(1, int(np.ceil(np.sqrt(atlas.atlas_count))))
        square = np.array([atlas.width, atlas.height]) / max(atlas.width, atlas.height)
        parts = []
        for i, part in enumerate(mesh.primitives):
            vertices, indices, uvs = atlas.get_mesh(i)
            page = np.asarray(atlas.get_mesh_vertex_assignment(i)[0], int)
            offset = np.stack([page % side, page // side], axis=1)
            attributes = {name: freeze(array[vertices]) for name, array in part.attributes.items() if name != "TEXCOORD_1"}
            attributes["TEXCOORD_1"] = freeze(((uvs * square + offset) / side).astype(np.float32))
            parts.append(Primitive(attributes, freeze(indices.astype(np.int32)), part.material, part.source_index))
    return Mesh(mesh.name, tuple(parts))
