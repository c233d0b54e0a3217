"""The scene as the renderer takes it: world-space triangles in one set of arrays, one drawable per material part of a node."""

from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np

from eddyfall.core.hashing import digest, freeze
from eddyfall.core.scene.copies import evaluate_copies
from eddyfall.core.scene.model import Mesh, Scene, vec3
from eddyfall.core.scene.setup import Setup
from eddyfall.core.scene.setup.tables import MeshSetup


@dataclass(frozen=True)
class Drawable:
    """One material part of one node. `first`..`last` index triangles (half open); `low`, `high` world bounds in metres, `origin` the
    node's."""

    name: str
    node: str
    mesh: str
    part: int
    material: int
    first: int
    last: int
    low: tuple[float, float, float]
    high: tuple[float, float, float]
    origin: tuple[float, float, float] = (0.0, 0.0, 0.0)


@dataclass(frozen=True)
class Geometry:
    """World-space arrays: float32 positions, normals (v, 3), uv0, uv1 (v, 2); int32 triangles (t, 3), owner (t,).

    The last drawable is always the *plate*: two triangles, far away until an experiment puts them somewhere.
    """

    positions: np.ndarray
    normals: np.ndarray
    uv0: np.ndarray
    uv1: np.ndarray
    triangles: np.ndarray
    owner: np.ndarray
    drawables: tuple[Drawable, ...]

    @property
    def plate(self) -> int:
        """Index of the plate drawable, the last."""
        return len(self.drawables) - 1

    @property
    def things(self) -> tuple[Drawable, ...]:
        """The drawables of the build: all but the plate."""
        return self.drawables[: self.plate]

    @cached_property
    def names(self) -> dict[str, int]:
        return {d.name: i for i, d in enumerate(self.drawables)}

    @cached_property
    def bounds(self) -> np.ndarray:
        """(drawables, 2, 3) float64 low and high corners."""
        return np.array([(d.low, d.high) for d in self.drawables], dtype=np.float64)

    @cached_property
    def middles(self) -> np.ndarray:
        """(drawables, 3) float64 m: the middles of their bounds."""
        return np.asarray(self.bounds.mean(axis=1))

    @cached_property
    def origins(self) -> np.ndarray:
        """(drawables, 3) float64 m: their nodes' origins."""
        return np.array([d.origin for d in self.drawables], dtype=np.float64)

    @cached_property
    def scene_bounds(self) -> tuple[np.ndarray, np.ndarray]:
        """Low and high corner of everything but the plate."""
        if len(self.drawables) == 1:
            return np.zeros(3), np.ones(3)
        things = self.bounds[: self.plate]
        return things[:, 0].min(axis=0), things[:, 1].max(axis=0)

    @cached_property
    def diagonal_m(self) -> float:
        """Length of the diagonal of the scene's box in metres: lengths that are chosen, not measured, follow it."""
        low, high = self.scene_bounds
        return float(np.linalg.norm(high - low))

    @cached_property
    def coordinate_step_m(self) -> float:
        """Spacing of float32 at the scene's farthest coordinate, in metres."""
        low, high = self.scene_bounds
        return float(np.spacing(np.float32(max(np.abs(low).max(), np.abs(high).max()))))

    @cached_property
    def content_hash(self) -> str:
        return digest(self.positions, self.normals, self.uv0, self.uv1, self.triangles, [d.material for d in self.drawables])

    def with_plate(self, corners: np.ndarray) -> "Geometry":
        """The same geometry with the plate at four world corners (4, 3), in the order of its outline."""
        positions = np.array(self.positions)
        normals = np.array(self.normals)
        positions[-4:] = corners
        normal = np.cross(corners[1] - corners[0], corners[2] - corners[0])
        normals[-4:] = normal / max(float(np.linalg.norm(normal)), 1e-12)
        low, high = corners.min(axis=0), corners.max(axis=0)
        plate = replace(self.drawables[self.plate], low=vec3(low), high=vec3(high))
        return replace(self, positions=freeze(positions), normals=freeze(normals), drawables=(*self.things, plate))


