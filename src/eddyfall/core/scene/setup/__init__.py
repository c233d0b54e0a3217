"""The setup document: one pydantic model per section, tables by key, strict reading, JSON Schema."""

import eddyfall.core.scene.setup.sections  # noqa: F401  (each registers itself)
from eddyfall.core.scene.setup.document import (
    GLOSS_SHADER,
    STOCK_ROLES,
    STOCK_SHADERS,
    Setup,
    empty_setup,
    lasting,
    lay_over,
    normalised,
    parse_setup,
    read_setup,
    setup_schema,
)

__all__ = [
    "GLOSS_SHADER",
    "STOCK_ROLES",
    "STOCK_SHADERS",
    "Setup",
    "empty_setup",
    "lasting",
    "lay_over",
    "normalised",
    "parse_setup",
    "read_setup",
    "setup_schema",
]
