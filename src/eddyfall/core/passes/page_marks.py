"""Pass 3.1: where the frame's surfaces lie, by eye rays over the full frame: what a paged shadow map takes its pages from."""

from dataclasses import dataclass
from typing import Any

import numpy as np

from eddyfall.core.passes.contract import Pass, Pixels, Stage, Values, View
from eddyfall.core.passes.registry import register
from eddyfall.core.rays.queries import RayScene
from eddyfall.core.shade.facing import ray_directions

MOST_WIDE = 480  # eye rays across the frame


@dataclass(frozen=True, kw_only=True)
class MarksSection:
    """What the pass is set by."""

    wanted: bool
    solid: np.ndarray


def section(stage: Stage) -> MarksSection:
    s = stage.state
    return MarksSection(
        wanted=any(light.technique == "paged" for light in stage.lights), solid=s.drawn & s.colour_pass & ~s.blended
    )  # fmt: skip


def run(inputs: Values, section: MarksSection) -> dict[str, Any]:
    return {"page_marks": _surfaces(inputs, section) if section.wanted else (np.zeros((0, 3)), np.zeros(0))}


def _surfaces(inputs: Values, section: MarksSection) -> tuple[np.ndarray, np.ndarray]:
    """(places (n, 3) that eye rays over the full frame meet, their ranges (n,))."""
    width, height = inputs["frame_size"]
    wide = min(width, MOST_WIDE)
    high = max(1, round(height * wide / width))
    view = View(inputs["camera"], Pixels((wide, high), (0, 0, wide, high)))
    x, y = (g.ravel() + 0.5 for g in np.meshgrid(np.arange(wide), np.arange(high)))
    rays = view.rays
    directions = ray_directions(rays.d0, rays.du, rays.dv, x, y)
    scene = RayScene(inputs["caster_geometry"], section.solid, inputs["cutouts"], inputs["alpha_uv"])
    triangle, away = scene.first_hit(np.tile(rays.eye, (len(directions), 1)), directions)
    met = triangle >= 0
    return rays.eye + directions[met] * away[met, None], away[met]


PASS = register(
    Pass(
        number=3.1,
        name="page marks",
        does="where the frame's surfaces lie, for the pages of a paged shadow map",
        reads=("caster_geometry", "camera", "frame_size", "alpha_uv", "cutouts"),
        writes=("page_marks",),
        section=section,
        run=run,
    )
)
