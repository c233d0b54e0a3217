"""Defect families, one module each: codes and words, inspector, remedies, levers, symptoms. `families()` lists all that registered."""

import importlib
import pkgutil

from eddyfall.core.bake import faces  # noqa: F401  (it registers its operations)
from eddyfall.core.bake.captures import capture, grid  # noqa: F401  (they register their operations)
from eddyfall.core.bake.maps import run  # noqa: F401  (it registers its operations)
from eddyfall.core.defects.registry import families, register
from eddyfall.core.materials import convert  # noqa: F401  (it registers its operation)
from eddyfall.core.scene import operations, variants  # noqa: F401
from eddyfall.core.uv import bleed, copy_tiles, repack, repair  # noqa: F401

for _module in pkgutil.iter_modules(__path__):
    importlib.import_module(f"{__name__}.{_module.name}")

__all__ = ["families", "register"]
