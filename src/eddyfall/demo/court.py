"""The wheel-house court at noon, as a build of its own: nothing lights it but a picture of the sky, and the sun is still in that.

x runs across the court, -z towards the wheel house, y = 0 is the paving. Behind the house lies a closed store room with a baked lamp,
whose gate stands in its lightmaps already.
"""

import math
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np

from eddyfall.core.bake.maps.run import bake
from eddyfall.core.hashing import freeze
from eddyfall.core.intake import finish_build
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.model import SkyPicture
from eddyfall.core.scene.setup import normalised, parse_setup
from eddyfall.core.shade.sky_maps import directions_of
from eddyfall.demo import pictures
from eddyfall.demo.files import write_files
from eddyfall.demo.shapes import Shape
from eddyfall.demo.world import World

NAME = "wheel_house_court"
SEED = 1893
SKY = "court_noon.exr"
SUN = (-0.5, 0.55, 0.67)
SUN_LUX = 68_000.0
SUN_RADIUS_DEG = 0.2665
ZENITH, HORIZON, GROUND = (2300.0, 3700.0, 6900.0), (5600.0, 6100.0, 6600.0), (1250.0, 1180.0, 1050.0)


def make_court(seed: int = SEED) -> tuple[Build, dict[str, Any]]:
    """The court as a build, and its truth table."""
    world = World(np.random.default_rng(seed))
    _settings(world)
    _walls(world)
    _things(world)
    _store_room(world)
    world.truth.append({"code": "shadow.sky-sun-off", "cause": SKY, "subjects": ["paving"], "seed": "sky", "hidden_in_roles": {}})
    scene = replace(world.scene(), skies=(SkyPicture(SKY, sky_picture(world.rng)),))
    build = _baked(finish_build(scene, parse_setup(world.setup), world.setup, []))
    return build, {"findings": world.truth, "healthy": world.healthy}


def write_court(folder: Path, seed: int = SEED) -> dict[str, Path]:
    """Write GLB, setup and truth table into `folder` and return their paths."""
    return write_files(folder, NAME, *make_court(seed))


def sky_picture(rng: np.random.Generator, height: int = 256) -> np.ndarray:
    """(h, 2h, 3) nit: a clear sky with thin cloud, and the sun's disc of SUN_LUX spread over the pixels that it covers."""
    d = directions_of(height, 2 * height)
    up = np.maximum(d[..., 1:2], 0.0)
    light = np.array(HORIZON) + (np.array(ZENITH) - np.array(HORIZON)) * np.sqrt(up)
    cloud = np.clip(pictures.noise(rng, 2 * height, 10)[:height] * 1.6 - 0.7, 0.0, 1.0)[..., None] * np.clip(up * 4, 0, 1)
    light = light + (np.array([7600.0, 7700.0, 7800.0]) - light) * cloud * 0.6
    light = np.where(d[..., 1:2] < 0, np.array(GROUND), light)
    towards = np.array(SUN) / np.linalg.norm(SUN)
    nit = SUN_LUX / (math.pi * math.sin(math.radians(SUN_RADIUS_DEG)) ** 2)
    tint = np.array([1.0, 0.96, 0.9]) / np.dot([1.0, 0.96, 0.9], [0.2126, 0.7152, 0.0722])
    light += _covered(d, towards, height)[..., None] * nit * tint
    return freeze(light.astype(np.float32))


def _covered(d: np.ndarray, towards: np.ndarray, height: int, fine: int = 32) -> np.ndarray:
    """(h, w) share of each pixel that the disc covers, by fine x fine places in it."""
    share = np.zeros(d.shape[:2])
    radius = math.radians(SUN_RADIUS_DEG)
    steps = (np.arange(fine) + 0.5) / fine
    for row, column in np.argwhere(d @ towards > math.cos(radius + 3 * math.pi / height)):
        elevation = (math.pi / 2 - (row + steps) / height * math.pi)[:, None]
        azimuth = ((column + steps) / (2 * height) * 2 * math.pi - math.pi)[None]
        cosine = (
            np.cos(elevation) * (np.sin(azimuth) * towards[0] - np.cos(azimuth) * towards[2]) + np.sin(elevation) * towards[1]
        )
        share[row, column] = (cosine > math.cos(radius)).mean()
    return share


