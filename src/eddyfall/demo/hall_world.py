"""What the pump hall is collected in: a world whose things have lightmaps."""

from dataclasses import dataclass
from typing import Any

import numpy as np

from eddyfall.core.scene.model import Mesh
from eddyfall.demo.layout import laid_out, whole_page
from eddyfall.demo.shapes import Shape
from eddyfall.demo.world import World


@dataclass
class HallWorld(World):
    """A world whose things have lightmaps."""

    def panel(self, name: str, corner: Any, along: Any, up: Any, material: int, **node: Any) -> None:
        """A rectangle that has a whole lightmap page."""
        shape = Shape().quad(corner, along, up)
        self.mapped(name, shape, material, whole_page(shape), **node)

    def thing(self, name: str, shape: Shape, material: int, size: int = 64, gap: float = 4.0, **node: Any) -> None:
        """A shape of quads, each with a rectangle of its own on the page."""
        self.mapped(name, shape, material, laid_out(shape, size, gap), lightmap_size=size, **node)

    def mapped(
        self, name: str, shape: Shape, material: int, uv: np.ndarray, copies: dict[str, Any] | None = None, **node: Any
    ) -> None:
        """A shape with given lightmap UVs (n, 2)."""
        self.meshes.append(Mesh(name, (shape.primitive(material, uv),)))
        self.place(name, len(self.meshes) - 1, (0, 0, 0), **node)
        self.entry("meshes", name)["lightmap_uv"] = 1
        if copies:
            self.entry("meshes", name)["copies"] = copies

    def finding(self, code: str, cause: str, subject: str, seed: str, texel: tuple[str, int, int] | None = None) -> None:
        """A row of the truth table; texel: asset, x and y of a texel that shows it best, with the lamps on."""
        row: dict[str, Any] = {"code": code, "cause": cause, "subjects": [subject], "seed": seed}
        if texel is not None:
            row["texel"] = {"asset": texel[0], "at": list(texel[1:]), "light_set": "lamps_on"}
        self.truth.append(row)
