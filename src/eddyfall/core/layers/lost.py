"""What is lost behind what lets light through: true layers that lie behind it and are in no copy it reads, or are drawn over it.

Due is every layer of a pixel laid in the order it lies, panes and blended things alike, as each keeps and lays; what one of them costs by
being lost is that picture without it. Rays are taken straight, copies as sharp as the picture: bends and roughness move what is seen, they
do not lose it, and a rough pane that hides the loss from the eye leaves it as it is here."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np

from eddyfall.core.compare.ciede2000 import VISIBLE_DIFFERENCE
from eddyfall.core.frame.render import Frame, Renderer, Request
from eddyfall.core.layers.capture import UNDECIDED_STEPS, Layers
from eddyfall.core.layers.kernels import fold, ordered
from eddyfall.core.layers.level import in_turn
from eddyfall.core.layers.pairs import apart
from eddyfall.core.passes import blended, refract
from eddyfall.core.passes.contract import View
from eddyfall.core.passes.refract import panes_of
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.setup.sections.fog import Fog
from eddyfall.core.shade.fog import fog_buffer

How = Literal["in no copy", "hidden by its depth", "drawn over it"]


@dataclass(frozen=True)
class Lost:
    """A drawable that lies behind what lets light through and is not seen as it should be. panes: drawables before it that are drawn;
    pixels: whose light is off by more than OFF, or that differ visibly (CIEDE2000 above 2); all_pixels: in which it is lost at all;
    nit_px: sum over pixels of what that is, mean of the channels; brighter: by what share the light there is too much without it; layers:
    how many have to be drawn for a copy to hold it everywhere (0: no copy would); where (h, w) bool: the pixels that are off."""

    drawable: int
    panes: tuple[int, ...]
    how: How
    pixels: int
    all_pixels: int
    nit_px: float
    brighter: float
    layers: int
    where: np.ndarray


@dataclass(frozen=True)
class TrueLayers:
    """Fragments of panes and of what is blended, (n,) each, by pixel (of those that a pane is drawn in), the farthest first: those of pixel
    pixels[i] are starts[i] .. starts[i + 1]. k, p, q as `Fragments` has them; how: index of HOWS, -1 in its place; glass: it lets light
    through; rank: its place among what is drawn from a copy there, -1: it is not; pane: it lets light through and is drawn; opaque
    (pixels, 3) nits that they lie on, before fog."""

    starts: np.ndarray
    pixels: np.ndarray
    drawable: np.ndarray
    far: np.ndarray
    k: np.ndarray
    p: np.ndarray
    q: np.ndarray
    how: np.ndarray
    glass: np.ndarray
    rank: np.ndarray
    pane: np.ndarray
    opaque: np.ndarray

    def folded(self, order: np.ndarray, k: np.ndarray, p: np.ndarray, q: np.ndarray) -> np.ndarray:
        """(pixels, 3) nits of layers k, p (n, 3), q (n,) laid in an order (n,) on what is opaque."""
        out = np.empty_like(self.opaque)
        fold(self.starts, order, k, p, q, self.opaque, out)
        return out


DRAWN_OVER: How = "drawn over it"
HOWS: tuple[How, ...] = ("in no copy", "hidden by its depth", DRAWN_OVER)
IN_PLACE = -1
OFF = 0.05  # share of the light due by which a pixel is off (ours, changeable); one clear pane in two is .085


def as_it_lies(renderer: Renderer, build: Build, layers: Layers, request: Request) -> np.ndarray:
    """(h, w, 3) nits of a frame whose layers were captured: every pixel's layers in their true order, what glass loses among them; where a
    direction sorts, those at one depth by it, whatever is drawn with what is solid."""
    picture = in_turn(layers) if layers.by.key == "direction" else layers.due
    every = true_layers(renderer, build, layers.frame, request)
    if every is not None:
        picture = np.array(picture)
        picture.reshape(-1, 3)[every.pixels] = _due(layers.frame, every)
    return picture


def lost_in(renderer: Renderer, build: Build, request: Request) -> list[Lost]:
    """What is lost in a frame, most visible pixels first."""
    frame = renderer.frame(build, request, "linear")
    every = true_layers(renderer, build, frame, request)
    if every is None:
        return []
    straight, due, found = ordered(every.starts, len(every.far)), _due(frame, every), []
    for code in np.unique(np.where(every.how >= 0, every.drawable.astype(np.int64) * len(HOWS) + every.how, -1)):
        if code < 0:
            continue
        drawable, how = divmod(int(code), len(HOWS))
        mine = (every.drawable == drawable) & (every.how == how)
        found.append(_told(frame, every, mine, HOWS[how], due, straight))
    return sorted(found, key=lambda one: (-one.pixels, -one.nit_px))


def true_layers(renderer: Renderer, build: Build, frame: Frame, request: Request) -> TrueLayers | None:
    """The layers of all pixels of a frame that something lets light through in; None where nothing does."""
    if not frame.stage.state.refracts[frame.buffers["in_view"]].any():
        return None
    opaque = renderer.frame(build, request, "with_sky", before="refract").buffers["with_sky"]
    return _all(frame, np.asarray(opaque, np.float64).reshape(-1, 3))


def _due(frame: Frame, every: TrueLayers) -> np.ndarray:
    return _fogged(frame, every, every.folded(ordered(every.starts, len(every.far)), every.k, every.p, every.q))


def _told(frame: Frame, every: TrueLayers, mine: np.ndarray, how: How, due: np.ndarray, straight: np.ndarray) -> Lost:
    pixel = np.repeat(np.arange(len(every.pixels)), np.diff(every.starts))
    if how == DRAWN_OVER:
        nearest = np.full(len(every.pixels), np.inf)
        np.minimum.at(nearest, pixel[every.pane], every.far[every.pane])
        key = np.where(mine, -nearest[pixel] * (1 - 1e-9), -every.far)
        wrong = every.folded(ordered(every.starts, len(every.far), key), every.k, every.p, every.q)
    else:
        k, p, q = np.where(mine[:, None], 1.0, every.k), np.where(mine[:, None], 0.0, every.p), np.where(mine, 0.0, every.q)
        wrong = every.folded(straight, k, p, q)
    wrong = _fogged(frame, every, wrong)
    there = np.zeros(len(every.pixels), bool)
    there[pixel[mine]] = True
    off = np.abs(wrong - due).mean(axis=1) > OFF * due.mean(axis=1)
    seen = there & (off | (apart(frame, wrong, due) > VISIBLE_DIFFERENCE))
    where = np.zeros(frame.pixels.shape, bool)
    where.flat[every.pixels[seen]] = True
    far = np.full(len(every.pixels), -np.inf)
    np.maximum.at(far, pixel[mine], every.far[mine])
    before = every.pane & there[pixel] & (every.far < far[pixel])
    too_much = float(wrong[there].mean()) / max(float(due[there].mean()), 1e-12) - 1
    return Lost(
        int(every.drawable[mine][0]), tuple(int(d) for d in np.unique(every.drawable[before])), how, int(seen.sum()), int(there.sum()),
        float(np.abs(wrong - due)[there].mean(axis=1).sum()), too_much, int(every.rank[mine].max()) + 1, where,
    )  # fmt: skip


def _all(frame: Frame, opaque: np.ndarray) -> TrueLayers | None:
    section = refract.section(frame.stage)
    panes = panes_of({name: frame.buffers[name] for name in refract.PASS.reads}, section)
    if panes is None:
        return None
    layers, state, length = section.refract.layers, frame.stage.state, View(frame.camera, frame.pixels).ray_lengths.ravel()
    drawn = (panes.rank >= 0) & (panes.rank < layers)
    count = len(length)
    nearest, hiding = np.full(count, np.inf), np.full(count, np.inf)
    np.minimum.at(nearest, panes.pixel[drawn], panes.far[drawn])
    hides = drawn & state.hides[panes.drawable]
    np.minimum.at(hiding, panes.pixel[hides], panes.far[hides])
    f = blended.fragments_of({name: frame.buffers[name] for name in blended.PASS.reads}, blended.section(frame.stage))
    of = np.repeat(np.arange(count), np.diff(f.starts))
    solid = frame.view_depth.ravel() * length
    step = UNDECIDED_STEPS * frame.depth_format.step_m(frame.view_depth.ravel()) * length
    open_to = (f.far < solid[of] + step[of]) & np.isfinite(nearest[of])
    how = np.where(f.far > hiding[of], 1, np.where(f.far > nearest[of], 2, IN_PLACE))
    p_how = np.where(panes.rank >= layers, 0, IN_PLACE)
    p_open = panes.open & np.isfinite(nearest[panes.pixel])
    pixel = np.concatenate([panes.pixel[p_open], of[open_to]])
    if not len(pixel):
        return None
    far = np.concatenate([panes.far[p_open], f.far[open_to]])
    order = np.lexsort((-far, pixel))
    panes_first = np.arange(len(pixel)) < int(p_open.sum())
    columns: tuple[np.ndarray, ...] = (
        np.concatenate([panes.drawable[p_open], f.drawable[open_to]]), far,
        np.concatenate([panes.kept[p_open], f.k[open_to]]), np.concatenate([panes.lit[p_open], f.p[open_to]]),
        np.concatenate([np.zeros(int(p_open.sum())), f.q[open_to]]), np.concatenate([p_how[p_open], how[open_to]]),
        panes_first, np.concatenate([panes.rank[p_open], np.full(int(open_to.sum()), -1)]),
        np.concatenate([drawn[p_open], np.zeros(int(open_to.sum()), bool)]),
    )  # fmt: skip
    pixels, counts = np.unique(pixel, return_counts=True)
    starts = np.concatenate([[0], np.cumsum(counts)])
    drawable, far, k, p, q, how, glass, rank, pane = (c[order] for c in columns)
    return TrueLayers(starts, pixels, drawable, far, k, p, q, how, glass, rank, pane, opaque[pixels])


def _fogged(frame: Frame, every: TrueLayers, nits: np.ndarray) -> np.ndarray:
    """Nits (n, 3) of pixels as pass 9 fogs them."""
    fog = frame.stage.resolved[Fog]
    if not fog.enabled:
        return nits
    picture = np.zeros((*frame.pixels.shape, 3), np.float32)
    picture.reshape(-1, 3)[every.pixels] = nits
    rgb = np.array(fog.rgb, np.float64)
    out = fog_buffer(picture, frame.buffers["fog_distance"], frame.buffers["visible"], fog.fog_per_m, rgb, fog.covers_sky)
    return np.asarray(out.reshape(-1, 3)[every.pixels], np.float64)
