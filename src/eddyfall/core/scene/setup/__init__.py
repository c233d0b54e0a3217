"""The setup document: one pydantic model per section, tables by key, strict reading, JSON Schema."""

from eddyfall.core.scene.setup.document import (
    SECTIONS,
    STOCK_SHADERS,
    Setup,
    lay_over,
    normalised,
    parse_setup,
    read_setup,
    setup_schema,
)

__all__ = ["SECTIONS", "STOCK_SHADERS", "Setup", "lay_over", "normalised", "parse_setup", "read_setup", "setup_schema"]
