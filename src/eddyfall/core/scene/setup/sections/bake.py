"""Section `bake`: how the target uses lightmap UVs, how lightmaps are gathered, finished, stored and sampled."""

from typing import Literal

from eddyfall.core.scene.setup.leaf import Section, leaf
from eddyfall.core.scene.setup.registry import register_section

Encoding = Literal["srgb8", "linear16", "half"]


@register_section("bake", place=80)
class Bake(Section):
    uv_use: Literal["repacked", "as_is"] = leaf(
        "repacked", "-", "repacked lays charts out anew, so whole tiles are free space; as_is takes uv modulo 1", beside="bake"
    )
    unique_per: Literal["mesh", "part"] = leaf(
        "mesh", "-", "whether one lightmap serves a whole mesh or each material part has its own", beside="bake"
    )
    resolution: int = leaf(256, "texel", "edge of a lightmap where the node does not say", beside="bake", ge=8, le=8192)
    gutter_texels: int = leaf(2, "texel", "free texels kept around charts when they are packed anew", beside="bake", ge=0, le=64)
    samples: int = leaf(64, "-", "light paths gathered for each texel", beside="bake", ge=1, le=65536)
    bounces: int = leaf(3, "-", "how often bounced light is followed; 0 is direct light only", beside="bake", ge=0, le=64)
    hidden: Literal["keep", "mask"] = leaf(
        "mask",
        "-",
        "texels on faces that nothing can see: keep bakes them black, mask fills them from seen neighbours",
        beside="bake",
    )
    denoise: Literal["off", "within_charts", "across_gaps"] = leaf(
        "off", "-", "whether noise is smoothed, and whether the filter stops at the borders of charts", beside="bake"
    )
    dilate_texels: int = leaf(2, "texel", "how far charts are continued into their gutters", beside="bake", ge=0, le=64)
    encoding: Encoding = leaf("half", "-", "how a lightmap's values are stored", beside="bake")
    range_lux: float | None = leaf(
        None,
        "lx",
        "irradiance that the highest code stands for; null takes each lightmap's own maximum",
        beside="bake",
        gt=0,
        le=1e9,
    )
    dither: bool = leaf(False, "-", "whether values are dithered by half a code before they are rounded", beside="bake")
    filter: Literal["nearest", "linear"] = leaf("linear", "-", "how lightmap texels are filtered when drawn")
    mips: bool = leaf(False, "-", "whether lightmaps have mip chains when drawn")
