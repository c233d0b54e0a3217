"""Repairs of lightmap UVs as named operations: pack, align to the grid, join needless splits, part charts along a plane."""

import math
from collections.abc import Callable
from dataclasses import replace
from typing import Any

import numpy as np

from eddyfall.core.errors import ChangeError
from eddyfall.core.hashing import freeze
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.changes import operation
from eddyfall.core.scene.drawables import final_mesh
from eddyfall.core.scene.model import Mesh, Primitive
from eddyfall.core.scene.setup.sections.bake import Bake
from eddyfall.core.scene.splits import cut_along
from eddyfall.core.uv.charts import measure_charts
from eddyfall.core.uv.gutters import padding_for_mip
from eddyfall.core.uv.lightmaps import lightmap_uv_set, mesh_resolution
from eddyfall.core.uv.packing import pack_charts
from eddyfall.core.uv.seams import needless

Rework = Callable[[np.ndarray, np.ndarray], np.ndarray]


def wanted_mesh(build: Build, params: dict[str, Any]) -> int:
    """Index of params["mesh"]; ChangeError if there is none or its lightmap shares TEXCOORD_0 with its textures."""
    key = params.get("mesh")
    if key not in build.scene.mesh_keys:
        raise ChangeError(f"mesh {key!r} does not exist")
    index = build.scene.mesh_keys.index(key)
    if lightmap_uv_set(build, index) not in (None, 1):
        raise ChangeError("its lightmap shares TEXCOORD_0 with its textures; give it a UV set of its own first")
    return index


def gutter_of(build: Build, params: dict[str, Any]) -> int:
    """Texels between charts: gutter_texels, or what mip level safe_mip needs on both sides, else bake.gutter_texels."""
    if params.get("safe_mip") is not None:
        level = params["safe_mip"]
        if not isinstance(level, int) or not 0 <= level <= 6:
            raise ChangeError("safe_mip must be a whole number from 0 to 6")
        return 2 * padding_for_mip(level)
    gutter = params.get("gutter_texels", build.setup[Bake].gutter_texels)
    if not isinstance(gutter, int) or not 0 <= gutter <= 128:
        raise ChangeError("gutter_texels must be a whole number from 0 to 128")
    return gutter


def reworked(build: Build, index: int, rework: Rework, mesh: Mesh | None = None) -> Build:
    """The build with the lightmap UVs of a mesh replaced: rework(uv (t, 3, 2), corners (t, 3, 3)) -> uv (t, 3, 2), over all its parts.

    Its copies are evaluated for good, since each needs a place of its own.
    """
    key = build.scene.mesh_keys[index]
    source = mesh or final_mesh(build.scene, build.setup, index)
    parts = [p for p in source.primitives if "TEXCOORD_1" in p.attributes]
    if not parts:
        raise ChangeError(f"mesh {key!r} has no TEXCOORD_1; unwrap it first")
    uv = np.concatenate([p.attributes["TEXCOORD_1"].astype(np.float64)[p.indices] for p in parts])
    corners = np.concatenate([p.positions.astype(np.float64)[p.indices] for p in parts])
    new = rework(uv, corners)
    made, at = [], 0
    for part in source.primitives:
        if "TEXCOORD_1" not in part.attributes:
            made.append(part)
            continue
        made.append(_with_uv(part, new[at : at + part.triangles]))
        at += part.triangles
    meshes = dict(build.setup.meshes)
    if key in meshes and meshes[key].copies:
        meshes[key] = meshes[key].model_copy(update={"copies": {}})
    scene = build.scene.with_mesh(index, Mesh(source.name, tuple(made)))
    return replace(build, scene=scene, setup=build.setup.model_copy(update={"meshes": meshes}))


