"""Pass 5.8: how much of the light from around is left by what stands near, as the frame shows it."""

from dataclasses import dataclass
from typing import Any

import numpy as np

from eddyfall.core.passes.contract import Pass, Stage, Target, Values
from eddyfall.core.passes.off_switches import off_by_leaf
from eddyfall.core.passes.registry import register
from eddyfall.core.passes.screen import bundle_of, held_buffers, margin_of, near_plane, screen_here
from eddyfall.core.scene.setup.sections.screen import Occlusion
from eddyfall.core.screen.bundles import seeds_of
from eddyfall.core.screen.horizon import horizons
from eddyfall.core.shade.columns import NORMAL_XYZ, REFLECTING


@dataclass(frozen=True, kw_only=True)
class OcclusionSection:
    """What the pass is set by."""

    occlusion: Occlusion
    near_m: float


def section(stage: Stage) -> OcclusionSection:
    return OcclusionSection(occlusion=stage.resolved[Occlusion], near_m=near_plane(stage))


def run(inputs: Values, section: OcclusionSection) -> dict[str, Any]:
    o = section.occlusion
    if not o.enabled:
        return {"occluded": np.ones((1, 1), np.float32)}
    takes = (inputs["visible"] >= 0) & (inputs["surface"][..., REFLECTING].sum(axis=2) > 0)
    screen = screen_here(inputs, section.near_m, o.margin_px)
    b = bundle_of(inputs, takes, o.divisor)
    found = horizons(b.place, b.rows[:, NORMAL_XYZ], b.pixel, seeds_of(b.x, b.y, 3), screen, o.reach_m, o.steps, o.slices)
    whole = b.whole(found[:, None], o.rounds)[..., 0]
    return {"occluded": np.where(takes, whole, 1.0).astype(np.float32)}


PASS = register(
    Pass(
        number=5.8,
        name="occlusion",
        does="how much light from around is left by what stands near in the frame",
        reads=("camera", "pixels", "visible", "surface", "copied_depth"),
        writes=("occluded",),
        by_content=("occluded",),
        section=section,
        targets=(Target(name="occluded", texel_bytes=0),),
        held=lambda section: held_buffers(section.occlusion, ("occluded", 1)),
        beyond_px=margin_of(Occlusion),
        run=run,
        off=(off_by_leaf("occlusion.enabled", False, "occlusion off"),),
    )
)
