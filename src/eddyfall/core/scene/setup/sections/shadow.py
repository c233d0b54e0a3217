"""Section `shadow`: sun cascades, the far tier, and the filter of every shadow map."""

from eddyfall.core.scene.setup.leaf import Section, leaf
from eddyfall.core.scene.setup.registry import register_section


@register_section("shadow", place=20)
class Shadow(Section):
    enabled: bool = leaf(True, "-", "whether lights cast shadows at all")
    reach_m: float = leaf(150.0, "m", "view depth up to which the cascades give the sun's shadow", gt=0, le=100000)
    near_m: float = leaf(0.5, "m", "view depth at which the first cascade starts", gt=0, le=1000)
    cascades: int = leaf(4, "-", "number of cascades between near and reach", ge=1, le=8)
    split_lambda: float = leaf(0.6, "-", "0 spaces the splits evenly, 1 by equal ratios", ge=0, le=1)
    resolution: int = leaf(2048, "texel", "edge of each cascade's square map", ge=64, le=8192)
    far_reach_m: float = leaf(
        0.0, "m", "view depth up to which a far tier carries on after the cascades; 0 is no far tier", ge=0, le=100000
    )
    far_resolution: int = leaf(2048, "texel", "edge of the far tier's square map", ge=64, le=8192)
    bias_texels: float = leaf(1.5, "texel", "shift of the receiver along its normal before the look-up", ge=0, le=16)
    filter_px: int = leaf(3, "texel", "edge of the box of map texels averaged at a look-up", ge=1, le=7)
    light_resolution: int = leaf(512, "texel", "edge of each map of a point or spot light that casts", ge=16, le=4096)
