"""Section `fog`: what lies between."""

from eddyfall.core.scene.setup.leaf import Rgb, Section, leaf
from eddyfall.core.scene.setup.registry import register_section


@register_section("fog", place=40)
class Fog(Section):
    enabled: bool = leaf(False, "-", "whether fog is drawn over the opaque picture, from the depth copy")
    fog_per_m: float = leaf(0.0, "1/m", "extinction; transmittance over d metres is exp(-fog_per_m d)", ge=0, le=100)
    rgb: Rgb = leaf((0.0, 0.0, 0.0), "nit", "radiance of fog so thick that nothing shows through")
    covers_sky: float = leaf(1.0, "-", "share of the fog that is drawn where only sky is", ge=0, le=1)
