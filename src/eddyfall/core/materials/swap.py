"""A material given another base shader: its pictures go over by role and are switched on; what has no place there is told."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from eddyfall.core.materials.convert import conversion, converted
from eddyfall.core.materials.roles import Moved
from eddyfall.core.materials.transfers import Transfer
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.changes import Change, set_leaves
from eddyfall.core.scene.maps import drawn_maps, shader_of
from eddyfall.core.scene.setup.tables import MaterialSetup, Shader


@dataclass(frozen=True)
class Swap:
    """A material's base shader before and after, what becomes of each picture's role and of each value, and the change that does it."""

    material: str
    before: str
    after: str
    transfers: tuple[Transfer, ...]
    values: tuple[Moved, ...]
    change: Change


def swap_shader(build: Build, material: str, to: str) -> Swap:
    """The swap, not yet made: factors and tints stay with the material, pictures keep their roles and are switched on, values of its base
    shader go over by role. RequestError for a material or base shader that is not there."""
    found = conversion(build, material, to)
    index = build.scene.material_keys.index(material)
    entry = build.setup.materials.get(material, MaterialSetup())
    if found.values or found.how or build.setup.shaders.get(to, Shader()).parameters:
        return Swap(material, found.before, to, found.pictures, found.values, converted(build, [material], to))
    maps = drawn_maps(build, index)
    leaves: dict[tuple[str, ...], Any] = {("materials", material, "shader"): to}
    for transfer in found.pictures:
        if transfer.fate == "switched on" and not maps[transfer.role].on:
            leaves["materials", material, "maps", transfer.role, "on"] = True
    change = set_leaves(build, leaves, scope="material", title=f"{material} with base shader {to}")
    return Swap(material, shader_of(build.scene.materials[index], entry), to, found.pictures, (), change)
