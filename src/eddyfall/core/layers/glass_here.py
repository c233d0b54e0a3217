"""What the eye's ray meets in one pixel, and what a piece of glass among it does to the ray, switched on or not."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np

from eddyfall.core.frame.render import Frame, Request
from eddyfall.core.frame.stage import MaterialState, material_states, refracts
from eddyfall.core.passes import refract as refract_pass
from eddyfall.core.passes.contract import View
from eddyfall.core.passes.refract import glass_of
from eddyfall.core.raster.project import project
from eddyfall.core.raster.rasterise import fragments_at
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.changes import SCOPE_ORDER, Change, Scope, set_leaves
from eddyfall.core.scene.resolve import Leaf, Resolved, resolve
from eddyfall.core.scene.setup.sections.refract import Refract
from eddyfall.core.scene.setup.tables import MaterialSetup, Shader
from eddyfall.core.shade.blend import FIRST_BLENDED
from eddyfall.core.shade.glass import BACK_FACES, MAP, MISSING, Through, see_through_plain
from eddyfall.core.shade.surface import soup_of


@dataclass(frozen=True)
class Fix:
    """Leaves of the setup that would make a link hold, how far that reaches, what it does."""

    leaves: dict[tuple[str, ...], object]
    scope: Scope
    title: str


def mended(build: Build, fixes: Sequence[Fix], title: str = "") -> Change:
    """All of some fixes as one change."""
    leaves = {path: value for fix in fixes for path, value in fix.leaves.items()}
    scope = max((fix.scope for fix in fixes), key=SCOPE_ORDER.index)
    return set_leaves(build, leaves, scope=scope, title=title or " and ".join(fix.title for fix in fixes))


@dataclass(frozen=True)
class Behind:
    """What lies behind the glass in this pixel, nearest first: drawable (or the sky), kind, m from the eye, whether the copy holds it."""

    drawable: str
    kind: str
    far_m: float
    in_copy: bool


@dataclass(frozen=True)
class Met:
    """A face in the way of a pixel's eye ray: its drawable and triangle, m from the eye, kept: its alpha test lets it stand."""

    drawable: int
    triangle: int
    far_m: float
    kept: bool


def met_at(frame: Frame, x: int, y: int) -> list[Met]:
    """All that the eye's ray meets in a pixel, whether it is drawn or not, nearest first."""
    geometry, state, view = frame.geometry, frame.stage.state, View(frame.camera, frame.pixels)
    triangles = np.arange(geometry.drawables[geometry.plate].first, dtype=np.int32)
    # A body that is measured by its back faces is met by these, too.
    both = state.double_sided | (state.bends & (state.thickness == BACK_FACES))
    cull = np.where(both[geometry.owner[triangles]], 0, 1).astype(np.int8)
    depth = frame.depth_format
    screen = project(
        geometry.positions, frame.buffers["textures"].alpha_uv, geometry.triangles, triangles, cull, view.clip_matrix(depth),
        view.pixels.size, view.pixels.window,
    )  # fmt: skip
    found = fragments_at(screen, geometry.owner, frame.buffers["cutouts"], depth.code, x, y)
    length = float(view.ray_lengths[0, 0])
    met = [
        Met(int(geometry.owner[f.triangle]), f.triangle, float(depth.view_depth(np.asarray(f.key))) * length, bool(f.kept))
        for f in found
    ]
    return sorted(met, key=lambda m: m.far_m)


