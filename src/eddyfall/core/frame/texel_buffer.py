"""Which texel of which lightmap each pixel of a frame shows: what ties a frame to chart pages."""

from dataclasses import dataclass
from typing import Any

import numpy as np

from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.passes.contract import View
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.receivers import receivers, uv_of
from eddyfall.core.scene.setup.sections.bake import Bake


@dataclass(frozen=True)
class TexelBuffer:
    """names of all receivers; receiver (h, w) int16 index into them, -1: none; place (h, w, 2) float32 page position, 0..1 (v down)."""

    names: tuple[str, ...]
    receiver: np.ndarray
    place: np.ndarray


def texel_buffer(renderer: Renderer, build: Build, request: Request) -> TexelBuffer:
    """Page positions behind the pixel centres of a frame, for everything that has or could have a lightmap, baked or not."""
    frame = renderer.frame(build, request, "visible")
    geometry, rays = frame.geometry, View(frame.camera, frame.pixels).rays
    everyone = receivers(build, geometry, frame.stage.resolved[Bake])
    of_drawable = np.full(len(geometry.drawables), -1, np.int16)
    for i, r in enumerate(everyone):
        of_drawable[list(r.drawables)] = i
    drawable = frame.drawable
    which = np.where(drawable >= 0, of_drawable[drawable], -1).astype(np.int16)
    place = np.zeros((*which.shape, 2), np.float32)
    y, x = np.nonzero(which >= 0)
    if not len(y):
        return TexelBuffer(tuple(r.name for r in everyone), which, place)
    triangle = np.asarray(frame.buffers["triangle"])[y, x]
    x0, y0 = frame.pixels.origin
    direction = rays.d0 + (x0 + x + 0.5)[:, None] * rays.du + (y0 + y + 0.5)[:, None] * rays.dv
    weights = _weights(geometry, triangle, np.asarray(rays.eye, np.float64), direction)
    for i, r in enumerate(everyone):
        mine = which[y, x] == i
        if mine.any():
            corners = uv_of(geometry, r.uv_set)[geometry.triangles[triangle[mine]]].astype(np.float64)
            page = r.page_uv((weights[mine][..., None] * corners).sum(axis=1))
            place[y[mine], x[mine]] = page % 1.0 if r.wraps else page
    return TexelBuffer(tuple(r.name for r in everyone), which, place)


def _weights(geometry: Any, triangle: np.ndarray, eye: np.ndarray, direction: np.ndarray) -> np.ndarray:
    """(n, 3) barycentric weights where rays from the eye meet the planes of triangles (Moeller and Trumbore 1997)."""
    a, b, c = (geometry.positions[geometry.triangles[triangle, k]].astype(np.float64) for k in range(3))
    e1, e2 = b - a, c - a
    p = np.cross(direction, e2)
    determinant = (e1 * p).sum(axis=1)
    safe = np.where(np.abs(determinant) > 1e-30, determinant, 1e-30)
    s = eye - a
    w1 = (s * p).sum(axis=1) / safe
    w2 = (direction * np.cross(s, e1)).sum(axis=1) / safe
    return np.stack([1 - w1 - w2, w1, w2], axis=1)
