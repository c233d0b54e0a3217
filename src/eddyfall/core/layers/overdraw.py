"""How many blended fragments a frame lays, which of its things lay them, and which of them leave the picture as it is."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from eddyfall.core.frame.render import Frame
from eddyfall.core.layers.capture import layers_of
from eddyfall.core.passes.blended import Fragments
from eddyfall.core.passes.display import exposure_scale
from eddyfall.core.scene.setup.sections.exposure import Exposure

NOTHING = 1 / 255  # of alpha, and of display white: what no 8-bit picture shows


@dataclass(frozen=True)
class Laid:
    """A drawable's fragments: all that its triangles make in the frame, those hidden by depth, those shown that change nothing."""

    drawable: int
    fragments: int
    hidden: int
    idle: int


@dataclass(frozen=True)
class Overdraw:
    """A frame's blended fragments that pass the depth test: depth (h, w) of each pixel; by drawable, most of them first."""

    depth: np.ndarray
    laid: tuple[Laid, ...]

    @property
    def mean(self) -> float:
        """Fragments for each pixel of the frame."""
        return float(self.depth.mean())

    @property
    def idle(self) -> int:
        """Fragments that change nothing."""
        return sum(v.idle for v in self.laid)


def overdraw_of(frame: Frame) -> Overdraw:
    """The blended fragments of a frame that was drawn up to its linear picture; a volume is one in a pixel, whatever lies in it."""
    layers = layers_of(frame)
    shown, every = layers.shown, layers.every
    e = frame.stage.resolved[Exposure]
    white = 1.0 / float(exposure_scale(e.mode, e.ev100))
    n = len(frame.geometry.drawables)
    idle = (shown.k >= 1 - NOTHING).all(axis=1) & (np.abs(shown.p) <= NOTHING * white).all(axis=1) & (shown.q <= NOTHING)
    one, whole = _first_parts(shown, n), _first_parts(every, n)
    fragments, passed = np.bincount(every.drawable[whole], minlength=n), np.bincount(shown.drawable[one], minlength=n)
    wasted = np.bincount(shown.drawable[one & idle], minlength=n)
    laid = [Laid(int(d), int(fragments[d]), int(fragments[d] - passed[d]), int(wasted[d])) for d in np.flatnonzero(fragments)]
    pixel = np.repeat(np.arange(len(shown.starts) - 1), np.diff(shown.starts))
    depth = np.bincount(pixel[one], minlength=len(shown.starts) - 1).reshape(frame.pixels.shape)
    return Overdraw(depth, tuple(sorted(laid, key=lambda v: -(v.fragments - v.hidden))))


def _first_parts(f: Fragments, drawables: int) -> np.ndarray:
    """(n,) bool: fragments of surfaces, and the first part of each volume in each pixel."""
    first = np.ones(len(f.far), bool)
    parts = np.flatnonzero(f.long > 0)
    if len(parts):
        pixel = np.repeat(np.arange(len(f.starts) - 1), np.diff(f.starts))[parts]
        first[parts] = False
        _, at = np.unique(pixel * drawables + f.drawable[parts], return_index=True)
        first[parts[at]] = True
    return first
