"""The symptom "black in shade": of the light from around that is due to the subject, the share that it is drawn without."""

from __future__ import annotations

from collections.abc import Callable

from eddyfall.core.defects.light_symptoms import same_light
from eddyfall.core.defects.symptoms import Spot, Symptom, register_symptom
from eddyfall.core.frame.render import Frame, Renderer
from eddyfall.core.rays.queries import RayScene
from eddyfall.core.scene.build import Build
from eddyfall.core.truth.response.in_place import in_place


def lacking(renderer: Renderer, build: Build, spot: Spot, rays: Callable[[Frame], RayScene]) -> float:
    """1 - R of the subject; 0 where it is not to be seen, or nothing is due."""
    found = in_place(renderer, build, spot.request, [spot.subject])
    return min(max(1.0 - found[0].answer, 0.0), 1.0) if found else 0.0


BLACK = register_symptom(
    Symptom(
        name="black in shade",
        unit="share",
        means="it does not answer light from around",
        score=lacking,
        clear_share=0.5,
        shares=same_light,
    )
)
