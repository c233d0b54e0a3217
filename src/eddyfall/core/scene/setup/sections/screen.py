"""Sections `occlusion`, `bounce` and `reflect`: what is worked out from the frame alone, from what its depth copy shows."""

from typing import Literal

from eddyfall.core.scene.setup.leaf import Section, leaf
from eddyfall.core.scene.setup.registry import register_section

Fallback = Literal["nothing", "sky", "probe", "world"]
Divisor = Literal[1, 2, 4]
FALLBACK = (
    "what a ray that finds nothing brings: nothing, what lights the surface otherwise, what probes show along it (else that), or a ray "
    "into the world at mean colours"
)
DIVISOR = "one ray bundle for so many by so many px"
ROUNDS = "rounds of the a-trous filter over it"


class Marched(Section):
    """What passes that march rays through the depth copy have in common."""

    enabled: bool = leaf(False, "-", "whether it is drawn")
    reach_m: float = leaf(20.0, "m", "how far a ray is followed", gt=0, le=1e5)
    thickness_m: float = leaf(
        0.5, "m", "how far behind what the depth copy shows a ray still counts as having met it", gt=0, le=1e4
    )
    steps: int = leaf(32, "-", "places along a ray that are held against the depth copy, evenly over the screen", ge=1, le=512)
    rays: int = leaf(4, "-", "rays of each bundle", ge=1, le=256)
    margin_px: int = leaf(0, "px", "width of a margin around the frame that is drawn for it, too", ge=0, le=512)
    edge_fade_px: int = leaf(
        0, "px", "over how many px before the edge of what is drawn it gives way to the fallback", ge=0, le=512
    )
    divisor: Divisor = leaf(1, "-", DIVISOR)
    fallback: Fallback = leaf("nothing", "-", FALLBACK)
    rounds: int = leaf(0, "-", ROUNDS, ge=0, le=5)


@register_section("occlusion", place=32)
class Occlusion(Section):
    enabled: bool = leaf(False, "-", "whether light from around is dimmed by what stands near in the frame")
    reach_m: float = leaf(1.0, "m", "how far what stands near is looked for", gt=0, le=1e5)
    steps: int = leaf(8, "-", "places that are looked at along each side of a slice", ge=1, le=128)
    slices: int = leaf(4, "-", "planes through the eye's ray in which the horizon is looked for", ge=1, le=64)
    margin_px: int = leaf(0, "px", "width of a margin around the frame that is drawn for it, too", ge=0, le=512)
    divisor: Divisor = leaf(1, "-", "one horizon for so many by so many px")
    rounds: int = leaf(0, "-", ROUNDS, ge=0, le=5)
    applies_to: Literal["sky", "indirect"] = leaf("sky", "-", "what it dims: light from the sky, or that of lightmaps as well")


@register_section("bounce", place=34)
class Bounce(Marched):
    on_lightmapped: bool = leaf(False, "-", "whether surfaces with a lightmap get it, too, on top of what that holds")


@register_section("reflect", place=36)
class Reflect(Marched):
    roughest: float = leaf(0.6, "-", "roughness beyond which nothing is reflected by rays", ge=0, le=1)


FromFrame = type[Occlusion] | type[Bounce] | type[Reflect]
FROM_FRAME: dict[str, FromFrame] = {"occlusion": Occlusion, "bounce": Bounce, "reflect": Reflect}
