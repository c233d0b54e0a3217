"""Section `refract`: how what lets light through shows what is behind it, from a copy of the opaque picture."""

from typing import Literal

from eddyfall.core.scene.setup.leaf import Section, leaf
from eddyfall.core.scene.setup.registry import register_section

MOST_LAYERS = 8


@register_section("refract", place=38)
class Refract(Section):
    enabled: bool = leaf(False, "-", "whether what lets light through is drawn so; off, it is drawn opaque")
    copy_from: Literal["none", "opaque"] = leaf(
        "opaque",
        "-",
        "the picture it shows what is behind from: none reads black; opaque is a copy of all that is drawn before it",
    )
    layers: int = leaf(
        1,
        "-",
        "how many of them, nearest first, are drawn one over the other, with the copy taken anew for each",
        ge=1,
        le=MOST_LAYERS,
    )
    reflect_copy: Literal["before", "after"] = leaf(
        "before",
        "-",
        "what reflections by rays through the frame show: a picture of before it is laid, or of after, with what lets light through where "
        "the eye sees it; it is laid twice then",
    )
    roughest: float = leaf(1.0, "-", "roughness beyond which it is drawn opaque", ge=0, le=1)
