"""Section `exposure`: from light to code values."""

from typing import Literal

from eddyfall.core.scene.setup.leaf import Section, leaf
from eddyfall.core.scene.setup.registry import register_section


@register_section("exposure", place=50, by_viewpoint=True)
class Exposure(Section):
    mode: Literal["off", "fixed"] = leaf("off", "-", "off shows 1.0 as display white; fixed multiplies by 1/(1.2 * 2^ev100)")
    ev100: float = leaf(0.0, "EV", "exposure value at ISO 100 when fixed", ge=-20, le=30)
