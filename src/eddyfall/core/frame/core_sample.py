"""Core sample: everything that touched one pixel, in the order it was laid, by the plain twins of the passes with a recorder.

`sum(layer.colour * layer.weight)` is frame.linear at that pixel (1e-4 relative): twin test and core sample are one thing.
"""

from dataclasses import dataclass, replace

import numpy as np

from eddyfall.core.errors import RequestError
from eddyfall.core.frame.render import Renderer, Request, window_of
from eddyfall.core.frame.schedule import passes_for, schedule
from eddyfall.core.passes.contract import Values, View
from eddyfall.core.passes.display import exposure_scale
from eddyfall.core.passes.recorder import Layer, Recorder
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.setup.sections.exposure import Exposure

__all__ = ["CoreSample", "Layer", "core_sample"]


@dataclass
class CoreSample:
    """Strata of pixel (x, y), first laid first; linear is their sum; transforms are what is done to it afterwards.

    exposure_scale: what exposure multiplies by (1 is display white after it)."""

    viewpoint: str
    x: int
    y: int
    layers: list[Layer]
    linear: np.ndarray
    transforms: list[str]
    drawable: str | None
    prepass_depth_m: float
    depth_m: float
    exposure_scale: float = 1.0

    @property
    def sum(self) -> np.ndarray:
        """(3,) the layers added up."""
        return np.asarray(np.sum([layer.colour * layer.weight for layer in self.layers], axis=0))


def core_sample(renderer: Renderer, build: Build, request: Request, x: int, y: int) -> CoreSample:
    """Drill pixel (x, y) of the request's full frame. RequestError if it lies outside."""
    width, height = request.size
    if not (0 <= x < width and 0 <= y < height):
        raise RequestError(f"pixel {x},{y} is outside the {width} x {height} frame")
    one = replace(request, crop=(x, y, x + 1, y + 1), jitter=(0.0, 0.0))
    frame = renderer.frame(build, one, "linear")
    ordered = {p.name: p for p in schedule()}

    def inputs(name: str) -> Values:
        p = ordered[name]
        looks_beyond = p.beyond_px is not None and p.beyond_px(frame.stage.resolved) is not None
        window = window_of(build, one, passes_for("linear") if looks_beyond else [p])
        return {
            read: renderer.uncut(build, one, read, before=name, window=window).buffers[read]
            for read in p.reads
            if read in written
        }

    written = {name for p in ordered.values() for name in p.writes}
    recorder = Recorder(x, y, frame.stage, frame.geometry, frame.buffers, View(frame.camera, frame.pixels), inputs)
    for p in ordered.values():
        if p.twin is not None:
            p.twin(recorder)
    front, depth_format, e = int(frame.drawable[0, 0]), frame.stage.depth_format, frame.stage.resolved[Exposure]
    return CoreSample(
        request.viewpoint,
        x,
        y,
        recorder.layers,
        recorder.colour,
        recorder.transforms,
        frame.geometry.drawables[front].name if front >= 0 else None,
        float(depth_format.view_depth(frame.buffers["prepass_depth"])[0, 0]),
        float(depth_format.view_depth(frame.buffers["depth"])[0, 0]),
        float(exposure_scale(e.mode, e.ev100)),
    )
