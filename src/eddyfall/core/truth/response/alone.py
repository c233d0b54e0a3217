"""A material alone: a flat card of it, square to the view, under even light from all around, and under a sun."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from eddyfall.core.errors import RequestError
from eddyfall.core.frame.render import Frame, Renderer, Request
from eddyfall.core.passes.contract import View
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.maps import DrawnMap, drawn_maps, shader_of
from eddyfall.core.scene.model import Mesh, Node, Primitive, Scene
from eddyfall.core.scene.setup import parse_setup
from eddyfall.core.scene.setup.tables import MapRole, MaterialSetup
from eddyfall.core.screen.bundles import shares_of_even_light
from eddyfall.core.shade.columns import OPEN
from eddyfall.core.shade.facing import ray_directions
from eddyfall.core.shade.srgb import REC709_LUMA

SIZE = (64, 64)
AWAY_M = 20.0
BROKEN, WEAK = 0.1, 0.5  # of its own furnace value, below which it does not answer, or answers weakly (ours, changeable)


@dataclass(frozen=True)
class Alone:
    """furnace: share of even light from all around that the material by itself would send to the eye, with nothing in its way; ambient:
    what is drawn of it, sun: nits it is drawn with for each lux of a sun square to it; maps: what it draws, by role."""

    material: str
    shader: str
    furnace: float
    ambient: float
    sun: float
    maps: dict[MapRole, DrawnMap]

    @property
    def answer(self) -> float:
        """R: what is drawn of even light over the material's own furnace value; 1 where that is nothing."""
        return self.ambient / self.furnace if self.furnace > 0 else 1.0


def alone(renderer: Renderer, build: Build, material: str) -> Alone:
    """How a material answers by itself. RequestError if there is none of that name, or it is not opaque or cut out."""
    keys = build.scene.material_keys
    if material not in keys:
        raise RequestError(f"material {material!r} does not exist; there are: {', '.join(keys) or 'none'}")
    index = keys.index(material)
    entry = build.setup.materials.get(material, MaterialSetup())
    even = renderer.frame(_card(build, index, sun=False), Request("card", SIZE), "linear")
    lit = renderer.frame(_card(build, index, sun=True), Request("card", SIZE), "linear")
    shown = even.drawable >= 0
    if not shown.any():
        raise RequestError(f"material {material!r} shows nothing on a card: it is blended, or cut out whole")
    _, _, own = would_send(even, *np.nonzero(shown))
    shines = float((even.buffers["lit"][shown].astype(np.float64) @ REC709_LUMA).mean())
    ambient, sun = (float((f.linear[shown].astype(np.float64) @ REC709_LUMA).mean()) - shines for f in (even, lit))
    return Alone(
        material, shader_of(build.scene.materials[index], entry), float(own.mean()), ambient, sun, drawn_maps(build, index)
    )


def would_send(frame: Frame, y: np.ndarray, x: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """(rows (n, row) of the surfaces at pixels y, x (n,) of a frame's window, unit directions to the eye (n, 3), share (n,) of luminance of
    even light that they would send there with nothing in its way, whatever their occlusion map says)."""
    rays, (ox, oy), (jx, jy) = View(frame.camera, frame.pixels).rays, frame.pixels.origin, frame.pixels.jitter
    rows, to_eye = (
        frame.buffers["surface"][y, x],
        -ray_directions(rays.d0, rays.du, rays.dv, x + ox + 0.5 + jx, y + oy + 0.5 + jy),
    )
    bare = rows.copy()
    bare[:, OPEN] = 1.0
    under, coat = shares_of_even_light(bare, to_eye)
    return rows, to_eye, np.asarray((under + coat) @ REC709_LUMA)


def card_in_sun(renderer: Renderer, build: Build, material: str) -> np.ndarray:
    """(h, w, 3) float32 nits of the card under a lux of sun square to it."""
    index = build.scene.material_keys.index(material)
    return renderer.frame(_card(build, index, sun=True), Request("card", SIZE), "linear").linear


def _card(build: Build, index: int, *, sun: bool) -> Build:
    """A build of nothing but a card of one metre, with a material of another build, under one nit from everywhere, or a lux of sun."""
    scene, key = build.scene, build.scene.material_keys[index]
    corners = np.array([[-0.5, -0.5, 0], [0.5, -0.5, 0], [0.5, 0.5, 0], [-0.5, 0.5, 0]], np.float32)
    uv = np.array([[0, 1], [1, 1], [1, 0], [0, 0]], np.float32)
    normals = np.tile(np.array([0, 0, 1], np.float32), (4, 1))
    attributes = {"POSITION": corners, "NORMAL": normals, "TEXCOORD_0": uv, "TEXCOORD_1": uv}
    part = Primitive(attributes, np.array([[0, 1, 2], [0, 2, 3]], np.int32), index)
    card = Scene(
        images=scene.images, materials=scene.materials, meshes=(Mesh("card", (part,)),), nodes=(Node("card", np.eye(4), mesh=0),)
    )
    shaders = {k: s.model_dump(mode="json") for k, s in build.setup.shaders.items()}
    entry = build.setup.materials.get(key)
    even = [1.0, 1.0, 1.0]
    setup = {
        "eddyfall_setup": 1, "shaders": shaders, "materials": {} if entry is None else {key: entry.model_dump(mode="json")},
        "sky": {"ambient": not sun, "zenith_rgb": even, "horizon_rgb": even, "ground_rgb": even}, "shadow": {"reach_m": 2 * AWAY_M},
        "viewpoints": {
            "card": {"eye": [0, 0, AWAY_M], "target": [0, 0, 0], "fov_y_deg": math.degrees(2 * math.atan(0.5 / AWAY_M)) * 0.999}
        },
        "lights": {"sun": {"kind": "sun", "towards": [0, 0, 1], "illuminance_lux": 1.0, "casts": False}} if sun else {},
    }  # fmt: skip
    return Build(card, parse_setup(setup))
