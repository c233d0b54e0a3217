"""Which unit a thing was most likely modelled in, by how many times too large or too small it arrives."""

UNITS = {"mm": 0.001, "cm": 0.01, "inch": 0.0254, "foot": 0.3048}
WITHIN = 0.02


def unit_of(ratio: float) -> str | None:
    """The unit that was taken for metres (or metres for it, then with "per m"), if a ratio of sizes is within 2 % of it; None: unsure."""
    for name, size in UNITS.items():
        if abs(ratio / size - 1) <= WITHIN:
            return name
        if abs(ratio * size - 1) <= WITHIN:
            return f"{name} per m"
    return None


def told(ratio: float) -> str:
    """A ratio of sizes in words."""
    unit = unit_of(ratio)
    if unit is None:
        return f"{ratio:.4g} times as large, which is no unit's ratio: unsure"
    name = unit.removesuffix(" per m")
    return f"{ratio:.4g} times as large: " + (f"metres were read as {name}" if unit == name else f"{name} were read as metres")
