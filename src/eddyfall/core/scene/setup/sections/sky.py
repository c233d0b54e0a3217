"""Section `sky`: what is behind everything and fills shade."""

from eddyfall.core.scene.setup.leaf import Rgb, Section, leaf
from eddyfall.core.scene.setup.registry import register_section


class SkyColours(Section):
    """The sky as three radiances."""

    zenith_rgb: Rgb = leaf((0.0, 0.0, 0.0), "nit", "radiance straight up")
    horizon_rgb: Rgb = leaf((0.0, 0.0, 0.0), "nit", "radiance at the horizon")
    ground_rgb: Rgb = leaf((0.0, 0.0, 0.0), "nit", "radiance from below, as light on downward faces")
    ambient: bool = leaf(True, "-", "whether the sky lights surfaces")


@register_section("sky", place=30)
class Sky(SkyColours):
    picture: str = leaf(
        "", "-", "equirectangular picture of the whole sky, by its name; empty: the three radiances", max_length=200
    )
    yaw_deg: float = leaf(0.0, "deg", "the picture turned about the vertical, to the left seen from above", ge=-360, le=360)
    picture_nits: float = leaf(1.0, "nit", "radiance of 1.0 in the picture", ge=0, le=1e9)
