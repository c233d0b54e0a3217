"""Which picture a material draws for each role: what the scene file binds or the setup in its stead, if it is switched on and its base
shader has the slot; else the slot's default picture, or the material's factor alone."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any, Literal

import numpy as np

from eddyfall.core.scene.model import Material, TextureUse
from eddyfall.core.scene.setup.document import GLOSS_SHADER, STOCK_SHADERS
from eddyfall.core.scene.setup.tables import MAP_ROLES, MapRole, MaterialMap, MaterialSetup, Shader, Slot

Shown = Literal["its own", "default", "factor"]
Over = tuple[int, MapRole, TextureUse | None]  # material, role, what is drawn in the stead of what the scene file binds


@dataclass(frozen=True)
class DrawnMap:
    """One role of a material: image that is bound (its key), whether it is switched on and its shader has the slot; what is shown, and how
    that picture is used."""

    role: MapRole
    bound: str | None
    on: bool
    has_slot: bool
    shows: Shown
    use: TextureUse | None


def field_of(role: MapRole) -> str:
    """The field of a material that holds a role's texture."""
    return f"{role}_texture"


def shader_of(material: Material, entry: MaterialSetup) -> str:
    """Key of the base shader that a material has."""
    return entry.shader or (STOCK_SHADERS[material.alpha_mode] if material.gloss is None else GLOSS_SHADER)


def drawn_maps(build: Any, index: int) -> dict[MapRole, DrawnMap]:
    """By role, what material number `index` of a build (or one that is recorded) draws."""
    scene, setup = build.scene, build.setup
    material, images = scene.materials[index], scene.image_keys
    entry = setup.materials.get(scene.material_keys[index], MaterialSetup())
    shader = setup.shaders.get(shader_of(material, entry), Shader())
    return {role: _drawn(material, images, entry, shader, role) for role in MAP_ROLES}


def _drawn(material: Material, images: tuple[str, ...], entry: MaterialSetup, shader: Shader, role: MapRole) -> DrawnMap:
    of_file: TextureUse | None = getattr(material, field_of(role))
    bound, slot = entry.maps.get(role, MaterialMap()), shader.slots.get(role, Slot())
    own = of_file
    if bound.image is not None and bound.image in images:
        # In the place of another picture it is used as that one was.
        own = replace(of_file or TextureUse(0), image=images.index(bound.image))
    if own is not None and bound.on and slot.on:
        return DrawnMap(role, images[own.image], True, True, "its own", own)
    key = None if own is None else images[own.image]
    if slot.default is not None and slot.default in images:
        return DrawnMap(role, key, bound.on, slot.on, "default", TextureUse(images.index(slot.default)))
    return DrawnMap(role, key, bound.on, slot.on, "factor", None)


def overridden_maps(build: Any) -> tuple[Over, ...]:
    """Roles of materials that draw something else than the scene file binds; empty where no setup says so, at no cost."""
    setup = build.setup
    if not any(e.maps for e in setup.materials.values()) and not any(s.slots for s in setup.shaders.values()):
        return ()
    found = []
    for index, material in enumerate(build.scene.materials):
        for role, drawn in drawn_maps(build, index).items():
            if drawn.use != getattr(material, field_of(role)):
                found.append((index, role, drawn.use))
    return tuple(found)


def with_maps(materials: tuple[Material, ...], over: tuple[Over, ...]) -> tuple[Material, ...]:
    """Materials as they are drawn."""
    if not over:
        return materials
    changed = list(materials)
    for index, role, use in over:
        pictured: dict[str, Any] = {field_of(role): use}
        changed[index] = replace(changed[index], **pictured)
    return tuple(changed)


def drawn_materials(build: Any) -> tuple[Material, ...]:
    """All materials of a build, with the pictures they draw."""
    return with_maps(build.scene.materials, overridden_maps(build))


def wrapped(texel: np.ndarray, edge: int, wrap: str) -> np.ndarray:
    """Texel numbers (n,) int64 along an axis of so many texels, as repeat, mirror or clamp takes them (OpenGL ES 3.0, 3.8.10)."""
    if wrap == "clamp":
        return np.asarray(np.clip(texel, 0, edge - 1))
    if wrap == "mirror":
        folded = np.mod(texel, 2 * edge)
        return np.asarray(np.where(folded < edge, folded, 2 * edge - 1 - folded))
    return np.asarray(np.mod(texel, edge))
