"""The symptom "drifts while moving": stops by which the subject comes and goes, against what is due to it, while the camera sways."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

from eddyfall.core.defects.light_symptoms import same_light
from eddyfall.core.defects.symptoms import Spot, Symptom, register_symptom
from eddyfall.core.errors import RequestError
from eddyfall.core.frame.render import Frame, Renderer, Request
from eddyfall.core.rays.queries import RayScene
from eddyfall.core.scene.build import Build
from eddyfall.core.truth.moving.along import Asked, along, move_of

STILL = 1e-6  # stops: less is the rounding of sums
RATE_HZ, ANCHORS, SAMPLES, BOUNCES = 8.0, 64, 64, 2


def sway_drift(renderer: Renderer, build: Build, request: Request, subject: int) -> float:
    """Stops of drift of a drawable over a sway from a request's viewpoint [prediction]; 0 where it is not to be seen."""
    path = replace(move_of(renderer, build, "sway", request.viewpoint, request), rate_hz=RATE_HZ)
    asked = Asked(path=path, request=request, subject=subject, anchors=ANCHORS, samples=SAMPLES, bounces=BOUNCES, worst=0)
    try:
        found = along(renderer, build, asked).drift
    except RequestError:
        return 0.0
    return found if found > STILL else 0.0


def drift(renderer: Renderer, build: Build, spot: Spot, rays: Callable[[Frame], RayScene]) -> float:
    """The same of a spot's subject."""
    return sway_drift(renderer, build, spot.request, spot.subject)


DRIFTS = register_symptom(
    Symptom(
        name="drifts while moving",
        unit="stops",
        means="its light comes and goes while the camera moves",
        score=drift,
        clear_share=0.25,
        shares=same_light,
    )
)
