"""uv.overlap by copy rules: a leaf whose mirror planes share a UV step, a walkway rail's array, a duct's shell with a bare strip."""

import numpy as np

from eddyfall.demo.hall_world import HallWorld
from eddyfall.demo.layout import laid_out
from eddyfall.demo.shapes import Shape


def sow(world: HallWorld) -> None:
    """Three defects and their twins."""
    paint = world.material("leaf_paint", base_rgba=(0.12, 0.3, 0.32, 1), roughness=0.5)
    zinc = world.material("zinc", base_rgba=(0.5, 0.52, 0.52, 1), roughness=0.5)
    page = np.array([[0.0, 0.5], [0.8, 0.5], [0.8, 0.0], [0.0, 0.0]])
    for name, x in (("sluice_leaf", 10.7), ("spare_leaf", 7.2)):  # hung on the north wall; a lamp lights one end of it more
        shape = Shape().quad((x, 5.3, 0.07), (1.0, 0, 0), (0, 0.62, 0))
        across = {"axis": "x", "at_m": x + 1.05, "uv_offset": [1, 0]}
        up = {"axis": "y", "at_m": 5.97, "uv_offset": [0, 1] if name == "spare_leaf" else [1, 0]}
        rules = {"mirror": {"kind": "mirror", "planes": [across, up]}}
        world.mapped(name, shape, paint, page * [0.9, 0.9] + 0.04, rules, lightmap_size=64)
    for name, z, offset in (("walk_rail", 8.6, [0, 0]), ("step_rail", 7.4, [1, 0])):
        shape = (
            Shape()
            .box((12.0, 0, z), (12.08, 0.98, z + 0.08), 1.0, "xXYzZ")
            .box((12.1, 0.9, z + 0.02), (12.98, 0.95, z + 0.06), 1.0, "yYzZ")
        )
        rule = {"kind": "array", "count": 4, "step_m": [1.0, 0, 0], "uv_offset": offset}
        world.mapped(
            name, shape, zinc, laid_out(shape, 64, 8.0, 4.0), {"run": rule}, lightmap_size=192 if name == "step_rail" else 64
        )
    for name, z, strip in (("duct", 2.4, "bare"), ("flue", 4.0, "unwrapped")):
        shape = Shape().quad((10.4, 4.6, z), (2.4, 0, 0), (0, 0.6, 0))
        rule = {"kind": "shell", "thickness_m": 0.04, "strip": strip, "uv_offset": [1, 0]}
        world.mapped(
            name,
            shape,
            zinc,
            np.array([[0.05, 0.3], [0.9, 0.3], [0.9, 0.0875], [0.05, 0.0875]]),
            {"sheet": rule},
            lightmap_size=96 if name == "duct" else 176,
        )
    shared = {"sluice_leaf": ("sluice_leaf", 26, 3), "walk_rail": None, "duct": ("duct", 41, 6)}
    for subject, texel in shared.items():
        world.finding("uv.overlap", subject, subject, "copies", texel)
    world.truth.append({"code": "uv.degenerate", "cause": "duct", "subjects": ["duct"], "seed": "copies"})
    for subject, why in (
        ("spare_leaf", "each plane has a UV step of its own, U and V"),
        ("step_rail", "each copy's UV moves by a tile"),
        ("flue", "its edge strip is unwrapped"),
    ):
        world.healthy.append({"subject": subject, "twin_of": "uv.overlap", "why": why})
