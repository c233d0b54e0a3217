"""Leftovers: settings of shadows, or of draw order, that are not at their default and change no pixel at any viewpoint, target or role.

Each is reset by itself; those that change nothing are then reset together, since two may each do what the other does.
"""

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np

from eddyfall.core.frame.moves import path_of
from eddyfall.core.frame.render import DEFAULT_SIZE, Renderer, Request
from eddyfall.core.passes.contract import LOOK_UP
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.changes import Change, apply_change, set_leaves
from eddyfall.core.scene.setup.leaf import Section
from eddyfall.core.scene.setup.registry import name_of
from eddyfall.core.scene.setup.sections.budget import Budget
from eddyfall.core.scene.setup.sections.order import Order
from eddyfall.core.scene.setup.sections.shadow import Shadow
from eddyfall.core.scene.setup.tables import LightSetup, MaterialSetup, MeshSetup, NodeSetup, SortPoint

Path = tuple[str, ...]
Tables = tuple[tuple[str, type[Section], tuple[str, ...]], ...]
NOT_DRAWN = name_of(Budget)  # a section that no pass reads
FACTS = {"diameter_deg", "diameter_m"}  # said of a light, whether anything is drawn by it or not
POSES = 16  # of a move that are looked at
OF_LIGHTS = (
    "technique", *sorted(LOOK_UP - FACTS), "resolution", "faces", "lightmap_shade", "soft_rays", "contact_m", "contact_thick_m",
)  # fmt: skip


@dataclass(frozen=True)
class Which:
    """Settings that are looked at together: a section's, but for leaves that nothing is drawn by, and leaves of tables; moves: whether what
    they do may show on the way only."""

    name: str
    section: type[Section]
    aside: frozenset[str]
    tables: Tables
    moves: bool = False


SHADOW = Which(
    "shadow", Shadow, frozenset({"of_blended"}),
    (
        ("nodes", NodeSetup, ("bounds_padding_m",)),
        ("meshes", MeshSetup, ("dense",)),
        ("materials", MaterialSetup, ("casts_both_sides", "shadow_alpha_test", "shadow_mip_bias", "shadow_coverage_kept")),
        ("lights", LightSetup, OF_LIGHTS),
    ),
)  # fmt: skip
ORDER = Which(  # what everything is sorted by is a choice, not what a trial has left
    "order", Order, frozenset(Order.model_fields),
    (
        ("nodes", NodeSetup, ("draw_rank", "key_shift_m", "split_at", "triangle_order")),
        ("materials", MaterialSetup, ("triangles",)),
        ("sort_points", SortPoint, ("members",)),
    ),
    moves=True,
)  # fmt: skip
KINDS = {which.name: which for which in (SHADOW, ORDER)}


@dataclass(frozen=True)
class Leftover:
    """One setting: its path, value and default; needed: pixels of some frame change without it; where: the first viewpoint (and target,
    role) at which they do, and how many."""

    path: Path
    value: Any
    default: Any
    needed: bool
    where: str
    pixels: int


# For a setting and its value: the look at which it was last needed, to look there first. A hint: what is needed is always drawn.
Hints = dict[tuple[Path, str], str]


@dataclass(frozen=True)
class Leftovers:
    """Every non-default setting of a kind, and the change that takes all out together that nothing needs; None if all are needed."""

    settings: tuple[Leftover, ...]
    change: Change | None
    looked: tuple[str, ...]


