"""The symptom "see-through": the colour of a solid thing changes with what is behind it."""

from collections.abc import Callable
from dataclasses import replace

import numpy as np

from eddyfall.core.defects.symptoms import Spot, Symptom, register_symptom
from eddyfall.core.frame.render import Frame, Renderer
from eddyfall.core.rays.queries import RayScene
from eddyfall.core.scene.build import Build


def score(renderer: Renderer, build: Build, spot: Spot, rays: Callable[[Frame], RayScene]) -> float:
    """Largest spread of frame.linear over the subject's pixels when what is behind it is as it is, hidden, and replaced by an
    opaque plate 0.5 m behind it in all camera passes; shadow passes stay unchanged."""
    stack = []
    for request in (
        spot.request,
        replace(spot.request, hidden=spot.behind),
        replace(spot.request, hidden=spot.behind, plate=spot.plate),
    ):
        stack.append(renderer.frame(build, request, "linear").linear[spot.pixels])
    values = np.stack(stack)
    return float((values.max(axis=0) - values.min(axis=0)).max()) if values.size else 0.0


def same_shader(before: Frame, after: Frame, spot: Spot, rays: Callable[[Frame], RayScene]) -> np.ndarray:
    """Pixels whose front drawable has the subject's shader, before or after."""
    shader = before.stage.state.shader
    same = np.array([name == shader[spot.subject] for name in shader] + [False])
    return np.asarray(same[before.drawable] | same[after.drawable])


SYMPTOM = register_symptom(
    Symptom(
        name="see-through",
        unit="nit",
        means="colour of a solid thing changes with what is behind it",
        score=score,
        clear_share=0.05,
        shares=same_shader,
    )
)
