"""The lantern room over the weir, as a build of its own: panes, gauge glasses and blocks of glass, all drawn from a copy of what is behind.

x runs along the front, y = 0 is the floor, visitors stand at z = 0 and look out at z = -8. A green pane behind a clear one is in no copy;
mist from the weir is hidden by the pane before it; a gauge glass hangs on a shader that does not refract; a sample block has no thickness
wired and is black. A pane by itself, spray before a pane, a gauge glass on the right shader and a block that measures itself by its back
faces are as they ought to be.
"""

from pathlib import Path
from typing import Any

import numpy as np

from eddyfall.core.intake import finish_build
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.setup import parse_setup
from eddyfall.demo import pictures
from eddyfall.demo.files import write_files
from eddyfall.demo.shapes import Shape, card
from eddyfall.demo.world import World

NAME = "lantern_room"
SEED = 1931
LEFT, RIGHT, DEEP, HIGH = -10.0, 10.0, 8.0, 4.6
BAYS = (-10.0, -5.0, 0.0, 5.0, 10.0)  # x of the walls between them
STANDS = {"panes": -7.5, "weir": -2.5, "gauges": 2.5, "blocks": 7.5}  # x of each viewpoint


def make_lantern_room(seed: int = SEED) -> tuple[Build, dict[str, Any]]:
    """The lantern room as a build, and its truth table."""
    world = World(np.random.default_rng(seed))
    _settings(world)
    _room(world)
    _panes(world)
    _weir(world)
    _gauges(world)
    _blocks(world)
    build = finish_build(world.scene(), parse_setup(world.setup), world.setup, [])
    return build, {"findings": world.truth, "healthy": world.healthy}


def write_lantern_room(folder: Path, seed: int = SEED) -> dict[str, Path]:
    """Write GLB, setup and truth table into `folder` and return their paths."""
    return write_files(folder, NAME, *make_lantern_room(seed))


def _settings(world: World) -> None:
    world.setup.update(
        {
            "eddyfall_setup": 1,
            "depth": {"near_m": 0.1, "format": "float32", "reversed": True, "copy_from": "opaque"},
            "order": {"key": "range"},
            "refract": {"enabled": True},
            "exposure": {"mode": "off"},
            "sky": {"zenith_rgb": [0.2, 0.25, 0.33], "horizon_rgb": [0.42, 0.45, 0.46], "ground_rgb": [0.1, 0.1, 0.09]},
            "shadow": {"reach_m": 30.0, "resolution": 1024, "cascades": 2},
            "roles": {"play": {}, "edit": {"set": {"refract": {"enabled": False}}}},
            "lights": {"sun": {"kind": "sun", "illuminance_lux": 1.1, "towards": [0.3, 0.75, 0.55]}},
            "shaders": {"sealed_gauge": {"passes": {"refract": False}}},
            "viewpoints": {name: {"eye": [x, 1.6, 0.0], "target": [x, 1.6, -1.0], "fov_y_deg": 55} for name, x in STANDS.items()},
        }
    )


def _room(world: World) -> None:
    """Floor, the far wall with its courses of stone, walls between the bays, machines that one looks at through the glass."""
    stone = world.material("weir_stone", pictures.ashlar(world.rng, (168, 156, 132), rows=10), roughness=0.95, ior=1.0)
    flags = world.material("flagstones", pictures.ashlar(world.rng, (120, 112, 98), rows=6), roughness=0.9, ior=1.0)
    iron = world.material("lantern_iron", base_rgba=(0.12, 0.15, 0.16, 1.0), roughness=0.8, ior=1.0)
    brass = world.material("valve_red", base_rgba=(0.52, 0.14, 0.08, 1.0), roughness=0.8, ior=1.0)
    world.add("lantern_floor", Shape().quad((LEFT, 0, 1.0), (RIGHT - LEFT, 0, 0), (0, 0, -DEEP - 1.0), 2.0), flags)
    world.add("weir_wall", Shape().quad((LEFT, 0, -DEEP), (RIGHT - LEFT, 0, 0), (0, HIGH, 0), 2.0), stone)
    walls, pillars = Shape(), Shape()
    for x in BAYS:
        walls.box((x - 0.1, 0, -DEEP), (x + 0.1, HIGH, -2.15), 2.0)
        pillars.box((x - 0.14, 0, -2.15), (x + 0.14, HIGH, -1.9))
    world.add("bay_walls", walls, stone)
    world.add("pillars", pillars, iron)
    for k, x in enumerate((-8.2, -6.7, -2.8, 6.3)):
        valve = Shape().tube((x, 0, -6.0), (x, 1.5 + 0.2 * (k % 3), -6.0), 0.22, 0.22, 14)
        valve.tube((x - 0.5, 1.2, -6.0), (x + 0.5, 1.2, -6.0), 0.14, 0.14, 12)
        world.add(f"sluice_valve_{k}", valve, brass)


def _clear(world: World, name: str, rgb: tuple[float, float, float] = (1.0, 1.0, 1.0), **more: Any) -> int:
    return world.material(
        name, base_rgba=(*rgb, 1.0), **{"roughness": 0.0, "transmission": 1.0, "double_sided": True, **more}
    )  # fmt: skip


