"""The tow-path yard at dusk, as a build of its own: shadows of every technique, with a fault of each kind and a healthy twin.

x runs across the path, -z along it, y = 0 is the ground. A low sun is drawn in cascades of what the frame shows, a flood-light mast by a
paged map, the lamp of the boat shed by rays.
"""

from pathlib import Path
from typing import Any

import numpy as np

from eddyfall.core.intake import finish_build
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.setup import parse_setup
from eddyfall.demo import pictures, yard_faults
from eddyfall.demo.files import write_files
from eddyfall.demo.shapes import Shape
from eddyfall.demo.world import World

NAME = "tow_path_yard"
SEED = 1887
SUN = (-0.5, 0.55, 0.67)
FLOOD = (0.62, 0.5, 0.36)


def make_yard(seed: int = SEED) -> tuple[Build, dict[str, Any]]:
    """The yard as a build, and its truth table."""
    world = World(np.random.default_rng(seed))
    _settings(world)
    _ground(world)
    for sow in yard_faults.ALL:
        sow(world)
    scene = world.scene()
    build = finish_build(scene, parse_setup(world.setup), world.setup, [])
    return build, {"findings": world.truth, "healthy": world.healthy}


def write_yard(folder: Path, seed: int = SEED) -> dict[str, Path]:
    """Write GLB, setup and truth table into `folder` and return their paths."""
    return write_files(folder, NAME, *make_yard(seed))


def _settings(world: World) -> None:
    world.setup.update(
        {
            "eddyfall_setup": 1,
            "depth": {"near_m": 0.3, "format": "unorm24", "copy_from": "prepass"},
            "shadow": {"reach_m": 360, "resolution": 2048, "casters_from": "frame", "paged_limit_deg": 1.5, "ray_limit_deg": 4.0},
            "sky": {"zenith_rgb": [90, 120, 190], "horizon_rgb": [330, 290, 270], "ground_rgb": [70, 64, 58]},
            "exposure": {"mode": "fixed", "ev100": 9.9},
            "lights": {
                "sun": {"kind": "sun", "illuminance_lux": 5200, "towards": list(SUN), "rgb": [1.0, 0.8, 0.6]},
                "flood_mast": {
                    "kind": "sun", "illuminance_lux": 3600, "towards": list(FLOOD), "rgb": [0.8, 0.9, 1.0], "technique": "paged",
                },
                "shed_lamp": {"casts": True, "technique": "rays"},
            },
            "roles": {"play": {}, "edit": {"set": {"shadow": {"casters_from": "scene"}}}},
            "targets": {"kiosk": {"set": {"budget": {"shadow_mib": 128}}}},
            "viewpoints": {
                "tow_path": {"eye": [-2.6, 2.3, 6.0], "target": [0.9, 1.2, -6.0], "fov_y_deg": 58},
                "berth": {"eye": [6.0, 3.4, -13.0], "target": [9.5, 0.4, -52.0], "fov_y_deg": 15},
                "boat_shed": {"eye": [-12.6, 1.9, -6.4], "target": [-16.4, 1.0, -14.5], "fov_y_deg": 58},
                "long_reach": {"eye": [0.0, 13.0, 25.0], "target": [5.0, 4.5, -360.0], "fov_y_deg": 11},
            },
        }
    )  # fmt: skip


def _ground(world: World) -> None:
    """Path, grass, the far bank with its pale ground."""
    gravel = world.material("gravel", pictures.tinted(world.rng, 256, (150, 142, 126), 10, 0.25, 0.1), roughness=0.95)
    ground = Shape().quad((-200, 0, 40), (400, 0, 0), (0, 0, -470), 3.0)
    world.add("ground", ground, gravel, casts=False)
