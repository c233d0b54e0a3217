"""Scenes to bake in tests: closed boxes, area lights over a floor, a partition that stands off the texel line."""

from typing import Any

import numpy as np

from eddyfall.core.scene.build import Build
from eddyfall.core.scene.model import Material
from eddyfall.demo.shapes import Shape
from scenes import Thing, build_of

UNIT_PAGE = np.array([[0.0, 1.0], [1.0, 1.0], [1.0, 0.0], [0.0, 0.0]])


def matt(name: str, reflectance: float, emits: float = 0.0) -> Material:
    """A Lambertian material that reflects and shines evenly."""
    return Material(name, base_rgba=(*(reflectance,) * 3, 1.0), metallic=0.0, emissive=(emits,) * 3, ior=1.0)


def panel(name: str, corner: Any, along: Any, up: Any, material: Material, page: Any = None) -> Thing:
    """A rectangle; `page` (4, 2) lightmap UVs of its corners (bottom left, bottom right, top right, top left)."""
    return Thing(name, Shape().quad(corner, along, up), material, lightmap=None if page is None else np.asarray(page, float))


def box_inside(reflectance: float, emits: dict[str, float] | None = None, edge: float = 1.0) -> list[Thing]:
    """Six panels that face into a cube, each with a lightmap; emits by panel name."""
    e = edge
    shine = emits or {}
    sides = {
        "floor": ((0, 0, e), (e, 0, 0), (0, 0, -e)), "ceiling": ((0, e, 0), (e, 0, 0), (0, 0, e)),
        "north": ((0, 0, 0), (e, 0, 0), (0, e, 0)), "south": ((e, 0, e), (-e, 0, 0), (0, e, 0)),
        "west": ((0, 0, e), (0, 0, -e), (0, e, 0)), "east": ((e, 0, 0), (0, 0, e), (0, e, 0)),
    }  # fmt: skip
    return [panel(n, *s, matt(f"m_{n}", reflectance, shine.get(n, 0.0)), UNIT_PAGE) for n, s in sides.items()]


def baked_setup(things: list[Thing], **bake: Any) -> dict[str, Any]:
    """Setup in which every thing with lightmap UVs has a lightmap by them."""
    return {"meshes": {t.name: {"lightmap_uv": 1} for t in things if t.lightmap is not None}, "bake": bake}


def closed_box(reflectance: float, emits: dict[str, float], **bake: Any) -> Build:
    """A unit cube seen from inside."""
    things = box_inside(reflectance, emits)
    return build_of(*things, setup=baked_setup(things, **bake))


def under_a_partition(resolution: int, at_m: float = 3.03, long_m: float = 6.4, **bake: Any) -> Build:
    """A floor of `long_m` in one chart, lit with 1 lx up to a thin partition and with .05 lx beyond it.

    Two suns overhead: one of .05 lx that nothing blocks, one of .95 lx that a roof beyond the partition keeps out.
    """
    long, wide, top = long_m, 0.4, 1 - 4 / resolution
    floor = panel("floor", (0, 0, wide), (long, 0, 0), (0, 0, -wide), matt("floor", 0.0), [[0, 1], [1, 1], [1, top], [0, top]])
    wall = Thing(
        "partition",
        Shape().quad((at_m, 0, wide), (0, 0, -wide), (0, 2, 0)),
        Material("sheet", base_rgba=(0, 0, 0, 1), metallic=0.0, double_sided=True, ior=1.0),
    )
    roof = Thing("roof", Shape().box((at_m, 2, -0.1), (long + 1, 2.1, wide + 0.1)), matt("wall", 0.0))
    suns = {
        "sun": {"kind": "sun", "towards": [0, 1, 0], "illuminance_lux": 0.95},
        "rest": {"kind": "sun", "towards": [0, 1, 0], "illuminance_lux": 0.05, "casts": False},
    }
    return build_of(
        floor, wall, roof,
        setup={
            "lights": suns,
            "bake": {"resolution": resolution, "bounces": 0, "samples": 64, "range_lux": 1.0, **bake},
            "viewpoints": {"eye": {"eye": [3.0, 1.5, 0.2], "target": [3.03, 0, 0.19], "fov_y_deg": 40}},
        },
    )  # fmt: skip
