"""The gauge gallery above the pump hall, as a build of its own: no lightmaps; bounced light and reflections come from the frame alone.

x runs across, -z towards the gauge board, y = 0 is the floor. A window strip in the right wall and a lit doorway behind the board's viewer
give nearly all of the light; who looks at the board has both beside or behind them.
"""

from pathlib import Path
from typing import Any

import numpy as np

from eddyfall.core.intake import finish_build
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.setup import parse_setup
from eddyfall.demo import pictures
from eddyfall.demo.files import write_files
from eddyfall.demo.shapes import Shape
from eddyfall.demo.world import World

NAME = "gauge_gallery"
SEED = 1901
WINDOW_NITS, DOOR_NITS, SIGN_NITS = 640.0, 420.0, 260.0


def make_gallery(seed: int = SEED) -> tuple[Build, dict[str, Any]]:
    """The gallery as a build, and its truth table."""
    world = World(np.random.default_rng(seed))
    _settings(world)
    _room(world)
    _board(world)
    _things(world)
    _gate_leaves(world)
    world.truth += [
        {"code": "bounce.off-screen", "cause": "bounce", "subjects": ["gallery_floor"], "seed": "window", "hidden_in_roles": {}},
        {"code": "reflect.off-screen", "cause": "reflect", "subjects": ["gauge_board"], "seed": "board", "hidden_in_roles": {}},
        {"code": "bounce.no-response", "cause": "raw_casting", "subjects": ["gate_leaf"], "seed": "gate", "hidden_in_roles": {}},
    ]
    world.healthy.append(
        {"subject": "gate_leaf_2", "twin_of": "bounce.no-response", "why": "its base shader answers light from around"}
    )
    world.healthy.append({"subject": "drip_tray", "twin_of": "reflect.off-screen", "why": "what it mirrors is on the frame"})
    build = finish_build(world.scene(), parse_setup(world.setup), world.setup, [])
    return build, {"findings": world.truth, "healthy": world.healthy}


def write_gallery(folder: Path, seed: int = SEED) -> dict[str, Path]:
    """Write GLB, setup and truth table into `folder` and return their paths."""
    return write_files(folder, NAME, *make_gallery(seed))


# In from the window's side, round to the gauge board, and up to it.
_VISIT = {
    "door": {"t_s": 0, "viewpoint": "window_side"},
    "gauges": {"t_s": 3, "viewpoint": "gauges"},
    "board": {"t_s": 5, "eye": [0.1, 1.6, -1.9], "target": [0.2, 1.3, -6.0], "fov_y_deg": 55},
}


def _settings(world: World) -> None:
    world.setup.update(
        {
            "eddyfall_setup": 1,
            "depth": {"near_m": 0.1, "format": "float32", "copy_from": "opaque"},
            "sky": {"ambient": False},
            "bounce": {"enabled": True, "rays": 4, "steps": 64, "thickness_m": 0.4, "rounds": 3, "divisor": 2},
            "reflect": {"enabled": True, "rays": 2, "steps": 128, "thickness_m": 0.4, "roughest": 0.35},
            "exposure": {"mode": "fixed", "ev100": 6.2},
            "roles": {"play": {}, "edit": {}},
            "viewpoints": {
                "gauges": {"eye": [-0.3, 1.6, 1.6], "target": [0.0, 1.35, -6.0], "fov_y_deg": 55},
                "window_side": {"eye": [-3.5, 1.9, 4.6], "target": [3.6, 0.9, 0.6], "fov_y_deg": 64},
            },
            "moves": {"visit": {"keys": _VISIT, "rate_hz": 20}},
        }
    )


def _room(world: World) -> None:
    """Floor, walls and ceiling, the window strip and the doorway."""
    lime = world.material("limewash", pictures.ashlar(world.rng, (186, 182, 170), rows=4), roughness=0.95, ior=1.0)
    flags = world.material("flagstones", pictures.ashlar(world.rng, (140, 134, 124), rows=6), roughness=0.95, ior=1.0)
    plaster = world.material("plaster", base_rgba=(0.7, 0.69, 0.66, 1.0), roughness=1.0, ior=1.0)
    world.add("gallery_floor", Shape().quad((-4, 0, 6), (8, 0, 0), (0, 0, -12), 2.0), flags)
    world.add("gallery_ceiling", Shape().quad((-4, 3.2, -6), (8, 0, 0), (0, 0, 12), 2.0), plaster)
    world.add("board_wall", Shape().quad((-4, 0, -6), (8, 0, 0), (0, 3.2, 0), 2.0), lime)
    world.add("door_wall", Shape().quad((4, 0, 6), (-8, 0, 0), (0, 3.2, 0), 2.0), lime)
    world.add("left_wall", Shape().quad((-4, 0, 6), (0, 0, -12), (0, 3.2, 0), 2.0), lime)
    world.add("window_wall", Shape().quad((4, 0, -6), (0, 0, 12), (0, 3.2, 0), 2.0), lime)
    glow = _glow(world, "window_glow", WINDOW_NITS, (0.82, 0.92, 1.0))
    window = Shape()
    for k in range(4):
        window.quad((3.99, 1.0, -1.4 + 1.6 * k), (0, 0, 1.4), (0, 1.5, 0))
    world.add("window_strip", window, glow)
    warm = _glow(world, "hall_light", DOOR_NITS, (1.0, 0.86, 0.66))
    world.add("doorway", Shape().quad((2.9, 0, 5.99), (-1.3, 0, 0), (0, 2.2, 0)), warm)


