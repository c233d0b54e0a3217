"""Section `sky`: what is behind everything and fills shade."""

from eddyfall.core.scene.setup.leaf import Rgb, Section, leaf
from eddyfall.core.scene.setup.registry import register_section


@register_section("sky", place=30)
class Sky(Section):
    zenith_rgb: Rgb = leaf((0.0, 0.0, 0.0), "nit", "radiance straight up")
    horizon_rgb: Rgb = leaf((0.0, 0.0, 0.0), "nit", "radiance at the horizon")
    ground_rgb: Rgb = leaf((0.0, 0.0, 0.0), "nit", "radiance from below, as light on downward faces")
    ambient: bool = leaf(True, "-", "whether the sky lights surfaces")
