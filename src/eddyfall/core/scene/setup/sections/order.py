"""Section `order`: what is drawn when."""

from typing import Literal

from eddyfall.core.scene.setup.leaf import Section, Vec3, leaf
from eddyfall.core.scene.setup.registry import register_section

Key = Literal["view_depth", "range", "direction"]
Point = Literal["bounds_centre", "node_origin", "nearest"]
Method = Literal["sorted", "weighted", "list", "peeled"]


@register_section("order", place=70)
class Order(Section):
    key: Key = leaf(
        "view_depth",
        "-",
        "what blended drawables are sorted by: depth along the view, range to the eye, or how far along a direction",
    )
    direction: Vec3 = leaf(
        (0.0, 0.0, -1.0), "-", "into the picture, world space, for the key direction: what lies further along is drawn first"
    )
    method: Method = leaf(
        "sorted",
        "-",
        "how blended layers of a pixel are put together: sorted, whole things by the key; weighted, their average, whatever their order; "
        "list, the nearest ones in order and the average of the rest; peeled, the nearest ones in order and none of the rest",
    )
    eyes: Literal["each", "shared"] = leaf(
        "each",
        "-",
        "in a headset, whether each eye sorts by where it is itself, or both by the place between them",
        beside="eyes",
    )
    eye_gap_mm: float = leaf(
        0.0, "mm", "how far apart the eyes of a headset are, 64 of most people; 0: one eye", beside="eyes", ge=0, le=1000
    )
    layers: int = leaf(4, "-", "how many of the nearest layers of a pixel list and peeled keep in order", ge=1, le=16)
    point: Point = leaf("bounds_centre", "-", "which point of a drawable the key is of; nearest: of its bounds, to the eye")
