"""Section `shadow`: which technique draws shadows, sun cascades, far tier, paged map, ray tier, and the filter of every shadow map."""

from typing import Literal

from eddyfall.core.scene.setup.leaf import Section, leaf
from eddyfall.core.scene.setup.registry import register_section

Technique = Literal["cascades", "paged", "rays"]
Faces = Literal["front", "back", "both"]
Softness = Literal["box", "search", "rays"]


@register_section("shadow", place=20)
class Shadow(Section):
    enabled: bool = leaf(True, "-", "whether lights cast shadows at all")
    technique: Technique = leaf(
        "cascades", "-", "how the sun's shadow is drawn: cascades of maps, one map in pages near each pixel's own size, or rays"
    )
    reach_m: float = leaf(150.0, "m", "depth up to which the cascades give the sun's shadow", gt=0, le=100000)
    near_m: float = leaf(0.5, "m", "depth at which the first cascade starts", gt=0, le=1000)
    cascades: int = leaf(4, "-", "number of cascades between near and reach", ge=1, le=8)
    split_lambda: float = leaf(0.6, "-", "0 spaces the splits evenly, 1 by equal ratios", ge=0, le=1)
    resolution: int = leaf(2048, "texel", "edge of each cascade's square map", ge=64, le=8192)
    far_reach_m: float = leaf(
        0.0, "m", "view depth up to which a far tier carries on after the cascades; 0 is no far tier", ge=0, le=100000
    )
    far_resolution: int = leaf(2048, "texel", "edge of the far tier's square map", ge=64, le=8192)
    reach_by: Literal["view_depth", "range"] = leaf(
        "view_depth", "-", "what a cascade's near and far end are measured by: depth along the view, or range to the eye"
    )
    casters_from: Literal["scene", "frame", "swept"] = leaf(
        "scene",
        "-",
        "what is drawn into cascades: all that casts, what the frame shows, or what may throw a shadow into the frame",
    )
    fit: Literal["sphere", "tight"] = leaf(
        "sphere", "-", "what a cascade is laid around: the sphere of its slice, or the slice's outline as the sun sees it"
    )
    snap: bool = leaf(True, "-", "whether cascades move by whole texels only, so that shadows' edges stand still")
    depth_range: Literal["scene", "slice_clamped", "slice_cut"] = leaf(
        "scene",
        "-",
        "depth that a cascade holds: the whole scene's, or its slice's with casters before it clamped to its near end or cut",
    )
    map_format: Literal["float32", "unorm24", "unorm16"] = leaf("float32", "-", "how depth is stored in sun maps")
    join_blend: float = leaf(0.0, "-", "share of a cascade at its far end that is mixed with the next", ge=0, le=0.5)
    paged_limit_deg: float = leaf(
        0.5, "deg", "paged map: a caster whose padded bounds look smaller is not drawn into it; 0 is no limit", ge=0, le=90
    )
    page_texel_px: float = leaf(1.0, "px", "paged map: size of a texel in pixels of the frame", ge=0.25, le=16)
    page_pool: int = leaf(4096, "-", "paged map: how many pages of 64 x 64 texels it may hold", ge=16, le=65536)
    ray_limit_deg: float = leaf(
        0.5, "deg", "ray tier: a caster whose padded bounds look smaller is left out; 0 is no limit", ge=0, le=90
    )
    ray_offset_m: float = leaf(0.01, "m", "ray tier: how far off the surface a ray starts", ge=0, le=10)
    of_blended: Literal["missed", "meant"] = leaf(
        "missed",
        "-",
        "whether what is blended is meant to throw shadows: where it throws none and something is too bright for it, that is found",
        beside="sweep",
    )
    bias_texels: float = leaf(1.5, "texel", "shift of the receiver along its normal before the look-up", ge=0, le=16)
    filter_px: int = leaf(3, "texel", "edge of the box of map texels averaged at a look-up", ge=1, le=7)
    light_resolution: int = leaf(512, "texel", "edge of each map of a point or spot light that casts", ge=16, le=4096)


def size_limit(shadow: Shadow, technique: Technique) -> tuple[str, float]:
    """(leaf, degrees) of the angle below which a technique leaves a caster out; ("", 0.0) for cascades, which have none."""
    leaves: dict[str, tuple[str, float]] = {
        "paged": ("shadow.paged_limit_deg", shadow.paged_limit_deg), "rays": ("shadow.ray_limit_deg", shadow.ray_limit_deg),
    }  # fmt: skip
    return leaves.get(technique, ("", 0.0))