def _with_uv(part: Primitive, uv: np.ndarray) -> Primitive:
    """The part with lightmap UVs by triangle corner; vertices that now differ only by UV are split, equal ones shared."""
    corner = part.indices.reshape(-1)
    flat = uv.reshape(-1, 2).astype(np.float32) + np.float32(0)
    rows = np.concatenate([corner[:, None].astype(np.int64), np.ascontiguousarray(flat).view(np.int32).astype(np.int64)], axis=1)
    _, first, ids = np.unique(rows, axis=0, return_index=True, return_inverse=True)
    attributes = {name: freeze(values[corner[first]]) for name, values in part.attributes.items()}
    attributes["TEXCOORD_1"] = freeze(flat[first])
    return Primitive(attributes, freeze(ids.reshape(-1, 3).astype(np.int32)), part.material, part.source_index)


@operation("uv.pack")
def pack(build: Build, params: dict[str, Any]) -> Build:
    """Pack the charts of `mesh` anew, shapes kept: optional `texels_per_m`, `gutter_texels` or `safe_mip`."""
    index = wanted_mesh(build, params)
    gutter, density = gutter_of(build, params), params.get("texels_per_m")
    if density is not None and (not isinstance(density, (int, float)) or not 0 < density < 1e6):
        raise ChangeError("texels_per_m must be a number above 0")
    edge = mesh_resolution(build, index)
    return reworked(build, index, lambda uv, corners: pack_charts(uv, corners, edge, gutter, density))


@operation("uv.align")
def align(build: Build, params: dict[str, Any]) -> Build:
    """Turn every skewed chart of `mesh` onto the texel grid, then pack."""
    index = wanted_mesh(build, params)
    edge, gutter = mesh_resolution(build, index), gutter_of(build, params)

    def rework(uv: np.ndarray, corners: np.ndarray) -> np.ndarray:
        page = measure_charts(uv, corners, edge)
        turned = uv.copy()
        for k, chart in enumerate(page.charts):
            if chart.skew_deg:
                mine = page.chart == k
                middle = turned[mine].mean(axis=(0, 1))
                turned[mine] = (turned[mine] - middle) @ turn_matrix(-chart.skew_deg).T + middle
        return pack_charts(turned, corners, edge, gutter)

    return reworked(build, index, rework)


@operation("uv.join")
def join(build: Build, params: dict[str, Any]) -> Build:
    """Join charts of `mesh` that part across a flat surface: the smaller is moved to the larger, then all are packed."""
    index = wanted_mesh(build, params)
    edge, gutter = mesh_resolution(build, index), gutter_of(build, params)
    bend = params.get("flat_deg", 1.0)
    if not isinstance(bend, (int, float)) or not 0 <= bend <= 90:
        raise ChangeError("flat_deg must lie between 0 and 90")

    def rework(uv: np.ndarray, corners: np.ndarray) -> np.ndarray:
        joined = joined_charts(uv, corners, edge, float(bend))
        return pack_charts(joined, corners, edge, gutter)

    return reworked(build, index, rework)


def joined_charts(uv: np.ndarray, corners: np.ndarray, resolution: int, flat_deg: float) -> np.ndarray:
    """UVs in which charts that part across a flat surface are laid against each other (turned, scaled and moved along their seam)."""
    uv = uv.copy()
    for _ in range(len(uv)):
        page = measure_charts(uv, corners, resolution)
        open_seams = needless(corners, page, flat_deg)
        if not open_seams:
            break
        seam = open_seams[0]
        a, b = seam.edges
        if page.charts[seam.charts[0]].area_m2 < page.charts[seam.charts[1]].area_m2:
            a, b = b, a
        mine = page.chart == page.chart[b[0]]
        to, start = uv[a[0], [a[1], a[2]]], uv[b[0], [b[1], b[2]]]
        along, was = complex(*(to[1] - to[0])), complex(*(start[1] - start[0]))
        if abs(was) < 1e-12:
            break
        factor = along / was
        z = (uv[mine][..., 0] - start[0, 0] + 1j * (uv[mine][..., 1] - start[0, 1])) * factor
        moved = np.stack([z.real + to[0, 0], z.imag + to[0, 1]], axis=-1)
        uv[mine] = snap(moved, uv[~mine], 1e-5)
    return uv


