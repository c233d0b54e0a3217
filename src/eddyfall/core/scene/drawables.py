"""The scene as the renderer takes it: world-space triangles in one set of arrays, one drawable per material part of a node."""

from dataclasses import dataclass, field, replace
from functools import cached_property

import numpy as np

from eddyfall.core.hashing import digest, freeze
from eddyfall.core.scene.clips import morphed
from eddyfall.core.scene.copies import evaluate_copies
from eddyfall.core.scene.model import Mesh, Primitive, Scene, vec3
from eddyfall.core.scene.setup import Setup
from eddyfall.core.scene.setup.tables import MeshSetup, NodeSetup
from eddyfall.core.scene.skins import posed, sets_of
from eddyfall.core.scene.splits import Piece, cut, plane_through
from eddyfall.core.scene.tangent_space import combed
from eddyfall.core.scene.tangents import tangents_of, turned

NOWHERE = (0.0, 0.0, 0.0)
NONE = freeze(np.zeros((0, 4), np.float32))


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
    """World-space arrays: float32 positions, normals (v, 3), uv0, uv1 (v, 2); int32 triangles (t, 3), owner (t,); colours,
    tangents (v, 4), or (0, 4) where no part has any.

    The last drawable is always the *plate*: two triangles, far away until an experiment puts them somewhere.
    """

    positions: np.ndarray
    normals: np.ndarray
    uv0: np.ndarray
    uv1: np.ndarray
    triangles: np.ndarray
    owner: np.ndarray
    drawables: tuple[Drawable, ...]
    colours: np.ndarray = field(default_factory=lambda: NONE)
    tangents: np.ndarray = field(default_factory=lambda: NONE)

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
        others = [values for values in (self.colours, self.tangents) if len(values)]
        return digest(
            self.positions, self.normals, self.uv0, self.uv1, self.triangles, [d.material for d in self.drawables], *others
        )  # fmt: skip

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
    """World-space geometry of all nodes with meshes, copies evaluated, things split that are to be; parts without a material get the
    default (index -1)."""
    parts: list[tuple[Drawable, Piece]] = []
    meshes = {i: _with_tangents(scene, final_mesh(scene, setup, i)) for i in {n.mesh for n in scene.nodes if n.mesh is not None}}
    coloured, brushed = (
        any(key in part.attributes for mesh in meshes.values() for part in mesh.primitives) for key in ("COLOR_0", "TANGENT")
    )
    for number, node in enumerate(scene.nodes):
        if node.mesh is None:
            continue
        world = scene.world_matrices[number]
        linear = world[:3, :3]
        det = float(np.linalg.det(linear))
        normal_matrix = np.linalg.inv(linear).T if abs(det) > 1e-30 else np.eye(3)
        primitives = meshes[node.mesh].primitives
        for part_number, part in enumerate(primitives):
            part = morphed(part, node.weights)
            if node.skin is not None and sets_of(part):
                there = posed(scene, number, part)
                positions, normals = there.positions, there.normals
                indices = np.where(there.turned[part.indices[:, :1]], part.indices[:, [0, 2, 1]], part.indices)
            else:
                positions = (part.positions.astype(np.float64) @ linear.T + world[:3, 3]).astype(np.float32)
                normals = part.attributes["NORMAL"].astype(np.float64) @ normal_matrix.T
                length = np.linalg.norm(normals, axis=1, keepdims=True)
                normals = (normals / np.maximum(length, 1e-30)).astype(np.float32)
                indices = part.indices[:, [0, 2, 1]] if det < 0 else part.indices
            blank = np.zeros((len(positions), 2), np.float32)
            columns = {
                "positions": positions,
                "normals": normals,
                "uv0": part.attributes.get("TEXCOORD_0", blank),
                "uv1": part.attributes.get("TEXCOORD_1", blank),
            }
            if coloured:
                columns["colours"] = _colours(part)
            if brushed:
                skinned = node.skin is not None and sets_of(part)
                columns["tangents"] = turned(tangents_of(part), there.linear if skinned else linear)
            name = scene.node_keys[number]
            if len(primitives) > 1:
                name += "/" + (scene.material_keys[part.material] if part.material is not None else f"part {part_number}")
            material = part.material if part.material is not None else -1
            drawable = Drawable(
                name, scene.node_keys[number], scene.mesh_keys[node.mesh], part_number, material, 0, 0, NOWHERE, NOWHERE,
                vec3(world[:3, 3]),
            )  # fmt: skip
            order = setup.nodes.get(drawable.node, NodeSetup()).triangle_order
            if len(order) == len(indices) and len(primitives) == 1:
                indices = indices[list(order)]
            parts.append((drawable, Piece(columns, indices.astype(np.int32))))
    far, plain = np.full((4, 3), 1e9, np.float32), {"colours": np.ones((4, 4), np.float32)} if coloured else {}
    plain |= {"tangents": np.zeros((4, 4), np.float32)} if brushed else {}
    blank = np.zeros((4, 2), np.float32)
    up = np.tile(np.array([0, 1, 0], np.float32), (4, 1))
    plate = Piece(
        {"positions": far, "normals": up, "uv0": blank, "uv1": blank} | plain, np.array([[0, 1, 2], [0, 2, 3]], np.int32)
    )
    return _joined([*_split(parts, setup), (Drawable("(plate)", "", "", 0, -1, 0, 0, NOWHERE, NOWHERE), plate)])


