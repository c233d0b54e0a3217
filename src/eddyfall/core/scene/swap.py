"""A material given another base shader: its pictures go over by role and are switched on; what has no place there is told."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Literal

from eddyfall.core.errors import RequestError
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.changes import Change, set_leaves
from eddyfall.core.scene.maps import DrawnMap, drawn_maps, shader_of
from eddyfall.core.scene.setup import STOCK_SHADERS
from eddyfall.core.scene.setup.tables import MAP_ROLES, MapRole, MaterialSetup, Shader, Slot

Fate = Literal["kept", "switched on", "no place", "default shows", "factor alone"]


@dataclass(frozen=True)
class Transfer:
    """What becomes of one role: the picture that is bound there, if any; its fate; default: the picture that shows instead."""

    role: MapRole
    bound: str | None
    fate: Fate
    default: str | None = None


@dataclass(frozen=True)
class Swap:
    """A material's base shader before and after, what becomes of each role, and the change that does it."""

    material: str
    before: str
    after: str
    transfers: tuple[Transfer, ...]
    change: Change


def transferred(maps: dict[MapRole, DrawnMap], to: Shader) -> tuple[Transfer, ...]:
    """What becomes of the pictures of each role under another base shader."""
    found = []
    for role in MAP_ROLES:
        drawn, slot = maps[role], to.slots.get(role, Slot())
        if drawn.bound is not None and slot.on:
            found.append(Transfer(role, drawn.bound, "kept" if drawn.shows == "its own" else "switched on"))
        elif drawn.bound is not None:
            found.append(Transfer(role, drawn.bound, "no place", slot.default))
        else:
            found.append(Transfer(role, None, "factor alone" if slot.default is None else "default shows", slot.default))
    return tuple(found)


def swap_shader(build: Build, material: str, to: str) -> Swap:
    """The swap, not yet made: factors and tints stay with the material, pictures keep their roles and are switched on. RequestError for a
    material or base shader that is not there."""
    keys = build.scene.material_keys
    if material not in keys:
        raise RequestError(f"material {material!r} does not exist; there are: {', '.join(keys) or 'none'}")
    known = [*build.setup.shaders, *(s for s in STOCK_SHADERS.values() if s not in build.setup.shaders)]
    if to not in known:
        raise RequestError(f"base shader {to!r} does not exist; there are: {', '.join(known)}")
    index = keys.index(material)
    entry = build.setup.materials.get(material, MaterialSetup())
    maps = drawn_maps(build, index)
    moved = transferred(maps, build.setup.shaders.get(to, Shader()))
    values: dict[tuple[str, ...], Any] = {("materials", material, "shader"): to}
    for transfer in moved:
        if transfer.fate == "switched on" and not maps[transfer.role].on:
            values["materials", material, "maps", transfer.role, "on"] = True
    change = set_leaves(build, values, scope="material", title=f"{material} with base shader {to}")
    return Swap(material, shader_of(build.scene.materials[index], entry), to, moved, change)
