"""Section `textures`: how pictures are sampled."""

from eddyfall.core.scene.setup.leaf import Rgb, Section, leaf
from eddyfall.core.scene.setup.registry import register_section


@register_section("textures", place=60)
class Textures(Section):
    mips: bool = leaf(True, "-", "whether textures have mip chains")
    mip_bias: float = leaf(0.0, "level", "added to every mip level", ge=-8, le=8)
    anisotropy: int = leaf(4, "tap", "most taps along a slanted pixel footprint", ge=1, le=16)
    error_rgb: Rgb = leaf(
        (200 / 255, 86 / 255, 31 / 255), "-", "colour, as it is shown, of what has no base shader on a target", beside="convert"
    )