def final_mesh(scene: Scene, setup: Setup, mesh: int) -> Mesh:
    """Mesh number `mesh` with its copy rules evaluated."""
    entry = setup.meshes.get(scene.mesh_keys[mesh], MeshSetup())
    if not entry.copies:
        return scene.meshes[mesh]
    return evaluate_copies(
        scene.meshes[mesh], entry.copies, entry.lightmap_uv if entry.lightmap_uv is not None else 1, scene.material_keys
    )


def pack(scene: Scene, setup: Setup) -> Geometry:
    """World-space geometry of all nodes with meshes, copies evaluated; parts without a material get the default (index -1)."""
    columns: dict[str, list[np.ndarray]] = {k: [] for k in ("positions", "normals", "uv0", "uv1", "triangles", "owner")}
    drawables: list[Drawable] = []
    vertices = triangles = 0
    meshes = {i: final_mesh(scene, setup, i) for i in {n.mesh for n in scene.nodes if n.mesh is not None}}
    for number, node in enumerate(scene.nodes):
        if node.mesh is None:
            continue
        world = scene.world_matrices[number]
        linear = world[:3, :3]
        det = float(np.linalg.det(linear))
        normal_matrix = np.linalg.inv(linear).T if abs(det) > 1e-30 else np.eye(3)
        parts = meshes[node.mesh].primitives
        for part_number, part in enumerate(parts):
            positions = (part.positions.astype(np.float64) @ linear.T + world[:3, 3]).astype(np.float32)
            normals = part.attributes["NORMAL"].astype(np.float64) @ normal_matrix.T
            length = np.linalg.norm(normals, axis=1, keepdims=True)
            indices = part.indices[:, [0, 2, 1]] if det < 0 else part.indices
            blank = np.zeros((len(positions), 2), np.float32)
            columns["positions"].append(positions)
            columns["normals"].append((normals / np.maximum(length, 1e-30)).astype(np.float32))
            columns["uv0"].append(part.attributes.get("TEXCOORD_0", blank))
            columns["uv1"].append(part.attributes.get("TEXCOORD_1", blank))
            columns["triangles"].append((indices + np.int32(vertices)).astype(np.int32))
            columns["owner"].append(np.full(len(indices), len(drawables), np.int32))
            name = scene.node_keys[number]
            if len(parts) > 1:
                name += "/" + (scene.material_keys[part.material] if part.material is not None else f"part {part_number}")
            material = part.material if part.material is not None else -1
            low, high = positions.min(axis=0), positions.max(axis=0)
            drawables.append(
                Drawable(
                    name,
                    scene.node_keys[number],
                    scene.mesh_keys[node.mesh],
                    part_number,
                    material,
                    triangles,
                    triangles + len(indices),
                    vec3(low),
                    vec3(high),
                    vec3(world[:3, 3]),
                )
            )
            vertices += len(positions)
            triangles += len(indices)
    columns["positions"].append(np.full((4, 3), 1e9, np.float32))
    columns["normals"].append(np.tile(np.array([0, 1, 0], np.float32), (4, 1)))
    columns["uv0"].append(np.zeros((4, 2), np.float32))
    columns["uv1"].append(np.zeros((4, 2), np.float32))
    columns["triangles"].append(np.array([[0, 1, 2], [0, 2, 3]], np.int32) + np.int32(vertices))
    columns["owner"].append(np.full(2, len(drawables), np.int32))
    far = (1e9, 1e9, 1e9)
    drawables.append(Drawable("(plate)", "", "", 0, -1, triangles, triangles + 2, far, far))
    arrays = {key: freeze(np.concatenate(parts)) for key, parts in columns.items()}
    return Geometry(**arrays, drawables=tuple(_named_apart(drawables)))


def _named_apart(drawables: list[Drawable]) -> list[Drawable]:
    seen: dict[str, int] = {}
    result = []
    for d in drawables:
        seen[d.name] = seen.get(d.name, 0) + 1
        result.append(d if seen[d.name] == 1 else replace(d, name=f"{d.name}~{seen[d.name]}"))
    return result
