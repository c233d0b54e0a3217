"""Which setting wins: default < project < target < role < viewpoint. Every leaf carries its winner and the losers."""

from dataclasses import dataclass
from functools import cached_property
from typing import Any

from eddyfall.core.errors import RequestError
from eddyfall.core.hashing import digest
from eddyfall.core.scene.setup import SECTIONS, Setup, lay_over
from eddyfall.core.scene.setup.atmosphere import Fog, Sky
from eddyfall.core.scene.setup.bake import Bake
from eddyfall.core.scene.setup.depth import Depth
from eddyfall.core.scene.setup.leaf import Section
from eddyfall.core.scene.setup.picture import Exposure, Order, Textures
from eddyfall.core.scene.setup.shadow import Shadow


@dataclass(frozen=True)
class Leaf:
    """One resolved field: its value, the level that set it, and (level, value) of those it overrode, nearest first."""

    value: Any
    winner: str
    losers: tuple[tuple[str, Any], ...]


@dataclass(frozen=True)
class Resolved:
    """The sections as they hold for one target, role and viewpoint. Only this enters a render."""

    depth: Depth
    shadow: Shadow
    sky: Sky
    fog: Fog
    exposure: Exposure
    textures: Textures
    order: Order
    bake: Bake
    leaves: dict[str, Leaf]

    @cached_property
    def content_hash(self) -> str:
        return digest(*(getattr(self, name) for name in SECTIONS))


def resolve(setup: Setup, target: str | None = None, role: str | None = None, viewpoint: str | None = None) -> Resolved:
    """Sections for a target, a role (default: the viewpoint's, else play) and a viewpoint. RequestError for unknown names."""
    levels: list[tuple[str, dict[str, dict[str, Any]]]] = []
    if target is not None:
        levels.append((f"target {target}", _entry(setup.targets, target, "target").set))
    view = _entry(setup.viewpoints, viewpoint, "viewpoint") if viewpoint is not None else None
    role = role or (view.role if view else "play")
    if role in setup.roles or role not in ("edit", "play"):
        levels.append((f"role {role}", _entry(setup.roles, role, "role").set))
    if view is not None:
        levels.append((f"viewpoint {viewpoint}", view.set))
    sections: dict[str, Section] = {}
    leaves: dict[str, Leaf] = {}
    for name, kind in SECTIONS.items():
        section: Section = getattr(setup, name)
        default = kind()
        for field in kind.model_fields:
            value, base = getattr(section, field), getattr(default, field)
            history = [("default", base)] + ([("project", value)] if value != base else [])
            history += [(level, overlay[name][field]) for level, overlay in levels if field in overlay.get(name, {})]
            winner, won = history[-1]
            leaves[f"{name}.{field}"] = Leaf(won, winner, tuple(reversed(history[:-1])))
        for level, overlay in levels:
            if name in overlay:
                section = lay_over(section, overlay[name], f"{level}.{name}")
        sections[name] = section
    return Resolved(**sections, leaves=leaves)  # type: ignore[arg-type]


def _entry(table: dict[str, Any], key: str | None, what: str) -> Any:
    if key not in table:
        raise RequestError(f"{what} {key!r} does not exist; there are: {', '.join(table) or 'none'}")
    return table[key]
