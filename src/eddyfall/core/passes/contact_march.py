"""Pass 5.35: contact shadows, marched in screen space for lights that ask for it."""

import math
from dataclasses import dataclass
from typing import Any

import numpy as np

from eddyfall.core.passes.contract import Pass, Stage, Target, Values, View
from eddyfall.core.passes.registry import register
from eddyfall.core.scene.setup import Setup
from eddyfall.core.shade.contact import contact_march


@dataclass(frozen=True, kw_only=True)
class MarchSection:
    """What the pass is set by: how far each light's march goes in m, how thick what it meets is taken to be in m."""

    receives: np.ndarray | None
    reach_m: tuple[float, ...]
    thick_m: tuple[float, ...]


def section(stage: Stage) -> MarchSection:
    reach = tuple(light.contact_m if light.casts else 0.0 for light in stage.lights)
    thick = tuple(light.contact_thick_m for light in stage.lights)
    if not any(reach):
        return MarchSection(receives=None, reach_m=(), thick_m=())
    return MarchSection(receives=stage.state.receives, reach_m=reach, thick_m=thick)


def run(inputs: Values, section: MarchSection) -> dict[str, Any]:
    if section.receives is None:
        return {"traced": inputs["traced"]}
    camera, pixels, drawable = inputs["camera"], inputs["pixels"], inputs["drawable"]
    receives = (drawable >= 0) & section.receives[drawable]
    half = math.tan(camera.fov_y_rad / 2)
    return {
        "traced": contact_march(
            inputs["surface"], inputs["visible"], receives, pixels.origin, pixels.jitter, View(camera, pixels).rays,
            np.array(camera.axes, np.float64), (half * camera.aspect, half), pixels.size, inputs["lights"], np.array(section.reach_m),
            np.array(section.thick_m), inputs["traced"],
        )
    }  # fmt: skip


def marches(setup: Setup) -> bool:
    """Whether any light asks for it: it then needs the whole frame."""
    return any(entry.contact_m > 0 for entry in setup.lights.values())


PASS = register(
    Pass(
        number=5.35,
        name="contact march",
        does="a short march in screen space from what is visible to each light that asks for one",
        reads=("camera", "pixels", "visible", "drawable", "surface", "lights", "traced"),
        writes=("traced",),
        section=section,
        targets=(Target(name="traced", texel_bytes=0),),
        whole_frame_if=marches,
        run=run,
    )
)
