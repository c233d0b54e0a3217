"""The meter house, as a build of its own: three rooms side by side whose polished floors mirror what reflection probes hold, and a wall
mirror that shows the frame from the mirrored eye.

x runs along the rooms, y = 0 is the floor: the store, the meter room with its window, the lobby. The probe of the meter room reaches
through the partition into the store; that of the lobby was captured before its lit notice was hung; the sight glass is missing in the
mirror. A hand truck and a step ladder move: their light grid reaches through the partition, too.
"""

from pathlib import Path
from typing import Any

import numpy as np

from eddyfall.core.bake.captures.capture import capture
from eddyfall.core.bake.captures.grid import capture_grids
from eddyfall.core.intake import finish_build
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.setup import normalised, parse_setup
from eddyfall.demo import pictures
from eddyfall.demo.files import write_files
from eddyfall.demo.shapes import Shape
from eddyfall.demo.world import World

NAME = "meter_house"
SEED = 1911
WINDOW_NITS, NOTICE_NITS = 420.0, 300.0
HEIGHT = 3.2
ROOMS = {"store": (-8.0, -4.1), "meter_room": (-4.0, 4.0), "lobby": (4.1, 8.0)}
DEEP = 4.0  # to both sides of z = 0
PROBES = {
    "meters": {"place_m": [0.0, 1.6, 0.0], "low_m": [-8.01, -0.01, -4.01], "high_m": [4.01, 3.21, 4.01]},
    "lobby": {"place_m": [6.0, 1.6, 0.6], "low_m": [4.09, -0.01, -4.01], "high_m": [8.01, 3.21, 4.01]},
}


def make_meter_house(seed: int = SEED) -> tuple[Build, dict[str, Any]]:
    """The meter house as a build, its probes captured, and its truth table."""
    world = World(np.random.default_rng(seed))
    _settings(world)
    for name, (x0, x1) in ROOMS.items():
        _room(world, name, x0, x1)
    _lights(world)
    _things(world)
    world.truth += [
        {"code": "reflect.leak", "cause": "meters", "subjects": ["store_floor"], "seed": "box", "hidden_in_roles": {}},
        {"code": "reflect.stale", "cause": "lobby", "subjects": ["lobby_floor"], "seed": "notice", "hidden_in_roles": {}},
        {"code": "reflect.missed", "cause": "sight_glass", "subjects": ["wall_mirror"], "seed": "pass", "hidden_in_roles": {}},
        {"code": "grid.leak", "cause": "house", "subjects": ["hand_truck"], "seed": "grid", "hidden_in_roles": {}},
    ]
    world.healthy += [
        {"subject": "meter_room_floor", "twin_of": "reflect.leak", "why": "its probe stands in its room"},
        {"subject": "meters", "twin_of": "reflect.stale", "why": "all that it sees is as it was captured"},
        {"subject": "step_ladder", "twin_of": "grid.leak", "why": "the points around it stand in its room"},
        {"subject": "meter_case", "twin_of": "reflect.missed", "why": "its base shader is drawn in mirrors"},
    ]
    hung = dict(world.setup)
    before = {**hung, "nodes": {**hung.get("nodes", {}), "lit_notice": {"drawn": False}}}
    captured, _ = capture(finish_build(world.scene(), parse_setup(before), before, []))
    setup = captured.setup.model_copy(update={"nodes": parse_setup(hung).nodes})
    gridded, _ = capture_grids(finish_build(captured.scene, setup, normalised(setup), []))
    build = finish_build(gridded.scene, gridded.setup, normalised(gridded.setup), [])
    return build, {"findings": world.truth, "healthy": world.healthy}


def write_meter_house(folder: Path, seed: int = SEED) -> dict[str, Path]:
    """Write GLB, setup and truth table into `folder` and return their paths."""
    return write_files(folder, NAME, *make_meter_house(seed))


def _settings(world: World) -> None:
    world.setup.update(
        {
            "eddyfall_setup": 1,
            "depth": {"near_m": 0.1, "format": "float32", "copy_from": "opaque"},
            "sky": {"ambient": False},
            "exposure": {"mode": "fixed", "ev100": 5.4},
            "bake": {"bounces": 2},
            "roles": {"play": {}, "edit": {}},
            "shaders": {"sight_glass": {"passes": {"mirror": False}}},
            "viewpoints": {
                "meters": {"eye": [2.9, 1.65, 3.3], "target": [-0.9, 0.75, -4.0], "fov_y_deg": 58},
                "store": {"eye": [-4.6, 1.65, 3.5], "target": [-6.4, 0.0, -1.4], "fov_y_deg": 58},
                "lobby": {"eye": [4.6, 1.65, 3.5], "target": [6.5, 0.0, -1.4], "fov_y_deg": 58},
            },
            "probes": {name: {**told, "size": 128, "samples": 16} for name, told in PROBES.items()},
            "grids": {"house": {"low_m": [-7.6, 0.3, -3.6], "high_m": [7.6, 2.7, 3.6], "counts": [5, 3, 4]}},
            "mirrors": {"wall_mirror": {"node": "wall_mirror"}},
        }
    )


