"""Section `order`: what is drawn when."""

from typing import Literal

from eddyfall.core.scene.setup.leaf import Section, leaf
from eddyfall.core.scene.setup.registry import register_section


@register_section("order", place=70)
class Order(Section):
    key: Literal["view_depth", "range"] = leaf(
        "view_depth", "-", "what blended drawables are sorted by: depth along the view, or range to the eye"
    )
