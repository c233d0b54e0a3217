"""Pass 2.8: what each light's shadow technique draws, and what it leaves out: by the frame, by distance, by the size a caster looks."""

from dataclasses import dataclass
from typing import Any, get_args

import numpy as np

from eddyfall.core.passes.contract import Camera, Pass, Stage, Values
from eddyfall.core.passes.frustum import ball_radius_m, in_frustum, limit_range_m, range_m
from eddyfall.core.passes.registry import register
from eddyfall.core.scene.drawables import Geometry
from eddyfall.core.scene.setup.sections.shadow import Shadow, Technique
from eddyfall.core.shade.lights import DIRECTIONAL

OF_TECHNIQUES = tuple(f"{name}_casters" for name in get_args(Technique))


@dataclass(frozen=True, kw_only=True)
class CastersSection:
    """What the pass is set by."""

    lights: tuple[tuple[Technique, int, tuple[float, float, float]], ...]
    casters_from: str
    limits_deg: tuple[float, float]
    casters: np.ndarray
    dense: np.ndarray
    padding_m: np.ndarray
    draw_distance_m: np.ndarray


def section(stage: Stage) -> CastersSection:
    s, shadow = stage.state, stage.resolved[Shadow]
    return CastersSection(
        lights=tuple((light.technique, light.kind, light.towards) for light in stage.lights),
        casters_from=shadow.casters_from,
        limits_deg=(shadow.paged_limit_deg, shadow.ray_limit_deg),
        casters=s.casts & s.shadow_pass & s.drawn & s.blocks,
        dense=s.dense,
        padding_m=s.padding_m,
        draw_distance_m=s.draw_distance_m,
    )


def run(inputs: Values, section: CastersSection) -> dict[str, Any]:
    kept = casters_of(inputs, section)
    of = np.array([technique for technique, _, _ in section.lights], dtype=object)
    # Each technique's own, so that what changes in one leaves what the others drew as it is.
    own = {name: kept & (of == name.removesuffix("_casters"))[:, None] for name in OF_TECHNIQUES}
    return {"shadow_casters": kept, **own}


def casters_of(inputs: Values, section: CastersSection) -> np.ndarray:
    """(lights, drawables) bool: what each light's technique draws, after its cull.

    A sun's cascades leave out what `casters_from` says, by padded bounds and draw distance; a paged map and rays leave out what looks
    smaller than their limit, by the ball around the bounds and their padding, but for a paged map's dense meshes."""
    geometry: Geometry = inputs["caster_geometry"]
    camera: Camera = inputs["camera"]
    kept = np.zeros((len(section.lights), len(section.casters)), bool)
    away, radius = range_m(geometry, camera), ball_radius_m(geometry, section.padding_m)
    low, high = geometry.bounds[:, 0] - section.padding_m[:, None], geometry.bounds[:, 1] + section.padding_m[:, None]
    near = (section.draw_distance_m == 0) | (away <= section.draw_distance_m)
    for number, (technique, kind, towards) in enumerate(section.lights):
        chosen = section.casters.copy()
        if technique == "paged":
            chosen &= (away <= limit_range_m(radius, section.limits_deg[0])) | section.dense
        elif technique == "rays":
            chosen &= away <= limit_range_m(radius, section.limits_deg[1])
        elif kind == DIRECTIONAL and section.casters_from != "scene":
            sweep = -np.array(towards) * 2 * geometry.diagonal_m if section.casters_from == "swept" else None
            chosen &= near & in_frustum(camera, low, high, 0.0, None, sweep)
        kept[number] = chosen
    return kept


PASS = register(
    Pass(
        number=2.8,
        name="shadow casters",
        does="what each light's shadow technique draws: its cull by frame, distance and size",
        reads=("caster_geometry", "camera"),
        writes=("shadow_casters", *OF_TECHNIQUES),
        by_content=("shadow_casters", *OF_TECHNIQUES),
        section=section,
        run=run,
    )
)
