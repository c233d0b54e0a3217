"""Conversions of base shaders, rehearsed: pixels in the error colour before and after, and how far what is converted is from how its own
base shader draws it where that works."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass

import numpy as np

from eddyfall.core.compare.ciede2000 import delta_e_2000
from eddyfall.core.frame.render import DEFAULT_SIZE, Frame, Renderer, Request
from eddyfall.core.materials.convert import Conversion, change_of, conversion, conversions
from eddyfall.core.materials.shown import unsupported
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.changes import Change, apply_change
from eddyfall.core.scene.setup import GLOSS_SHADER
from eddyfall.core.scene.setup.tables import Shader


@dataclass(frozen=True)
class SeenConverted:
    """At a viewpoint: pixels in the error colour before and after; pixels of what was converted, and CIEDE2000 there, mean and 99th
    percentile, against a frame in which its own base shader works (0 where none shows)."""

    viewpoint: str
    error_before: int
    error_after: int
    pixels: int
    mean_de: float
    most_de: float


@dataclass(frozen=True)
class Converted:
    """What a conversion of many comes to on a target: each material, the change (None where none can be converted), the build after it, at
    each viewpoint what is seen of it."""

    target: str | None
    rows: tuple[Conversion, ...]
    change: Change | None
    after: Build
    seen: tuple[SeenConverted, ...]

    @property
    def special(self) -> tuple[Conversion, ...]:
        return tuple(row for row in self.rows if row.kind == "special")


def rehearse_conversions(
    renderer: Renderer, build: Build, target: str | None, viewpoints: Sequence[str], to: str | None = None,
    materials: Sequence[str] = (), size: tuple[int, int] = DEFAULT_SIZE,
) -> Converted:  # fmt: skip
    """Convert every material that a target has no base shader for, but for special ones, and look; materials: these instead, special or
    not. RequestError for names that do not exist, ChangeError for one of these that cannot be converted."""
    rows = tuple(conversion(build, m, to) for m in materials) if materials else conversions(build, target, to)
    chosen = [row for row in rows if materials or row.kind == "converts"]
    change = change_of(chosen, to) if chosen else None
    after = apply_change(build, change) if change is not None else build
    numbers = [build.scene.material_keys.index(row.material) for row in chosen]
    seen, ideal = [], as_if_all_worked(build)
    for viewpoint in viewpoints:
        request = Request(viewpoint, size, None, target)
        now, then, due = (renderer.frame(b, request) for b in (build, after, ideal))
        where = of_materials(then, numbers)
        off = delta_e_2000(then.display, due.display)[where]
        pixels = int(where.sum())
        mean, most = (float(off.mean()), float(np.percentile(off, 99))) if pixels else (0.0, 0.0)
        lost = [int(of_materials(f, unsupported(b, target)).sum()) for f, b in ((now, build), (then, after))]
        seen.append(SeenConverted(viewpoint, lost[0], lost[1], pixels, mean, most))
    return Converted(target, rows, change, after, tuple(seen))


def as_if_all_worked(build: Build) -> Build:
    """The build with a version of every base shader for every target."""
    shaders = {GLOSS_SHADER: Shader(), **build.setup.shaders}
    everywhere = {key: shader.model_copy(update={"works_on": None}) for key, shader in shaders.items()}
    return build.with_setup(build.setup.model_copy(update={"shaders": everywhere}))


def of_materials(frame: Frame, materials: Collection[int]) -> np.ndarray:
    """(h, w) bool: pixels whose front thing has one of the materials, by number."""
    return np.isin(frame.front, [i for i, d in enumerate(frame.geometry.drawables) if d.material in materials])