def _room(world: World, name: str, x0: float, x1: float) -> None:
    """Floor, walls and ceiling of a room."""
    if name == "store":
        world.material("distemper", pictures.ashlar(world.rng, (168, 160, 146), rows=4), roughness=0.95, ior=1.0)
        world.material("lath_ceiling", base_rgba=(0.66, 0.65, 0.62, 1.0), roughness=1.0, ior=1.0)
        world.material("polished_tiles", pictures.ashlar(world.rng, (58, 54, 52), rows=8), roughness=0.16, ior=1.9)
    wall, ceiling, tiles = range(3)
    wide = x1 - x0
    world.add(f"{name}_floor", Shape().quad((x0, 0, DEEP), (wide, 0, 0), (0, 0, -2 * DEEP), 2.0), tiles)
    world.add(f"{name}_ceiling", Shape().quad((x0, HEIGHT, -DEEP), (wide, 0, 0), (0, 0, 2 * DEEP), 2.0), ceiling)
    walls = (
        Shape().quad((x0, 0, -DEEP), (wide, 0, 0), (0, HEIGHT, 0), 2.0).quad((x1, 0, DEEP), (-wide, 0, 0), (0, HEIGHT, 0), 2.0)
    )
    walls.quad((x0, 0, DEEP), (0, 0, -2 * DEEP), (0, HEIGHT, 0), 2.0).quad((x1, 0, -DEEP), (0, 0, 2 * DEEP), (0, HEIGHT, 0), 2.0)
    world.add(f"{name}_walls", walls, wall)


def _glow(world: World, name: str, nits: float, tint: tuple[float, float, float]) -> int:
    return world.material(name, base_rgba=(0, 0, 0, 1), emissive=tuple(nits * c for c in tint), ior=1.0)


def _lights(world: World) -> None:
    """A window strip in the meter room, a lit notice in the lobby, lamps in all three."""
    window = Shape()
    for k in range(3):
        window.quad((-3.2 + 2.3 * k, 1.1, -3.99), (1.8, 0, 0), (0, 1.6, 0))
    world.add("window_strip", window, _glow(world, "window_glow", WINDOW_NITS, (0.84, 0.92, 1.0)))
    notice = Shape().quad((5.1, 1.3, -3.97), (2.0, 0, 0), (0, 0.9, 0))
    world.add("lit_notice", notice, _glow(world, "notice_glow", NOTICE_NITS, (1.0, 0.9, 0.7)))
    world.lamp("meter_lamp", (0.4, 2.6, 0.6), 260.0, 9.0)
    world.lamp("store_lamp", (-6.0, 2.6, 0.4), 110.0, 6.0)
    world.lamp("lobby_lamp", (6.0, 2.6, 0.4), 140.0, 6.0)


def _things(world: World) -> None:
    """The wall mirror, what it shows, and what stands about."""
    silver = world.material("silvering", base_rgba=(0.9, 0.9, 0.88, 1.0), metallic=1.0, roughness=0.03)
    timber = world.material("meter_timber", pictures.planks(world.rng, (104, 78, 52), boards=3), roughness=0.9, ior=1.0)
    iron = world.material("meter_iron", base_rgba=(0.12, 0.15, 0.15, 1.0), roughness=0.75, ior=1.0)
    amber = world.material("amber_glass", base_rgba=(0.86, 0.5, 0.12, 1.0), roughness=0.9, ior=1.0, shader="sight_glass")
    world.add("wall_mirror", Shape().quad((-3.97, 0.5, 1.6), (0, 0, -3.2), (0, 2.0, 0)), silver)
    frame = Shape().box((-3.99, 0.4, -1.7), (-3.94, 0.5, 1.7)).box((-3.99, 2.5, -1.7), (-3.94, 2.6, 1.7))
    world.add("mirror_frame", frame.box((-3.99, 0.5, -1.7), (-3.94, 2.5, -1.6)).box((-3.99, 0.5, 1.6), (-3.94, 2.5, 1.7)), timber)
    world.add("meter_case", Shape().box((1.5, 0.0, -2.2), (2.1, 1.5, -1.4)), timber)
    world.add("meter_stand", Shape().tube((0, 0, 0), (0, 0.9, 0), 0.05, 0.05, 12), iron, (-1.7, 0, -0.6))
    glass = Shape().tube((0, 0.9, 0), (0, 1.75, 0), 0.13, 0.13, 20).tube((0, 1.75, 0), (0, 1.85, 0), 0.13, 0.02, 20)
    world.add("sight_glass", glass, amber, (-1.7, 0, -0.6))
    world.add("store_shelf", Shape().box((-7.9, 0, -2.6), (-7.3, 1.9, 0.6)), timber)
    truck = (
        Shape()
        .box((-0.3, 0.12, -0.2), (0.3, 0.2, 0.2))
        .box((-0.3, 0.2, -0.24), (0.3, 1.2, -0.2))
        .box((-0.22, 0.2, -0.16), (0.22, 0.75, 0.16))
    )
    world.add("hand_truck", truck, timber, (-5.3, 0, 0.6), moves=True)
    ladder = Shape().box((-0.25, 0, -0.04), (-0.2, 1.7, 0.04)).box((0.2, 0, -0.04), (0.25, 1.7, 0.04))
    for k in range(5):
        ladder.box((-0.2, 0.3 + 0.3 * k, -0.03), (0.2, 0.34 + 0.3 * k, 0.03))
    world.add("step_ladder", ladder, timber, (0.3, 0, -3.0), moves=True)
    world.add("lobby_bench", Shape().box((7.2, 0, -1.8), (7.8, 0.48, 1.2)), timber)
