"""Surfaces in place: light from around that is drawn on them, against what light's paths bring there."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np

from eddyfall.core.frame.render import Frame, Renderer, Request
from eddyfall.core.scene.build import Build
from eddyfall.core.shade.columns import NORMAL_XYZ, OPEN, REFLECTING
from eddyfall.core.shade.srgb import REC709_LUMA
from eddyfall.core.truth.reference.of_frame import DRAWN
from eddyfall.core.truth.reference.path_scene import path_scene
from eddyfall.core.truth.reference.tally import BOUNCE, REFLECTION, SKY_COAT, SKY_UNDER, Tally
from eddyfall.core.truth.reference.trace import Asked, grow
from eddyfall.core.truth.response.alone import would_send

PLACES, SAMPLES, BOUNCES = 48, 32, 4
LEAST_PX = 150  # at which a surface is seen, to be judged
EVERY = 3  # pixels along each edge, of which one is looked at
USUAL = 4  # drawables that say what is usual in a frame
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


@dataclass(frozen=True)
class Shown:
    """What a frame shows of drawables (d,), by some of its pixels: pixels; nits from around that they are drawn with for each nit they
    would reflect; mean share that occlusion maps let through; share of pixels whose normals are turned away from the eye."""

    pixels: np.ndarray
    around: np.ndarray
    open: np.ndarray
    turned: np.ndarray

    def dim(self) -> list[int]:
        """Drawables drawn with far less light from around than most of the frame is."""
        weight = np.where(self.around >= 0, self.pixels, 0)
        order = np.argsort(self.around)
        half = np.searchsorted(np.cumsum(weight[order]), weight.sum() / 2)
        usual = float(self.around[order[min(half, len(order) - 1)]]) if weight.sum() else 0.0
        seen = (self.pixels * EVERY * EVERY >= LEAST_PX) & (self.around >= 0)
        return [int(d) for d in np.flatnonzero(seen & (self.around < DIM * usual))]


def shown_of(frame: Frame) -> Shown:
    """What a frame shows of its drawables; around is -1 where they reflect nothing or are not shown."""
    drawable, count = frame.drawable[::EVERY, ::EVERY], len(frame.geometry.drawables)
    reflecting = frame.buffers["surface"][::EVERY, ::EVERY, REFLECTING].sum(axis=2) > 0
    y, x = (at * EVERY for at in np.nonzero((drawable >= 0) & reflecting))
    of, drawn = frame.drawable[y, x], drawn_even(frame)[y, x]
    rows, to_eye, own = would_send(frame, y, x)
    pixels = np.bincount(of, minlength=count)
    turned = np.einsum("nk,nk->n", rows[:, NORMAL_XYZ], to_eye) < 0
    light, own, lets, turned = (np.bincount(of, values, count) for values in (drawn, own, rows[:, OPEN], turned))
    some = np.maximum(pixels, 1)
    around = np.divide(light, own, out=np.full(count, -1.0), where=own > 0)
    return Shown(pixels, around, lets / some, turned / some)


def usual_answer(renderer: Renderer, build: Build, request: Request, shown: Shown) -> float:
    """R of what a frame shows most of, at the most 1: what can be had there at all, with what light from around is drawn."""
    dim = set(shown.dim())
    most = [int(d) for d in np.argsort(-shown.pixels) if shown.pixels[d] and int(d) not in dim][:USUAL]
    answers = [found.answer for found in in_place(renderer, build, request, most)]
    return min(float(np.median(answers)), 1.0) if answers else 1.0


def spread_over(drawable: np.ndarray, chosen: Iterable[int]) -> tuple[np.ndarray, np.ndarray]:
    """(pixels (n, 2) x y, drawable (n,) of each): some pixels of each chosen drawable, spread over what drawable (h, w) shows of it."""
    pixels, owner = [np.zeros((0, 2), np.int64)], [np.zeros(0, np.int64)]
    for d in chosen:
        y, x = np.nonzero(drawable == d)
        if len(y):
            some = np.unique(np.linspace(0, len(y) - 1, PLACES).astype(int))
            pixels.append(np.stack([x[some], y[some]], axis=1))
            owner.append(np.full(len(some), d))
    return np.concatenate(pixels), np.concatenate(owner)


def due_even(
    renderer: Renderer, build: Build, frame: Frame, request: Request, pixels: np.ndarray, of: np.ndarray
) -> tuple[np.ndarray, np.ndarray]:
    """(nits (n,) of luminance of light from around that are due, before fog, at pixels (n, 2) x y of a frame's window; (n,) bool: whether
    paths met drawable of (n,) there first, with nothing blended in front)."""
    scene = path_scene(renderer, build, frame)
    empty = Tally.empty(scene.light_names, pixels + np.array(frame.pixels.origin), request.size, "")
    tally = grow(scene, frame.camera, empty, Asked(bounces=BOUNCES), SAMPLES, renderer.between)
    clear = (tally.first == of) & (tally.clear.min(axis=1) >= tally.count) & (tally.fades.min(axis=1) > 0)
    fade = np.where(clear, tally.fades.mean(axis=1) / tally.count, 1.0)
    return np.asarray(sum(tally.part(k) for k in (BOUNCE, SKY_UNDER, REFLECTION, SKY_COAT)) @ REC709_LUMA / fade), clear


def in_place(renderer: Renderer, build: Build, request: Request, drawables: Iterable[int]) -> list[InPlace]:
    """How drawables answer in a frame, of those that it shows in front. What lightmaps hold straight from lights counts as drawn: R is
    the larger for it."""
    frame = renderer.frame(build, request, DRAWN)
    pixels, of = spread_over(frame.drawable, drawables)
    if not len(pixels):
        return []
    due, clear = due_even(renderer, build, frame, request, pixels, of)
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