def snap(moved: np.ndarray, fixed: np.ndarray, within: float) -> np.ndarray:
    """UVs (..., 2) put exactly onto the nearest of some fixed ones where they are as close as `within`."""
    from scipy.spatial import cKDTree

    points = fixed.reshape(-1, 2)
    if not len(points):
        return moved
    distance, nearest = cKDTree(points).query(moved.reshape(-1, 2))
    close = distance < within
    flat = moved.reshape(-1, 2).copy()
    flat[close] = points[nearest[close]]
    return np.asarray(flat.reshape(moved.shape))


def turn_matrix(degrees: float) -> np.ndarray:
    """(2, 2) turn by an angle that counts from u towards v."""
    a = math.radians(degrees)
    return np.array([[math.cos(a), -math.sin(a)], [math.sin(a), math.cos(a)]])


@operation("uv.split")
def split(build: Build, params: dict[str, Any]) -> Build:
    """Cut `mesh` along a plane (point_m, normal: world space at `node`) and part its charts there, then pack.

    Where a wall stands on a floor, no texel then holds both sides of it.
    """
    index = wanted_mesh(build, params)
    node = params.get("node")
    placed = [
        i for i, n in enumerate(build.scene.nodes) if n.mesh == index and (node is None or build.scene.node_keys[i] == node)
    ]
    if not placed:
        raise ChangeError(f"node {node!r} does not carry mesh {params['mesh']!r}")
    point, normal = (_three(params, name) for name in ("point_m", "normal"))
    if not np.linalg.norm(normal) > 0:
        raise ChangeError("normal must not be zero")
    world = build.scene.world_matrices[placed[0]]
    local_point = np.linalg.solve(world, np.append(point, 1.0))[:3]
    local_normal = world[:3, :3].T @ normal
    source = final_mesh(build.scene, build.setup, index)
    cut_parts, side_of = [], []
    for part in source.primitives:
        cut, side = cut_part(part, local_point, local_normal)
        cut_parts.append(cut)
        if "TEXCOORD_1" in part.attributes:
            side_of.append(side)
    edge, gutter = mesh_resolution(build, index), gutter_of(build, params)
    side = np.concatenate(side_of) if side_of else np.zeros(0, bool)
    if not side.any() or side.all():
        raise ChangeError("the plane does not cut the mesh")

    def rework(uv: np.ndarray, corners: np.ndarray) -> np.ndarray:
        apart = uv + np.where(side, 100.0, 0.0)[:, None, None] * [1, 0]
        return pack_charts(apart, corners, edge, gutter)

    return reworked(build, index, rework, Mesh(source.name, tuple(cut_parts)))


def _three(params: dict[str, Any], name: str) -> np.ndarray:
    value = params.get(name)
    if not isinstance(value, list) or len(value) != 3 or not all(isinstance(v, (int, float)) and abs(v) < 1e9 for v in value):
        raise ChangeError(f"{name} must be three numbers")
    return np.array(value, float)


def cut_part(part: Primitive, point: np.ndarray, normal: np.ndarray) -> tuple[Primitive, np.ndarray]:
    """(the part with its triangles cut along a plane, (t,) bool: which lie on the normal's side). Attributes are interpolated."""
    positions = part.positions.astype(np.float64)
    scale = max(float(np.abs(positions).max(initial=1.0)), 1.0) * float(np.linalg.norm(normal))
    height = (positions - point) @ normal
    height[np.abs(height) < 1e-6 * scale] = 0.0
    columns, triangles, sides = cut_along(part.attributes, part.indices, height, unit="NORMAL")
    attributes = {name: freeze(values) for name, values in columns.items()}
    return Primitive(attributes, freeze(triangles), part.material, part.source_index), sides