def _settings(world: World) -> None:
    world.setup.update(
        {
            "eddyfall_setup": 1,
            "depth": {"near_m": 0.2, "format": "unorm24", "copy_from": "prepass"},
            "sky": {"picture": SKY},
            "bake": {"samples": 48, "bounces": 1, "hidden": "keep", "denoise": "within_charts", "dilate_texels": 8, "encoding": "linear16",
                     "range_lux": 400.0},
            "lights": {"store_lamp": {"casts": True, "lightmap_shade": 0.45}, "corner_lamp": {"casts": True}},
            "exposure": {"mode": "fixed", "ev100": 14.0},
            "roles": {"play": {}, "edit": {}},
            "viewpoints": {
                "gateway": {"eye": [5.4, 1.7, 9.2], "target": [-1.2, 1.3, -4.0], "fov_y_deg": 58},
                "store_room": {
                    "eye": [1.9, 1.65, -24.35], "target": [-0.7, 0.7, -29.0], "fov_y_deg": 62, "set": {"exposure": {"ev100": 4.2}},
                },
                "loft": {"eye": [-7.0, 7.2, 8.0], "target": [0.6, 0.2, -2.2], "fov_y_deg": 50},
            },
        }
    )  # fmt: skip


def _walls(world: World) -> None:
    """Paving, the wheel house at the back, a wall on the right."""
    paving = world.material("paving", pictures.ashlar(world.rng, (148, 140, 128), rows=6), roughness=0.95)
    bricks = world.material("bricks", pictures.brick(world.rng), roughness=0.9)
    slates = world.material("slates", pictures.slates(world.rng), roughness=0.7)
    planks = world.material("planks", pictures.planks(world.rng, (96, 78, 58)), roughness=0.85)
    world.add("paving", Shape().quad((-14, 0, 14), (28, 0, 0), (0, 0, -28), 3.0), paving)
    house = Shape().box((-9, 0, -14), (9, 6.2, -8), 2.0, "xXzZ")
    world.add("wheel_house", house, bricks)
    roof = (
        Shape()
        .quad((-9.4, 6.0, -7.6), (18.8, 0, 0), (0, 3.2, -3.4), 2.0)
        .quad((9.4, 6.0, -14.4), (-18.8, 0, 0), (0, 3.2, 3.4), 2.0)
    )
    world.add("wheel_house_roof", roof, slates)
    world.add("court_wall", Shape().box((10.5, 0, -8), (11.1, 3.0, 12), 2.0, "xXYzZ"), bricks)
    world.add("doors", Shape().box((-1.7, 0, -8.02), (1.7, 3.4, -7.92), 1.4, "xXYZ"), planks)


