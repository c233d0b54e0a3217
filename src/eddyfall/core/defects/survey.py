"""What an inspector looks at: one build, for one target and role, with frames of its viewpoints made when asked for."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any, TypeVar

import numpy as np

from eddyfall.core.frame.render import DEFAULT_SIZE, Frame, Renderer, Request
from eddyfall.core.frame.stage import make_stage, make_state
from eddyfall.core.materials.shown import shown_on
from eddyfall.core.passes.contract import Stage
from eddyfall.core.raster.depth_format import DepthFormat
from eddyfall.core.rays.queries import RayScene
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.drawables import Geometry
from eddyfall.core.scene.resolve import Resolved, resolve
from eddyfall.core.scene.setup.sections.depth import Depth
from eddyfall.core.scene.setup.sections.refract import Refract
from eddyfall.core.truth.visibility import casters, rays_of

Cause = TypeVar("Cause")
Seen = TypeVar("Seen")

SIGNAL_RGB = (200, 86, 31)


@dataclass
class Survey:
    """role None: every viewpoint in its own role, edit viewpoints left out. A role: the play viewpoints as if in that role.

    pictures False: only the measures are wanted, so no evidence is painted (as when a remedy is tried). spot (x0, y0, x1, y1): what a
    line-up asks about; levers may look there alone. about: names of the drawables that a remedy under trial is for, where it changes
    nothing but colours of theirs that a family names (None: all are looked at). masked: whether what is still there is told though
    it does not show any more, as when a remedy is tried.
    """

    build: Build
    renderer: Renderer
    target: str | None = None
    role: str | None = None
    size: tuple[int, int] = DEFAULT_SIZE
    only: tuple[str, ...] | None = None
    pictures: bool = True
    spot: tuple[int, int, int, int] | None = None
    about: frozenset[str] | None = None
    masked: bool = False

    @property
    def viewpoints(self) -> list[str]:
        """Viewpoints judged: all that are not of role edit (all if there are no others)."""
        if self.only is not None:
            return list(self.only)
        views = self.build.setup.viewpoints
        play = [name for name, v in views.items() if v.role != "edit"]
        return play or list(views)

    @cached_property
    def geometry(self) -> Geometry:
        return self.renderer.geometry(self.build)

    def request(self, viewpoint: str) -> Request:
        return Request(viewpoint, self.size, None, self.target, self.role)

    def frame(self, viewpoint: str, upto: str = "linear", crop: tuple[int, int, int, int] | None = None) -> Frame:
        """The frame of a viewpoint in this survey's role, or the part of it in crop (x0, y0, x1, y1)."""
        return self.renderer.frame(self.build, replace(self.request(viewpoint), crop=crop), upto)

    def whole(self, viewpoint: str) -> Frame:
        """The opaque part of a viewpoint's frame in the viewpoint's own role, whether this survey judges it or not."""
        return self.renderer.frame(self.build, Request(viewpoint, self.size, None, self.target), "depth")

    @property
    def depth_format(self) -> DepthFormat:
        """The depth buffer's format at the first viewpoint."""
        d = self.resolved(self.viewpoints[0])[Depth]
        return DepthFormat(d.format, d.reversed, d.near_m, d.far_m)

    def painted(self, viewpoint: str, mask: np.ndarray) -> np.ndarray | None:
        """Evidence: the frame with the masked pixels (h, w) marked in signal colour and the rest paled."""
        if not self.pictures:
            return None
        pale = self.derive(paled, self.frame(viewpoint, "display").known("display"))
        picture = np.array(pale)
        picture[mask] = SIGNAL_RGB
        return picture

    def derive(self, make: Callable[..., Any], *arguments: Any) -> Any:
        """What make(*arguments) gives, kept with the passes' results under all that it reads (see `core.frame.derive`)."""
        return self.renderer.derive(make, *arguments).value

    def stage(self, viewpoint: str | None = None) -> Stage:
        """States of drawables, lights and settings at a viewpoint (the first if None), without drawing anything."""
        resolved, build = self.resolved(viewpoint or self.viewpoints[0]), shown_on(self.build, self.target).build
        packed, refract = self.renderer.packed(build), resolved[Refract].enabled
        state = self.derive(make_state, build, packed, frozenset(), False, frozenset(), refract)
        return make_stage(build, state, resolved)

    def resolved(self, viewpoint: str) -> Resolved:
        if viewpoint not in self._resolved:
            self._resolved[viewpoint] = resolve(self.build.setup, self.target, self.role, viewpoint)
        return self._resolved[viewpoint]

    @cached_property
    def triangles_of_node(self) -> dict[str, int]:
        """Triangles by node, all its parts together."""
        found: dict[str, int] = {}
        for d in self.geometry.drawables:
            found[d.node] = found.get(d.node, 0) + d.last - d.first
        return found

    @cached_property
    def areas_m2(self) -> np.ndarray:
        """(d,) area of each drawable's faces in m^2."""
        g = self.geometry
        corners = g.positions[g.triangles].astype(np.float64)
        each = np.linalg.norm(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1) / 2
        return np.bincount(g.owner, each, len(g.drawables))

    @cached_property
    def _resolved(self) -> dict[str, Resolved]:
        return {}

    def rays(self, frame: Frame, taking_part: np.ndarray | None = None) -> RayScene:
        """Ray scene of the casters, or of the drawables (d,) bool that take part."""
        chosen = casters(frame) if taking_part is None else taking_part
        return rays_of(self.renderer, frame, chosen)

    def on(self, build: Build) -> Survey:
        """The same survey of another build."""
        return replace(self, build=build)


def by_cause(seen: Mapping[str, Mapping[Cause, Seen]]) -> dict[Cause, dict[str, Seen]]:
    """What each viewpoint saw of each cause, turned around: by cause what each viewpoint saw of it, in the viewpoints' order."""
    causes: dict[Cause, dict[str, Seen]] = {}
    for viewpoint, found in seen.items():
        for cause, what in found.items():
            causes.setdefault(cause, {})[viewpoint] = what
    return causes


def mask_of(shape: tuple[int, ...], pixels: np.ndarray, every: int) -> np.ndarray:
    """(h, w) bool: pixels (n, 2) x y, each of which stands for a square of every x every that ends with it."""
    mask = np.zeros(shape, bool)
    for dx in range(every):
        for dy in range(every):
            mask[np.maximum(pixels[:, 1] - dy, 0), np.maximum(pixels[:, 0] - dx, 0)] = True
    return mask


def region_of(mask: np.ndarray) -> tuple[int, int, int, int]:
    """Bounds (x, y, width, height) of the true pixels of a mask."""
    rows, columns = np.flatnonzero(mask.any(axis=1)), np.flatnonzero(mask.any(axis=0))
    if not len(rows):
        return 0, 0, 0, 0
    return int(columns[0]), int(rows[0]), int(columns[-1] - columns[0] + 1), int(rows[-1] - rows[0] + 1)


def paled(display: np.ndarray) -> np.ndarray:
    """A picture (h, w, 3) uint8 made pale, so that marks stand out on it."""
    grey = display.mean(axis=2, keepdims=True)
    return np.asarray(0.55 * (0.5 * display + 0.5 * grey) + 0.45 * 200, np.float64).astype(np.uint8)


def painted(display: np.ndarray, mask: np.ndarray) -> np.ndarray:
    """The picture with the masked pixels marked in signal colour and the rest paled, as evidence."""
    return np.where(mask[..., None], np.array(SIGNAL_RGB, np.uint8), paled(display))