def _with_tangents(scene: Scene, mesh: Mesh) -> Mesh:
    """A mesh whose parts with normal maps all have tangents."""
    bends = [m.normal_texture or m.clearcoat_normal_texture for m in scene.materials]
    use_of = [None if p.material is None else bends[p.material] for p in mesh.primitives]
    if not any(use_of):
        return mesh
    return replace(mesh, primitives=tuple(combed(part, use) for part, use in zip(mesh.primitives, use_of)))


def _colours(part: Primitive) -> np.ndarray:
    """(v, 4) float32 colours of a part's vertices: white where it has none, opaque where they have three channels."""
    found = part.attributes.get("COLOR_0")
    if found is None:
        return np.ones((len(part.positions), 4), np.float32)
    return found if found.shape[1] == 4 else np.concatenate([found, np.ones((len(found), 1), np.float32)], axis=1)


def _split(parts: list[tuple[Drawable, Piece]], setup: Setup) -> list[tuple[Drawable, Piece]]:
    """Parts, those cut that are to be: what is cut off comes after all the rest, so that no other part changes its number."""
    asked = {d.node: setup.nodes.get(d.node, NodeSetup()).split_at for d, _ in parts}
    if not any(asked.values()):
        return parts
    planes = {
        name: plane_through(np.concatenate([p.positions for d, p in parts if d.node == name]))
        for name in {n for names in asked.values() for n in names} & asked.keys()
    }
    first, cut_off = [], []
    for drawable, whole in parts:
        along = [plane for name in asked[drawable.node] if (plane := planes.get(name)) is not None]
        pieces = cut(whole, along)
        first.append((drawable, pieces[0]))
        cut_off += [(drawable, piece) for piece in pieces[1:]]
    return [*first, *cut_off]


def _joined(parts: list[tuple[Drawable, Piece]]) -> Geometry:
    drawables, triangles, owner = [], [], []
    vertices = faces = 0
    for number, (drawable, piece) in enumerate(parts):
        low, high = vec3(piece.positions.min(axis=0)), vec3(piece.positions.max(axis=0))
        drawables.append(replace(drawable, first=faces, last=faces + len(piece.triangles), low=low, high=high))
        triangles.append(piece.triangles + np.int32(vertices))
        owner.append(np.full(len(piece.triangles), number, np.int32))
        vertices += len(piece.positions)
        faces += len(piece.triangles)
    columns = {name: freeze(np.concatenate([p.columns[name] for _, p in parts])) for name in parts[0][1].columns}
    return Geometry(
        **columns, triangles=freeze(np.concatenate(triangles)), owner=freeze(np.concatenate(owner)),
        drawables=tuple(_named_apart(drawables)),
    )  # fmt: skip


def _named_apart(drawables: list[Drawable]) -> list[Drawable]:
    """The same; of those of one name all but the first with a number that no other one's name ends with."""
    given, taken, result = {d.name for d in drawables}, set[str](), []
    for d in drawables:
        name, number = d.name, 2
        while name in taken or (name != d.name and name in given):
            name, number = f"{d.name}~{number}", number + 1
        taken.add(name)
        result.append(d if name == d.name else replace(d, name=name))
    return result
