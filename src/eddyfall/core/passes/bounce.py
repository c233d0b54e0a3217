"""Pass 6.5: light from other surfaces, by rays through what the frame shows of them."""

from dataclasses import dataclass
from typing import Any

import numpy as np

from eddyfall.core.passes.contract import Pass, Stage, Target, Values
from eddyfall.core.passes.off_switches import off_by_leaf
from eddyfall.core.passes.recorder import Recorder
from eddyfall.core.passes.registry import register
from eddyfall.core.passes.screen import (
    brought,
    bundle_of,
    held_buffers,
    laid,
    margin_of,
    near_plane,
    screen_here,
    world_if_asked,
)
from eddyfall.core.passes.sections import sky_light, with_picture
from eddyfall.core.passes.world_light import READS, World
from eddyfall.core.scene.setup.sections.screen import Bounce, Reflect
from eddyfall.core.screen.bundles import even_rays, seeds_of, shares_of_even_light
from eddyfall.core.shade.columns import NORMAL_XYZ, REFLECTING, ROUGH
from eddyfall.core.shade.sky import SkyLight, sky_colours_along


@dataclass(frozen=True, kw_only=True)
class BounceSection:
    """What the pass is set by. by_rays: roughness up to which the coat is left to the pass that reflects by rays; -1: none is."""

    bounce: Bounce
    near_m: float
    sky: SkyLight | None
    mapped: np.ndarray
    by_rays: float
    world: World | None


def section(stage: Stage) -> BounceSection:
    bounce, reflect = stage.resolved[Bounce], stage.resolved[Reflect]
    return BounceSection(
        bounce=bounce, near_m=near_plane(stage), sky=sky_light(stage), mapped=stage.state.mapped,
        by_rays=reflect.roughest if reflect.enabled else -1.0, world=world_if_asked(stage, bounce),
    )  # fmt: skip


def run(inputs: Values, section: BounceSection) -> dict[str, Any]:
    setting, visible = section.bounce, inputs["visible"]
    if not setting.enabled:
        return {"shaded": inputs["shaded"], "bounced": np.zeros((1, 1, 3), np.float32)}
    surface, drawable = inputs["surface"], inputs["drawable"]
    takes = (visible >= 0) & (surface[..., REFLECTING].sum(axis=2) > 0)
    mapped = section.mapped[drawable] & (drawable >= 0)
    if not setting.on_lightmapped:
        takes &= ~mapped
    screen = screen_here(inputs, section.near_m, setting.margin_px)
    b = bundle_of(inputs, takes, setting.divisor)
    # Where the sky already lights a surface, what is found stands in its stead.
    sky = None if section.sky is None or setting.fallback == "nothing" else with_picture(section.sky, inputs["sky_maps"])
    lit_by_sky = ~mapped.ravel()[b.pixel]
    seeds, total = seeds_of(b.x, b.y, 1), np.zeros((len(b.pixel), 3))
    for ray in range(setting.rays):
        direction, jitter = even_rays(b.rows[:, NORMAL_XYZ], seeds, ray)
        known, light = brought(inputs, inputs["shaded"], screen, b.place, direction, jitter, setting, section.world)
        if sky is not None:
            light -= sky_colours_along(direction, sky) * (known * lit_by_sky)[:, None]
        total += light
    light = b.whole(total / setting.rays, setting.rounds)
    y, x, rows, to_eye = b.all_of(surface)
    under, coat = shares_of_even_light(rows, to_eye)
    share = under + np.where(rows[:, ROUGH, None] > section.by_rays, coat, 0.0)
    bounced = np.zeros_like(inputs["shaded"])
    bounced[y, x] = light[y, x] * share
    return {"shaded": inputs["shaded"] + bounced, "bounced": bounced}


def twin(r: Recorder) -> None:
    """Lays what the pass added: it takes the whole frame to make."""
    setting = r.stage.resolved[Bounce]
    if setting.enabled and r.notes["front"] is not None:
        r.lay("bounce", "(bounce)", f"{setting.rays} rays through the frame", laid(r.values["bounced"]), 1.0)


PASS = register(
    Pass(
        number=6.5,
        name="bounce",
        does="light from other surfaces that the frame shows",
        reads=(
            "camera", "pixels", "sky_maps", "visible", "drawable", "surface", "copied_depth", "shaded", *READS,
        ),
        writes=("shaded", "bounced"),
        section=section,
        targets=(Target(name="shaded", texel_bytes=0), Target(name="bounced", texel_bytes=0)),
        held=lambda section: held_buffers(section.bounce, ("bounce", 8), ("bounce_filtered", 8)),
        beyond_px=margin_of(Bounce),
        run=run,
        twin=twin,
        off=(off_by_leaf("bounce.enabled", False, "bounce off"),),
    )
)  # fmt: skip
