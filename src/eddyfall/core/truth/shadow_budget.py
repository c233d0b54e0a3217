"""What a frame's shadows cost, light by light, what that buys, and what the target may spend on it. Counted, not estimated."""

from dataclasses import dataclass

import numpy as np

from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.setup.sections.budget import Budget
from eddyfall.core.truth.disagreement import disagreement
from eddyfall.core.truth.judge import SHADOWED
from eddyfall.core.truth.shadow_classes import Class, OfLight
from eddyfall.core.truth.shadow_costs import ShadowCost, cost_of_light, shadow_cost

EVERY = 2
MIB = 2**20
# Of each leaf of the budget: what is counted, in its unit.
COUNTED = {"shadow_mib": "bytes", "shadow_draws": "draws", "shadow_triangles": "triangles", "shadow_rays": "rays"}


@dataclass(frozen=True)
class LightCost:
    """One light: what its shadows cost, pixels of the frame on which a shadow of it is due, and those on which the picture has it."""

    light: str
    technique: str
    cost: ShadowCost
    due_px: int
    drawn_px: int


@dataclass(frozen=True)
class FrameBudget:
    """One frame: every light, all of them together, and the limits that are set, by leaf."""

    viewpoint: str
    lights: tuple[LightCost, ...]
    total: ShadowCost
    limits: dict[str, float]

    def spent(self, leaf: str) -> float:
        """What all shadows take of what a leaf limits, in its unit."""
        return spent(self.total, leaf)

    @property
    def over(self) -> tuple[str, ...]:
        """The leaves whose limit is passed."""
        return tuple(leaf for leaf, limit in self.limits.items() if self.spent(leaf) > limit)


def spent(cost: ShadowCost, leaf: str) -> float:
    """What a cost takes of what a leaf limits: MiB, or a number."""
    counted = getattr(cost, COUNTED[leaf])
    return float(counted / MIB if COUNTED[leaf] == "bytes" else counted)


def frame_budget(renderer: Renderer, build: Build, request: Request) -> FrameBudget:
    """The cost of a frame's shadows beside its target's budget."""
    frame = renderer.frame(build, request, SHADOWED)
    budget = frame.stage.resolved[Budget]
    whole = disagreement(renderer, frame, EVERY)
    lights = []
    for i, (light, found) in enumerate(zip(frame.stage.lights, whole.lights)):
        due = _due(found)
        drawn = int((due & (found.drawn < 1)).sum()) * EVERY**2
        lights.append(LightCost(light.name, light.technique, cost_of_light(frame, i), int(due.sum()) * EVERY**2, drawn))
    limits = {leaf: float(getattr(budget, leaf)) for leaf in COUNTED if getattr(budget, leaf) > 0}
    return FrameBudget(request.viewpoint, tuple(lights), shadow_cost(frame), limits)


def _due(found: OfLight) -> np.ndarray:
    return np.asarray((found.classes >= Class.AGREE) & (found.classes != Class.TERMINATOR) & (found.true == 0))
