"""What becomes of a material's pictures under another base shader: they keep their roles; what has no place there is told."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from eddyfall.core.scene.maps import DrawnMap
from eddyfall.core.scene.setup.tables import MAP_ROLES, MapRole, Shader, Slot

Fate = Literal["kept", "switched on", "no place", "default shows", "factor alone"]


@dataclass(frozen=True)
class Transfer:
    """What becomes of one role: the picture that is bound there, if any; its fate; default: the picture that shows instead."""

    role: MapRole
    bound: str | None
    fate: Fate
    default: str | None = None


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
