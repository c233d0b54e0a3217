"""Which setting wins: default < project < target < role < viewpoint. Every leaf carries its winner and the losers."""

from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

from eddyfall.core.errors import RequestError
from eddyfall.core.hashing import digest
from eddyfall.core.scene.setup import STOCK_ROLES, Setup, lay_over
from eddyfall.core.scene.setup.leaf import Section
from eddyfall.core.scene.setup.registry import S, name_of, sections
from eddyfall.core.scene.setup.sections.sky import Sky


@dataclass(frozen=True)
class Leaf:
    """One resolved field: its value, the level that set it, and (level, value) of those it overrode, nearest first.

    place: where a change must write to win: keys above section and field, () for the project."""

    value: Any
    winner: str
    losers: tuple[tuple[str, Any], ...]
    place: tuple[str, ...] = ()


@dataclass(frozen=True)
class Resolved:
    """The sections as they hold for one target, role and viewpoint, by their classes (`resolved[Fog]`). Only this enters a render."""

    sections: dict[str, Section]
    leaves: dict[str, Leaf]
    light_set: str | None = None

    @cached_property
    def content_hash(self) -> str:
        return digest(*self.sections.values(), self.light_set)

    def __getitem__(self, kind: type[S]) -> S:
        section = self.sections[name_of(kind)]
        assert isinstance(section, kind)
        return section

    def with_section(self, section: Section) -> "Resolved":
        """The same with one section replaced, for a trial that no document holds."""
        return replace(self, sections={**self.sections, name_of(type(section)): section})


def resolve(setup: Setup, target: str | None = None, role: str | None = None, viewpoint: str | None = None) -> Resolved:
    """Sections for a target, a role (default: the viewpoint's, else play) and a viewpoint. RequestError for unknown names."""
    levels: list[_Level] = []
    if target is not None:
        levels.append(_Level("target", target, _entry(setup.targets, target, "target").set))
    view = _entry(setup.viewpoints, viewpoint, "viewpoint") if viewpoint is not None else None
    role = role or (view.role if view else "play")
    if role in setup.roles or role not in STOCK_ROLES:
        levels.append(_Level("role", role, _entry(setup.roles, role, "role").set))
    if view is not None and viewpoint is not None:
        levels.append(_Level("viewpoint", viewpoint, view.set))
    found: dict[str, Section] = {}
    leaves: dict[str, Leaf] = {}
    for name, kind in sections().items():
        section: Section = setup[kind]
        default = kind()
        for field in kind.model_fields:
            value, base = getattr(section, field), getattr(default, field)
            history = [("default", base)] + ([("project", value)] if value != base else [])
            over = [level for level in levels if field in level.overlay.get(name, {})]
            history += [(level.label, level.overlay[name][field]) for level in over]
            winner, won = history[-1]
            place = over[-1].place if over else ()
            leaves[f"{name}.{field}"] = Leaf(won, winner, tuple(reversed(history[:-1])), place)
        for level in levels:
            if name in level.overlay:
                section = lay_over(section, level.overlay[name], f"{level.label}.{name}")
        found[name] = section
    if view is not None and view.light_set is not None:
        resolved = Resolved(found, leaves, view.light_set)
        return resolved.with_section(sky_in_set(setup, resolved[Sky], view.light_set))
    return Resolved(found, leaves)


def sky_in_set(setup: Setup, sky: Sky, light_set: str | None) -> Sky:
    """The sky as it is in a light set."""
    share = 1.0 if light_set is None else setup.light_sets[light_set].sky
    if share == 1.0:
        return sky
    names = ("zenith_rgb", "horizon_rgb", "ground_rgb")
    dimmed: dict[str, Any] = {name: tuple(v * share for v in getattr(sky, name)) for name in names}
    return sky.model_copy(update={**dimmed, "picture_nits": sky.picture_nits * share})


def skies_named(setup: Setup) -> list[str]:
    """Names of all sky pictures that a setup asks for: the project's, and those of targets, roles and viewpoints."""
    overlays = [entry.set for table in (setup.targets, setup.roles, setup.viewpoints) for entry in table.values()]
    named = [setup[Sky].picture, *(overlay.get("sky", {}).get("picture") for overlay in overlays)]
    return list(dict.fromkeys(name for name in named if isinstance(name, str) and name))


@dataclass(frozen=True)
class _Level:
    """One level that lays settings over the project's: a target, role or viewpoint by key."""

    kind: str
    key: str
    overlay: dict[str, dict[str, Any]]

    @property
    def label(self) -> str:
        return f"{self.kind} {self.key}"

    @property
    def place(self) -> tuple[str, ...]:
        return (f"{self.kind}s", self.key, "set")


def _entry(table: dict[str, Any], key: str | None, what: str) -> Any:
    if key not in table:
        raise RequestError(f"{what} {key!r} does not exist; there are: {', '.join(table) or 'none'}")
    return table[key]
