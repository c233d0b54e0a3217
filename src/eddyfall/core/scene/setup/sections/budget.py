"""Section `budget`: what a frame may take on the machine it runs on. A target sets it; nothing is drawn by it."""

from eddyfall.core.scene.setup.leaf import Section, leaf
from eddyfall.core.scene.setup.registry import register_section


@register_section("budget", place=90)
class Budget(Section):
    shadow_mib: float = leaf(
        0.0,
        "MiB",
        "memory that all shadows of a frame may take: maps, pools, trees; 0 is no limit",
        beside="budget",
        ge=0,
        le=1e6,
    )
    shadow_draws: int = leaf(
        0, "-", "drawables that may be drawn into shadow maps in a frame; 0 is no limit", beside="budget", ge=0
    )
    shadow_triangles: int = leaf(
        0, "-", "triangles that may be drawn into shadow maps in a frame; 0 is no limit", beside="budget", ge=0
    )
    shadow_rays: int = leaf(0, "-", "shadow rays that a frame may trace; 0 is no limit", beside="budget", ge=0)
    blended_layers: float = leaf(
        0.0,
        "-",
        "blended fragments that a frame may lay, for each of its pixels; 0 is no limit",
        beside="budget",
        ge=0,
        le=1000,
    )
    lights: int = leaf(0, "-", "lamps that may reach one pixel; 0 is no limit", beside="budget", ge=0, le=4096)
    noise: float = leaf(
        0.0,
        "-",
        "noise, over a surface's mean, that what bounce and reflection add may have; 0 is no limit",
        beside="budget",
        ge=0,
        le=10,
    )
    screen_mib: float = leaf(
        0.0,
        "MiB",
        "memory that targets of occlusion, bounce and reflection may take; 0 is no limit",
        beside="budget",
        ge=0,
        le=1e6,
    )
    width_px: int = leaf(1920, "px", "width of the frame that those targets are counted for", beside="budget", ge=1, le=16384)
    height_px: int = leaf(1080, "px", "height of the frame that those targets are counted for", beside="budget", ge=1, le=16384)
