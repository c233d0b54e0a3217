"""Sections `exposure`, `textures`, `order`: from light to code values, how pictures are sampled, what is drawn when."""

from typing import Literal

from eddyfall.core.scene.setup.leaf import Section, leaf


class Exposure(Section):
    mode: Literal["off", "fixed"] = leaf("off", "-", "off shows 1.0 as display white; fixed multiplies by 1/(1.2 * 2^ev100)")
    ev100: float = leaf(0.0, "EV", "exposure value at ISO 100 when fixed", ge=-20, le=30)


class Textures(Section):
    mips: bool = leaf(True, "-", "whether textures have mip chains")
    mip_bias: float = leaf(0.0, "level", "added to every mip level", ge=-8, le=8)
    anisotropy: int = leaf(4, "tap", "most taps along a slanted pixel footprint", ge=1, le=16)


class Order(Section):
    key: Literal["view_depth", "range"] = leaf(
        "view_depth", "-", "what blended drawables are sorted by: depth along the view, or range to the eye"
    )
