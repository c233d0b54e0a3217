"""What a thing makes of anything behind it, told by two plates (Smith and Blinn 1996, Blue screen matting).

Drawn before a plate of 0 nits and before one of 1, a pixel shows b and k + b: whatever the thing is made of, it makes k f + b of what lies
there, f. k is of a picture without fog and without what works from the frame alone; light, shadows and textures are as they are."""

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Literal

import numpy as np
from scipy.ndimage import label

from eddyfall.core.errors import RequestError
from eddyfall.core.frame.backing import backing
from eddyfall.core.frame.render import Frame, Renderer, Request
from eddyfall.core.layers.census import COHERENT, counted
from eddyfall.core.passes.contract import View
from eddyfall.core.passes.display import exposure_scale
from eddyfall.core.raster.fragments import covering
from eddyfall.core.raster.project import project
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.setup.sections.exposure import Exposure
from eddyfall.core.shade.blend import VOLUME

ActsAs = Literal["opaque", "cutout", "blended", "additive", "multiply", "premultiplied", "nothing", "unsure"]
BEHIND, WITHIN = 1.25, 0.999  # times as far as the farthest corner; of the farthest that is drawn
KEEPS, NO_LIGHT, ADDS = 0.98, 0.005, 0.02  # of k: all is kept; shares of display white: it brings no light, it brings some


@dataclass(frozen=True)
class Plates:
    """By pixel of a window: k, b (h, w, 3), b in nits; covered (h, w) bool: the thing's triangles lie there, whatever comes of it; white:
    nits that are shown as white."""

    k: np.ndarray
    b: np.ndarray
    covered: np.ndarray
    white: float

    @property
    def acts_as(self) -> ActsAs:
        """The kind of blending that does what it does here."""
        if not self.covered.any():
            return "nothing"
        k, b = self.k[self.covered], self.b[self.covered] / self.white
        keeps = k.min(axis=1) >= KEEPS
        if b.max() < NO_LIGHT:
            return "nothing" if keeps.all() else "multiply" if k.mean() > NO_LIGHT else "opaque"
        if keeps.all():
            return "additive"
        adds = np.zeros(self.covered.shape, bool)
        adds[self.covered] = keeps & (b.max(axis=1) > ADDS)
        parts, count = label(adds)
        if count and np.bincount(parts[adds]).max() >= COHERENT:
            return "premultiplied"  # it covers in some places and only adds light in others, which straight alpha cannot
        return counted("", 1 - self.k.mean(axis=2), self.covered).advice


def plates(renderer: Renderer, build: Build, request: Request, subjects: Sequence[int]) -> Plates:
    """Plates behind drawables. RequestError if there are none or none is drawn in view."""
    geometry = renderer.geometry(build)
    if not subjects:
        raise RequestError("say what the plates are to stand behind")
    others = frozenset(range(geometry.plate)) - frozenset(subjects)
    before = replace(request, hidden=request.hidden | others, bare=True)
    frame = renderer.frame(build, before, "in_view")
    if not any(i in frame.buffers["in_view"] for i in subjects):
        raise RequestError(f"none of {', '.join(geometry.drawables[i].name for i in subjects)} is in view")
    low, high = geometry.bounds[list(subjects), 0], geometry.bounds[list(subjects), 1]
    corners = np.concatenate([np.where(pick, high, low) for pick in np.ndindex(2, 2, 2)])
    far = float(frame.camera.view_depth(corners).max()) * BEHIND + 1.0
    if frame.depth_format.far_m is not None:
        far = min(far, frame.depth_format.far_m * WITHIN)
    whole = replace(frame.pixels, window=(0, 0, *request.size))  # what refracts reads beyond a crop
    card = backing(frame.camera, whole, far)
    dark, light = (
        renderer.frame(build, replace(before, plate=card, paint=((geometry.plate, (v, v, v)),)), "linear").linear.astype(float)
        for v in (0.0, 1.0)
    )
    e = frame.stage.resolved[Exposure]
    return Plates(light - dark, dark, under(frame, subjects), 1.0 / float(exposure_scale(e.mode, e.ev100)))


def under(frame: Frame, drawables: Sequence[int]) -> np.ndarray:
    """(h, w) bool: pixels of a window that lie under triangles of drawables as they are faced, whatever comes of them."""
    geometry, state, view = frame.geometry, frame.stage.state, View(frame.camera, frame.pixels)
    spans = [np.arange(geometry.drawables[i].first, geometry.drawables[i].last, dtype=np.int32) for i in drawables]
    triangles = np.concatenate(spans)
    owner = geometry.owner[triangles]
    cull = np.where(state.blend[owner] == VOLUME, -1, np.where(state.double_sided[owner], 0, 1)).astype(np.int8)
    depth = frame.depth_format
    screen = project(
        geometry.positions, geometry.uv0, geometry.triangles, triangles, cull, view.clip_matrix(depth), view.pixels.size,
        view.pixels.window,
    )  # fmt: skip
    return np.asarray(np.diff(covering(screen, depth.code, view.pixels.shape, view.pixels.origin).starts) > 0).reshape(
        view.pixels.shape
    )
