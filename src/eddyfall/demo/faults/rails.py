"""uv.overlap: a gallery rail of seven array copies on one lightmap chart; the stair rail moves its copies' UVs and is healthy."""

from eddyfall.demo.shapes import Shape
from eddyfall.demo.station import QUAY_Y
from eddyfall.demo.world import World


def sow(world: World) -> None:
    """Two runs of railing, alike but for the UV offset of their copies."""
    paint = world.material("rail_paint", base_rgba=(0.52, 0.5, 0.45, 1), roughness=0.4)
    runs = {"gallery_rail": ((-9.2, QUAY_Y, -24.0), 7, [0, 0]), "stair_rail": ((-9.2, QUAY_Y, -41.0), 6, [1, 0])}
    for name, (place, count, offset) in runs.items():
        world.add(name, _section(), paint, place, lightmap=True, lightmap_size=1024)
        rule = {"kind": "array", "count": count, "step_m": [0, 0, -2.0], "uv_offset": offset}
        world.setup.setdefault("meshes", {})[name] = {"lightmap_uv": 1, "copies": {"run": rule}}
    world.truth.append(
        {"code": "uv.overlap", "cause": "gallery_rail", "subjects": ["gallery_rail"], "seed": "rails", "hidden_in_roles": {}}
    )
    world.healthy.append({"subject": "stair_rail", "twin_of": "uv.overlap", "why": "each copy's UV moves by one tile"})


def _section() -> Shape:
    """Two metres of railing: one post, two rails, nine bars."""
    shape = Shape()
    shape.box((-0.05, -0.02, -0.05), (0.05, 1.18, 0.05), 1.0, "xXYzZ")
    shape.box((-0.045, 1.0, -1.95), (0.045, 1.07, -0.05), 1.0, "xXyY")
    shape.box((-0.025, 0.12, -1.95), (0.025, 0.17, -0.05), 1.0, "xXyY")
    for i in range(9):
        z = -0.24 - i * 0.19
        shape.box((-0.014, 0.16, z - 0.014), (0.014, 1.01, z + 0.014), 1.0, "xXzZ")
    return shape
