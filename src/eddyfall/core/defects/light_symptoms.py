"""The symptoms "too dark" and "too bright": how many stops the subject is off what light's paths give it."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from eddyfall.core.defects.shadow_symptoms import shadow_came_true
from eddyfall.core.defects.symptoms import Spot, Symptom, register_symptom
from eddyfall.core.frame.render import Frame, Renderer
from eddyfall.core.rays.queries import RayScene
from eddyfall.core.scene.build import Build
from eddyfall.core.shade.srgb import REC709_LUMA
from eddyfall.core.truth.reference.of_frame import DRAWN
from eddyfall.core.truth.reference.path_scene import path_scene
from eddyfall.core.truth.reference.tally import Tally
from eddyfall.core.truth.reference.trace import Asked, grow

PLACES, SAMPLES, BOUNCES = 64, 32, 4  # the same of each trial: their noise is the same, and goes out of what is compared
LEAST = 1e-6  # of the brightest of frame and reference: below it there is nothing to compare


def same_light(before: Frame, after: Frame, spot: Spot, rays: Callable[[Frame], RayScene]) -> np.ndarray:
    """Pixels that share the cause of a fault of a surface's light: the subject's, where nothing but its light from around changed, and
    those whose shadow came true."""
    own = (before.drawable == spot.subject) & (after.drawable == spot.subject)
    for name in ("surface", "lit"):
        own &= (before.buffers[name] == after.buffers[name]).all(axis=2)
    return np.asarray(own | shadow_came_true(before, after, spot, rays))


def stops_off(renderer: Renderer, build: Build, spot: Spot) -> float:
    """Stops by which the mean over the subject's pixels is brighter than the same build's reference; 0 where neither has light."""
    frame = renderer.frame(build, spot.request, DRAWN)
    y, x = np.nonzero(spot.pixels & (frame.drawable >= 0))
    if not len(y):
        return 0.0
    chosen = np.unique(np.linspace(0, len(y) - 1, PLACES).astype(int))
    y, x = y[chosen], x[chosen]
    drawn = float((frame.linear[y, x].astype(np.float64) @ REC709_LUMA).mean())
    scene = path_scene(renderer, build, frame)
    left, top = frame.pixels.origin
    empty = Tally.empty(scene.light_names, np.stack([x + left, y + top], axis=1), spot.request.size, "")
    due = float(grow(scene, frame.camera, empty, Asked(bounces=BOUNCES), SAMPLES, renderer.between).luminance.mean())
    least = LEAST * max(drawn, due)
    return float(np.log2(max(drawn, least) / max(due, least))) if least > 0 else 0.0


def stops_too_dark(renderer: Renderer, build: Build, spot: Spot, rays: Callable[[Frame], RayScene]) -> float:
    """Stops that the subject is darker than it ought to be."""
    return max(-stops_off(renderer, build, spot), 0.0)


def stops_too_bright(renderer: Renderer, build: Build, spot: Spot, rays: Callable[[Frame], RayScene]) -> float:
    """Stops that the subject is brighter than it ought to be."""
    return max(stops_off(renderer, build, spot), 0.0)


DARK = register_symptom(
    Symptom(
        name="too dark",
        unit="stops",
        means="less light than its paths give it",
        score=stops_too_dark,
        clear_share=0.25,
        shares=same_light,
    )
)
BRIGHT = register_symptom(
    Symptom(
        name="too bright",
        unit="stops",
        means="more light than its paths give it",
        score=stops_too_bright,
        clear_share=0.25,
        shares=same_light,
    )
)
