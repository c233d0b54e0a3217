"""shadow.out-of-reach: the far pier's hoist at 385 m, beyond a shadow reach of 360 m; a near twin at 300 m keeps its shadow."""

from eddyfall.demo import pictures
from eddyfall.demo.shapes import Shape
from eddyfall.demo.world import World


def sow(world: World) -> None:
    """Two like piers, each a platform with a hoist before a pale wall that takes its shadow."""
    stone = world.material("far_stone", pictures.ashlar(world.rng, (196, 190, 176), 6), roughness=0.9)
    paint = world.material("hoist_paint", base_rgba=(0.32, 0.09, 0.05, 1), roughness=0.5)
    # Hoist faces stand 385 m (and 300 m) up the river from the far_pier viewpoint at z = 25.
    for name, x, z in (("far_pier", 26.0, -360.0), ("near_pier", -14.0, -275.0)):
        platform = Shape().box((x - 17, -4, z - 7), (x + 17, 1.2, z + 5), 2.4, "xXYzZ")
        platform.box((x - 15, 1.1, z - 5.5), (x + 15, 10.5, z - 3.5), 2.4, "xXYzZ")
        world.add(f"{name}_platform", platform, stone)
        hoist = Shape()
        for post in (-7.0, 0.0, 7.0):
            hoist.box((x + post - 0.4, 1.0, z - 0.8), (x + post + 0.4, 9.2, z), 1.0, "xXYzZ")
        hoist.box((x - 8.2, 9.1, z - 0.9), (x + 8.2, 10.0, z + 0.1), 1.0)
        hoist.box((x - 3.2, 6.4, z - 0.7), (x - 1.6, 9.12, z - 0.1), 1.0, "xXyzZ")
        world.add(f"{name}_hoist", hoist, paint)
    world.truth.append(
        {
            "code": "shadow.out-of-reach",
            "cause": "shadow.reach_m",
            "subjects": ["far_pier_hoist", "far_pier_platform"],
            "seed": "piers",
            "hidden_in_roles": {"edit": "shadow.reach_m"},
        }
    )
    world.healthy.append({"subject": "near_pier_hoist", "twin_of": "shadow.out-of-reach", "why": "within the reach"})
