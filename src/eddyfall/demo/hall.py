"""The pump hall from inside, as a build of its own: everything in it has a lightmap, in two light sets, lamps on and lamps off.

x runs along the hall (20 m), z across it (12 m), y = 0 is its floor, 8 m under the roof. A service tunnel leads off at the east end.
"""

from pathlib import Path
from typing import Any

import numpy as np

from eddyfall.core.bake.maps.run import bake
from eddyfall.core.intake import finish_build
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.model import Node
from eddyfall.core.scene.setup import normalised, parse_setup
from eddyfall.demo import hall_faults
from eddyfall.demo.files import write_files
from eddyfall.demo.hall_world import HallWorld
from eddyfall.demo.shapes import Shape
from eddyfall.demo.world import World

NAME = "pump_hall"
SEED = 1887
COVER = "pump_cover"
LONG, WIDE, HIGH = 20.0, 12.0, 8.0


def make_hall(seed: int = SEED, samples: int = 64) -> tuple[Build, dict[str, Any]]:
    """The hall as a build with lightmaps baked with `samples` a texel, and its truth table.

    It was baked with a cover over the booster pump's place in the tunnel that has since gone, so that the floor there is out of date.
    """
    world = HallWorld(np.random.default_rng(seed))
    _settings(world)
    world.setup["bake"]["samples"] = samples
    _shell(world)
    _furniture(world)
    for sow in hall_faults.ALL:
        sow(world)
    baked = _baked(world)
    without = _without_cover(baked)
    world.finding("bake.stale", f"{COVER} is gone", "tunnel_floor", "cover", ("tunnel_floor", 19, 12))
    world.healthy.append({"subject": "wall_north", "twin_of": "bake.stale", "why": "its light never met the cover"})
    return without, {"findings": world.truth, "healthy": world.healthy}


def write_hall(folder: Path, seed: int = SEED) -> dict[str, Path]:
    """Write GLB, setup and truth table into `folder` and return their paths."""
    return write_files(folder, NAME, *make_hall(seed))


def _baked(world: HallWorld) -> Build:
    build = finish_build(world.scene(), parse_setup(world.setup), world.setup, [])
    result = bake(build)
    made = normalised(result.build.setup)
    raw = {**world.setup, "lightmaps": made["lightmaps"], "baked_scenes": made["baked_scenes"]}
    return finish_build(result.build.scene, parse_setup(raw), raw, [])


def _without_cover(build: Build) -> Build:
    """The scene without the pump's cover: its node stands empty."""
    scene = build.scene
    index = scene.node_keys.index(COVER)
    node = scene.nodes[index]
    raw = dict(build.raw_setup)
    raw["lightmaps"] = {k: v for k, v in raw["lightmaps"].items() if k != COVER}
    raw["nodes"] = {k: v for k, v in raw["nodes"].items() if k != COVER}
    bare = scene.with_node(index, Node(node.name, node.matrix, node.parent))
    return finish_build(bare, parse_setup(raw), raw, [])


def _settings(world: World) -> None:
    inside = {"mode": "fixed", "ev100": 6.7}
    world.setup.update(
        {
            "eddyfall_setup": 1,
            "depth": {"near_m": 0.05, "format": "unorm24", "copy_from": "prepass"},
            "shadow": {"reach_m": 60, "resolution": 1024},
            "sky": {"zenith_rgb": [900, 1500, 2600], "horizon_rgb": [2400, 2600, 2900], "ground_rgb": [700, 680, 600]},
            "exposure": inside,
            "lights": {"sun": {"kind": "sun", "illuminance_lux": 8000, "towards": [0.25, 0.9, 0.3], "rgb": [1.0, 0.95, 0.86]}},
            "light_sets": {
                "lamps_on": {"on": {"sun": False}, "sky": 0.0},
                "lamps_off": {"on": {"sun": True, **{f"lamp_{i}": False for i in range(1, 5)}, "tunnel_lamp": False}},
            },
            "roles": {"play": {}, "edit": {}},
            "targets": {"kiosk": {"set": {"bake": {"encoding": "srgb8"}}}},
            "bake": {
                "resolution": 48, "samples": 64, "bounces": 2, "hidden": "keep", "denoise": "across_gaps", "dilate_texels": 12,
                "encoding": "srgb8", "range_lux": 1500.0, "mips": True,
            },
            "focus_regions": {"hall": {"low_m": [-0.1, -0.1, -0.1], "high_m": [20.1, 8.1, 12.1]}},
            "viewpoints": {
                "hall": {"eye": [5.6, 2.2, 11.0], "target": [9.5, 1.2, 2.0], "fov_y_deg": 62, "light_set": "lamps_on"},
                "hall_daylight": {
                    "eye": [5.6, 2.2, 11.0], "target": [9.5, 1.2, 2.0], "fov_y_deg": 62, "light_set": "lamps_off",
                    "set": {"exposure": {"ev100": 8.7}},
                },
                "gallery": {"eye": [15.5, 2.4, 9.6], "target": [8.0, 1.6, 1.0], "fov_y_deg": 60, "light_set": "lamps_on"},
                "tunnel": {
                    "eye": [20.6, 1.6, 5.9], "target": [27.0, 1.3, 6.4], "fov_y_deg": 60, "light_set": "lamps_on",
                    "set": {"exposure": {"ev100": -0.4}},
                },
            },
        }
    )  # fmt: skip