def _panes(world: World) -> None:
    """A clear pane with a green one behind its right half, and one by itself."""
    x = STANDS["panes"]
    world.add("front_pane", card((x - 1.3, x + 1.3), (0.5, 2.7), -2.0), _clear(world, "front_glass"))
    world.add("green_pane", card((x - 0.1, x + 1.9), (0.7, 2.5), -3.6), _clear(world, "green_glass", (0.45, 0.85, 0.6)))
    world.add("side_pane", card((x - 2.4, x - 1.75), (0.8, 2.2), -2.6), _clear(world, "side_glass", (0.95, 0.85, 0.6)))
    world.sown("glass.layer-lost", "green_pane", ["green_pane", "front_pane"], "one layer")
    world.healthy.append(
        {"subject": "side_pane", "twin_of": "glass.layer-lost", "why": "nothing that lets light through is behind it"}
    )


def _weir(world: World) -> None:
    """Mist over the weir behind a pane, spray before it."""
    x = STANDS["weir"]
    mist = world.material("weir_mist", base_rgba=(0.75, 0.78, 0.8, 0.55), unlit=True, alpha_mode="BLEND", double_sided=True)
    spray = world.material("near_spray", base_rgba=(0.8, 0.84, 0.86, 0.3), unlit=True, alpha_mode="BLEND", double_sided=True)
    world.add("weir_pane", card((x - 1.5, x + 1.5), (0.5, 2.7), -2.05), _clear(world, "weir_glass"))
    world.add("weir_mist", card((x - 1.1, x + 1.4), (0.9, 2.2), -4.5), mist)
    world.add("near_spray", card((x - 0.9, x - 0.2), (1.0, 1.5), -1.4), spray)
    world.sown("glass.layer-lost", "weir_mist", ["weir_mist", "weir_pane"], "blended behind a pane")
    world.healthy.append({"subject": "near_spray", "twin_of": "glass.layer-lost", "why": "it hangs before the pane"})


def _gauges(world: World) -> None:
    """Two dials behind their glasses; one glass has the shader of a sealed gauge, which does not refract."""
    x = STANDS["gauges"]
    dial = world.material("gauge_dial", _dial(), roughness=0.9, ior=1.0)
    sealed = _clear(world, "sealed_glass", (0.82, 0.86, 0.88), double_sided=False)
    world.entry("materials", "sealed_glass")["shader"] = "sealed_gauge"
    good = _clear(world, "gauge_glass", (0.95, 0.98, 1.0), double_sided=False)
    for k, (name, glass) in enumerate((("sealed_gauge", sealed), ("open_gauge", good))):
        at = x - 0.75 + 1.5 * k
        world.add(f"dial_{k}", Shape().box((at - 0.45, 1.15, -3.2), (at + 0.45, 2.05, -3.1)), dial)
        world.add(name, card((at - 0.5, at + 0.5), (1.1, 2.1), -3.0), glass)
    world.sown("glass.chain-broken", "sealed_glass", ["sealed_gauge"], "shader")
    world.healthy.append({"subject": "open_gauge", "twin_of": "glass.chain-broken", "why": "its shader refracts"})


def _blocks(world: World) -> None:
    """Blocks of tinted glass on a stand: one whose thickness nothing is wired to, one that is measured by its back faces."""
    x = STANDS["blocks"]
    body: dict[str, Any] = {
        "thickness_m": 0.3,  # as deep as they are
        "attenuation_m": 0.25,
        "attenuation_rgb": (0.35, 0.7, 0.75),
        "double_sided": False,
    }
    stand = world.material("sample_stand", pictures.planks(world.rng, (120, 96, 66), boards=3), roughness=0.9, ior=1.0)
    world.add("sample_stand", Shape().box((x - 1.6, 0, -4.2), (x + 1.6, 0.9, -3.0), 1.0), stand)
    for k, (name, how) in enumerate((("sample_block", "missing"), ("trial_block", "back_faces"))):
        at = x - 0.8 + 1.6 * k
        world.add(name, Shape().box((at - 0.45, 0.9, -3.75), (at + 0.45, 1.9, -3.45)), _clear(world, f"{name}_glass", **body))
        world.entry("materials", f"{name}_glass")["thickness"] = how
    world.sown("glass.chain-broken", "sample_block_glass", ["sample_block"], "thickness")
    world.healthy.append({"subject": "trial_block", "twin_of": "glass.chain-broken", "why": "its back faces tell its thickness"})


def _dial(size: int = 256) -> np.ndarray:
    """(size, size, 4) uint8: a dial with twelve marks and a hand."""
    y, x = (np.mgrid[0:size, 0:size] + 0.5) / size * 2 - 1
    radius, angle = np.hypot(x, y), np.arctan2(y, x)
    marks = (radius > 0.68) & (radius < 0.86) & (np.abs((angle * 6 / np.pi + 0.5) % 1 - 0.5) < 0.12)
    hand = (np.abs(x * 0.8 + y * 0.6) < 0.045) & (radius < 0.66) & (x * 0.6 - y * 0.8 > -0.15)
    rgb = np.where((radius < 0.93)[..., None], np.array([226, 220, 200]), np.array([74, 62, 44]))
    rgb = np.where(marks[..., None], np.array([40, 44, 46]), rgb)
    rgb = np.where(hand[..., None], np.array([176, 44, 26]), rgb)
    return np.dstack([rgb, np.full((size, size), 255)]).astype(np.uint8)
