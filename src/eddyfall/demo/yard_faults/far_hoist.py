"""shadow.out-of-reach: a hoist 385 m up the path, beyond a reach of 360 m; a near twin at 300 m keeps its shadow."""

from eddyfall.demo import pictures
from eddyfall.demo.shapes import Shape
from eddyfall.demo.world import World


def sow(world: World) -> None:
    """Two like hoists, each before a pale wall that takes its shadow."""
    stone = world.material("wall_stone", pictures.ashlar(world.rng, (196, 190, 176), 6), roughness=0.9)
    paint = world.material("hoist_paint", base_rgba=(0.3, 0.08, 0.05, 1), roughness=0.5)
    for name, x, z in (("far", 22.0, -360.0), ("near", -12.0, -275.0)):
        world.add(f"{name}_wall", Shape().box((x - 15, 0, z - 5.5), (x + 15, 10.5, z - 3.5), 2.4, "xXYzZ"), stone)
        hoist = Shape()
        for post in (-7.0, 0.0, 7.0):
            hoist.box((x + post - 0.4, 0.0, z - 0.8), (x + post + 0.4, 8.2, z), 1.0, "xXYzZ")
        hoist.box((x - 8.2, 8.1, z - 0.9), (x + 8.2, 9.0, z + 0.1), 1.0)
        world.add(f"{name}_hoist", hoist, paint)
    world.truth.append({
        "code": "shadow.out-of-reach", "cause": "shadow.reach_m", "subjects": ["far_hoist", "far_wall"], "seed": "far_hoist",
        "hidden_in_roles": {},
    })  # fmt: skip
    world.healthy.append({"subject": "near_hoist", "twin_of": "shadow.out-of-reach", "why": "within the reach"})
