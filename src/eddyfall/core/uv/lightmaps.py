"""Which triangles share one lightmap: the charts of a mesh after its copy rules, by the target's rule."""

from dataclasses import dataclass

import numpy as np

from eddyfall.core.scene.build import Build
from eddyfall.core.scene.drawables import final_mesh
from eddyfall.core.scene.model import Mesh, Primitive
from eddyfall.core.scene.receivers import lightmap_uv_set
from eddyfall.core.scene.setup.sections.bake import Bake
from eddyfall.core.scene.setup.tables import MeshSetup


@dataclass(frozen=True)
class ChartSet:
    """Triangles of one lightmap: uv (t, 3, 2) in tiles, area (t,) m^2 in mesh space, part (t,) material part of each."""

    mesh: str
    part: str
    uv: np.ndarray
    area: np.ndarray
    resolution: int


def chart_sets(build: Build, mesh: int) -> list[ChartSet]:
    """The lightmaps of a mesh: one, or one a material part, as bake.unique_per says. Empty if it is not lightmapped."""
    uv_set = lightmap_uv_set(build, mesh)
    if uv_set is None:
        return []
    key = build.scene.mesh_keys[mesh]
    final = final_mesh(build.scene, build.setup, mesh)
    resolution = mesh_resolution(build, mesh)
    parts = [p for p in final.primitives if f"TEXCOORD_{uv_set}" in p.attributes]
    if not parts:
        return []
    if build.setup[Bake].unique_per == "part":
        keys = build.scene.material_keys
        return [
            ChartSet(key, keys[p.material] if p.material is not None else f"part {i}", *_charts(p, uv_set), resolution)
            for i, p in enumerate(parts)
        ]
    columns = [_charts(p, uv_set) for p in parts]
    return [ChartSet(key, "", np.concatenate([c[0] for c in columns]), np.concatenate([c[1] for c in columns]), resolution)]


def mesh_resolution(build: Build, mesh: int) -> int:
    """Lightmap edge in texels: the largest of the mesh's nodes, else bake.resolution."""
    sizes = [
        entry.lightmap_size
        for key, node in zip(build.scene.node_keys, build.scene.nodes)
        if node.mesh == mesh and (entry := build.setup.nodes.get(key)) is not None and entry.lightmap_size
    ]
    return max(sizes) if sizes else build.setup[Bake].resolution


def _charts(part: Primitive, uv_set: int) -> tuple[np.ndarray, np.ndarray]:
    corners = part.positions.astype(np.float64)[part.indices]
    area = 0.5 * np.linalg.norm(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1)
    return part.attributes[f"TEXCOORD_{uv_set}"].astype(np.float64)[part.indices], area


def copy_entry(build: Build, mesh_key: str) -> MeshSetup:
    """The setup's entry of a mesh."""
    return build.setup.meshes.get(mesh_key, MeshSetup())


def lightmapped_meshes(build: Build) -> list[int]:
    """Indices of meshes that have a lightmap and stand on a node."""
    placed = {n.mesh for n in build.scene.nodes if n.mesh is not None}
    return [i for i in sorted(placed) if lightmap_uv_set(build, i) is not None]


def triangle_count(mesh: Mesh) -> int:
    return sum(p.triangles for p in mesh.primitives)


__all__ = ["ChartSet", "chart_sets", "copy_entry", "lightmap_uv_set", "lightmapped_meshes", "mesh_resolution", "triangle_count"]
