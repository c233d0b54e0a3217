"""Two roles side by side: every setting in which they differ, its winner, and what it does to a view by itself and together with others."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from eddyfall.core.compare.ciede2000 import VISIBLE_DIFFERENCE, delta_e_2000
from eddyfall.core.errors import RequestError
from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.passes.display import exposure_scale
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.resolve import Leaf, Resolved, resolve
from eddyfall.core.scene.setup import STOCK_ROLES
from eddyfall.core.scene.setup.sections.exposure import Exposure
from eddyfall.core.scene.setup.tables import RoleSetup
from eddyfall.core.shade.srgb import REC709_LUMA

MIXED = "(both)"  # a role that no document can hold
NOTHING_STOPS, NOTHING_SHARE = 0.01, 0.001


@dataclass(frozen=True)
class Effect:
    """stops: mean luminance, exposed, against the other role's; share of pixels that differ visibly (CIEDE2000 over 2)."""

    stops: float
    share: float

    @property
    def nothing(self) -> bool:
        """Whether nothing of it is to be seen."""
        return abs(self.stops) < NOTHING_STOPS and self.share < NOTHING_SHARE


@dataclass(frozen=True)
class Differing:
    """A leaf in which two roles differ: its value in each, and what set it there; alone: what it does if it alone is as in the first role;
    rest: what the others do without it; says: "", "nothing here", or "only with others"."""

    leaf: str
    first: Any
    first_winner: str
    second: Any
    second_winner: str
    alone: Effect
    rest: Effect
    says: str


@dataclass(frozen=True)
class SideBySide:
    """Two roles at a viewpoint: the first against the second, all of it, and leaf by leaf, largest first; roles: all there are."""

    viewpoint: str
    first: str
    second: str
    whole: Effect
    leaves: tuple[Differing, ...]
    roles: tuple[str, ...]


def side_by_side(
    renderer: Renderer, build: Build, request: Request, first: str, second: str,
    progress: Callable[[str, float], None] = lambda what, share: None,
) -> SideBySide:  # fmt: skip
    """The first role against the second, in a request's window. RequestError for names that do not exist."""
    if first == second:
        raise RequestError(f"{first!r} is one role: two are needed to be held side by side")
    a, b = (resolve(build.setup, request.target, role, request.viewpoint) for role in (first, second))
    differ = [leaf for leaf in a.leaves if a.leaves[leaf].value != b.leaves[leaf].value]
    base = _shown(renderer, build, replace(request, role=second))
    whole = _effect(_shown(renderer, build, replace(request, role=first)), base)
    found = []
    for number, leaf in enumerate(differ):
        progress(leaf, number / len(differ))
        alone = _effect(_mixed(renderer, build, request, second, {leaf: a.leaves[leaf]}), base)
        rest = _effect(_mixed(renderer, build, request, second, {k: a.leaves[k] for k in differ if k != leaf}), base)
        found.append(_told(leaf, a, b, whole, alone, rest))
    ordered = sorted(found, key=lambda d: (-abs(d.alone.stops), -d.alone.share, d.leaf))
    roles = tuple(dict.fromkeys([*build.setup.roles, *STOCK_ROLES]))
    return SideBySide(request.viewpoint, first, second, whole, tuple(ordered), roles)


def _told(leaf: str, a: Resolved, b: Resolved, whole: Effect, alone: Effect, rest: Effect) -> Differing:
    says = ""
    if alone.nothing:
        without = abs(whole.stops - rest.stops) < NOTHING_STOPS and abs(whole.share - rest.share) < NOTHING_SHARE
        says = "nothing here" if without else "only with others"
    here, there = a.leaves[leaf], b.leaves[leaf]
    return Differing(leaf, here.value, here.winner, there.value, there.winner, alone, rest, says)


def _mixed(renderer: Renderer, build: Build, request: Request, role: str, over: dict[str, Leaf]) -> tuple[np.ndarray, np.ndarray]:
    """What a role shows with some leaves as others have them."""
    held = build.setup.roles.get(role, RoleSetup())
    laid = {section: dict(fields) for section, fields in held.set.items()}
    for name, leaf in over.items():
        section, field = name.split(".")
        laid.setdefault(section, {})[field] = leaf.value if not isinstance(leaf.value, tuple) else list(leaf.value)
    roles = {**build.setup.roles, MIXED: held.model_copy(update={"set": laid})}
    return _shown(renderer, build.with_setup(build.setup.model_copy(update={"roles": roles})), replace(request, role=MIXED))


def _shown(renderer: Renderer, build: Build, request: Request) -> tuple[np.ndarray, np.ndarray]:
    """(luminance (h, w) as it is exposed, display (h, w, 3)) of a frame."""
    frame = renderer.frame(build, request)
    e = frame.stage.resolved[Exposure]
    return frame.linear.astype(np.float64) @ REC709_LUMA * exposure_scale(e.mode, e.ev100), frame.display


def _effect(a: tuple[np.ndarray, np.ndarray], b: tuple[np.ndarray, np.ndarray]) -> Effect:
    light, other = float(a[0].mean()), float(b[0].mean())
    least = 1e-12 * max(light, other, 1e-30)
    stops = float(np.log2(max(light, least) / max(other, least)))
    return Effect(stops, float((delta_e_2000(a[1], b[1]) > VISIBLE_DIFFERENCE).mean()))
