"""Collects meshes, nodes, materials and setup entries while the station is built."""

from dataclasses import dataclass, field
from typing import Any

import numpy as np

from eddyfall.core.hashing import freeze
from eddyfall.core.scene.model import Image, Light, Material, Mesh, Node, Scene, TextureUse
from eddyfall.demo.shapes import Shape, grid_charts


@dataclass
class World:
    """What has been built so far. `setup` is the raw setup document, `truth` the rows a sweep must find."""

    rng: np.random.Generator
    images: list[Image] = field(default_factory=list)
    materials: list[Material] = field(default_factory=list)
    meshes: list[Mesh] = field(default_factory=list)
    nodes: list[Node] = field(default_factory=list)
    lamps: list[Light] = field(default_factory=list)
    setup: dict[str, Any] = field(default_factory=dict)
    truth: list[dict[str, Any]] = field(default_factory=list)
    healthy: list[dict[str, Any]] = field(default_factory=list)

    def image(self, name: str, pixels: np.ndarray) -> int:
        """Add a picture and return its index."""
        self.images.append(Image(name, freeze(pixels)))
        return len(self.images) - 1

    def material(self, name: str, picture: np.ndarray | None = None, *, shader: str | None = None, **fields: Any) -> int:
        """Add a material (not metallic unless said) with an optional base colour picture; `shader` names its shader in the setup."""
        if picture is not None:
            fields["base_texture"] = TextureUse(self.image(name, picture))
        self.materials.append(Material(name, **{"metallic": 0.0, "roughness": 0.85, **fields}))
        if shader:
            self.entry("materials", name)["shader"] = shader
        return len(self.materials) - 1

    def entry(self, table: str, key: str) -> dict[str, Any]:
        """The setup's entry for a key, made if it is not there yet."""
        entry: dict[str, Any] = self.setup.setdefault(table, {}).setdefault(key, {})
        return entry

    def add(
        self,
        name: str,
        shape: Shape,
        material: int,
        place: tuple[float, float, float] = (0, 0, 0),
        *,
        lightmap: bool = False,
        **node: Any,
    ) -> None:
        """Add a mesh of one part and a node that places it; keyword arguments become the node's setup entry."""
        self.meshes.append(Mesh(name, (shape.primitive(material, grid_charts(shape) if lightmap else None),)))
        self.place(name, len(self.meshes) - 1, place, **node)

    def place(self, name: str, mesh: int, place: tuple[float, float, float], **node: Any) -> None:
        """Another node for an existing mesh."""
        matrix = np.eye(4)
        matrix[:3, 3] = place
        self.nodes.append(Node(name, freeze(matrix), mesh=mesh))
        if node:
            self.entry("nodes", name).update(node)

    def sown(self, code: str, cause: str, subjects: list[str], seed: str) -> None:
        """A fault that a sweep must find in every role."""
        self.truth.append({"code": code, "cause": cause, "subjects": subjects, "seed": seed, "hidden_in_roles": {}})

    def lamp(self, name: str, place: tuple[float, float, float], candela: float, range_m: float = 0.0) -> None:
        """A point lamp, a light of the scene."""
        matrix = np.eye(4)
        matrix[:3, 3] = place
        self.nodes.append(Node(name, freeze(matrix), light=len(self.lamps)))
        self.lamps.append(Light(name, "point", (1.0, 0.86, 0.68), candela, range_m))

    def scene(self) -> Scene:
        return Scene(tuple(self.meshes), tuple(self.nodes), tuple(self.materials), tuple(self.images), tuple(self.lamps))
