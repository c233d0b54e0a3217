"""Sections, passes and families that stand outside of this tree."""

import importlib
import os

from eddyfall.core.errors import RequestError


def load_extras() -> list[str]:
    """Import the modules named in EDDYFALL_EXTRAS, with commas between, in this order. RequestError if one cannot be imported."""
    names = [n.strip() for n in os.environ.get("EDDYFALL_EXTRAS", "").split(",") if n.strip()]
    for name in names:
        try:
            importlib.import_module(name)
        except Exception as error:
            raise RequestError(f"EDDYFALL_EXTRAS: {name} cannot be loaded: {error}") from error
    return names
