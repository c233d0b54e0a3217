"""bake.leak, bake.hidden-faces, bake.wasted, bake.banding, bake.denoise-lines, bake.uncovered: what goes wrong in the texels."""

import numpy as np

from eddyfall.demo.hall_world import HallWorld
from eddyfall.demo.shapes import Shape


def sow(world: HallWorld) -> None:
    """A partition off the texel line, plinths on the floor, a tunnel with one lamp."""
    _partition(world)
    _plinths(world)
    _tunnel(world)
    world.finding("bake.denoise-lines", "bake.denoise", "pipes", "texels", ("pipes", 21, 37))
    world.healthy.append({"subject": "wall_north", "twin_of": "bake.denoise-lines", "why": "its chart fills the page"})


def _partition(world: HallWorld) -> None:
    """A store closed off in the south-west corner: its walls are sheets that stand on the hall's floor."""
    sheet = world.material("sheet", base_rgba=(0.5, 0.5, 0.48, 1), roughness=0.8, double_sided=True)
    closed = Shape().quad((3.03, 0, 8.47), (0, 0, 3.53), (0, 2.4, 0))
    world.mapped("partition", closed, sheet, _page(), lightmap_size=32)
    closed = Shape().quad((0, 0, 8.47), (3.03, 0, 0), (0, 2.4, 0))
    world.mapped("partition_front", closed, sheet, _page(), lightmap_size=32)
    lid = Shape().quad((0, 2.4, 12), (3.03, 0, 0), (0, 0, -3.53))
    world.mapped("partition_top", lid, sheet, _page(), lightmap_size=32)
    leaks: tuple[tuple[str, str, tuple[int, int] | None], ...] = (
        ("floor_west", "partition", (30, 85)),
        ("floor_west", "partition_front", (15, 70)),
        ("wall_south", "partition", (40, 41)),
        ("wall_south", "partition_top", (44, 33)),
        ("wall_west", "partition_front", None),  # a sixth of the light there, which one texel's noise hides
        ("wall_west", "partition_top", (7, 33)),
    )
    for subject, occluder, at in leaks:
        world.finding("bake.leak", f"{subject} | {occluder}", subject, "texels", (subject, *at) if at else None)
    world.healthy.append({"subject": "floor_east", "twin_of": "bake.leak", "why": "nothing thin stands on it"})


def _page() -> np.ndarray:
    return np.array([[0.0, 1.0], [1.0, 1.0], [1.0, 0.0], [0.0, 0.0]])


def _plinths(world: HallWorld) -> None:
    stone = world.material("plinth_stone", base_rgba=(0.5, 0.48, 0.44, 1), roughness=0.9)
    # The floor runs on under this one, and bakes black there.
    world.thing("plinth_1", Shape().box((2.9, 0.0, 2.7), (5.1, 0.5, 4.5), 1.0, "xXYzZ"), stone, 64, 5.0)
    world.finding("bake.hidden-faces", "bake.hidden", "floor_west", "texels", ("floor_west", 40, 22))
    world.healthy.append({"subject": "tunnel_end", "twin_of": "bake.hidden-faces", "why": "nothing stands against it"})
    # A motor inside its housing: nothing of it is ever seen.
    housed = Shape().box((10.6, 0.02, 10.4), (11.8, 0.9, 11.4), 1.0).box((10.75, 0.2, 10.55), (11.65, 0.8, 11.25), 1.0)
    world.thing("housed_motor", housed, stone, 64, 5.0)
    world.truth.append({"code": "bake.wasted", "cause": "housed_motor", "subjects": ["housed_motor"], "seed": "texels"})
    world.healthy.append({"subject": "plinth_1", "twin_of": "bake.wasted", "why": "all its faces are seen"})


def _tunnel(world: HallWorld) -> None:
    """A service tunnel beyond the east wall, outside the bake focus region, with one weak lamp at its end."""
    lining = world.material("tunnel_lining", base_rgba=(0.3, 0.29, 0.27, 1), roughness=0.9)
    world.panel("tunnel_floor", (20, 0, 7.2), (10, 0, 0), (0, 0, -2.4), lining, lightmap_size=32)
    world.panel("tunnel_north", (20, 0, 4.8), (10, 0, 0), (0, 2.8, 0), lining, lightmap_size=64)
    world.panel("tunnel_south", (30, 0, 7.2), (-10, 0, 0), (0, 2.8, 0), lining, lightmap_size=32)
    world.panel("tunnel_end", (30, 0, 4.8), (0, 0, 2.4), (0, 2.8, 0), lining, lightmap_size=32)
    world.panel("tunnel_top", (20, 2.8, 4.8), (10, 0, 0), (0, 0, 2.4), lining, lightmap_size=32)
    hatch = Shape().box((19.9, 0, 4.8), (20.0, 2.8, 7.2), 1.0, "xXYzZ")
    world.thing("tunnel_hatch", hatch, lining, 48, 6.0)
    world.lamp("tunnel_lamp", (29.2, 2.2, 5.3), 9.0, 0.0)
    world.finding("bake.uncovered", "focus_regions", "tunnel_north", "texels", ("tunnel_north", 46, 16))
    world.healthy.append({"subject": "wall_north", "twin_of": "bake.uncovered", "why": "it lies in the focus region"})
    world.finding("bake.banding", "bake.encoding", "tunnel_north", "texels", ("tunnel_south", 15, 1))
    world.healthy.append({"subject": "wall_north", "twin_of": "bake.banding", "why": "it is bright enough for eight bits"})
