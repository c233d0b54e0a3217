"""All blended fragments of a frame, captured once by the pass's own kernel, and replayed in any order without shading anything."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from eddyfall.core.frame.render import Frame, Renderer, Request
from eddyfall.core.layers.kernels import count_swaps, fold, ordered, put_between, split
from eddyfall.core.passes import blended, refract
from eddyfall.core.passes.blended import HIDDEN, WRITTEN_OVER, Fragments, fragments_of, only, shown_of
from eddyfall.core.passes.contract import View
from eddyfall.core.passes.draw_order import Sorting, draw_order, sorting
from eddyfall.core.passes.refract import Met, panes_met
from eddyfall.core.scene.build import Build

UNDECIDED_STEPS = 2  # of the depth buffer, within which neither of two fragments is said to be nearer


@dataclass(frozen=True)
class Swaps:
    """n pairs of fragments that are drawn in the wrong order: the one drawn too early (it is nearer), the one drawn after it (n,), their
    pixels (n,), and nits (n, 3) that the wrong order of the two adds there."""

    early: np.ndarray
    late: np.ndarray
    pixel: np.ndarray
    wrong: np.ndarray


@dataclass(frozen=True)
class Layers:
    """The blended layers of a frame: every fragment, and those that pass the depth test."""

    frame: Frame
    every: Fragments
    shown: Fragments

    @cached_property
    def opaque(self) -> np.ndarray:
        """(pixels, 3) nits of the opaque picture that they lie on."""
        return np.asarray(self.frame.buffers["fogged"], np.float64).reshape(-1, 3)

    @cached_property
    def pixel(self) -> np.ndarray:
        """(n,) pixel of each fragment that is shown, row by row."""
        return np.repeat(np.arange(len(self.shown.starts) - 1), np.diff(self.shown.starts))

    @cached_property
    def step_m(self) -> np.ndarray:
        """(n,) m along the ray within which another fragment is neither before nor behind."""
        lengths = self.frame_lengths[self.pixel]
        steps = self.frame.depth_format.step_m(self.shown.far / lengths) * lengths
        return np.asarray(UNDECIDED_STEPS * (steps + np.spacing(self.shown.far.astype(np.float32))))

    @cached_property
    def frame_lengths(self) -> np.ndarray:
        """(pixels,) m along the ray per m of view depth."""
        return View(self.frame.camera, self.frame.pixels).ray_lengths.ravel()

    @cached_property
    def order(self) -> np.ndarray:
        """(d,) blended drawables in sight, in the order they are drawn."""
        stage = self.frame.stage
        return draw_order(self.frame.geometry, self.frame.buffers["in_view"], self.frame.camera, sorting(stage))

    @cached_property
    def drawn(self) -> np.ndarray:
        """(h, w, 3) nits as the pass draws them."""
        if self.orderless:
            layer = np.zeros((len(self.opaque), 6), np.float32)
            blended.without_order(self.shown, self.by, layer)
            return np.asarray(layer[:, :3] + layer[:, 3:] * self.opaque).reshape(*self.frame.pixels.shape, 3)
        return self.replayed(ordered(self.shown.starts, len(self.shown.far)))

    @property
    def by(self) -> Sorting:
        """What they are put together by."""
        return sorting(self.frame.stage)

    @property
    def writes(self) -> np.ndarray:
        """(d,) bool: blended drawables that write their depth."""
        return blended.writes_of(self.frame.stage)

    @property
    def orderless(self) -> bool:
        """Whether layers are put together without sorting things: then there are no pairs in the wrong order."""
        return self.by.method != "sorted"

    @cached_property
    def truly_ordered(self) -> np.ndarray:
        """(n,) fragments shown, farther ones first; those that are neither before nor behind one another as they are drawn."""
        order = ordered(self.shown.starts, len(self.shown.far))
        count_swaps(self.shown.starts, order, self.shown.far, self.step_m, np.zeros(len(self.shown.starts) - 1, np.int64))
        return order

    @cached_property
    def sorted(self) -> np.ndarray:
        """(h, w, 3) nits with every pixel's fragments drawn farthest first."""
        return self.replayed(self.truly_ordered)

    @cached_property
    def due(self) -> np.ndarray:
        """(h, w, 3) nits with all that nothing solid hides laid in its true order: also what the depth of something blended hides."""
        if not (self.every.open == WRITTEN_OVER).any():
            return self.sorted
        f, out = only(self.every, self.every.open != HIDDEN), np.empty_like(self.opaque)
        fold(f.starts, farthest_first(f), f.k, f.p, f.q, self.opaque, out)
        return out.reshape(*self.frame.pixels.shape, 3)

    def replayed(self, order: np.ndarray) -> np.ndarray:
        """(h, w, 3) nits with fragments (n,) laid in an order, pixel by pixel."""
        s, out = self.shown, np.empty_like(self.opaque)
        fold(s.starts, order, s.k, s.p, s.q, self.opaque, out)
        return out.reshape(*self.frame.pixels.shape, 3)

    def by_drawable(self, turn: np.ndarray) -> np.ndarray:
        """(h, w, 3) nits with whole drawables drawn by turn (d,), least first; equal turns as they are drawn. Parts of volumes that split
        stay before what lies nearer."""
        s, splits = self.shown, blended.section(self.frame.stage).splits[self.shown.drawable]
        order = ordered(s.starts, len(s.far), turn[s.drawable])
        if splits.any():
            put_between(s.starts, order, s.far, splits)
        return self.replayed(order)

    @cached_property
    def swaps(self) -> Swaps:
        """Every pair of fragments that sorting from the drawn to the true order swaps: their sums are drawn - sorted, exactly."""
        s = self.shown
        if self.orderless:
            none = np.zeros(0, np.int64)
            return Swaps(none, none, none, np.zeros((0, 3)))
        pixels = len(s.starts) - 1
        count = np.zeros(pixels, np.int64)
        count_swaps(s.starts, ordered(s.starts, len(s.far)), s.far, self.step_m, count)
        first = np.concatenate([[0], np.cumsum(count)])
        n = int(first[-1])
        early, late, wrong = np.zeros(n, np.int64), np.zeros(n, np.int64), np.zeros((n, 3))
        split(s.starts, ordered(s.starts, len(s.far)), s.far, self.step_m, s.k, s.p, s.q, self.opaque, first, early, late, wrong)
        return Swaps(early, late, np.repeat(np.arange(pixels), count), wrong)