@dataclass(frozen=True)
class Told:
    """What the links are told from: met[which] is the face of the glass that is asked about, at a pixel of a frame of that pixel alone."""

    build: Build
    request: Request
    frame: Frame
    met: list[Met]
    which: int
    pixel: tuple[int, int]

    @property
    def row(self) -> int:
        """Its material's row in the tables, the default's last."""
        return int(self.frame.stage.state.material[self.met[self.which].drawable])

    @property
    def key(self) -> str:
        """Its material's key in the setup."""
        keys = self.build.scene.material_keys
        return keys[self.row] if self.row < len(keys) else "(default)"

    @property
    def entry(self) -> MaterialSetup:
        """What the setup says of its material."""
        return self.build.setup.materials.get(self.key, MaterialSetup())

    @cached_property
    def material(self) -> MaterialState:
        """What file and setup say of it together."""
        return material_states(self.build)[self.row]

    @property
    def node(self) -> str:
        """The node that places it."""
        return self.frame.geometry.drawables[self.met[self.which].drawable].node

    @cached_property
    def resolved(self) -> Resolved:
        """The sections as they hold for the frame."""
        return resolve(self.build.setup, self.request.target, self.request.role, self.request.viewpoint)

    @property
    def solid(self) -> bool:
        """Whether it is something solid, or would be if it let light through."""
        how, materials = self.material.transmits, self.build.scene.materials
        return how == "solid" or (how == "none" and self.row < len(materials) and materials[self.row].thickness_m > 0)

    def through(self) -> Through:
        """What the glass would do here with every switch on."""
        given, m = self.frame.buffers, self.met[self.which]
        section = refract_pass.section(self.frame.stage)
        forced = section.refract.model_copy(update={"roughest": 1.0})
        glass = glass_of(given, replace(section, refract=forced, paint=()))
        lets = glass.transmission.copy()
        lets[m.drawable] = self.material.transmission or 1.0
        thickness = glass.thickness.copy()
        if thickness[m.drawable] == MISSING:
            thickness[m.drawable] = MAP  # which is the factor alone where there is no map
        glass = glass._replace(transmission=lets, thickness=thickness)
        bends = glass.bends.copy()
        bends[m.drawable] = self.solid
        glass = glass._replace(bends=bends)
        next_face = next((o.far_m - m.far_m for o in self.met[self.which + 1 :] if o.drawable == m.drawable), 0.0)
        soup, surfaces = soup_of(self.frame.geometry, section.material), given["textures"].surfaces
        x, y = self.pixel
        return see_through_plain(
            x + 0.5, y + 0.5, m.triangle, next_face, glass, View(self.frame.camera, self.frame.pixels).rays, soup, surfaces
        )  # fmt: skip

    def behind(self) -> list[Behind]:
        """What lies behind, down to the first thing that is solid, with all that could refract taken to do so."""
        state, states, names = self.frame.stage.state, material_states(self.build), self.frame.geometry.drawables
        refract = self.resolved[Refract]
        found: list[Behind] = []
        panes = 1
        for m in self.met[self.which + 1 :]:
            d = m.drawable
            s = states[int(state.material[d])]
            own = d == self.met[self.which].drawable and self.solid  # the faces by which the ray leaves it again
            if own or not (state.drawn[d] and state.colour_pass[d] and m.kept):
                continue
            if refracts(s, self.build.setup.shaders.get(s.shader, Shader())):
                straight = bool(state.inside_blend[d])
                kind = "laid straight" if straight else "refracting"
                found.append(Behind(names[d].name, kind, m.far_m, straight or panes < refract.layers))
                panes += not straight
                continue
            blended = int(state.blend[d]) >= FIRST_BLENDED and not state.refracts[d]
            found.append(Behind(names[d].name, s.blend, m.far_m, not blended))
            if not blended:
                return found
        return [*found, Behind("(sky)", "sky", math.inf, True)]

    def leaf(self, field: str) -> tuple[Leaf, str]:
        """A leaf of the section as it holds here, and who decides it."""
        leaf = self.resolved.leaves[f"refract.{field}"]
        return leaf, f"refract.{field} of {leaf.winner}"

    def on_material(self, field: str, value: object, title: str) -> Fix | None:
        """What sets a leaf of its material; None for things without one."""
        return None if self.key == "(default)" else Fix({("materials", self.key, field): value}, "material", title)

    def here(self, field: str, value: object, title: str) -> Fix:
        """What sets a leaf of the section so that it holds here, wherever it is decided."""
        place = self.resolved.leaves[f"refract.{field}"].place
        scope: Scope = next((s for s in SCOPE_ORDER if place and place[0] == f"{s}s"), "project")
        return Fix({(*place, "refract", field): value}, scope, title)