def _glow(world: World, name: str, nits: float, tint: tuple[float, float, float]) -> int:
    return world.material(name, base_rgba=(0, 0, 0, 1), emissive=tuple(nits * c for c in tint), ior=1.0)


def _board(world: World) -> None:
    """The gauge board of polished brass with its dials, a lit sign over it, and a drip tray that mirrors that sign."""
    brass = world.material("brass", base_rgba=(0.86, 0.66, 0.36, 1.0), metallic=1.0, roughness=0.06)
    steel = world.material("tray_steel", base_rgba=(0.62, 0.64, 0.66, 1.0), metallic=1.0, roughness=0.04)
    enamel = world.material("enamel", base_rgba=(0.8, 0.78, 0.7, 1.0), roughness=0.9, ior=1.0)
    timber = world.material("gallery_timber", pictures.planks(world.rng, (112, 84, 56), boards=3), roughness=0.9, ior=1.0)
    world.add("gauge_board", Shape().quad((-1.9, 0.85, -5.94), (3.8, 0, 0), (0, 1.25, 0)), brass)
    frame = Shape().box((-2.02, 0.75, -5.99), (2.02, 0.85, -5.88)).box((-2.02, 2.1, -5.99), (2.02, 2.2, -5.88))
    world.add(
        "board_frame", frame.box((-2.02, 0.85, -5.99), (-1.9, 2.1, -5.88)).box((1.9, 0.85, -5.99), (2.02, 2.1, -5.88)), timber
    )
    dials = Shape()
    for k in range(5):
        x = -1.5 + 0.75 * k
        dials.tube((x, 1.7, -5.93), (x, 1.7, -5.86), 0.19, 0.17, 28)
    world.add("dials", dials, enamel)
    world.add(
        "sign",
        Shape().quad((-0.8, 2.45, -5.98), (1.6, 0, 0), (0, 0.34, 0)),
        _glow(world, "sign_glow", SIGN_NITS, (1.0, 0.93, 0.8)),
    )
    world.add("tray_bench", Shape().box((-1.1, 0.0, -1.6), (0.5, 0.74, -0.3)), timber)
    world.add("drip_tray", Shape().quad((-1.0, 0.76, -0.4), (1.4, 0, 0), (0, 0, -1.1)), steel)


def _things(world: World) -> None:
    """A rail along the left wall, oil cans, two lamps that are no match for the window."""
    world.lamp("board_lamp", (0.2, 2.9, -4.0), 70.0, 14.0)
    world.lamp("aisle_lamp", (-0.6, 2.95, 2.2), 50.0, 14.0)
    iron = world.material("gallery_iron", base_rgba=(0.1, 0.13, 0.13, 1.0), roughness=0.7, ior=1.0)
    green = world.material("can_paint", base_rgba=(0.16, 0.32, 0.24, 1.0), roughness=0.8, ior=1.0)
    rail = Shape().tube((-3.2, 1.05, -5.2), (-3.2, 1.05, 4.0), 0.03, 0.03, 10)
    for k in range(5):
        rail.tube((-3.2, 0, -5.2 + 2.3 * k), (-3.2, 1.05, -5.2 + 2.3 * k), 0.025, 0.025, 8)
    world.add("rail", rail, iron)
    can = Shape().tube((0, 0, 0), (0, 0.34, 0), 0.14, 0.14, 18).tube((0, 0.34, 0), (0, 0.46, 0), 0.14, 0.03, 18)
    world.add("oil_can", can, green, (1.7, 0, -4.6))
    world.place("oil_can_2", len(world.meshes) - 1, (2.1, 0, -4.2))


def _gate_leaves(world: World) -> None:
    """Two leaves of a sluice gate, of the same casting: the base shader of one does not answer light from around."""
    world.setup["shaders"] = {"raw_cast": {"answers": {"ambient": False}, "slots": {"normal": {"on": False}}}}
    leaf = Shape().box((0, 0.02, 0), (0.1, 1.25, 0.95))
    grain = pictures.planks(world.rng, (92, 94, 92), boards=6)
    for name, material, z in (("gate_leaf", "raw_casting", -2.6), ("gate_leaf_2", "primed_casting", -4.4)):
        world.add(name, leaf, world.material(material, grain, roughness=0.9, ior=1.0), (-2.95, 0, z))
    world.setup.setdefault("materials", {})["raw_casting"] = {"shader": "raw_cast"}