def layers_of(frame: Frame, least: int = 1) -> Layers:
    """The layers of a frame that was drawn up to its linear picture. least: pixels with fewer fragments are left out (for questions of
    order two are needed): there a replay shows what is opaque."""
    inputs = {name: frame.buffers[name] for name in blended.PASS.reads}
    every = fragments_of(inputs, blended.section(frame.stage), least)
    return Layers(frame, every, shown_of(every))


def captured(renderer: Renderer, build: Build, request: Request, least: int = 1) -> Layers:
    """The layers of a frame of a build, as `layers_of` has them."""
    return layers_of(renderer.frame(build, request, "linear"), least)


def farthest_first(f: Fragments) -> np.ndarray:
    """(n,) fragments pixel by pixel, the farthest first."""
    return np.lexsort((-f.far, np.repeat(np.arange(len(f.starts) - 1), np.diff(f.starts))))


def covered_by(frame: Frame, subjects: Sequence[int]) -> np.ndarray:
    """(h, w) bool: pixels of a frame on which any of some blended drawables lies."""
    shown = layers_of(frame).shown
    pixel = np.repeat(np.arange(len(shown.starts) - 1), np.diff(shown.starts))
    covered = np.zeros(frame.pixels.shape, bool)
    covered.flat[pixel[np.isin(shown.drawable, subjects)]] = True
    return covered


def shows(frame: Frame, drawables: Sequence[int], panes: Met | None = None) -> np.ndarray:
    """(h, w) bool: pixels of a frame in which any of some drawables is in front, or lies if it is blended, or is seen through what is.
    panes: those of the frame, where they are at hand."""
    state, covered = frame.stage.state, np.isin(frame.front, drawables) | np.isin(frame.drawable, drawables)
    over = [d for d in drawables if state.blended[d]]
    if over:
        covered |= covered_by(frame, over)
    if any(state.refracts[d] for d in drawables):
        panes = panes_in(frame) if panes is None else panes
        if panes is not None:  # whether a copy holds it or not
            covered.flat[panes.pixel[panes.open & np.isin(panes.drawable, drawables)]] = True
    return np.asarray(covered)


def panes_in(frame: Frame) -> Met | None:
    """Where what lets light through lies in a frame; None where there is none."""
    return panes_met({name: frame.buffers[name] for name in refract.PASS.reads}, refract.section(frame.stage))
