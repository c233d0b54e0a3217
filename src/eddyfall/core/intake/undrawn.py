"""What materials say and is not drawn yet (sheen and the like), with the pixels that it touches."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from eddyfall.core.scene.build import Build
from eddyfall.core.scene.model import Primitive, Scene
from eddyfall.core.scene.read.materials import CLEARCOAT, MATERIAL_EXTENSIONS

if TYPE_CHECKING:
    from eddyfall.core.frame.render import Renderer

SIZE = (480, 270)
CORNERS = "alpha of COLOR_0 in alpha tests"


@dataclass(frozen=True)
class Undrawn:
    """An extension that is not drawn: materials that have it, pixels of them by viewpoint, of a frame of SIZE."""

    extension: str
    materials: tuple[str, ...]
    pixels: dict[str, int]


def undrawn_in(scene: Scene) -> dict[str, list[int]]:
    """By extension that is not drawn, the numbers of the materials that have it."""
    found: dict[str, list[int]] = {}
    entries = scene.source.json.get("materials", []) if scene.source is not None else []
    for number, entry in enumerate(entries[: len(scene.materials)]):
        for name in entry.get("extensions", {}):
            if name not in MATERIAL_EXTENSIONS:
                found.setdefault(name, []).append(number)
    for number, material in enumerate(scene.materials):
        if material.coated and (material.alpha_mode == "BLEND" or material.transmission > 0):
            found.setdefault(f"{CLEARCOAT} of what is blended or lets light through", []).append(number)
    for m in dict.fromkeys(p.material for mesh in scene.meshes for p in mesh.primitives if _has_clear_corners(p)):
        if m is not None and scene.materials[m].alpha_mode == "MASK":
            found.setdefault(CORNERS, []).append(m)
    return dict(sorted(found.items()))


def _has_clear_corners(part: Primitive) -> bool:
    colours = part.attributes.get("COLOR_0")
    return colours is not None and colours.shape[1] == 4 and bool((colours[:, 3] < 1).any())


def undrawn(build: Build, renderer: Renderer | None = None) -> list[Undrawn]:
    """What is not drawn of materials, and where it would show."""
    found = undrawn_in(build.scene)
    if not found:
        return []
    # Imported here, since it loads the kernels: a scene of which all is drawn is read without them.
    from eddyfall.core.frame.render import Renderer, Request

    renderer = renderer or Renderer()
    pixels: dict[str, dict[str, int]] = {name: {} for name in found}
    for viewpoint in build.setup.viewpoints:
        frame = renderer.frame(build, Request(viewpoint, SIZE), "linear")
        material = np.array([d.material for d in frame.geometry.drawables])
        for name, numbers in found.items():
            mine = np.flatnonzero(np.isin(material, numbers))
            count = int(np.isin(frame.front, mine).sum())
            if count:
                pixels[name][viewpoint] = count
    return [Undrawn(name, tuple(build.scene.material_keys[m] for m in found[name]), pixels[name]) for name in found]
