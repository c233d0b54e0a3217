"""Shade that is there twice: a drawn shadow laid over a lightmap that lies in that shade already.

Where a light's shadow is drawn on a lightmapped surface, what should be left is its lightmap without that light: E - D, where D is the
light's direct share, which the bake holds only where nothing that was baked stands between, as far as a texel of the lightmap tells. What
is drawn is E times what every shadow leaves of it."""

from dataclasses import dataclass

import numpy as np

from eddyfall.core.bake.light.light_scene import blockers
from eddyfall.core.frame.render import Frame, Renderer
from eddyfall.core.passes.contract import View
from eddyfall.core.passes.lightmap_shade import kept_of_lightmaps
from eddyfall.core.passes.look_ups import look_ups
from eddyfall.core.rays.queries import RayScene
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.setup.sections.bake import Bake
from eddyfall.core.scene.setup.tables import LightSetup
from eddyfall.core.shade.lightmaps import lux_of_lightmaps
from eddyfall.core.shade.lights import shares_all
from eddyfall.core.shade.surface import soup_of
from eddyfall.core.truth.judge import Judge, around
from eddyfall.core.truth.sky_sun import LUMINANCE
from eddyfall.core.truth.surfaces import Surfaces, surfaces_of, to_light

LIMIT_STOPS = 0.25
DARK = 0.99  # what keeps more of its lightmap lies in no shadow


@dataclass(frozen=True)
class DoubledShade:
    """Of one light at one viewpoint: pixels (n, 2) that its drawn shadow makes darker than the lightmap without it, by more than the limit;
    stops (n,) too dark; receivers, casters: drawables there; right_px: pixels that the same shadow darkens as it should; due_lux,
    drawn_lux (n,): what is due and what is drawn."""

    light: str
    pixels: np.ndarray
    stops: np.ndarray
    due_lux: np.ndarray
    drawn_lux: np.ndarray
    receivers: tuple[int, ...]
    casters: tuple[int, ...]
    right_px: int

    @property
    def median_stops(self) -> float:
        return float(np.median(self.stops)) if len(self.stops) else 0.0


def doubled_shade(renderer: Renderer, build: Build, frame: Frame) -> list[DoubledShade]:
    """Of every light whose shadow is laid over lightmaps; of a frame drawn up to its surfaces and shadows."""
    shades = [light.lightmap_shade for light in frame.stage.lights]
    if all(stays is None for stays in shades) or not frame.stage.state.mapped.any():
        return []
    lux = _lux(frame)
    judge = Judge(renderer, frame)
    return [_of_light(judge, build, frame, i, lux) for i, stays in enumerate(shades) if stays is not None]


def _of_light(judge: Judge, build: Build, frame: Frame, i: int, lux: np.ndarray) -> DoubledShade:
    state, light = frame.stage.state, frame.stage.lights[i]
    alone = [v.lightmap_shade if n == i else None for n, v in enumerate(frame.stage.lights)]
    kept = kept_of_lightmaps(frame.buffers, alone, state.receives, state.mapped, look_ups(frame.stage))
    s = surfaces_of(frame, mask=kept < DARK)
    y, x = s.pixels[:, 1], s.pixels[:, 0]
    towards, distance = to_light(s, i, frame)
    direct = np.zeros(len(s))
    casters = np.full(len(s), -1)
    if len(s):
        meant, _ = judge.first(judge.scene(judge.intended), s, towards, distance)
        casters = np.where(meant >= 0, frame.geometry.owner[meant], -1)
        if light.bakes == "full":
            direct = _direct_lux(frame, i, s.normal, towards, distance)
            if build.setup.lights.get(light.name, LightSetup()).casts is not False:
                direct *= _open(judge, judge.scene(blockers(build, state)), s, towards, distance)
    baked = lux[y, x]
    due, drawn = np.maximum(baked - direct, 1e-9), np.maximum(baked * kept[y, x], 1e-9)
    stops = np.log2(due / drawn)
    wrong = stops > LIMIT_STOPS
    return DoubledShade(
        light.name, s.pixels[wrong], stops[wrong], due[wrong], drawn[wrong], _each(s.drawable[wrong]), _each(casters[wrong]),
        int((~wrong).sum()),
    )  # fmt: skip


def _open(judge: Judge, scene: RayScene, s: Surfaces, towards: np.ndarray, distance: np.ndarray) -> np.ndarray:
    """(n,) share of a light that the texels which a surface's lightmap is read from hold: by rays from it and from half a texel around."""
    half = _texel_m(judge.frame, s) / 2
    places = (s, *around(s, towards, half))
    return np.asarray(np.mean([~judge.blocked(scene, v, towards, distance) for v in places], axis=0))


def _texel_m(frame: Frame, s: Surfaces) -> np.ndarray:
    """(n,) edge in m of the texels of a surface's lightmap; 0 where its triangle takes none."""
    g, store = frame.geometry, frame.buffers["lightmaps"]
    k = store.of_drawable[s.drawable]
    corners = g.triangles[s.triangle]
    p = g.positions[corners].astype(np.float64)
    uv = np.where((store.maps[k, 2] == 1)[:, None, None], g.uv1[corners], g.uv0[corners]).astype(np.float64)
    area = np.linalg.norm(np.cross(p[:, 1] - p[:, 0], p[:, 2] - p[:, 0]), axis=1)
    a, b = uv[:, 1] - uv[:, 0], uv[:, 2] - uv[:, 0]
    edge = store.levels[store.maps[k, 0], 1] / store.place[k, 2]
    texels = np.abs(a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0]) * edge**2
    return np.asarray(np.sqrt(np.divide(area, texels, out=np.zeros(len(s)), where=texels > 0)))


def _each(drawables: np.ndarray) -> tuple[int, ...]:
    return tuple(int(d) for d in np.unique(drawables) if d >= 0)


def _direct_lux(frame: Frame, i: int, normal: np.ndarray, towards: np.ndarray, distance: np.ndarray) -> np.ndarray:
    """(n,) lx of a light on faces, unblocked."""
    facing = np.maximum(np.einsum("nk,nk->n", normal, towards), 0.0)
    return np.asarray(
        float(np.dot(frame.stage.lights[i].power, LUMINANCE)) * facing * shares_all(i, towards, distance, frame.buffers["lights"])
    )


def _lux(frame: Frame) -> np.ndarray:
    """(h, w) lx of each pixel's lightmap."""
    b, bake = frame.buffers, frame.stage.resolved[Bake]
    view, pixels = View(frame.camera, frame.pixels), frame.pixels
    soup = soup_of(frame.geometry, frame.stage.state.material)
    lux = lux_of_lightmaps(
        b["surface"], b["visible"], b["drawable"], b["triangle"], pixels.origin, pixels.jitter, view.rays, soup, b["lightmaps"],
        bake.filter == "nearest", bake.mips,
    )  # fmt: skip
    return np.asarray(lux.astype(np.float64) @ LUMINANCE)
