"""Pictures of a caster's shadow on either side of where it ends: the eye steps back (or forth) until its bar's end lies just behind the
shadow, then just before it. Drawn frames: what the bar predicts can be seen to hold or not."""

from dataclasses import dataclass

import numpy as np

from eddyfall.core.errors import RequestError
from eddyfall.core.frame.render import Frame, Renderer, Request
from eddyfall.core.frame.stage import make_camera
from eddyfall.core.scene.build import Build
from eddyfall.core.truth.judge import Judge
from eddyfall.core.truth.long_section import CasterBar, light_number, long_section
from eddyfall.core.truth.shadow_classes import SAME
from eddyfall.core.truth.surfaces import surfaces_of, to_light
from eddyfall.core.truth.walk import moved

ASIDE = 0.02  # of the end's distance: how far before and beyond it the eye stops
LEAST_M = 0.25
AROUND = 0.6  # of the shadow's and caster's extent, shown around them
SHAPE = (4, 3)
LEAST_PX = 48
EVERY = 2


@dataclass(frozen=True)
class BarEnd:
    """One side. retreat_m: how far back the eye went from the viewpoint (forth if negative); due_px: pixels of the caster's shadow that
    are due there; dark: share of them that is drawn dark; picture (h, w, 3) uint8 of the caster and its shadow."""

    retreat_m: float
    due_px: int
    dark: float
    picture: np.ndarray


def bar_end(
    renderer: Renderer, build: Build, request: Request, caster: str, light: str | None = None, beyond: bool = False
) -> BarEnd:
    """The side just inside a bar's end, or just beyond it. RequestError for a caster whose shadow does not fall into the frame, or whose
    bar has no end."""
    section = long_section(renderer, build, request, light)
    bar = next((c for c in section.casters if c.name == caster), None)
    if bar is None:
        known = ", ".join(c.name for c in section.casters[:8]) or "none"
        raise RequestError(f"no shadow of {caster!r} is due at {request.viewpoint}; there are: {known}")
    if bar.ends_m is None:
        raise RequestError(f"the shadow of {caster} is drawn at any distance")
    if bar.ends_m <= 0:
        raise RequestError(f"the shadow of {caster} is drawn at no distance: {bar.ended_by or bar.lost_at}")
    retreat = _retreat_m(bar, section.technique, beyond)
    start = make_camera(build, request.viewpoint, request.size[0] / request.size[1])
    frame = renderer.frame(moved(build, request.viewpoint, start, "retreat", retreat), request, "display")
    return _seen(renderer, frame, caster, light_number(frame, section.light), retreat)


def _retreat_m(bar: CasterBar, technique: str, beyond: bool) -> float:
    """How far the eye goes back so that the end lies just beyond all of the shadow, or just before all of it."""
    assert bar.ends_m is not None
    aside = max(ASIDE * bar.ends_m, LEAST_M)
    if technique != "cascades":  # a limit on the caster itself
        return bar.ends_m - bar.range_m + (aside if beyond else -aside)
    return bar.ends_m + aside - bar.near_m if beyond else bar.ends_m - aside - bar.far_m


def _seen(renderer: Renderer, frame: Frame, caster: str, number: int, retreat: float) -> BarEnd:
    judge, s = Judge(renderer, frame), surfaces_of(frame, EVERY)
    towards, distance = to_light(s, number, frame)
    lit = np.flatnonzero((np.einsum("nk,nk->n", s.face, towards) > 0) & judge.arrives(number, s, distance))
    triangle, _ = judge.first(judge.scene(judge.intended), s.of(lit), towards[lit], distance[lit])
    d = next(i for i, thing in enumerate(frame.geometry.drawables) if thing.name == caster)
    mine = lit[(triangle >= 0) & (frame.geometry.owner[triangle] == d) & (s.drawable[lit] != d)]
    dark = judge.drawn(number, s.of(mine), towards[mine], distance[mine]) < 1 - SAME if len(mine) else np.zeros(0, bool)
    shown = np.argwhere(frame.drawable == d)[:, ::-1]
    window = _window(np.concatenate([s.pixels[mine], shown]), frame.pixels.size)
    x0, y0, x1, y1 = window
    return BarEnd(retreat, len(mine) * EVERY**2, float(dark.mean()) if len(dark) else 0.0, np.array(frame.display[y0:y1, x0:x1]))


def _window(pixels: np.ndarray, size: tuple[int, int]) -> tuple[int, int, int, int]:
    """(x0, y0, x1, y1) around pixels (n, 2), four to three, within a frame; all of it if there are none."""
    if not len(pixels):
        return 0, 0, *size
    low, high = pixels.min(axis=0), pixels.max(axis=0) + 1
    middle, extent = (low + high) / 2, np.maximum((high - low) * (1 + AROUND), LEAST_PX)
    unit = max(extent[0] / SHAPE[0], extent[1] / SHAPE[1])
    unit = min(unit, size[0] / SHAPE[0], size[1] / SHAPE[1])
    wide, high_px = int(unit * SHAPE[0]), int(unit * SHAPE[1])
    x0 = int(np.clip(middle[0] - wide / 2, 0, size[0] - wide))
    y0 = int(np.clip(middle[1] - high_px / 2, 0, size[1] - high_px))
    return x0, y0, x0 + wide, y0 + high_px
