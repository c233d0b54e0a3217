"""Section `textures`: how pictures are sampled."""

from eddyfall.core.scene.setup.leaf import Section, leaf
from eddyfall.core.scene.setup.registry import register_section


@register_section("textures", place=60)
class Textures(Section):
    mips: bool = leaf(True, "-", "whether textures have mip chains")
    mip_bias: float = leaf(0.0, "level", "added to every mip level", ge=-8, le=8)
    anisotropy: int = leaf(4, "tap", "most taps along a slanted pixel footprint", ge=1, le=16)
