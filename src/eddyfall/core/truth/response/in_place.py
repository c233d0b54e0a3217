"""Surfaces in place: light from around that is drawn on them, against what light's paths bring there."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np

from eddyfall.core.frame.render import Frame, Renderer, Request
from eddyfall.core.passes.contract import View
from eddyfall.core.scene.build import Build
from eddyfall.core.screen.bundles import shares_of_even_light
from eddyfall.core.shade.columns import OPEN, REFLECTING
from eddyfall.core.shade.facing import ray_directions
from eddyfall.core.shade.srgb import REC709_LUMA
from eddyfall.core.truth.reference.of_frame import DRAWN
from eddyfall.core.truth.reference.path_scene import path_scene
from eddyfall.core.truth.reference.tally import BOUNCE, REFLECTION, SKY_COAT, SKY_UNDER, Tally
from eddyfall.core.truth.reference.trace import Asked, grow

PLACES, SAMPLES, BOUNCES = 48, 32, 4
LEAST_PX = 150  # at which a surface is seen, to be judged
DIM = 0.5  # of the light around that most of the frame is drawn with, below which a surface is asked about


@dataclass(frozen=True)
class InPlace:
    """A drawable at a viewpoint: places asked, mean nits of light from around that are drawn and due."""

    drawable: int
    name: str
    viewpoint: str
    places: int
    drawn: float
    due: float

    @property
    def answer(self) -> float:
        """R: drawn over due; 1 where nothing is due."""
        return self.drawn / self.due if self.due > 0 else 1.0


def drawn_even(frame: Frame) -> np.ndarray:
    """(h, w) nits of luminance of light from around that a frame is drawn with, before fog."""
    return np.asarray((frame.buffers["with_sky"].astype(np.float64) - frame.buffers["lit"]) @ REC709_LUMA)


def dim_ones(frame: Frame) -> list[int]:
    """Drawables that are drawn with far less light from around than most of the frame is, for what they reflect."""
    shown = (frame.drawable >= 0) & (frame.buffers["surface"][..., REFLECTING].sum(axis=2) > 0)
    if not shown.any():
        return []
    y, x = np.nonzero(shown)
    rays, (ox, oy) = View(frame.camera, frame.pixels).rays, frame.pixels.origin
    rows = frame.buffers["surface"][y, x].copy()
    rows[:, OPEN] = 1.0
    under, coat = shares_of_even_light(rows, -ray_directions(rays.d0, rays.du, rays.dv, x + ox + 0.5, y + oy + 0.5))
    own, drawn = (under + coat) @ REC709_LUMA, drawn_even(frame)[y, x]
    drawable = frame.drawable[y, x]
    count = np.bincount(drawable)
    around = np.divide(np.bincount(drawable, drawn), np.bincount(drawable, own), out=np.zeros(len(count)), where=count > 0)
    usual = float(np.median(around[drawable]))
    return [int(d) for d in np.flatnonzero((count >= LEAST_PX) & (around < DIM * usual))] if usual > 0 else []


def in_place(renderer: Renderer, build: Build, request: Request, drawables: Iterable[int]) -> list[InPlace]:
    """How drawables answer in a frame, of those that it shows in front."""
    frame = renderer.frame(build, request, DRAWN)
    chosen, owner = [], []
    for d in drawables:
        y, x = np.nonzero(frame.drawable == d)
        if not len(y):
            continue
        some = np.unique(np.linspace(0, len(y) - 1, PLACES).astype(int))
        chosen.append(np.stack([x[some], y[some]], axis=1))
        owner.append(np.full(len(some), d))
    if not chosen:
        return []
    pixels, of = np.concatenate(chosen), np.concatenate(owner)
    scene = path_scene(renderer, build, frame)
    empty = Tally.empty(scene.light_names, pixels + np.array(frame.pixels.origin), request.size, "")
    tally = grow(scene, frame.camera, empty, Asked(bounces=BOUNCES), SAMPLES, renderer.between)
    clear = (tally.first == of) & (tally.clear >= tally.count) & (tally.fades > 0)
    fade = np.where(clear, tally.fades / tally.count, 1.0)
    due = sum(tally.part(k) for k in (BOUNCE, SKY_UNDER, REFLECTION, SKY_COAT)) @ REC709_LUMA / fade
    drawn = drawn_even(frame)[pixels[:, 1], pixels[:, 0]]
    names = [d.name for d in frame.geometry.drawables]
    found = []
    for d in dict.fromkeys(of.tolist()):
        mine = clear & (of == d)
        if mine.any():
            found.append(
                InPlace(d, names[d], request.viewpoint, int(mine.sum()), float(drawn[mine].mean()), float(due[mine].mean()))
            )
    return found
