"""Receivers: what has a lightmap of its own. A node, or each material part of it, as the target's rule says."""

import math
from dataclasses import dataclass
from typing import Protocol

import numpy as np

from eddyfall.core.errors import RequestError
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.drawables import Geometry
from eddyfall.core.scene.setup.sections.bake import Bake
from eddyfall.core.scene.setup.tables import MeshSetup, NodeSetup

NO_SET = "as_set"


@dataclass(frozen=True)
class Receiver:
    """One lightmap. drawables: indices into the geometry; uv_set it is laid out by; edge `resolution` in texels.

    Its page covers tiles from `low` on, `side` of them along both axes (a target that packs charts anew fits whole tiles into one
    map); wraps: the target takes UVs modulo 1 instead.
    """

    name: str
    drawables: tuple[int, ...]
    uv_set: int
    resolution: int
    low: tuple[float, float]
    side: float
    wraps: bool

    def page_uv(self, uv: np.ndarray) -> np.ndarray:
        """UVs (..., 2) in tiles as places on the page, 0..1; where UVs wrap they may lie outside, to be taken modulo 1."""
        return np.asarray(uv, np.float64) if self.wraps else (np.asarray(uv, np.float64) - np.array(self.low)) / self.side


def lightmap_uv_set(build: Build, mesh: int) -> int | None:
    """UV set of a mesh's lightmap, as the setup says; None if it says nothing: a second set of UVs may be there for anything."""
    return build.setup.meshes.get(build.scene.mesh_keys[mesh], MeshSetup()).lightmap_uv


def uv_of(geometry: Geometry, uv_set: int) -> np.ndarray:
    """(v, 2) the vertices' UVs of a set."""
    return geometry.uv1 if uv_set else geometry.uv0


def triangles_of(geometry: Geometry, drawables: tuple[int, ...]) -> np.ndarray:
    """(t,) indices of the triangles of some drawables."""
    spans = [np.arange(geometry.drawables[d].first, geometry.drawables[d].last) for d in drawables]
    return np.concatenate(spans) if spans else np.zeros(0, np.int64)


class LayoutRule(Protocol):
    """What of the bake settings decides which receivers there are: `Bake`, or a part of it."""

    @property
    def uv_use(self) -> str: ...
    @property
    def unique_per(self) -> str: ...
    @property
    def resolution(self) -> int: ...


def receivers(build: Build, geometry: Geometry, bake: LayoutRule | None = None) -> list[Receiver]:
    """Every receiver of a build, in drawable order, by the `bake` settings given (default: the project's)."""
    bake = bake or build.setup[Bake]
    scene = build.scene
    nodes = {key: i for i, key in enumerate(scene.node_keys)}
    mesh_sets = {m: lightmap_uv_set(build, m) for m in {n.mesh for n in scene.nodes if n.mesh is not None}}
    groups: dict[str, list[int]] = {}
    for index, drawable in enumerate(geometry.things):
        node = nodes[drawable.node]
        entry = build.setup.nodes.get(drawable.node, NodeSetup())
        if mesh_sets[scene.nodes[node].mesh] is None or not entry.lightmapped or not entry.drawn or entry.moves:  # type: ignore[index]
            continue
        owner = _merged_into(build, node)
        name = scene.node_keys[owner] if bake.unique_per == "mesh" else drawable.name
        groups.setdefault(name, []).append(index)
    result = []
    for name, members in groups.items():
        first = geometry.drawables[members[0]].node
        uv_set = mesh_sets[scene.nodes[nodes[first]].mesh]  # type: ignore[index]
        sizes = [build.setup.nodes.get(geometry.drawables[d].node, NodeSetup()).lightmap_size or 0 for d in members]
        low, side = (0.0, 0.0), 1.0
        if bake.uv_use == "repacked":
            low, side = _tiles(geometry, tuple(members), uv_set or 0)
        result.append(
            Receiver(name, tuple(members), uv_set or 0, max(sizes) or bake.resolution, low, side, bake.uv_use == "as_is")
        )
    return result


def receiver_named(build: Build, geometry: Geometry, name: str) -> Receiver:
    """The receiver of a name, or the one a drawable or mesh of that name belongs to; RequestError if there is none."""
    everyone = receivers(build, geometry)
    for receiver in everyone:
        if receiver.name == name:
            return receiver
    for receiver in everyone:
        if any(
            name in (geometry.drawables[d].name, geometry.drawables[d].node, geometry.drawables[d].mesh)
            for d in receiver.drawables
        ):
            return receiver
    there = ", ".join(r.name for r in everyone[:8]) or "none"
    raise RequestError(f"no lightmapped asset {name!r}; there are: {there}" + (" and more" if len(everyone) > 8 else ""))


def _merged_into(build: Build, node: int) -> int:
    """The topmost node above that merges its children, or the node itself."""
    result, at = node, build.scene.nodes[node].parent
    while at is not None:
        if (
            build.setup.nodes.get(build.scene.node_keys[at], NodeSetup()).merges_children
            and build.scene.nodes[at].mesh is not None
        ):
            result = at
        at = build.scene.nodes[at].parent
    return result


def _tiles(geometry: Geometry, drawables: tuple[int, ...], uv_set: int) -> tuple[tuple[float, float], float]:
    used = np.unique(geometry.triangles[triangles_of(geometry, drawables)])
    uv = uv_of(geometry, uv_set)[used].astype(np.float64)
    if not len(uv):
        return (0.0, 0.0), 1.0
    low = [math.floor(v + 1e-6) for v in uv.min(axis=0)]
    high = [math.ceil(v - 1e-6) for v in uv.max(axis=0)]
    return (float(low[0]), float(low[1])), float(max(high[0] - low[0], high[1] - low[1], 1))