def _shell(world: HallWorld) -> None:
    """Floor in two halves, walls, a roof with a skylight, the tunnel."""
    plaster = world.material("plaster", base_rgba=(0.62, 0.6, 0.55, 1), roughness=0.9)
    screed = world.material("screed", base_rgba=(0.36, 0.35, 0.33, 1), roughness=0.8)
    brick = world.material("glazed_brick", base_rgba=(0.34, 0.42, 0.38, 1), roughness=0.6)
    world.panel("floor_west", (0, 0, WIDE), (10, 0, 0), (0, 0, -WIDE), screed, lightmap_size=100)
    world.panel("wall_north", (0, 0, 0), (LONG, 0, 0), (0, HIGH, 0), plaster)
    world.panel("wall_south", (LONG, 0, WIDE), (-LONG, 0, 0), (0, HIGH, 0), plaster)
    world.panel("wall_west", (0, 0, WIDE), (0, 0, -WIDE), (0, HIGH, 0), brick)
    east = Shape().quad((LONG, 0, 0), (0, 0, 4.8), (0, HIGH, 0)).quad((LONG, 0, 7.2), (0, 0, 4.8), (0, HIGH, 0))
    east.quad((LONG, 2.8, 4.8), (0, 0, 2.4), (0, HIGH - 2.8, 0))
    world.thing("wall_east", east, brick)
    roof = Shape().quad((0, HIGH, 0), (LONG, 0, 0), (0, 0, 4.5)).quad((0, HIGH, 7.5), (LONG, 0, 0), (0, 0, 4.5))
    roof.quad((0, HIGH, 4.5), (3, 0, 0), (0, 0, 3)).quad((17, HIGH, 4.5), (3, 0, 0), (0, 0, 3))
    outside = Shape().quad((0, HIGH + 0.2, 4.5), (LONG, 0, 0), (0, 0, -4.5)).quad((0, HIGH + 0.2, 12), (LONG, 0, 0), (0, 0, -4.5))
    world.thing("roof", roof, plaster, 96, 6.0)
    world.add("roof_outside", outside, plaster)
    world.entry("nodes", "roof_outside")["lightmapped"] = False
    for i, (x, z) in enumerate(((4, 3), (4, 9), (14, 3), (14, 9)), 1):
        world.lamp(f"lamp_{i}", (float(x), 6.2, float(z)), 5200.0, 18.0)


def _furniture(world: HallWorld) -> None:
    """Pumps on plinths, pipes along the north wall."""
    iron = world.material("pump_paint", base_rgba=(0.07, 0.2, 0.19, 1), roughness=0.45)
    x, z = 4.0, 3.6
    body = Shape().box((x - 0.7, 0.5, z - 0.5), (x + 0.7, 1.5, z + 0.5), 1.0, "xXYzZ")
    body.box((x - 0.3, 1.5, z - 0.3), (x + 0.3, 2.1, z + 0.3), 1.0, "xXYzZ")
    world.thing("pump", body, iron, 96, 5.0)
    cover = world.material("cover_sheet", base_rgba=(0.42, 0.4, 0.34, 1), roughness=0.9)
    world.thing(COVER, Shape().box((25.4, 0.0, 5.2), (26.6, 0.9, 6.3), 1.0, "xXYzZ"), cover, 64, 5.0)
    pipes = Shape()
    for y in (2.2, 2.9):
        pipes.box((1.0, y, 0.02), (9.0, y + 0.25, 0.3), 1.0, "xXyYZ")
    world.thing("pipes", pipes, world.material("pipe_paint", base_rgba=(0.4, 0.16, 0.09, 1), roughness=0.5), 128, 5.0)
    board = world.material("slate", base_rgba=(0.16, 0.17, 0.18, 1), roughness=0.7)
    world.panel("notice", (25.6, 1.1, 4.87), (0.9, 0, 0), (0, 0.7, 0), board, lightmap_size=16)
