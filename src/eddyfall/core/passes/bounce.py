"""Pass 6.5: light from other surfaces, by rays through what the frame shows of them."""

from dataclasses import dataclass
from typing import Any

import numpy as np

from eddyfall.core.passes.coated import is_coated
from eddyfall.core.passes.contract import Pass, Stage, Target, Values
from eddyfall.core.passes.off_switches import off_by_leaf
from eddyfall.core.passes.recorder import Recorder
from eddyfall.core.passes.registry import register
from eddyfall.core.passes.screen import (
    Bundle,
    brought,
    bundle_of,
    converged_at,
    held_buffers,
    laid,
    margin_of,
    near_plane,
    screen_here,
    world_if_asked,
)
from eddyfall.core.passes.sections import sky_light, with_picture
from eddyfall.core.passes.silent import silenced, silent_of
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
    silent: np.ndarray | None


def section(stage: Stage) -> BounceSection:
    bounce, reflect = stage.resolved[Bounce], stage.resolved[Reflect]
    return BounceSection(
        bounce=bounce, near_m=near_plane(stage), sky=sky_light(stage), mapped=stage.state.mapped,
        by_rays=reflect.roughest if reflect.enabled else -1.0, world=world_if_asked(stage, bounce),
        silent=silent_of(stage.state.answers_ambient),
    )  # fmt: skip


def run(inputs: Values, section: BounceSection) -> dict[str, Any]:
    setting = section.bounce
    if not setting.enabled:
        return {"shaded": inputs["shaded"], "bounced": np.zeros((1, 1, 3), np.float32)}
    surface, b = inputs["surface"], bundle_of(inputs, takes_part(inputs, section), setting.divisor)
    light = b.whole(gathered(inputs, section, b, setting.rays), setting.rounds)
    y, x, rows, to_eye = b.all_of(surface)
    bounced = np.zeros_like(inputs["shaded"])
    bounced[y, x] = light[y, x] * _sent_on(inputs, section, rows, to_eye, y * surface.shape[1] + x)
    return {"shaded": inputs["shaded"] + bounced, "bounced": bounced}


def takes_part(inputs: Values, section: BounceSection) -> np.ndarray:
    """(h, w) bool: pixels that get light from the pass."""
    surface = silenced(inputs["surface"], inputs["drawable"], section.silent)
    takes: np.ndarray = (inputs["visible"] >= 0) & (surface[..., REFLECTING].sum(axis=2) > 0)
    baked = section.mapped[inputs["drawable"]] | inputs["gridded"]
    return takes if section.bounce.on_lightmapped else takes & ~baked


def gathered(inputs: Values, section: BounceSection, b: Bundle, rays: int) -> np.ndarray:
    """(n, 3) nits from all around that rays of a bundle's pixels bring on the mean, before surfaces reflect it."""
    setting = section.bounce
    mapped = section.mapped[inputs["drawable"]].ravel()[b.pixel]
    screen = screen_here(inputs, section.near_m, setting.margin_px)
    # Where the sky already lights a surface, what is found stands in its stead.
    sky = None if section.sky is None or setting.fallback == "nothing" else with_picture(section.sky, inputs["sky_maps"])
    seeds, total = seeds_of(b.x, b.y, 1), np.zeros((len(b.pixel), 3))
    for ray in range(rays):
        direction, jitter = even_rays(b.rows[:, NORMAL_XYZ], seeds, ray)
        known, light = brought(inputs, inputs["shaded"], screen, b.place, direction, jitter, setting, section.world)
        if sky is not None:
            light -= sky_colours_along(direction, sky) * (known * ~mapped)[:, None]
        total += light
    return total / rays


def converged(inputs: Values, section: BounceSection, at: np.ndarray) -> np.ndarray:
    """(h, w, 3) nits that the pass tends to by more and more rays, without a filter, at pixels (h, w) bool; 0 elsewhere."""

    def light(b: Bundle, rays: int) -> np.ndarray:
        return np.asarray(gathered(inputs, section, b, rays) * _sent_on(inputs, section, b.rows, b.to_eye, b.pixel))

    return converged_at(at, light, bundle_of(inputs, takes_part(inputs, section) & at, 1))


def _sent_on(inputs: Values, section: BounceSection, rows: np.ndarray, to_eye: np.ndarray, pixel: np.ndarray) -> np.ndarray:
    """(n, 3) `reflected_share` of pixels (n,), where clear coats lie over them as both send it on."""
    stood_in = _stood_in(inputs).ravel()[pixel]
    share = reflected_share(rows, to_eye, section, stood_in)
    if not is_coated(inputs):
        return share
    of_coat, over = inputs["coat_share"].ravel()[pixel][:, None], inputs["coat_rows"].reshape(-1, rows.shape[1])[pixel]
    return np.asarray(share * (1 - of_coat) + reflected_share(over, to_eye, section, stood_in) * of_coat)


def reflected_share(rows: np.ndarray, to_eye: np.ndarray, section: BounceSection, stood_in: np.ndarray) -> np.ndarray:
    """(n, 3) share of light from all around that surfaces send to the eye, but for what is mirrored by rays, and for so much (n,) of what
    is mirrored as probes and mirrors show already."""
    under, coat = shares_of_even_light(rows, to_eye)
    return np.asarray(under + np.where(rows[:, ROUGH, None] > section.by_rays, coat * (1 - stood_in[:, None]), 0.0))


def _stood_in(inputs: Values) -> np.ndarray:
    """(h, w) how much of what coats mirror of even light probes and mirrors stand in for."""
    return np.broadcast_to(np.maximum(inputs["probed"], inputs["in_mirror"]), inputs["visible"].shape)


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
            "camera", "pixels", "sky_maps", "visible", "drawable", "surface", "coat_rows", "coat_share", "copied_depth", "shaded", "probes",
            "probed",
            "in_mirror", "gridded", *READS,
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
