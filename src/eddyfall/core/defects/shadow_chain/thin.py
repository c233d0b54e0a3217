"""What would make the texels of a shadow map no larger than what casts a shadow into them."""

import math

import numpy as np

from eddyfall.core.frame.render import Frame
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.changes import Change, set_leaf, set_resolved
from eddyfall.core.scene.setup.sections.shadow import Shadow
from eddyfall.core.shade.cascades import cascade_slices
from eddyfall.core.shade.lights import DIRECTIONAL
from eddyfall.core.truth.widths import Thin

MOST_EDGE = 8192
HUNDREDTHS = 100


def finer_texels(build: Build, frame: Frame, light: str, thin: list[Thin]) -> list[tuple[Change, str]]:
    """What makes the texels that serve these shadows no larger than what casts them: another split, finer maps, rays."""
    resolved, state = frame.stage.resolved, next(v for v in frame.stage.lights if v.name == light)
    shadow: Shadow = resolved[Shadow]
    made: list[tuple[Change, str]] = []
    factor = max(t.texel_m / max(t.width_m, 1e-6) for t in thin)
    if state.technique == "paged":
        finer = float(f"{shadow.page_texel_px / factor:.2g}")
        made.append(
            (
                set_resolved(build, resolved, {"shadow.page_texel_px": finer}, title=f"pages of {finer:g} px a texel"),
                "texels as fine",
            )
        )
    elif state.technique == "cascades":
        if state.kind == DIRECTIONAL and shadow.far_reach_m <= shadow.reach_m:
            split = _split_that_does(frame, shadow, state.resolution or shadow.resolution, thin)
            if split is not None:
                change = set_resolved(build, resolved, {"shadow.split_lambda": split}, title=f"split lambda {split:g}")
                made.append((change, "the slice of these shadows becomes narrower, and its texels with it"))
        edge = state.resolution or (shadow.resolution if state.kind == DIRECTIONAL else shadow.light_resolution)
        finer_edge = 2 ** math.ceil(math.log2(edge * factor))
        if finer_edge <= MOST_EDGE:
            made.append((_resolution(build, frame, light, finer_edge), "texels no larger than the caster"))
    if state.technique != "rays":
        path = ("lights", light, "technique")
        made.append((set_leaf(build, path, "rays", scope="project", title=f"{light} by rays"), "rays have no texels"))
    return made


def _resolution(build: Build, frame: Frame, light: str, edge: int) -> Change:
    state = next(v for v in frame.stage.lights if v.name == light)
    title = f"{light}: maps of {edge} texels"
    if state.resolution is not None:
        return set_leaf(build, ("lights", light, "resolution"), edge, scope="project", title=title)
    leaf = "shadow.resolution" if state.kind == DIRECTIONAL else "shadow.light_resolution"
    return set_resolved(build, frame.stage.resolved, {leaf: edge}, title=f"shadow maps of {edge} texels")


def _split_that_does(frame: Frame, shadow: Shadow, edge: int, thin: list[Thin]) -> float | None:
    """The split nearest to the one that is set at which the middle of each thin shadow has texels fine enough; None if none does."""
    camera = frame.camera
    places = [(float(np.median(t.depth_m)), t.width_m) for t in thin]
    for away in sorted(range(HUNDREDTHS + 1), key=lambda h: abs(h / HUNDREDTHS - shadow.split_lambda)):
        slices = cascade_slices(
            shadow.near_m, shadow.reach_m, shadow.cascades, away / HUNDREDTHS, edge, camera.fov_y_rad, camera.aspect,
            by_range=shadow.reach_by == "range",
        )  # fmt: skip
        if all(any(part.near_m <= depth < part.far_m and part.texel_m <= width for part in slices) for depth, width in places):
            return away / HUNDREDTHS
    return None
