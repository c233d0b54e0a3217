"""Writes the demo: weirgate.glb, weirgate.setup.json, weirgate.truth.json."""

import importlib
import pkgutil
from pathlib import Path
from typing import Any

import numpy as np

from eddyfall.core.intake import finish_build
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.setup import parse_setup
from eddyfall.demo import faults
from eddyfall.demo.files import write_files
from eddyfall.demo.station import build_station
from eddyfall.demo.world import World

NAME = "weirgate"
SEED = 1887


def make_demo(seed: int = SEED) -> tuple[Build, dict[str, Any]]:
    """The demo as a build, and its truth table."""
    world = World(np.random.default_rng(seed))
    build_station(world)
    for module in sorted(m.name for m in pkgutil.iter_modules(faults.__path__)):
        importlib.import_module(f"{faults.__name__}.{module}").sow(world)
    scene = world.scene()
    return finish_build(scene, parse_setup(world.setup), world.setup, []), {"findings": world.truth, "healthy": world.healthy}


def write_demo(folder: Path, seed: int = SEED) -> dict[str, Path]:
    """Write GLB, setup and truth table into `folder` and return their paths."""
    return write_files(folder, NAME, *make_demo(seed))