def leftovers(
    renderer: Renderer, build: Build, which: Which = SHADOW, *, size: tuple[int, int] = DEFAULT_SIZE,
    progress: Callable[[str, float], None] = lambda what, share: None, hints: Hints | None = None, idle: frozenset[Path] = frozenset(),
) -> Leftovers:  # fmt: skip
    """The non-default settings of a build, each needed or not. hints: read and written, so that the next build, which may differ in
    one setting, is looked at first where the last one needed what it has. idle: settings that are known to change nothing, by themselves
    and together."""
    looks, hints = looks_of(build, size, which), {} if hints is None else hints
    by_name = dict(looks)
    paths = list(non_default(build, which))
    without = {path: apply_change(build, _reset(build, [(path, default)])) for path, _, default in paths}
    needed: dict[Path, tuple[str, int]] = {}
    hinted = [(hints.get((path, str(value)), ""), path) for path, value, _ in paths]
    for hint, path in sorted(h for h in hinted if h[0] in by_name):
        where, pixels = first_difference(renderer, build, without[path], [(hint, by_name[hint])])
        if pixels:
            needed[path] = where, pixels
    # One look after the other, so that what a look is drawn from is drawn once.
    for number, look in enumerate(looks):
        for path in [path for path, _, _ in paths if path not in needed and path not in idle]:
            progress(f"{look[0]}: {'.'.join(path)}", number / len(looks))
            where, pixels = first_difference(renderer, build, without[path], [look])
            if pixels:
                needed[path] = where, pixels
    hints.update({(path, str(value)): needed[path][0] for path, value, _ in paths if path in needed})
    settings = [Leftover(p, value, default, p in needed, *needed.get(p, ("", 0))) for p, value, default in paths]
    spare = [(s.path, s.default) for s in settings if not s.needed]
    # Two settings may each do what the other does: together they are needed.
    while (
        len(spare) > 1
        and not idle.issuperset(path for path, _ in spare)
        and first_difference(renderer, build, apply_change(build, _reset(build, spare)), looks)[1]
    ):
        path, _ = spare.pop()
        settings = [
            s if s.path != path else Leftover(s.path, s.value, s.default, True, "together with the others", 0) for s in settings
        ]
    change = _reset(build, spare) if spare else None
    return Leftovers(tuple(settings), change, tuple(name for name, _ in looks))


def _reset(build: Build, paths: list[tuple[Path, Any]]) -> Change:
    names = ", ".join(".".join(path) for path, _ in paths)
    return set_leaves(build, dict(paths), scope="project", title=f"take out {names}", reason="they change no pixel")


def non_default(build: Build, which: Which = SHADOW) -> Iterator[tuple[Path, Any, Any]]:
    """(path, value, default) of settings that are not at their default: of the project, of targets and roles, of assets."""
    section, of_project = name_of(which.section), build.setup[which.section]
    for name, field in which.section.model_fields.items():
        if name not in which.aside and getattr(of_project, name) != field.default:
            yield (section, name), getattr(of_project, name), field.default
    for table, kind, names in which.tables:
        for key, entry in getattr(build.setup, table).items():
            for name in names:
                default = kind.model_fields[name].default
                if getattr(entry, name) != default:
                    yield (table, key, name), getattr(entry, name), default
    for table in ("targets", "roles"):
        for key, entry in getattr(build.setup, table).items():
            for name, value in entry.set.get(section, {}).items():
                project = getattr(of_project, name)
                if value != project and name not in which.aside:
                    yield (table, key, "set", section, name), value, project


def looks_of(build: Build, size: tuple[int, int], which: Which = SHADOW) -> list[tuple[str, Request]]:
    """Every viewpoint in its own role and in every other, for every target that sets something and none; moments of moves, where what is
    looked at may show on the way only."""
    return [*_looks(build, size), *(_on_the_way(build, size) if which.moves else ())]


def _on_the_way(build: Build, size: tuple[int, int]) -> Iterator[tuple[str, Request]]:
    for name in build.setup.moves:
        path = path_of(build, name, size[0] / size[1])
        for t in np.linspace(path.keys[0].t_s, path.keys[-1].t_s, POSES):
            yield f"{name} at {t:.2f} s", Request(path.viewpoint, size, None, None, path.role, camera=path.at(float(t)))


def _looks(build: Build, size: tuple[int, int]) -> Iterator[tuple[str, Request]]:
    roles = [name for name, entry in build.setup.roles.items() if entry.set]
    for target in (None, *(name for name, entry in build.setup.targets.items() if set(entry.set) - {NOT_DRAWN})):
        for viewpoint in build.setup.viewpoints:
            for role in (None, *(r for r in roles if r != build.setup.viewpoints[viewpoint].role)):
                words = [viewpoint, *([f"target {target}"] if target else []), *([f"role {role}"] if role else [])]
                yield ", ".join(words), Request(viewpoint, size, None, target, role)


def first_difference(renderer: Renderer, build: Build, other: Build, looks: list[tuple[str, Request]]) -> tuple[str, int]:
    """(where the first pixels differ, how many); ("", 0) if none does."""
    for name, request in looks:
        a, b = (renderer.frame(x, request, "linear").linear for x in (build, other))
        different = int((a != b).any(axis=2).sum()) if a is not b else 0
        if different:
            return name, different
    return "", 0