def _things(world: World) -> None:
    """What throws shadows: a spare wheel on its stand, a hoist frame, casks, a bench."""
    iron = world.material("iron", base_rgba=(0.11, 0.11, 0.12, 1.0), roughness=0.55)
    timber = world.material("timber", pictures.planks(world.rng, (124, 98, 66), boards=3), roughness=0.85)
    casks = world.material("cask_staves", pictures.planks(world.rng, (110, 82, 54), boards=9), roughness=0.8)
    wheel = Shape().ring(np.zeros(3), np.eye(3), 1.55, 1.55, 0.09, 48, 10)
    for k in range(4):
        a = k * math.pi / 4
        x, y = 1.5 * math.cos(a), 1.5 * math.sin(a)
        wheel.tube((-x, -y, 0), (x, y, 0), 0.045, 0.045, 10)
    world.add("spare_wheel", wheel, iron, (-3.2, 1.75, -1.6))
    stand = Shape().box((-4.4, 0, -1.85), (-2.0, 0.18, -1.35), 0.6).box((-4.35, 0.18, -1.9), (-4.15, 1.0, -1.7), 0.6)
    world.add("wheel_stand", stand.box((-2.25, 0.18, -1.9), (-2.05, 1.0, -1.7), 0.6), timber)
    hoist = Shape().box((2.2, 0, -2.6), (2.45, 4.4, -2.35), 0.8).box((5.6, 0, -2.6), (5.85, 4.4, -2.35), 0.8)
    world.add("hoist_frame", hoist.box((1.8, 4.4, -2.65), (6.25, 4.7, -2.3), 0.8), timber)
    block = Shape().tube((4.0, 4.4, -2.48), (4.0, 2.6, -2.48), 0.02, 0.02, 6)
    world.add("hoist_block", block.box((3.8, 2.2, -2.6), (4.2, 2.6, -2.35)), iron)
    cask = Shape().tube((0, 0, 0), (0, 0.5, 0), 0.34, 0.42, 20, 0.5).tube((0, 0.5, 0), (0, 1.0, 0), 0.42, 0.34, 20, 0.5)
    world.add("cask", cask, casks, (0.3, 0, 1.2))
    for n, place in enumerate(((1.25, 0, 0.8), (0.85, 0, 1.9)), 2):
        world.place(f"cask_{n}", len(world.meshes) - 1, place)
    bench = Shape().box((-0.9, 0.44, -0.2), (0.9, 0.5, 0.2), 0.6)
    bench.box((-0.8, 0, -0.15), (-0.7, 0.44, 0.15)).box((0.7, 0, -0.15), (0.8, 0.44, 0.15))
    world.add("bench", bench, timber, (6.9, 0, 2.4))


def _store_room(world: World) -> None:
    """A closed room with a lamp, baked with its gate: the lamp's shadow is drawn over that once more."""
    lime = world.material("limewash", base_rgba=(0.62, 0.6, 0.55, 1.0), roughness=0.95)
    bars = world.material("gate_paint", base_rgba=(0.3, 0.42, 0.4, 1.0), unlit=True)
    (x0, y0, z0), (x1, y1, z1) = (-3.0, 0.0, -30.0), (3.0, 2.9, -24.0)
    dx, dy, dz = x1 - x0, y1 - y0, z1 - z0
    room = Shape().quad((x0, y0, z1), (dx, 0, 0), (0, 0, -dz)).quad((x0, y1, z0), (dx, 0, 0), (0, 0, dz))
    room.quad((x0, y0, z0), (dx, 0, 0), (0, dy, 0)).quad((x1, y0, z1), (-dx, 0, 0), (0, dy, 0))
    room.quad((x0, y0, z1), (0, 0, -dz), (0, dy, 0)).quad((x1, y0, z0), (0, 0, dz), (0, dy, 0))
    world.add("store_room", room, lime, lightmap=True, lightmap_size=320)
    gate = Shape().box((-2.9, 0.1, -26.9), (2.9, 0.18, -26.82), 1.0).box((-2.9, 1.9, -26.9), (2.9, 1.98, -26.82), 1.0)
    for k in range(9):
        x = -2.6 + k * 0.64
        gate.box((x, 0.18, -26.88), (x + 0.09, 1.9, -26.82), 1.0, "xXzZ")
    world.add("store_gate", gate, bars)
    world.entry("meshes", "store_room")["lightmap_uv"] = 1
    world.lamp("store_lamp", (0.3, 2.5, -25.1), 260.0, 12.0)
    world.lamp("corner_lamp", (-2.5, 2.3, -24.5), 60.0, 12.0)
    world.healthy.append({"subject": "corner_lamp", "twin_of": "shadow.doubled", "why": "its shadow leaves lightmaps alone"})
    world.truth.append(
        {
            "code": "shadow.doubled",
            "cause": "store_lamp",
            "subjects": ["store_gate", "store_room"],
            "seed": "gate",
            "hidden_in_roles": {},
        }
    )


def _baked(build: Build) -> Build:
    """The build with its lightmaps."""
    result = bake(build).build
    made = normalised(result.setup)
    raw = {**build.raw_setup, "lightmaps": made["lightmaps"], "baked_scenes": made["baked_scenes"]}
    return finish_build(result.scene, parse_setup(raw), raw, [])
