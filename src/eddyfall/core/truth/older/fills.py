"""Fill lights that stand in for bounced light and now double it: with bounce on, the frame is far too bright; without the fill it is as it
was."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from eddyfall.core.frame.render import Frame, Renderer, Request
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.changes import Change, apply_change, set_leaf, set_resolved
from eddyfall.core.scene.resolve import resolve
from eddyfall.core.scene.setup.sections.screen import Bounce
from eddyfall.core.scene.setup.sections.sky import Sky
from eddyfall.core.shade.srgb import REC709_LUMA

SIZE = (240, 135)
ABOVE, WITHIN = 0.5, 0.25  # stops: brighter than before with the fill, as before without it (ours, changeable)
OF_LIGHT = 0.25  # of what was drawn before, that a light gave at the least where it is judged
LEAST_PIXELS = 64
SKY = "light from the sky"


@dataclass(frozen=True)
class Fill:
    """A light, or the sky's in shade, at a viewpoint: where it gave a good part of the frame without bounce, stops by which the frame with
    bounce is above that with it, and without it; mask (h, w) bool of these pixels, of a frame of SIZE; off: the change that leaves it
    out."""

    light: str
    viewpoint: str
    above: float
    without: float
    mask: np.ndarray
    off: Change

    @property
    def doubles(self) -> bool:
        """Whether bounced light stands in for it."""
        return self.above > ABOVE and abs(self.without) <= WITHIN


def with_bounce(build: Build, on: bool, viewpoint: str, target: str | None = None, role: str | None = None) -> Build:
    """The build with bounce on or off as a viewpoint sees it."""
    resolved = resolve(build.setup, target, role, viewpoint)
    if resolved[Bounce].enabled == on:
        return build
    return apply_change(build, set_resolved(build, resolved, {"bounce.enabled": on}, title="bounce"))


def fills(renderer: Renderer, build: Build, viewpoint: str, target: str | None = None, role: str | None = None) -> list[Fill]:
    """Every light at a viewpoint that gave a good part of anything, those that double bounce first."""
    request = Request(viewpoint, SIZE, None, target, role)

    def drawn(of: Build) -> np.ndarray:
        return np.asarray(renderer.frame(of, request, "linear").linear.astype(np.float64) @ REC709_LUMA)

    now, old_build = (with_bounce(build, on, viewpoint, target, role) for on in (True, False))
    frame: Frame = renderer.frame(old_build, request, "linear")
    old, new = drawn(old_build), drawn(now)
    found = []
    for light, off in _lights(build, frame):
        direct = old - drawn(apply_change(old_build, off))
        mask = (frame.drawable >= 0) & (direct > OF_LIGHT * old) & (old > 0)
        if mask.sum() < LEAST_PIXELS:
            continue
        without = drawn(apply_change(now, off))
        before, with_it, left = (float(of[mask].mean()) for of in (old, new, without))
        above, rest = math.log2(with_it / before), math.log2(max(left, 1e-9 * before) / before)
        found.append(Fill(light, viewpoint, above, rest, mask, off))
    return sorted(found, key=lambda f: (not f.doubles, abs(f.without)))


def _lights(build: Build, frame: Frame) -> list[tuple[str, Change]]:
    resolved = frame.stage.resolved
    lights = [
        (
            light.name,
            set_leaf(build, ("lights", light.name, "on"), False, scope="project", title=f"take out the fill {light.name}"),
        )
        for light in frame.stage.lights
    ]
    if resolved[Sky].ambient:
        lights.append((SKY, set_resolved(build, resolved, {"sky.ambient": False}, title="take out light from the sky")))
    return lights
